"""The one window: Trail, Bench, Next check and suspects.

It is made in two steps. The bare shell paints at once; `fill` then brings in the panes and everything
they need. The bench's pages are made when they are first asked for.
"""

from __future__ import annotations

from dataclasses import replace
from importlib import import_module
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QSettings, QTimer
from PySide6.QtWidgets import QHBoxLayout, QMainWindow, QVBoxLayout, QWidget

from sagen.desk.theme import theme

if TYPE_CHECKING:
    from PySide6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent

    from sagen.desk.pages import Page
    from sagen.model.job import Entry, Job

#: px at 1280 of trail, bench, and next check with suspects; and the least that each takes
PANES = (226, 724, 298)
LEAST = (206, 440, 266)
#: px inside the frame: it fits a screen of 1280 x 800 with its title bar and a panel
SIZE = (1280, 720)
LEAST_SIZE = (1024, 640)
#: what is made ready once the log is open: modules, then pages
READY = (
    "sagen.desk.lenses.strip", "sagen.desk.lenses.turns", "sagen.desk.lenses.wheel", "sagen.desk.lenses.teeth_table",
    "sagen.desk.pages.import_page", "incoming", "sagen.desk.pages.capture_page", "capture",
)  # fmt: skip
WATCHED = ("captures", "photos")  #: what a folder can be watched for
NARROW = 1180  #: px of the window below which all room there is goes to the bench
CAPTURES = "Captures (*.csv *.tsv *.txt *.wav *.mat *.mf4 *.h5 *.hdf5 *.npy *.npz);;All files (*)"


