"""The one window: Trail, Bench, Suspects.

It is made in two steps. The bare shell paints at once; `fill` then brings in the panes and everything
they need. The bench's pages are made when they are first asked for.
"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QSettings, QTimer
from PySide6.QtWidgets import QHBoxLayout, QMainWindow, QVBoxLayout, QWidget

from sagen.desk import theme

if TYPE_CHECKING:
    from PySide6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent

    from sagen.model.job import Entry, Job

PANES = (256, 700, 292)  #: px at 1280


ENTRY_KEYS = (("Ctrl+K", "code"), ("Ctrl+R", "repair"), ("Ctrl+E", "proof"))


class MainWindow(QMainWindow):
    """Header, three panes, and the wiring between them and the workspace."""

    def __init__(self, settings: QSettings):
        super().__init__()
        self.settings = settings
        self.setWindowTitle("Sagen")
        self.resize(1280, 800)
        self.setAcceptDrops(True)
        self.workspace = None
        self._pages: dict[str, QWidget] = {}
        self._waiting: list[str] = []
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
        outer.setContentsMargins(8, 8, 8, 8)
        outer.setSpacing(8)
        bar, row = QWidget(), QHBoxLayout()
        bar.setObjectName("bar")
        bar.setFixedHeight(53)
        row.setSpacing(8)
        for wide in PANES:
            pane = QWidget()
            pane.setObjectName("pane")
            row.addWidget(pane, wide)
        outer.addWidget(bar)
        outer.addLayout(row, 1)

    def fill(self, *, demo: bool = False) -> None:
        """Bring in panes and workspace; nothing is opened yet."""
        from PySide6.QtWidgets import QSplitter

        from sagen.desk.parts import Bench, Header
        from sagen.desk.suspects import SuspectsPane
        from sagen.desk.trail import TrailPane
        from sagen.desk.workspace import Workspace

        theme.load_fonts()
        self.workspace = Workspace(self)
        self.workspace.demo = demo
        middle = QWidget()
        outer = QVBoxLayout(middle)
        outer.setContentsMargins(8, 8, 8, 8)
        outer.setSpacing(8)
        self.header, self.trail, self.suspects, self.bench = Header(), TrailPane(), SuspectsPane(), Bench()
        self.stack, self.message = self.bench.stack, self.bench.message
        outer.addWidget(self.header)
        self.splitter = QSplitter()
        self.splitter.setHandleWidth(8)
        for index, (pane, least) in enumerate(((self.trail, 236), (self.bench, 480), (self.suspects, 250))):
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
        self._actions()
        self._listen()
        self.suspects.strategy.setCurrentIndex(
            max(0, self.suspects.strategy.findData(self.settings.value("reason/strategy", "most")))
        )
        self.suspects.gear.setCurrentIndex(int(self.settings.value("reason/gear", 0)))
        self._dress()

    def _actions(self) -> None:
        from PySide6.QtCore import Qt
        from PySide6.QtGui import QAction, QKeySequence

        for keys, slot in (
            ("Ctrl+J", self.show_log),
            ("Ctrl+N", self.new_job),
            ("Ctrl+O", self.choose_files),
            ("Ctrl+P", self.show_report),
            ("Ctrl+M", self.show_circuit),
            ("Ctrl+D", self.suspects.card._do),
            ("Ctrl+Shift+D", self.suspects.card._next),
            *((keys, lambda kind=kind: self._add_to_job(kind)) for keys, kind in ENTRY_KEYS),
            ("Ctrl+Z", self.workspace.undo),
            ("Ctrl+Shift+Z", self.workspace.redo),
            ("Ctrl+L", self.toggle_look),
            ("F1", self.show_keys),
            ("F6", self.next_pane),
            ("F2", lambda: self._with_entry(self.correct_entry)),
            ("Ctrl+Q", self.close),
        ):
            action = QAction(self)
            action.setShortcut(QKeySequence(keys))
            action.triggered.connect(lambda _=False, slot=slot: slot())
            self.addAction(action)
        gone = QAction(self.trail.list)
        gone.setShortcut(QKeySequence("Del"))
        gone.setShortcutContext(Qt.ShortcutContext.WidgetShortcut)
        gone.triggered.connect(lambda: self._with_entry(self.withdraw_entry))
        self.trail.list.addAction(gone)

    def _listen(self) -> None:
        workspace = self.workspace
        workspace.job_changed.connect(self._job_changed)
        workspace.jobs_changed.connect(self._jobs_changed)
        workspace.weighed.connect(lambda one: self.suspects.show_weighed(one.suspects, one.checks, one.advice, one.odd))
        workspace.capture_opened.connect(self._capture_opened)
        workspace.incoming.connect(self._incoming)
        workspace.failed.connect(self.message.say)
        workspace.working.connect(self.header.show_work)
        workspace.log_opened.connect(self._log_opened)
        workspace.said.connect(self.message.say)
        self.header.job_button.clicked.connect(self.show_log)
        self.header.capture_button.clicked.connect(self.choose_files)
        self.bench.start_button.clicked.connect(self.choose_files)
        self.header.report_button.clicked.connect(self.show_report)
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
        self.header.dress()
        if "capture" in self._pages:
            self._pages["capture"].dress()
        self._update_buttons()

    # pages --------------------------------------------------------------------------------

    def page(self, name: str) -> QWidget:
        """A page of the bench, made when it is first asked for."""
        if name not in self._pages:
            page = _PAGES[name]()
            self._pages[name] = page
            self.stack.addWidget(page)
            wire = getattr(self, f"_wire_{name}", None)
            if wire:
                wire(page)
        return self._pages[name]

    def _wire_log(self, page) -> None:
        page.chosen.connect(lambda job_id: self.workspace.open_job(job_id, open_capture=True))
        page.new_wanted.connect(self.new_job)

    def _wire_incoming(self, page) -> None:
        page.work = self.workspace.work
        page.kept.connect(self._keep)
        page.left.connect(self._leave_incoming)

    def _wire_capture(self, page) -> None:
        page.export_wanted.connect(self.export_capture)

    def _wire_circuit(self, page) -> None:
        page.left.connect(self._back_to_job)
        page.kept.connect(self._keep_reading)
        page.circuit_kept.connect(self._keep_circuit)
        page.expect_wanted.connect(self._expect)
        page.arithmetic_wanted.connect(self._arithmetic)
        page.load_wanted.connect(self._load_circuit)
        page.save_wanted.connect(self._save_circuit)
        page.stand_in_wanted.connect(self._read_stand_in)
        page.stand_in.setVisible(self.workspace.demo)

    def _wire_report(self, page) -> None:
        page.left.connect(self._back_to_job)
        page.failed.connect(self.message.say)
        page.saved.connect(self.message.say)

    def show_page(self, name: str) -> QWidget:
        page = self.page(name)
        self.stack.setCurrentWidget(page)
        return page

    # what the workspace announces -----------------------------------------------------------

    def _log_opened(self) -> None:
        # What the first capture will need is brought in while nobody waits for it.
        self.workspace.work.ask(_preload, done=lambda _: self._make_ready("incoming", "capture"))
        waiting, self._waiting = self._waiting, []
        if waiting:
            self.bring_in(waiting)

    def _make_ready(self, *names: str) -> None:
        """Make pages and lay them out, one a turn of the event loop: the first showing of one costs a while."""
        if not names:
            self.trail.warm()
            return
        if names[0] not in self._pages:
            page = self.page(names[0])
            page.resize(self.stack.size())
            page.grab()
        QTimer.singleShot(30, self, lambda: self._make_ready(*names[1:]))

    def _jobs_changed(self, jobs: list[Job]) -> None:
        self.page("log").show_jobs(jobs)
        if not jobs:
            self.show_page("log")

    def _job_changed(self, job: Job | None) -> None:
        self.trail.show_job(job)
        name = job.machine if job else "Job log"
        full = f" {name}" + (f"  \u2013  {job.owner}" if job and job.owner else "")
        self.header.job_button.setText(full.replace("&", "&&"))
        self.setWindowTitle(f"{name} \u2013 Sagen" + (" (demo)" if self.workspace.demo else ""))
        if job is not None and not job.of("capture") and self.workspace.opened is None:
            self.bench.show_empty()
        self._update_buttons()

    def _capture_opened(self, opened) -> None:
        self.message.hide()
        page = self.show_page("capture")
        page.show_capture(opened)
        page.view.setFocus()
        if opened.entry is not None:
            self.trail.choose(opened.entry.id)
        self._update_buttons()

    def _incoming(self, incoming) -> None:
        self.message.hide()
        from sagen.reason.log_case import circuit_of_job

        job = self.workspace.job
        page = self.show_page("incoming")
        # Only what was stated on the trail may answer for a file; a guess from a code may not.
        page.circuit = circuit_of_job(job) if job is not None and (job.of("circuit") or job.of("capture")) else None
        page.show_incoming(incoming)

    def _update_buttons(self) -> None:
        log = self.workspace.log
        self.header.show_steps(log)
        self.header.capture_button.setEnabled(log is not None)
        self.header.meter_button.setEnabled(self.workspace.job is not None)
        self.header.report_button.setEnabled(self.workspace.opened is not None)

    # what the user does -------------------------------------------------------------------

    def show_log(self) -> None:
        if self.workspace.log is not None:
            self.workspace.refresh_jobs()
            self.show_page("log").list.setFocus()

    def new_job(self) -> None:
        if self.workspace.log is None:
            return
        from sagen.desk.forms import JobForm

        form = JobForm(self)
        if form.exec():
            self.workspace.add_job(
                form.name(),
                form.owner.text(),
                form.cylinders.currentData(),
                form.complaint.currentData(),
                form.code_list(),
            )

    def show_circuit(self):
        """The circuit drawing with a meter entry; answers the page, or None without a job."""
        job = self.workspace.job
        if job is None:
            return None
        from sagen.reason.log_case import circuit_of_job

        told = {one.data["entry"]["point"]: one.data.get("shown", "") for one in job.of("reading")}
        page = self.show_page("circuit")
        page.show_circuit(circuit_of_job(job), (job.cylinders or 4, 2 if (job.cylinders or 4) > 5 else 1), told)
        page.view.setFocus()
        return page

    def _keep_circuit(self, data: dict) -> None:
        self.workspace.add("circuit", {"spec": data})
        self.show_circuit()

    def _arithmetic(self) -> None:
        from sagen.desk.arithmetic import ArithmeticForm

        ArithmeticForm(self).exec()

    def _load_circuit(self) -> None:
        from PySide6.QtWidgets import QFileDialog

        name, _ = QFileDialog.getOpenFileName(
            self, "Take the circuit from a file", str(Path.home()), "Circuits (*.toml)"
        )
        if name:
            self.load_circuit(Path(name))

    def load_circuit(self, path: Path) -> None:
        """Put the circuit of a TOML file on the trail."""
        from sagen.files.circuits import read_circuit
        from sagen.model.errors import SagenError

        try:
            _, spec = read_circuit(path)
        except SagenError as error:
            self.message.say(str(error))
            return
        self._keep_circuit(spec.model_dump(exclude_none=True))

    def _save_circuit(self) -> None:
        from PySide6.QtWidgets import QFileDialog

        name, _ = QFileDialog.getSaveFileName(
            self, "Keep the circuit", str(Path.home() / "circuit.toml"), "Circuits (*.toml)"
        )
        if name:
            self.save_circuit(Path(name))

    def save_circuit(self, path: Path) -> None:
        from sagen.files.circuits import write_circuit
        from sagen.model.errors import SagenError

        try:
            write_circuit(path, self.page("circuit").spec, self.workspace.job.cylinders)
            self.message.say(f"Written: {path}")
        except SagenError as error:
            self.message.say(str(error))

    def _keep_reading(self, data: dict) -> None:
        self.workspace.add("reading", data)
        page = self.show_circuit()
        page.value.setFocus()

    def _expect(self, spec, point: str, state: str) -> None:
        """Ask the model, off the interface thread, what a sound circuit reads."""

        def work(_request) -> str:
            from sagen.reason.evidence import _range
            from sagen.reason.weigh import likelihood_model

            values = likelihood_model(spec).expected(point, state)
            return (
                _range(values, "ohm" if point in ("sensor", "supply_wire", "signal_wire", "ground_wire") else "V")
                if values
                else "nothing to read here"
            )

        def done(text: str) -> None:
            page = self.page("circuit")
            if (page.view.point, page.state) == (point, state):
                page.show_expected(text)

        self.workspace.work.ask(work, done=done)

    def do_check(self, best) -> None:
        """Bring up what the check on the card needs."""
        check = best.check
        action = {"meter": self._do_meter, "capture": self._do_capture, "look": self._do_look, "swap": self._do_swap}[
            check.kind
        ]
        action(check)

    def _do_meter(self, check) -> None:
        page = self.show_circuit()
        if page is not None:
            page.aim(check.point, check.state)

    def _do_capture(self, check) -> None:
        from sagen.desk.forms import CaptureForm
        from sagen.reason.checks import recorder_settings
        from sagen.reason.log_case import circuit_of_job

        spec = circuit_of_job(self.workspace.job)
        form = CaptureForm(check, recorder_settings(check, spec), self, stand_in=self.workspace.demo)
        if not form.exec():
            return
        if form.from_stand_in:
            self.workspace.record_stand_in(check.state)
        else:
            self.choose_files()

    def _read_stand_in(self, point: str, state: str) -> None:
        """The meter on the demo's simulated machine, off the interface thread."""
        job = self.workspace.job

        def work(_request):
            from sagen.demo import meter_on_stand_in

            return meter_on_stand_in(job, point, state)

        def done(answer) -> None:
            page = self.page("circuit")
            if (page.view.point, page.state) == (point, state):
                page.show_reading(*answer)

        self.workspace.work.ask(work, done=done, failed=self.message.say)

    def _do_look(self, check) -> None:
        from sagen.desk.forms import LookForm

        form = LookForm(check, self)
        if form.exec():
            self.workspace.add("look", form.answer())

    def _do_swap(self, check) -> None:
        from sagen.desk.forms import EntryForm

        form = EntryForm("repair", {"part": check.part, "text": "Swapped to try."}, parent=self)
        if form.exec():
            self.workspace.add("repair", form.answer())

    def _wishes(self, strategy: str, gear) -> None:
        self.workspace.strategy, self.workspace.gear = strategy, tuple(gear)
        self.settings.setValue("reason/strategy", strategy)
        self.settings.setValue("reason/gear", self.suspects.gear.currentIndex())
        self.workspace.reweigh()

    def choose_files(self) -> None:
        folder = self.settings.value("files/folder", str(Path.home()))
        from PySide6.QtWidgets import QFileDialog

        names, _ = QFileDialog.getOpenFileNames(
            self,
            "Bring captures in",
            str(folder),
            "Captures (*.csv *.tsv *.txt *.wav *.mat *.mf4 *.h5 *.hdf5 *.npy *.npz);;All files (*)",
        )
        if names:
            self.settings.setValue("files/folder", str(Path(names[0]).parent))
            self.bring_in(names)

    def bring_in(self, names: list[str]) -> None:
        """Read captures one after the other; each goes through the import sheet."""
        if self.workspace.log is None:
            self._waiting += names
            return
        if self.workspace.job is None:
            self.workspace.add_job(f"Machine of {Path(names[0]).name}", "", None, "", [])
        self._waiting = list(names[1:])
        self.workspace.bring_in(names[0])

    def _keep(self, incoming, sheet) -> None:
        self.workspace.keep(incoming, sheet)
        self._next_waiting()

    def _leave_incoming(self) -> None:
        self._back_to_job()
        self._next_waiting()

    def _next_waiting(self) -> None:
        if self._waiting:
            self.bring_in(self._waiting)

    def _back_to_job(self) -> None:
        if self.workspace.opened is not None:
            self.show_page("capture")
        else:
            self.bench.show_empty()

    def open_entry(self, entry: Entry) -> None:
        if entry.kind == "capture":
            shown = self.workspace.opened
            if shown is not None and shown.entry is not None and shown.entry.id == entry.id:
                self.show_page("capture")
            else:
                self.workspace.open_entry(entry)

    def add_entry(self, kind: str) -> None:
        if kind == "reading":
            self.show_circuit()
            return
        from sagen.desk.forms import EntryForm

        form = EntryForm(kind, parent=self)
        if form.exec():
            self.workspace.add(kind, form.answer())

    def _add_to_job(self, kind: str) -> None:
        if self.workspace.job is not None:
            self.add_entry(kind)

    def correct_entry(self, entry: Entry) -> None:
        if entry.kind in ("reading", "look", "circuit"):
            self.message.say("Enter it again as it should be, and withdraw this one (Del).")
            return
        if entry.kind == "capture":
            self.message.say("A capture is corrected by bringing it in again; withdraw this one afterwards.")
            return
        from sagen.desk.forms import EntryForm

        form = EntryForm(entry.kind, entry.data, parent=self)
        if form.exec():
            self.workspace.correct(entry, form.answer())

    def withdraw_entry(self, entry: Entry) -> None:
        self.workspace.withdraw(entry, not entry.withdrawn)

    def _with_entry(self, action) -> None:
        entry = self.trail.chosen()
        if entry is not None:
            action(entry)

    def show_report(self) -> None:
        """Make the printed finding of the capture on the bench, off the interface thread."""
        opened, job = self.workspace.opened, self.workspace.job
        if opened is None or job is None:
            return
        weighed = self.workspace.last_weighed
        ratio = self.devicePixelRatioF()

        def work(_request):
            from sagen.desk.report_page import page_images
            from sagen.report.printed import render_html, render_pdf

            html = render_html(case_of(job, opened, weighed))
            pdf = render_pdf(html)
            return html, pdf, page_images(pdf, 1.6 * max(1.0, ratio))

        def done(answer) -> None:
            self.header.show_work("", 1.0)
            name = "".join(c if c.isalnum() else "-" for c in job.machine).strip("-") or "finding"
            self.show_page("report").show_report(*answer, name)

        self.header.show_work("Making the printed finding", 0.0)
        self.workspace.work.ask(work, done=done, failed=self.workspace._failed)

    def export_capture(self) -> None:
        """Write the capture on the bench in an open format, off the interface thread."""
        opened = self.workspace.opened
        if opened is None:
            return
        from PySide6.QtWidgets import QFileDialog

        folder = Path(str(self.settings.value("files/folder", str(Path.home()))))
        stem = Path(opened.capture.name).stem
        name, _ = QFileDialog.getSaveFileName(
            self, "Write the capture", str(folder / f"{stem}.csv"), "CSV (*.csv);;WAV (*.wav);;ASAM MDF4 (*.mf4)"
        )
        if name:
            self.workspace.export(Path(name))

    def toggle_look(self) -> None:
        from PySide6.QtWidgets import QApplication

        name = "dark" if theme.look().name == "light" else "light"
        self.settings.setValue("look", name)
        theme.apply(QApplication.instance(), name)
        self._dress()
        self.workspace.weighed.emit(self.workspace.last_weighed)
        for widget in self.findChildren(QWidget):
            widget.update()

    def show_keys(self) -> None:
        from sagen.desk.parts import show_keys

        show_keys(self)

    def next_pane(self) -> None:
        from PySide6.QtWidgets import QApplication

        from sagen.desk.parts import focus_next

        focus_next((self.trail, self.bench, self.suspects), QApplication.focusWidget())

    # Qt ------------------------------------------------------------------------------------

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        names = [one.toLocalFile() for one in event.mimeData().urls() if one.isLocalFile()]
        if names:
            self.bring_in(names)

    def closeEvent(self, event: QCloseEvent) -> None:
        self.settings.setValue("window/geometry", self.saveGeometry())
        if self.workspace is not None:
            self.settings.setValue("window/panes", self.splitter.saveState())
            self.workspace.close()
        event.accept()


