"""The one window: Trail, Bench, Suspects.

It paints before anything heavy is imported; the bench's pages are made when they are first needed.
"""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QByteArray, QSettings, Qt, QTimer
from PySide6.QtGui import QAction, QCloseEvent, QDragEnterEvent, QDropEvent, QKeySequence
from PySide6.QtWidgets import (
    QApplication,
    QFileDialog,
    QHBoxLayout,
    QLabel,
    QMainWindow,
    QMessageBox,
    QProgressBar,
    QPushButton,
    QSizePolicy,
    QSplitter,
    QStackedWidget,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from sagen.desk import theme
from sagen.desk.session import Session
from sagen.desk.suspects import SuspectsPane
from sagen.desk.trail import TrailPane
from sagen.model.job import Entry, Job

KEYS = (
    ("Ctrl+J", "job log"), ("Ctrl+N", "new job"), ("Ctrl+O", "bring a capture in"), ("Ctrl+P", "printed finding"),
    ("Ctrl+Z / Ctrl+Shift+Z", "undo / redo"), ("F1", "these keys"), ("F6", "next pane"), ("Ctrl+L", "light or dark"),
    ("", ""), ("Left / Right", "look earlier / later"), ("Up / Down or + / \u2212", "closer / further"), ("Home", "the whole capture"),
    ("A / B", "set a cursor at the pointer"), ("Esc", "take the cursors away"), ("N / P", "next / previous place of a finding"),
    ("", ""), ("Enter", "open an entry of the trail"), ("F2", "correct it"), ("Del", "withdraw or restore it"),
)  # fmt: skip


class Message(QWidget):
    """A line across the bench: what went wrong, or what was done. Stays until it is read."""

    def __init__(self, parent=None):
        super().__init__(parent)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        self.text = QLabel()
        self.text.setObjectName("error")
        self.text.setWordWrap(True)
        self.text.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.close_button = QToolButton()
        self.close_button.setAccessibleName("Close the message")
        row.addWidget(self.text, 1)
        row.addWidget(self.close_button)
        self.close_button.clicked.connect(self.hide)
        self.hide()

    def say(self, text: str) -> None:
        self.text.setText(text)
        self.close_button.setIcon(theme.icon("x"))
        self.show()


class MainWindow(QMainWindow):
    """Header, three panes, and the wiring between them and the session."""

    def __init__(self, session: Session, settings: QSettings):
        super().__init__()
        self.session, self.settings = session, settings
        self.setWindowTitle("Sagen")
        self.resize(1280, 800)
        self.setAcceptDrops(True)
        self._pages: dict[str, QWidget] = {}
        self._waiting: list[str] = []
        middle = QWidget()
        self.setCentralWidget(middle)
        outer = QVBoxLayout(middle)
        outer.setContentsMargins(8, 8, 8, 8)
        outer.setSpacing(8)
        outer.addWidget(self._header())
        self.trail, self.suspects, self.bench = TrailPane(), SuspectsPane(), self._bench()
        self.splitter = QSplitter(Qt.Orientation.Horizontal)
        self.splitter.setHandleWidth(8)
        for pane, stretch in ((self.trail, 0), (self.bench, 1), (self.suspects, 0)):
            self.splitter.addWidget(pane)
            self.splitter.setStretchFactor(self.splitter.indexOf(pane), stretch)
            self.splitter.setCollapsible(self.splitter.indexOf(pane), False)
        self.trail.setMinimumWidth(236)
        self.suspects.setMinimumWidth(250)
        self.bench.setMinimumWidth(480)
        self.splitter.setSizes([256, 700, 292])
        outer.addWidget(self.splitter, 1)
        self._actions()
        self._listen()
        self._restore()
        self._dress()

    # building -----------------------------------------------------------------------------

    def _header(self) -> QWidget:
        bar = QWidget()
        bar.setObjectName("bar")
        row = QHBoxLayout(bar)
        row.setContentsMargins(8, 5, 8, 5)
        row.setSpacing(6)
        self.job_button = QPushButton("Sagen")
        self.job_button.setObjectName("job")
        self.job_button.setToolTip("Open the job log (Ctrl+J)")
        self.job_button.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        row.addWidget(self.job_button, 1)
        self.progress_text = QLabel()
        self.progress_text.setObjectName("quiet")
        self.progress = QProgressBar()
        self.progress.setFixedWidth(110)
        self.progress.setTextVisible(False)
        self.stop = QToolButton()
        self.stop.setText("Stop")
        for one in (self.progress_text, self.progress, self.stop):
            row.addWidget(one)
            one.hide()
        self.capture_button = QPushButton(" Capture")
        self.capture_button.setToolTip("Bring a capture file in (Ctrl+O), or drop one on the window")
        self.report_button = QPushButton(" Printed finding")
        self.report_button.setToolTip("The finding on one or two pages (Ctrl+P)")
        self.undo_button, self.redo_button, self.look_button = QToolButton(), QToolButton(), QToolButton()
        self.look_button.setAccessibleName("Light or dark")
        self.look_button.setToolTip("Light or dark (Ctrl+L)")
        for one in (
            self.capture_button,
            self.report_button,
            self.undo_button,
            self.redo_button,
            self.look_button,
        ):
            row.addWidget(one)
        return bar

    def _bench(self) -> QWidget:
        bench = QWidget()
        bench.setObjectName("pane")
        bench.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        layout = QVBoxLayout(bench)
        layout.setContentsMargins(12, 10, 12, 10)
        self.message = Message()
        layout.addWidget(self.message)
        self.stack = QStackedWidget()
        self.start = QWidget()
        self.start_text = QLabel("Opening the job log")
        self.start_text.setObjectName("quiet")
        self.start_text.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.start_button = QPushButton("Bring a capture in")
        self.start_button.setObjectName("first")
        self.start_button.hide()
        inside = QVBoxLayout(self.start)
        inside.addStretch(1)
        inside.addWidget(self.start_text)
        inside.addSpacing(12)
        inside.addWidget(self.start_button, 0, Qt.AlignmentFlag.AlignHCenter)
        inside.addStretch(2)
        self.stack.addWidget(self.start)
        layout.addWidget(self.stack, 1)
        return bench

    def _actions(self) -> None:
        for keys, slot in (
            ("Ctrl+J", self.show_log),
            ("Ctrl+N", self.new_job),
            ("Ctrl+O", self.choose_files),
            ("Ctrl+P", self.show_report),
            ("Ctrl+Z", self.session.undo),
            ("Ctrl+Shift+Z", self.session.redo),
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
        session = self.session
        session.job_changed.connect(self._job_changed)
        session.jobs_changed.connect(self._jobs_changed)
        session.weighed.connect(lambda one: self.suspects.show_weighed(one.suspects, one.checks))
        session.capture_opened.connect(self._capture_opened)
        session.incoming.connect(self._incoming)
        session.failed.connect(self.message.say)
        session.working.connect(self._working)
        session.log_opened.connect(self._log_opened)
        self.job_button.clicked.connect(self.show_log)
        self.capture_button.clicked.connect(self.choose_files)
        self.start_button.clicked.connect(self.choose_files)
        self.report_button.clicked.connect(self.show_report)
        self.undo_button.clicked.connect(session.undo)
        self.redo_button.clicked.connect(session.redo)
        self.look_button.clicked.connect(self.toggle_look)
        self.stop.clicked.connect(session.stop_work)
        self.trail.opened.connect(self.open_entry)
        self.trail.correct.connect(self.correct_entry)
        self.trail.withdraw.connect(self.withdraw_entry)
        self.trail.add.connect(self.add_entry)

    def _restore(self) -> None:
        geometry = self.settings.value("window/geometry")
        if isinstance(geometry, QByteArray) and not geometry.isEmpty():
            self.restoreGeometry(geometry)
        panes = self.settings.value("window/panes")
        if isinstance(panes, QByteArray) and not panes.isEmpty():
            self.splitter.restoreState(panes)

    def _dress(self) -> None:
        self.capture_button.setIcon(theme.icon("file-plus"))
        self.report_button.setIcon(theme.icon("printer"))
        self.undo_button.setIcon(theme.icon("undo-2"))
        self.redo_button.setIcon(theme.icon("redo-2"))
        self.job_button.setIcon(theme.icon("list"))
        self.look_button.setIcon(theme.icon("moon" if theme.look().name == "light" else "sun"))
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
        page.chosen.connect(lambda job_id: self.session.open_job(job_id, open_capture=True))
        page.new_wanted.connect(self.new_job)

    def _wire_incoming(self, page) -> None:
        page.kept.connect(self._keep)
        page.left.connect(self._leave_incoming)

    def _wire_report(self, page) -> None:
        page.left.connect(self._back_to_job)
        page.failed.connect(self.message.say)
        page.saved.connect(self.message.say)

    def show_page(self, name: str) -> QWidget:
        page = self.page(name)
        self.stack.setCurrentWidget(page)
        return page

    # what the session announces -----------------------------------------------------------

    def _log_opened(self) -> None:
        waiting, self._waiting = self._waiting, []
        if waiting:
            QTimer.singleShot(0, lambda: self.bring_in(waiting))

    def _jobs_changed(self, jobs: list[Job]) -> None:
        self.page("log").show_jobs(jobs)
        if not jobs:
            self.show_page("log")

    def _job_changed(self, job: Job | None) -> None:
        self.trail.show_job(job)
        name = job.machine if job else "Job log"
        self.job_button.setText(f" {name}" + (f"  \u2013  {job.owner}" if job and job.owner else ""))
        self.setWindowTitle(f"{name} \u2013 Sagen" + (" (demo)" if self.session.demo else ""))
        if job is not None and not job.of("capture") and self.session.opened is None:
            self.start_text.setText(
                "Nothing on the bench yet.\n\nRecord the signal wire while cranking, then drop the recorder's file\n"
                "anywhere on this window. Sagen asks only what the file does not say."
            )
            self.start_button.show()
            self.stack.setCurrentWidget(self.start)
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
        self.show_page("incoming").show_incoming(incoming)

    def _working(self, what: str, share: float) -> None:
        busy = share < 1.0
        for one in (self.progress_text, self.progress, self.stop):
            one.setVisible(busy)
        self.progress_text.setText(what)
        self.progress.setRange(0, 100 if share > 0 else 0)
        self.progress.setValue(int(100 * share))

    def _update_buttons(self) -> None:
        log = self.session.log
        for button, text, word in (
            (self.undo_button, log.can_undo if log else None, "Undo"),
            (self.redo_button, log.can_redo if log else None, "Redo"),
        ):
            button.setEnabled(text is not None)
            button.setToolTip(f"{word}: {text}" if text else f"Nothing to {word.lower()}")
            button.setAccessibleName(word)
        self.capture_button.setEnabled(log is not None)
        self.report_button.setEnabled(self.session.opened is not None)

    # what the user does -------------------------------------------------------------------

    def show_log(self) -> None:
        if self.session.log is not None:
            self.session.refresh_jobs()
            self.show_page("log").list.setFocus()

    def new_job(self) -> None:
        if self.session.log is None:
            return
        from sagen.desk.forms import JobForm

        form = JobForm(self)
        if form.exec():
            self.session.add_job(
                form.machine.text(),
                form.owner.text(),
                form.cylinders.value(),
                form.complaint.currentData(),
                form.code_list(),
            )

    def choose_files(self) -> None:
        folder = self.settings.value("files/folder", str(Path.home()))
        names, _ = QFileDialog.getOpenFileNames(
            self, "Bring captures in", str(folder), "Captures (*.csv *.tsv *.txt);;All files (*)"
        )
        if names:
            self.settings.setValue("files/folder", str(Path(names[0]).parent))
            self.bring_in(names)

    def bring_in(self, names: list[str]) -> None:
        """Read captures one after the other; each goes through the import sheet."""
        if self.session.log is None:
            self._waiting += names
            return
        if self.session.job is None:
            self.session.add_job(f"Machine of {Path(names[0]).name}", "", None, "", [])
        self._waiting = list(names[1:])
        self.session.bring_in(names[0])

    def _keep(self, incoming, sheet) -> None:
        self.session.keep(incoming, sheet)
        self._next_waiting()

    def _leave_incoming(self) -> None:
        self._back_to_job()
        self._next_waiting()

    def _next_waiting(self) -> None:
        if self._waiting:
            self.bring_in(self._waiting)

    def _back_to_job(self) -> None:
        if self.session.opened is not None:
            self.show_page("capture")
        else:
            self.stack.setCurrentWidget(self.start)

    def open_entry(self, entry: Entry) -> None:
        if entry.kind == "capture":
            shown = self.session.opened
            if shown is not None and shown.entry is not None and shown.entry.id == entry.id:
                self.show_page("capture")
            else:
                self.session.open_entry(entry)

    def add_entry(self, kind: str) -> None:
        from sagen.desk.forms import EntryForm

        form = EntryForm(kind, parent=self)
        if form.exec():
            self.session.add(kind, form.answer())

    def correct_entry(self, entry: Entry) -> None:
        if entry.kind == "capture":
            self.message.say("A capture is corrected by bringing it in again; withdraw this one afterwards.")
            return
        from sagen.desk.forms import EntryForm

        form = EntryForm(entry.kind, entry.data, parent=self)
        if form.exec():
            self.session.correct(entry, form.answer())

    def withdraw_entry(self, entry: Entry) -> None:
        self.session.withdraw(entry, not entry.withdrawn)

    def _with_entry(self, action) -> None:
        entry = self.trail.chosen()
        if entry is not None:
            action(entry)

    def show_report(self) -> None:
        """Make the printed finding of the capture on the bench, off the interface thread."""
        opened, job = self.session.opened, self.session.job
        if opened is None or job is None:
            return
        weighed = self.session.last_weighed
        ratio = self.devicePixelRatioF()

        def work(_request):
            from sagen.desk.report_page import page_images
            from sagen.report.printed import render_html, render_pdf

            html = render_html(case_of(job, opened, weighed))
            pdf = render_pdf(html)
            return html, pdf, page_images(pdf, 1.6 * max(1.0, ratio))

        def done(answer) -> None:
            self._working("", 1.0)
            name = "".join(c if c.isalnum() else "-" for c in job.machine).strip("-") or "finding"
            self.show_page("report").show_report(*answer, name)

        self._working("Making the printed finding", 0.0)
        self.session.work.ask(work, done=done, failed=self.session._failed)

    def toggle_look(self) -> None:
        name = "dark" if theme.look().name == "light" else "light"
        self.settings.setValue("look", name)
        theme.apply(QApplication.instance(), name)
        self._dress()
        self.session.weighed.emit(self.session.last_weighed)
        for widget in self.findChildren(QWidget):
            widget.update()

    def show_keys(self) -> None:
        rows = "".join(
            f"<tr><td style='padding-right:18px'><b>{keys}</b></td><td>{what}</td></tr>"
            if keys
            else "<tr><td>&nbsp;</td></tr>"
            for keys, what in KEYS
        )
        box = QMessageBox(self)
        box.setWindowTitle("Keys")
        box.setTextFormat(Qt.TextFormat.RichText)
        box.setText(f"<table>{rows}</table>")
        box.exec()

    def next_pane(self) -> None:
        """Move the keyboard to the next of Trail, Bench and Suspects."""
        panes = (self.trail, self.bench, self.suspects)
        focus = QApplication.focusWidget()
        at = next((i for i, pane in enumerate(panes) if focus is not None and pane.isAncestorOf(focus)), -1)
        for step in range(1, 4):
            pane = panes[(at + step) % 3]
            targets = [
                w
                for w in pane.findChildren(QWidget)
                if w.isVisible() and w.isEnabled() and w.focusPolicy() & Qt.FocusPolicy.TabFocus
            ]
            if targets:
                targets[0].setFocus(Qt.FocusReason.TabFocusReason)
                return

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
        self.settings.setValue("window/panes", self.splitter.saveState())
        self.session.close()
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


_PAGES = {"capture": _capture_page, "incoming": _import_page, "log": _log_page, "report": _report_page}
