"""What the capture on the bench can be compared with, and kept as."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QMenu, QWidget

from sagen.casework.laid_over import banks_of, modelled_by
from sagen.casework.open_capture import OpenCapture
from sagen.casework.patterns import OnShelf
from sagen.casework.shelf import FindOnShelf
from sagen.desk.forms.ends import EndsForm
from sagen.model.language import titled, tr
from sagen.model.trail import CaptureEntry
from sagen.model.vocabulary import PatternSource
from sagen.model.words import PATTERN_SOURCES

if TYPE_CHECKING:
    from sagen.desk.ports import Commands, Navigation
    from sagen.desk.workspace import DeskWorkspace


def plain_menu(text: str) -> str:
    """A file's name as a menu shows it: an ampersand is no key."""
    return text.replace("&", "&&")[:80]


MOST_OFFERED = 6  #: of the shelf


class CompareMenu(QMenu):
    """Made anew each time it is shown."""

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        #: what on the shelf has the pattern of the capture on the bench, the best fit first
        self.offers: list[OnShelf] = []
        self.aboutToShow.connect(self._offer)

    def wire(self, workspace: DeskWorkspace, navigation: Navigation, commands: Commands) -> None:
        self._workspace, self._navigation, self._commands = workspace, navigation, commands

    def look_on_shelf(self, opened: OpenCapture, told: Callable[[int], None]) -> None:
        """Find the known-good captures that have the pattern of the one on the bench; `told` how many there are."""
        self.offers, job = [], self._workspace.job
        if job is None or opened.entry is None:
            return

        def show(found: list[OnShelf]) -> None:
            if self._workspace.opened is opened:
                self.offers = [item for item in found if item.pattern.token != opened.entry.record.token]
                told(len(self.offers))

        self._workspace.submit(FindOnShelf(job.id, job, opened.examination), show, slot="alike")

    def _offer(self) -> None:
        self.clear()
        opened, job = self._workspace.opened, self._workspace.job
        entry = opened.entry if opened is not None else None
        if entry is None or job is None:
            self.addAction(tr("It is not on a trail yet")).setEnabled(False)
            return
        run = self._commands.runner
        self.addAction(tr("Look for events")).triggered.connect(run("captures.hunt_events"))
        keep = self.addMenu(tr("Keep as known-good"))
        for source in PatternSource:
            words = titled(PATTERN_SOURCES[source])
            keep.addAction(words).triggered.connect(run("captures.keep_as_good", source))
        under, ends = self.addMenu(tr("Lay under it")), self.addMenu(tr("The wire's other end"))
        for item in self.offers[:MOST_OFFERED]:
            name = plain_menu(item.text)
            pattern = item.pattern
            under.addAction(name).triggered.connect(
                run("captures.lay_under", pattern.name, pattern.token, pattern.sheet)
            )
        if not self.offers:
            under.addAction(tr("No known-good capture on the shelf has this pattern")).setEnabled(False)
        under.addAction(tr("The whole shelf …")).triggered.connect(lambda _=False: self._navigation.show_page("shelf"))
        expected = under.addAction(tr("What the model expects of a sound one"))
        expected.setEnabled(bool(modelled_by(entry.record.sheet)))
        expected.triggered.connect(run("captures.lay_model_under"))
        banks = under.addAction(tr("The other bank of this capture"))
        banks.setEnabled(bool(banks_of(entry.record.sheet)))
        banks.triggered.connect(run("captures.lay_other_bank_under"))
        under.addSeparator()
        for other in job.of(CaptureEntry):
            if other.id == entry.id:
                continue
            record, name = other.record, plain_menu(other.record.name)
            under.addAction(name).triggered.connect(run("captures.lay_under", record.name, record.token, record.sheet))
            ends.addAction(name).triggered.connect(lambda _=False, other=other: self._other_end(other))
        ends.addAction(tr("Another channel of this capture")).triggered.connect(lambda _=False: self._other_end(entry))

    def _other_end(self, other) -> None:
        form = EndsForm(self.parentWidget())
        if form.exec():
            self._commands.run("captures.compare_ends", other, form.ohm())
