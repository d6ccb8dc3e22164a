"""The workspace as Qt sees it: events become signals, on the interface thread. A thin adapter that decides nothing.

What is asked of the open workspace is asked of itself, through this one; before a log is open there is none. A workspace whose
place another one took ends in the background: what it says is shown, and nothing of it is applied.
"""

from __future__ import annotations

import threading
from collections.abc import Callable
from importlib import import_module
from types import SimpleNamespace
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, Qt, QTimer, Signal

from sagen.model.extensions import load_extensions
from sagen.model.language import tr
from sagen.model.vocabulary import CHOSEN_GEAR, Gear, Strategy

if TYPE_CHECKING:
    from sagen.store.log import JobLog
    from sagen.workspace.events import Event
    from sagen.workspace.workspace import Workspace

#: what there is before a log is open
NOTHING_OPEN = {
    "log": None, "job": None, "opened": None, "last_weighed": None, "record": None, "circuit": "", "recordings": (), "left": (),
}  # fmt: skip
LOOK_AGAIN_MS = 50  #: between two looks whether a workspace that retires is done


class Opening(SimpleNamespace):
    """What a log is opened with: how far it is can be told."""

    def tell(self, share: float) -> bool:
        self.told(share)
        return True


class DeskWorkspace(QObject):
    """The model behind the window."""

    log_opened = Signal()
    jobs_changed = Signal(object)  #: JobsListed
    job_changed = Signal(object)  #: Job or None
    weighed = Signal(object)  #: Weighed
    capture_opened = Signal(object)  #: OpenCapture
    incoming = Signal(object)  #: Incoming
    import_left = Signal()  #: nothing is on its way in any more
    said = Signal(str)  #: something done, or gone wrong, that the user should know of
    overtaken = Signal(object, object)  #: ChangedMeanwhile, and the entry that was to be changed
    working = Signal(str, float)  #: what is being done and how far; share 1 when done
    recordings_changed = Signal()
    letters_changed = Signal(int)  #: changes that can never be sent: how many wait to be seen

    _posted = Signal(object)

    def __init__(self, parent: QObject | None = None):
        super().__init__(parent)
        self.core: Workspace | None = None
        self.gear: tuple[Gear, ...] = CHOSEN_GEAR
        self.strategy = Strategy.MOST
        self.record_counts = True
        self._retiring: list[Workspace] = []
        self._opening = 0
        self._posted.connect(lambda call: call(), Qt.ConnectionType.QueuedConnection)

    @property
    def why_not_turned(self) -> str:
        """Why the engine of the open job must not be turned as the case stands; "" where it may be."""
        weighed, job = self.last_weighed, self.job
        return weighed.diagnosis.why_not if weighed is not None and job is not None and weighed.job_id == job.id else ""

    def __getattr__(self, name: str):
        core = self.__dict__.get("core")
        if core is not None:
            return getattr(core, name)
        if name in NOTHING_OPEN:
            return NOTHING_OPEN[name]
        raise AttributeError(tr("no log is open yet: {name}", name=name))

    def __setattr__(self, name: str, value) -> None:
        if name in ("circuit", "opened") and self.core is not None:
            setattr(self.core, name, value)
        else:
            super().__setattr__(name, value)

    # the log ------------------------------------------------------------------------------

    def open_log(self, make: Callable[[Opening], JobLog]) -> None:
        """Open the log that `make` gives, off the interface thread; the one that is open gives way once it is there."""
        # Extensions may bring pages: whatever imports Qt is imported on the interface thread.
        load_extensions()
        self._opening += 1
        self.working.emit(tr("Opening the job log"), 0.0)
        told = Opening(
            told=lambda share: self._posted.emit(lambda: self.working.emit(tr("Opening the job log"), share))
        )

        def work() -> None:
            try:
                log = make(told)
                jobs = log.jobs()
                # A workspace brings in all that casework needs, which takes a while.
                kind, events = import_module("sagen.workspace.workspace"), import_module("sagen.workspace.events")
            except Exception as error:
                why = import_module("sagen.casework.fault_log").note(error)
                self._posted.emit(lambda: self._not_opened(why))
                return
            self._posted.emit(lambda: self._begin(kind.Workspace(log, self._posted.emit), events, jobs))

        threading.Thread(target=work, name="opening a log", daemon=True).start()

    def _not_opened(self, why: str) -> None:
        self._opening -= 1
        self.working.emit("", 1.0)
        self.said.emit(why)

    def _begin(self, core: Workspace, events, jobs) -> None:
        self._opening -= 1
        before = self.core
        core.gear, core.strategy, core.record_counts = self.gear, self.strategy, self.record_counts
        signals = {
            events.JobsChanged: lambda event: self.jobs_changed.emit(event.listed),
            events.JobChanged: lambda event: self.job_changed.emit(event.open),
            events.JobWeighed: lambda event: self.weighed.emit(event.weighed),
            events.CaptureOpened: lambda event: self.capture_opened.emit(event.opened),
            events.ImportRead: lambda event: self.incoming.emit(event.incoming),
            events.ImportLeft: lambda event: self.import_left.emit(),
            events.Overtaken: lambda event: self.overtaken.emit(event.error, event.entry),
            events.Working: lambda event: self.working.emit(event.what, event.share),
            events.RecordingsChanged: lambda event: self.recordings_changed.emit(),
            events.LettersChanged: lambda event: self.letters_changed.emit(event.count),
        }
        for kind, emit in signals.items():
            core.events.subscribe(kind, lambda event, emit=emit: self._apply(event, emit))
        core.events.subscribe(events.Said, lambda event: self.said.emit(event.words))
        self.core = core
        self.working.emit("", 1.0)
        if before is not None:
            before.retire()
            self._retiring.append(before)
            self._let_go()
        self.log_opened.emit()
        core.begin(jobs)

    def _apply(self, event: Event, emit: Callable[[Event], None]) -> None:
        """What is of another workspace than the open one is not applied."""
        if self.core is not None and event.workspace == self.core.identity:
            emit(event)

    def _let_go(self) -> None:
        """Close the workspaces that gave way once nothing of theirs is being written."""
        for core in [core for core in self._retiring if not core.blocks_closing]:
            self._retiring.remove(core)
            threading.Thread(target=core.close, name="closing a log", daemon=True).start()
        if self._retiring:
            QTimer.singleShot(LOOK_AGAIN_MS, self, self._let_go)

    # the end ------------------------------------------------------------------------------

    @property
    def idle(self) -> bool:
        """Whether nothing is being worked on."""
        cores = [*self._retiring, *([self.core] if self.core is not None else [])]
        return not self._opening and all(core.queues.idle for core in cores)

    @property
    def blocks_closing(self) -> bool:
        """Whether anything is being done that would be lost otherwise."""
        cores = [*self._retiring, *([self.core] if self.core is not None else [])]
        return any(core.blocks_closing for core in cores)

    def retire(self) -> None:
        """The window closes: nothing new is begun, recordings end and are kept."""
        if self.core is not None:
            self.core.retire()

    def close(self) -> None:
        """Let what is being written come to its end, and close what is open."""
        for core in self._retiring:
            core.close()
        self._retiring.clear()
        if self.core is not None:
            self.core.close()

    # wishes -------------------------------------------------------------------------------

    def wish(self, *, gear=None, strategy=None, record_counts: bool | None = None) -> None:
        """How checks are chosen, and whether the shop's own record weighs in; kept for the next log too."""
        for name, value in (("gear", gear), ("strategy", strategy), ("record_counts", record_counts)):
            if value is not None:
                setattr(self, name, value)
                if self.core is not None:
                    setattr(self.core, name, value)
        if self.core is not None:
            self.core.reweigh()