class MainWindow(QMainWindow):
    """Header, three panes, and the wiring between them and the workspace."""

    def __init__(self, settings: QSettings):
        super().__init__()
        self.settings = settings
        self.setWindowTitle("Sagen")
        self.resize(*SIZE)
        self.setMinimumSize(*LEAST_SIZE)
        self.setAcceptDrops(True)
        self.workspace = None
        self._pages: dict[str, Page] = {}
        self._job_shown: int | None = None
        self._watched: dict[str, object] = {}
        self._closing = False
        self._by_itself: set[str] = set()  #: names of files that a watched folder gave
        geometry = settings.value("window/geometry")
        if geometry is not None:
            self.restoreGeometry(geometry)
        self._frame()

    # building -----------------------------------------------------------------------------

    def _frame(self) -> None:
        """The empty shell: the same frames in the same places as the panes that follow."""
        middle = QWidget()
        self.setCentralWidget(middle)
        outer = QVBoxLayout(middle)
        outer.setContentsMargins(6, 6, 6, 6)
        outer.setSpacing(6)
        bar, row = QWidget(), QHBoxLayout()
        bar.setObjectName("bar")
        bar.setFixedHeight(48)
        row.setSpacing(6)
        for wide in PANES:
            pane = QWidget()
            pane.setObjectName("pane")
            row.addWidget(pane, wide)
        outer.addWidget(bar)
        outer.addLayout(row, 1)

    def fill(self, *, instruments: str = "") -> None:
        """Bring in panes and workspace; nothing is opened yet. `instruments` names what is on the bench."""
        from PySide6.QtWidgets import QSplitter

        from sagen.casework.heap import Heap
        from sagen.desk.panes.suspects import SuspectsPane
        from sagen.desk.panes.trail import TrailPane
        from sagen.desk.parts import Bench, Header
        from sagen.desk.workspace import Workspace

        theme.load_fonts()
        self.workspace, self.heap = Workspace(self), Heap()
        self.workspace.instruments = instruments
        middle = QWidget()
        outer = QVBoxLayout(middle)
        outer.setContentsMargins(6, 6, 6, 6)
        outer.setSpacing(6)
        self.header, self.trail, self.suspects, self.bench = Header(), TrailPane(), SuspectsPane(), Bench()
        self.stack, self.message = self.bench.stack, self.bench.message
        outer.addWidget(self.header)
        self.splitter = QSplitter()
        self.splitter.setHandleWidth(6)
        for index, (pane, least) in enumerate(zip((self.trail, self.bench, self.suspects), LEAST, strict=True)):
            self.splitter.addWidget(pane)
            self.splitter.setStretchFactor(index, int(pane is self.bench))
            self.splitter.setCollapsible(index, False)
            pane.setMinimumWidth(least)
        self.splitter.setSizes(list(PANES))
        panes = self.settings.value("window/panes")
        if panes is not None:
            self.splitter.restoreState(panes)
        outer.addWidget(self.splitter, 1)
        self.setCentralWidget(middle)
        self._keys()
        self._listen()
        self.suspects.strategy.setCurrentIndex(
            max(0, self.suspects.strategy.findData(self.settings.value("reason/strategy", "most")))
        )
        self.workspace.record_counts = bool(_whole(self.settings.value("reason/record", 1)))
        self.suspects.gear.setCurrentIndex(_whole(self.settings.value("reason/gear", 0)))
        self._dress()

    def _keys(self) -> None:
        from PySide6.QtCore import Qt
        from PySide6.QtGui import QAction, QKeySequence

        from sagen.desk.actions import bind
        from sagen.desk.window_actions import ACTIONS

        bind(self, ACTIONS, self)
        gone = QAction(self.trail.list)
        gone.setShortcut(QKeySequence("Del"))
        gone.setShortcutContext(Qt.ShortcutContext.WidgetShortcut)
        gone.triggered.connect(lambda: self._with_entry(self.withdraw_entry))
        self.trail.list.addAction(gone)

    def _listen(self) -> None:
        workspace = self.workspace
        workspace.job_changed.connect(self._job_changed)
        workspace.jobs_changed.connect(self._jobs_changed)
        workspace.weighed.connect(self._show_taps)
        workspace.weighed.connect(
            lambda item: self.suspects.show_weighed(item.suspects, item.checks, item.advice, item.odd)
        )
        workspace.weighed.connect(lambda item: self.suspects.show_record(item.record, workspace.record_counts))
        self.suspects.record.clicked.connect(self.toggle_record)
        workspace.capture_opened.connect(self._capture_opened)
        workspace.incoming.connect(self._incoming)
        workspace.failed.connect(self.message.say)
        workspace.working.connect(self.header.show_work)
        workspace.log_opened.connect(self._log_opened)
        workspace.said.connect(self.message.say)
        workspace.unreadable.connect(self._unreadable)
        workspace.kept.connect(self._kept)
        workspace.overtaken.connect(self._overtaken)
        workspace.not_kept.connect(self._not_kept)
        self.header.job_button.clicked.connect(self.show_log)
        self.header.capture_button.clicked.connect(self.choose_files)
        self.bench.start_button.clicked.connect(self.choose_files)
        self.header.report_button.clicked.connect(lambda: self.show_report())
        self.header.meter_button.clicked.connect(self.show_circuit)
        self.suspects.card.wanted.connect(self.do_check)
        self.suspects.wishes.connect(self._wishes)
        self.header.undo_button.clicked.connect(workspace.undo)
        self.header.redo_button.clicked.connect(workspace.redo)
        self.header.look_button.clicked.connect(self.toggle_look)
        self.header.stop.clicked.connect(workspace.stop_work)
        self.trail.opened.connect(self.open_entry)
        self.trail.correct.connect(self.correct_entry)
        self.trail.withdraw.connect(self.withdraw_entry)
        self.trail.add.connect(self.add_entry)

    def _dress(self) -> None:
        self.header.apply_theme()
        for page in self._pages.values():
            page.apply_theme()
        self._update_buttons()

    # pages --------------------------------------------------------------------------------

    def _show_taps(self, weighed) -> None:
        page = self._pages.get("capture")
        if page is not None:
            page.show_taps(weighed.taps)

    def page(self, name: str) -> Page:
        """A page of the bench, made when it is first asked for."""
        if name not in self._pages:
            from sagen.desk.actions import bind
            from sagen.desk.pages import make_page

            page = make_page(name)
            self._pages[name] = page
            self.stack.addWidget(page)
            bind(page, page.commands, page)
            page.wire(self)
        return self._pages[name]

    def show_page(self, name: str) -> Page:
        page = self.page(name)
        self.stack.setCurrentWidget(page)
        page.on_shown()
        return page

    def back_to_job(self) -> None:
        """The capture on the bench, else what says how to get one."""
        if self.workspace.opened is not None:
            self.show_page("capture")
        else:
            from sagen.model.trail import CaptureEntry

            job = self.workspace.job
            self.bench.show_empty(len(job.of(CaptureEntry)) if job else 0)

    # what the workspace announces -----------------------------------------------------------

    def _log_opened(self) -> None:
        from sagen.desk.log_commands import LOG_COMMANDS, remembered_author
        from sagen.desk.pages import added_pages
        from sagen.desk.window_actions import JOB_PAGES
        from sagen.store.entries import Author

        self.workspace.log.author = remembered_author(self.settings)

        show = [(words, lambda _=False, name=name: self.show_with_job(name)) for name, words in JOB_PAGES]
        show += [
            ("Shelf", lambda _=False: self.show_page("shelf")),
            *((f"Watch a folder for {what}", lambda _=False, what=what: self.watch(what)) for what in WATCHED),
            ("Probe mode", lambda _=False: self.probe()),
            ("Instruments", lambda _=False: self.choose_instruments()),
            ("Job and log", tuple((words, lambda _=False, deed=deed: deed(self)) for words, deed in LOG_COMMANDS)),
        ]
        show += [
            (name.replace("_", " ").capitalize(), lambda _=False, name=name: self.show_page(name))
            for name in added_pages()
        ]
        self.header.offer(tuple(show))
        for what in WATCHED:
            watched = str(self.settings.value(f"{what}/folder", ""))
            if watched and Path(watched).is_dir():
                self._watch(what, watched)
        if self.workspace.log.is_shared and self.workspace.log.author == Author():
            self.message.say("Others work on this log, too: say who writes here (Job, Job and log, Who writes here).")
        # What the first capture will need is brought in while nobody waits for it.
        self.workspace.work.ask(_preload, done=lambda _: self._make_ready(*READY))
        self._next_incoming()

    def _make_ready(self, *names: str) -> None:
        """Import modules and make pages, one a turn of the event loop: the first showing of one costs a while.

        Both here and not in a worker: two threads that bring in parts of Qt at once bring the program down.
        """
        if not names:
            self.trail.warm()
            return
        if "." in names[0]:
            import_module(names[0])
        elif names[0] not in self._pages:
            page = self.page(names[0])
            page.resize(self.stack.size())
            page.grab()
        QTimer.singleShot(30, self, lambda: self._make_ready(*names[1:]))

    def _jobs_changed(self, listed) -> None:
        self.page("log").show_jobs(listed)
        if not listed.jobs and not listed.search:
            self.show_page("log")

    def _job_changed(self, job: Job | None) -> None:
        self.trail.show_job(job)
        name = job.machine if job else "Job log"
        full = f" {name}" + (f"  \u2013  {job.owner}" if job and job.owner else "")
        self.header.job_button.setText(full.replace("&", "&&"))
        self.setWindowTitle(f"{name} \u2013 Sagen" + (" (demo)" if self.workspace.instruments else ""))
        if job is None:
            self.show_page("log")
        elif job.id != self._job_shown and not (
            self.heap.busy and self.stack.currentWidget() is self._pages.get("incoming")
        ):
            # Whatever page is up shows the job before; it may not stand under this one's name.
            self.back_to_job()
        self._job_shown = job.id if job else None
        self._update_buttons()

    def _capture_opened(self, opened) -> None:
        page = self.page("capture")
        page.show_capture(opened)
        if self.workspace.last_weighed is not None:
            page.show_taps(self.workspace.last_weighed.taps)
        self._update_buttons()
        if self.heap.busy:
            return  # what was kept does not turn the page under the next file's questions
        self.message.hide()
        self.show_page("capture")
        page.view.setFocus()
        if opened.entry_id is not None:
            self.trail.choose(opened.entry_id)

    def _update_buttons(self) -> None:
        log = self.workspace.log
        self.header.show_steps(*self.workspace.steps())
        self.header.capture_button.setEnabled(log is not None)
        self.header.meter_button.setEnabled(self.workspace.job is not None)
        self.header.report_button.setEnabled(self.workspace.job is not None)

    # files on their way in ------------------------------------------------------------------

    def bring_in(self, names: list[str]) -> None:
        """Read captures one after the other; each goes through the import sheet. Photos go on the trail."""
        from sagen.files.photos import PHOTO_FILES

        paths = [Path(name) for name in names]
        photos = [path for path in paths if path.suffix.lower() in PHOTO_FILES]
        for photo in photos:
            self.keep_photo(photo)
        self.heap.add([path for path in paths if path not in photos])
        self._next_incoming()

    def _next_incoming(self) -> None:
        """The next file of the heap, once the log is open and no other one is on the bench; at the end, what became
        of them."""
        workspace = self.workspace
        if workspace.log is None:
            return
        path = self.heap.next()
        if path is not None:
            if workspace.job is None:
                workspace.add_job(f"Machine of {path.name}", "", None, [], then=lambda: workspace.bring_in(path))
            else:
                workspace.bring_in(path)
            return
        summary = self.heap.summary()
        if summary:
            self.message.say(summary)

    def _incoming(self, incoming) -> None:
        from sagen.model.trail import CaptureEntry, CircuitEntry
        from sagen.reason.case import circuit_of

        job = self.workspace.job
        page = self.show_page("incoming")
        # Only what was stated on the trail may answer for a file; a guess from a code may not.
        stated = job is not None and (job.of(CircuitEntry) or job.of(CaptureEntry))
        page.circuit = circuit_of(job.records()) if stated else None
        if incoming.path.name in self._by_itself and incoming.sheet is None and stated:
            from sagen.casework.live import sheet_for

            self._by_itself.discard(incoming.path.name)
            columns = tuple(channel.column for channel in incoming.capture.channels)
            incoming = replace(incoming, sheet=sheet_for(job, columns))
        page.show_incoming(incoming)

    def keep_incoming(self, incoming, sheet) -> None:
        """The answers are given: keep the capture, and go on with the next file."""
        self.workspace.keep(incoming, sheet, from_shelf=self.page("incoming").from_shelf.isChecked())
        self.heap.keeping()
        if not self.heap.busy:
            self.back_to_job()
        self._next_incoming()

    def leave_incoming(self) -> None:
        """The file on the bench is left."""
        self.heap.left()
        self.back_to_job()
        self._next_incoming()

    def _unreadable(self, name: str, why: str) -> None:
        self.message.say(f"{name}: {why}")
        self.heap.failed(why)
        if not self.heap.busy:
            self.back_to_job()
        self._next_incoming()

    def _kept(self, _name: str) -> None:
        self.heap.kept()
        self._next_incoming()

    def _not_kept(self, name: str, why: str) -> None:
        self.message.say(f"{name} was not kept: {why}")
        self.heap.not_kept(name, why)
        self._next_incoming()

    # what the user does -------------------------------------------------------------------

    def folder(self) -> Path:
        """Where files were last chosen."""
        return Path(str(self.settings.value("files/folder", str(Path.home()))))

    def show_log(self) -> None:
        if self.workspace.log is not None:
            self.workspace.list_jobs(self.page("log").search.text())
            self.show_page("log")

    def new_job(self) -> None:
        if self.workspace.log is None:
            return
        from sagen.desk.forms import JobForm

        form = JobForm(self)
        if form.exec():
            self.workspace.add_job(form.name(), form.owner.text(), form.cylinders.currentData(), form.records())

    def show_circuit(self, circuit: str | None = None):
        """The circuit drawing with a meter entry, of a circuit by name or the one shown last; answers the page, or None
        without a job."""
        job = self.workspace.job
        if job is None:
            return None
        page = self.show_page("circuit")
        page.show_job(job, circuit)
        return page

    def do_check(self, best) -> None:
        """Bring up what the check on the card needs."""
        from sagen.desk.checking import DOING

        self.workspace.circuit = best.circuit
        DOING[best.check.kind](self, best.check, best.text)

    def show_with_job(self, name: str) -> None:
        """A page that is about the open job; without one, the log."""
        if self.workspace.job is None:
            self.message.say("Open a job first.")
            return
        page = self.show_page(name)
        if name == "card":
            page.show_job(self.workspace.job)

    def lay_under(self, name: str, token: str, sheet) -> None:
        """Lay another capture under the one on the bench, in every lens; nothing is written."""
        from sagen.casework.laid_over import LayUnder
        from sagen.model.trail import KeptReference

        opened, job = self.workspace.opened, self.workspace.job
        if opened is None or opened.entry is None or job is None:
            self.message.say("Open a capture of the trail first: this is laid under it.")
            return

        def came(laid) -> None:
            if self.workspace.job is not None and laid.opened.job_id == self.workspace.job.id:
                self.workspace.opened = laid.opened
                self._capture_opened(laid.opened)
                self.message.say(" ".join(laid.said) or f"{name} is laid under it.")

        self.workspace.ask(LayUnder(job.id, job, opened.entry, KeptReference(name, token, sheet)), came, slot="bench")

    def hunt_events(self) -> None:
        """Look through the capture on the bench for everything that came and went; a row jumps to its place."""
        from sagen.casework.captures import HuntEvents
        from sagen.desk.events_form import EventsForm

        opened, job = self.workspace.opened, self.workspace.job
        if opened is None or job is None:
            return

        def came(found) -> None:
            if self.workspace.opened is not opened:
                return
            form = EventsForm(opened.capture.name, found, self)
            if form.exec():
                self.workspace.add(form.answer())
            elif form.jump_to is not None:
                self.page("capture").view.look_at_span(form.jump_to.start_s, form.jump_to.end_s)

        self.workspace.ask(HuntEvents(job.id, opened), came, slot="events")

    def keep_as_good(self, source) -> None:
        """Keep the capture on the bench as known-good."""
        from sagen.casework.shelf import KeepAsGood

        opened, job = self.workspace.opened, self.workspace.job
        if opened is None or opened.entry is None or job is None:
            return
        self.workspace.ask(
            KeepAsGood(job.id, job, opened.entry, source),
            lambda kept: self.message.say(
                f"{kept.name} is on the shelf as known-good for {kept.card}: offered by itself from now on."
            ),
        )

    def compare_ends(self, other: Entry, pull_up_ohm: float | None) -> None:
        """Compare the capture on the bench with one at the other end of the wire; the answer goes on the trail."""
        from sagen.casework.laid_over import CompareEnds

        job, opened = self.workspace.job, self.workspace.opened
        if job is None or opened is None or opened.entry is None:
            return
        pair = (opened.entry, other)
        if opened.sheet.conditions.end == "module":
            pair = (other, opened.entry)

        def came(found) -> None:
            if self.workspace.job is not None and self.workspace.job.id == job.id:
                self.workspace.add(found.answer)
                self.message.say(" ".join(found.said))

        self.workspace.ask(CompareEnds(job.id, job, *pair, pull_up_ohm), came, slot="ends")

    def record_again(self, record) -> None:
        """Take a recording again under the same conditions."""
        from sagen.desk.checking import again

        again(self, record)

    def add_value(self, like=None) -> None:
        """A reading of what the job's card publishes."""
        from sagen.casework.patterns import card_of
        from sagen.desk.work_forms import ValueForm

        job = self.workspace.job
        card = card_of(job) if job else None
        if card is None or not any(item.published for item in card.circuit):
            self.message.say("This job has no card that publishes anything: fill one in, or load it (Ctrl+B).")
            return
        form = ValueForm(None, self, card=card)
        if like is not None:
            at = next(
                (
                    k
                    for k, (name, row) in enumerate(form.rows)
                    if (name, row.between, row.quantity, row.state, row.when)
                    == (like.circuit, like.between, like.quantity, like.state, like.when)
                ),
                0,
            )
            form.row.setCurrentIndex(at)
            form.value.setFocus()
        if form.exec():
            self.workspace.add(form.answer())

    def choose_photo(self) -> None:
        """Photos from files."""
        from PySide6.QtWidgets import QFileDialog

        names, _ = QFileDialog.getOpenFileNames(self, "Photos", str(self.folder()), "Photos (*.jpg *.jpeg *.png)")
        for name in names:
            self.keep_photo(Path(name))

    def keep_photo(self, path: Path | None = None, data: bytes = b"") -> None:
        """Put a photo on the trail, from a file or as pasted."""
        from sagen.casework.shelf import KeepPhoto

        job = self.workspace.job
        if job is None:
            self.message.say("Open a job first: a photo goes on its trail.")
            return

        def came(record) -> None:
            if self.workspace.job is not None and self.workspace.job.id == job.id:
                self.workspace.add(record, then=lambda: self.show_photo(self.workspace.job.entries[-1]))

        self.workspace.ask(KeepPhoto(job.id, path, data), came)

    def show_photo(self, entry: Entry) -> None:
        self.show_page("photo").show_entry(entry)

    def show_kept_photo(self, token: str, title: str) -> None:
        """A photo of the shelf, on the bench."""
        self.show_page("photo").show_photo(token, title)

    def paste(self) -> None:
        """A picture from the clipboard becomes a photo of the trail."""
        from PySide6.QtCore import QBuffer, QByteArray, QIODevice
        from PySide6.QtWidgets import QApplication

        image = QApplication.clipboard().image()
        if image.isNull():
            self.message.say("There is no picture to paste.")
            return
        held = QByteArray()
        buffer = QBuffer(held)
        buffer.open(QIODevice.OpenModeFlag.WriteOnly)
        image.save(buffer, "PNG")
        self.keep_photo(data=bytes(held.data()))

    def addresses(self) -> tuple[str, str, str]:
        """Where recorder, meter and bus answer, as stated; "" for one that was not."""
        from sagen.desk.at_hand import ADDRESSES

        return tuple(str(self.settings.value(f"bench/{name}", "")).strip() for name in ADDRESSES)

    def choose_instruments(self) -> None:
        """State where instruments answer; remembered."""
        from sagen.desk.at_hand import ADDRESSES, InstrumentsForm

        form = InstrumentsForm(self.addresses(), self, stand_in=bool(self.workspace.instruments))
        if form.exec():
            for name, value in zip(ADDRESSES, form.answer(), strict=True):
                self.settings.setValue(f"bench/{name}", value)

    def probe(self) -> None:
        """The whole window for one step at a time, hands full."""
        from sagen.desk.probe import ProbeWindow

        if self.workspace.job is None:
            self.message.say("Open a job first.")
            return
        self.probing = ProbeWindow(self)
        self.probing.begin()

    def watch(self, what: str) -> None:
        """Choose a folder whose new photos go on the trail, or whose new captures come to the bench, by themselves; none
        chosen: none is watched."""
        from PySide6.QtWidgets import QFileDialog

        name = QFileDialog.getExistingDirectory(self, f"Watch a folder for {what}", str(self.folder()))
        self.settings.setValue(f"{what}/folder", name)
        self._watch(what, name)

    def _watch(self, what: str, name: str) -> None:
        from sagen.desk.watched import WatchedFolder
        from sagen.files.door import all_formats
        from sagen.files.photos import PHOTO_FILES

        if what in self._watched:
            self._watched.pop(what).stop()
        if not name:
            return
        if what == "photos":
            suffixes, came = frozenset(PHOTO_FILES), self.keep_photo
            said = f"New photos in {name} go on the trail of the open job."
        else:
            suffixes, came = frozenset(suffix for form in all_formats() for suffix in form.suffixes), self._capture_came
            said = f"New captures in {name} come to the bench by themselves; Enter keeps one."
        self._watched[what] = WatchedFolder(Path(name), suffixes, self)
        self._watched[what].came.connect(lambda path: came(path))
        self.message.say(said)

    def _capture_came(self, path: Path) -> None:
        """A new file of the watched folder: brought in, with the answers of the job's last capture of the same columns."""
        self._by_itself.add(path.name)
        self.bring_in([str(path)])

    def _wishes(self, strategy, gear) -> None:
        self.workspace.strategy, self.workspace.gear = strategy, tuple(gear)
        self.settings.setValue("reason/strategy", str(strategy))
        self.settings.setValue("reason/gear", self.suspects.gear.currentIndex())
        self.workspace.reweigh()

    def choose_files(self) -> None:
        from PySide6.QtWidgets import QFileDialog

        names, _ = QFileDialog.getOpenFileNames(self, "Bring captures in", str(self.folder()), CAPTURES)
        if names:
            self.settings.setValue("files/folder", str(Path(names[0]).parent))
            self.bring_in(names)

    def open_entry(self, entry: Entry) -> None:
        from sagen.model.trail import CaptureEntry, CardEntry, PhotoEntry

        if isinstance(entry.record, PhotoEntry):
            self.show_photo(entry)
        elif isinstance(entry.record, CardEntry):
            self.show_page("card").show_card(entry.record.machine)
        if not isinstance(entry.record, CaptureEntry):
            return
        shown = self.workspace.opened
        if shown is not None and shown.entry_id == entry.id:
            self.show_page("capture")
        else:
            self.workspace.open_entry(entry)

    def decide(self, old: Entry | None = None) -> None:
        """Weigh what to fit while it is open, with what this shop's own jobs say of such parts."""
        from sagen.desk.decision_form import DecisionForm
        from sagen.model.vocabulary import Role

        if self.workspace.job is None:
            return
        fitted = self.workspace.record.fitted(Role.KNOCK) if self.workspace.record is not None else {}
        weighed = self.workspace.last_weighed
        form = DecisionForm(weighed.taps if weighed else None, fitted, self, old.record if old else None)
        if form.exec():
            if old is None:
                self.workspace.add(form.answer())
            else:
                self.workspace.correct(old, form.answer())

    def add_entry(self, kind) -> None:
        from sagen.desk.forms import FORMS
        from sagen.desk.work_forms import WORK_FORMS
        from sagen.model.vocabulary import EntryKind

        if self.workspace.job is None:
            return
        elsewhere = {
            EntryKind.DECISION: self.decide, EntryKind.VALUE: self.add_value, EntryKind.PHOTO: self.choose_photo,
            EntryKind.CARD: lambda: self.show_with_job("card"), EntryKind.READING: self.show_circuit,
        }  # fmt: skip
        if kind in elsewhere:
            elsewhere[kind]()
            return
        form = {**FORMS, **WORK_FORMS}[kind](parent=self)
        if form.exec():
            self.workspace.add(form.answer())

    def correct_entry(self, entry: Entry) -> None:
        from sagen.desk.forms import FORMS
        from sagen.desk.work_forms import WORK_FORMS
        from sagen.model.vocabulary import EntryKind

        if entry.kind == EntryKind.CAPTURE:
            self.message.say("A capture is corrected by bringing it in again; withdraw this one afterwards.")
        elif entry.kind in (EntryKind.DAMAGED, EntryKind.NEWER):
            self.message.say("This entry can be seen and withdrawn (Del), but not changed here.")
        elif entry.kind == EntryKind.DECISION:
            self.decide(entry)
        elif entry.kind == EntryKind.CARD:
            self.show_page("card").show_card(entry.record.machine)
        elif entry.kind == EntryKind.PHOTO:
            self.show_photo(entry)
        elif entry.kind not in {**FORMS, **WORK_FORMS}:
            self.message.say("Enter it again as it should be, and withdraw this one (Del).")
        else:
            form = {**FORMS, **WORK_FORMS}[entry.kind](entry.record, parent=self)
            if form.exec():
                self.workspace.correct(entry, replace(form.answer(), circuit=entry.record.circuit))

    def _overtaken(self, error, entry: Entry) -> None:
        """Somebody else changed what was being changed here: theirs stands, unless the person puts theirs over it."""
        from sagen.desk.log_commands import OvertakenForm

        if error.yours is None or entry is None:
            self.message.say(f"The entry was {str(error).partition(':')[0]}: it is shown as it is now.")
            return
        form = OvertakenForm(error, self)
        if form.exec():
            self.workspace.correct(error.theirs, replace(error.yours, circuit=entry.record.circuit))

    def withdraw_entry(self, entry: Entry) -> None:
        self.workspace.withdraw(entry, not entry.withdrawn)

    def _with_entry(self, action) -> None:
        entry = self.trail.chosen()
        if entry is not None:
            action(entry)

    def show_report(self, page: str | None = None) -> None:
        """Make a page, off the interface thread: the finding of the capture on the bench, or one of the whole job's;
        which, where not said: as it was last, if it can be made."""
        from sagen.casework.printing import Print, PrintJob
        from sagen.casework.weigh_job import Weighed

        opened, job = self.workspace.opened, self.workspace.job
        if job is None:
            return
        page = page or str(self.settings.value("report/page", "capture"))
        if page == "capture" and opened is None:
            page = "technician"
        self.settings.setValue("report/page", page)
        ratio = self.devicePixelRatioF()

        def made(printed) -> None:
            if self.workspace.job is None or printed.job_id != self.workspace.job.id:
                return
            from sagen.desk.pages.report_page import page_images

            self.workspace.work.ask(
                lambda _task: page_images(printed.pdf, 1.6 * max(1.0, ratio)),
                done=lambda images: self.show_page("report").show_report(
                    printed.html, printed.pdf, images, printed.name, page
                ),
                failed=self.message.say,
            )

        weighed = self.workspace.last_weighed or Weighed()
        shop = str(self.settings.value("report/workshop", ""))
        request = (
            Print(job.id, job, opened, weighed) if page == "capture" else PrintJob(job.id, job, weighed, page, shop)
        )
        self.workspace.ask(request, made, slot="paper")

    def toggle_record(self) -> None:
        """Whether the shop's own jobs weigh in, or only what ships with the program."""
        on = not self.workspace.record_counts
        self.workspace.record_counts = on
        self.settings.setValue("reason/record", int(on))
        self.message.say(
            "The shop's own proven jobs weigh in."
            if on
            else "The shop's own jobs do not weigh in: as the program ships."
        )
        self.workspace.reweigh()

    def toggle_look(self) -> None:
        from PySide6.QtWidgets import QApplication

        name = "dark" if theme.current().name == "light" else "light"
        self.settings.setValue("look", name)
        theme.apply(QApplication.instance(), name)
        self._dress()
        for widget in self.findChildren(QWidget):
            widget.update()

    def keys_dialog(self):
        """The list of keys: the window's, then those of each page that has some."""
        from sagen.desk.actions import Hint, KeysDialog
        from sagen.desk.pages import page_names
        from sagen.desk.window_actions import ACTIONS, TRAIL_HINTS

        groups = [("WINDOW", ACTIONS), ("TRAIL", TRAIL_HINTS)]
        for name in page_names():
            page = self.page(name)
            rows = [*page.commands, *page.hints]
            if rows:
                groups.append((page.title.upper(), rows))
        return KeysDialog(
            [(title, [row for row in rows if isinstance(row, Hint) or row.words]) for title, rows in groups], self
        )

    def show_keys(self) -> None:
        self.keys_dialog().exec()

    def next_pane(self) -> None:
        from PySide6.QtWidgets import QApplication

        from sagen.desk.parts import focus_next

        focus_next((self.trail, self.bench, self.suspects), QApplication.focusWidget())

    # Qt ------------------------------------------------------------------------------------

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        names = [url.toLocalFile() for url in event.mimeData().urls() if url.isLocalFile()]
        if names:
            self.bring_in(names)

    def resizeEvent(self, event) -> None:
        """On a narrow screen the panes beside the bench give way first."""
        super().resizeEvent(event)
        if self.workspace is not None and self.width() < NARROW:
            trail, _, suspects = LEAST
            self.splitter.setSizes([trail, self.width() - trail - suspects, suspects])

    def _close_when_written(self) -> None:
        if self.workspace.writing:
            QTimer.singleShot(50, self, self._close_when_written)
        else:
            self.close()

    def closeEvent(self, event: QCloseEvent) -> None:
        """Close once everything that is being written is: until then it says so, and closes by itself."""
        if self.workspace is not None and self.workspace.writing:
            event.ignore()
            if not self._closing:
                self._closing = True
                self.message.say("Closing as soon as what is being kept is kept.")
                self._close_when_written()
            return
        self.settings.setValue("window/geometry", self.saveGeometry())
        for item in self._watched.values():
            item.stop()
        if self.workspace is not None:
            self.settings.setValue("window/panes", self.splitter.saveState())
            for page in self._pages.values():
                page.close_down()
            self.workspace.close()
        event.accept()


def _whole(value: object) -> int:
    """A remembered number; 0 for what is none."""
    try:
        return int(value)
    except (TypeError, ValueError):
        return 0


def _preload(_task) -> None:
    """Import, off the interface thread, what the bench will need and what has nothing to do with Qt."""
    import sagen.casework.captures
    import sagen.reason.checks  # noqa: F401