def case_of(job: Job, opened, weighed):
    """The printed page's contents from what is open."""
    from sagen.desk.trail import entry_text
    from sagen.report.printed import Case

    return Case(
        capture=opened.capture,
        sheet=opened.sheet,
        examination=opened.examination,
        suspects=weighed.suspects,
        checks=weighed.checks,
        machine=job.machine,
        owner=job.owner,
        complaint="; ".join(entry_text(one) for one in job.of("complaint")),
        codes=tuple(one.data["code"] for one in job.of("code")),
        notes=tuple(entry_text(one) for kind in ("note", "repair", "proof") for one in job.of(kind)),
    )


def _capture_page() -> QWidget:
    from sagen.desk.capture_page import CapturePage

    return CapturePage()


def _import_page() -> QWidget:
    from sagen.desk.import_page import ImportPage

    return ImportPage()


def _log_page() -> QWidget:
    from sagen.desk.log_page import LogPage

    return LogPage()


def _report_page() -> QWidget:
    from sagen.desk.report_page import ReportPage

    return ReportPage()


def _preload(_request) -> None:
    """Import, off the interface thread, what the bench will need."""
    import sagen.desk.capture_page
    import sagen.desk.import_page
    import sagen.reason.checks
    import sagen.signal.examine  # noqa: F401


def _circuit_page() -> QWidget:
    from sagen.desk.circuit_page import CircuitPage

    return CircuitPage()


_PAGES = {
    "capture": _capture_page,
    "circuit": _circuit_page,
    "incoming": _import_page,
    "log": _log_page,
    "report": _report_page,
}
