"""Which jobs were on the desk last, kept for each log by itself."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QSettings

if TYPE_CHECKING:
    from sagen.desk.workspace import DeskWorkspace


class Lately:
    """The jobs of the open log that were on the desk, the last first, among the settings of the window."""

    MOST = 6

    def __init__(self, settings: QSettings, workspace: DeskWorkspace):
        self._settings, self._workspace = settings, workspace

    @property
    def _key(self) -> str:
        return f"jobs/last/{self._workspace.log.identity}"

    def ids(self) -> list[int]:
        """Numbers of the jobs, the last first; what was remembered and is none is left out."""
        if self._workspace.log is None:
            return []
        kept = str(self._settings.value(self._key, "")).split()
        return list(dict.fromkeys(int(item) for item in kept if item.isdecimal()))[: self.MOST]

    def note(self, job_id: int) -> None:
        """A job is on the desk now."""
        if self._workspace.log is not None:
            self._keep([job_id, *(item for item in self.ids() if item != job_id)])

    def forget_all_but(self, there: set[int]) -> None:
        """Only these jobs are there; a deleted one is not gone back to."""
        ids = self.ids()
        if not there.issuperset(ids):
            self._keep([item for item in ids if item in there])

    def _keep(self, ids: list[int]) -> None:
        self._settings.setValue(self._key, " ".join(map(str, ids[: self.MOST])))

    def last(self) -> int | None:
        """The job that was on the desk last; None where that is not remembered."""
        return next(iter(self.ids()), None)

    def others(self) -> list[int]:
        """Numbers of the jobs that were on the desk before the open one, the last first."""
        job = self._workspace.job
        return [item for item in self.ids() if job is None or item != job.id]
