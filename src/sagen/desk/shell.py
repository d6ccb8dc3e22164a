"""What the window is put together from, and how its parts listen to the workspace. What a person can do is a command
(`desk/commands`), what a page shows is the page's."""

from __future__ import annotations

from importlib import import_module
from pathlib import Path

from PySide6.QtCore import QSettings, Qt, QTimer
from PySide6.QtGui import QAction, QKeySequence
from PySide6.QtWidgets import QSplitter, QVBoxLayout, QWidget

from sagen.desk.actions import bind
from sagen.desk.lately import Lately
from sagen.desk.navigation import BenchNavigation
from sagen.desk.pages import added_pages
from sagen.desk.panes.suspects import SuspectsPane
from sagen.desk.panes.trail import TrailPane
from sagen.desk.parts import Bench, Header
from sagen.desk.ports import Ports
from sagen.desk.registry import CommandRegistry
from sagen.desk.sizes import FOLDED, LEAST, NARROWEST, PANES
from sagen.desk.theme import theme
from sagen.desk.way import JobWay
from sagen.desk.window_actions import ACTIONS, KEYS_OF, WAY, more_rows
from sagen.desk.workspace import DeskWorkspace
from sagen.model.language import tr

#: what is made ready once the log is open: modules, then pages
READY = (
    "sagen.desk.lenses.strip", "sagen.desk.lenses.turns", "sagen.desk.lenses.wheel", "sagen.desk.lenses.teeth_table",
    "sagen.desk.pages.import_page", "incoming", "sagen.desk.pages.capture_page", "capture",
)  # fmt: skip
TICK_MS = 500  #: between two looks at how long a recording is


class Shell:
    """The filled window: ports, panes, and the wiring between them and the workspace."""

    def __init__(self, window, settings: QSettings, instruments: str = ""):
        theme.load_fonts()
        self.window = window
        self.workspace = DeskWorkspace(window)
        self.ports = ports = Ports(window, settings, self.workspace)
        self.settings, self.stand_in = settings, instruments
        self._job_shown: int | None = None
        self._reopens = False
        self._closing = False
        self._beside, self._unfolded = 2, ""  #: panes beside the bench, and which one where there is room for one only
        self._guided = False  #: whether the guide stands where the next check and the suspects do
        ports.header, ports.trail, ports.suspects, ports.bench = Header(), TrailPane(), SuspectsPane(), Bench()
        ports.message, ports.lately = ports.bench.message, Lately(settings, self.workspace)
        ports.navigation = self.navigation = BenchNavigation(ports.bench.stack, ports, window)
        ports.commands = self.commands = CommandRegistry(ports)
        self.header, self.trail, self.suspects, self.bench = ports.header, ports.trail, ports.suspects, ports.bench
        self.stack, self.message = ports.bench.stack, ports.message
        self.page, self.show_page = self.navigation.page, self.navigation.show_page
        self.show_with_job, self.back_to_job = self.navigation.show_with_job, self.navigation.back_to_job
        self._lay_out()
        bind(window, ACTIONS, self.commands)
        gone = QAction(self.trail.list)
        gone.setShortcut(QKeySequence("Del"))
        gone.setShortcutContext(Qt.ShortcutContext.WidgetShortcut)
        gone.triggered.connect(self.commands.runner("entries.withdraw_chosen"))
        self.trail.list.addAction(gone)
        self._listen()
        self._wishes_of_last_time()
        self.header.apply_theme()
        self._update_buttons()
        self._ticking = QTimer(window, interval=TICK_MS)
        self._ticking.timeout.connect(self._show_recording)

    def _lay_out(self) -> None:
        middle = QWidget()
        outer = QVBoxLayout(middle)
        outer.setContentsMargins(6, 6, 6, 6)
        outer.setSpacing(6)
        outer.addWidget(self.header)
        self.way = JobWay()
        outer.addWidget(self.way)
        self.splitter = QSplitter()
        self.splitter.setHandleWidth(6)
        for index, (pane, least) in enumerate(zip((self.trail, self.bench, self.suspects), LEAST, strict=True)):
            self.splitter.addWidget(pane)
            self.splitter.setStretchFactor(index, int(pane is self.bench))
            self.splitter.setCollapsible(index, False)
            pane.setMinimumWidth(least)
        self.guide: QWidget | None = None  #: beside the bench, made when it is first asked for
        self.splitter.setSizes(list(PANES))
        panes = self.settings.value("window/panes")
        if panes is not None:
            self.splitter.restoreState(panes)
        outer.addWidget(self.splitter, 1)
        self.window.setCentralWidget(middle)

    def _wishes_of_last_time(self) -> None:
        settings, workspace = self.settings, self.workspace
        strategy = self.suspects.strategy.findData(settings.value("reason/strategy", "most"))
        self.suspects.strategy.setCurrentIndex(max(0, strategy))
        workspace.record_counts = bool(_whole(settings.value("reason/record", 1)))
        self.suspects.gear.setCurrentIndex(_whole(settings.value("reason/gear", 0)))

    def _listen(self) -> None:
        workspace, run = self.workspace, self.commands.runner
        workspace.job_changed.connect(self._job_changed)
        workspace.jobs_changed.connect(self._jobs_changed)
        workspace.weighed.connect(self._show_taps)
        workspace.weighed.connect(self._show_way)
        workspace.weighed.connect(
            lambda told: self.suspects.show_weighed(told.suspects, told.checks, told.diagnosis.advice, told.notes)
        )
        workspace.weighed.connect(self.suspects.show_practice)
        workspace.weighed.connect(lambda told: self.suspects.show_record(told.record, workspace.record_counts))
        workspace.capture_opened.connect(self._capture_opened)
        workspace.incoming.connect(self._incoming)
        workspace.import_left.connect(self._import_left)
        workspace.said.connect(self.message.say)
        workspace.working.connect(self.header.show_work)
        workspace.log_opened.connect(self._log_opened)
        workspace.recordings_changed.connect(self._recordings_changed)
        workspace.overtaken.connect(lambda error, entry: self.commands.run("entries.overtaken", error, entry))
        for button, command in (
            (self.header.job_button, "jobs.show_log"), (self.header.capture_button, "captures.choose"),
            (self.bench.start_button, "captures.choose"), (self.header.report_button, "jobs.show_report"),
            (self.header.meter_button, "view.show_circuit"), (self.header.look_button, "view.toggle_theme"),
            (self.suspects.record, "view.toggle_record"), (self.header.recording.stop, "instruments.stop_recording"),
            (self.header.recording.open, "instruments.show_recording"),
        ):  # fmt: skip
            button.clicked.connect(run(command))
        self.suspects.practice.wanted.connect(self.commands.run)
        for side, button in self.header.side_buttons.items():
            button.clicked.connect(lambda _=False, side=side: self.toggle_side(side))
        self.header.undo_button.clicked.connect(lambda _=False: workspace.undo())
        self.header.redo_button.clicked.connect(lambda _=False: workspace.redo())
        self.header.stop.clicked.connect(lambda _=False: workspace.stop_work())
        self.suspects.card.wanted.connect(lambda best: self.commands.run("captures.do_check", best))
        self.suspects.wishes.connect(self._wishes)
        self.suspects.opened.connect(self.trail.open_record)
        self.trail.opened.connect(lambda entry: self.commands.run("entries.open_entry", entry))
        self.trail.correct.connect(lambda entry: self.commands.run("entries.correct", entry))
        self.trail.withdraw.connect(lambda entry: self.commands.run("entries.withdraw", entry))
        self.trail.add.connect(lambda kind: self.commands.run("entries.add", kind))

    # what the workspace announces -----------------------------------------------------------

    def _log_opened(self) -> None:
        """What needs more than a bare window is brought in now that a log is open."""
        ports, workspace = self.ports, self.workspace
        logs = import_module("sagen.desk.commands.logs")
        if not hasattr(ports, "instruments"):
            ports.instruments = import_module("sagen.desk.at_hand").BenchInstruments(self.settings, self.stand_in)
            ports.watched = import_module("sagen.desk.watched").WatchedFolders(workspace, self.settings, self.window)
            ports.watched.said.connect(self.message.say)
        workspace.log.author = logs.remembered_author(self.settings)
        if self._reopens:
            workspace.core.last_job = ports.lately.last
        run = self.commands.runner
        self.way.offer(
            {
                leg: [(words, KEYS_OF.get((name, *arguments), ""), run(name, *arguments)) for words, name, *arguments in rows]
                for leg, rows in WAY.items()
            }
        )  # fmt: skip
        self.header.offer(more_rows(run, logs.LOG_COMMANDS, added_pages()))
        ports.watched.resume()
        if workspace.log.is_shared and not (workspace.log.author.author or workspace.log.author.bay):
            self.message.say(
                tr("Others work on this log, too: say who writes here (More, Job and log, Who writes here).")
            )
        QTimer.singleShot(0, self.window, lambda: self._make_ready(*READY))
        self._update_buttons()

    def _make_ready(self, *names: str) -> None:
        """Import modules and make pages, one a turn of the event loop: the first showing of one costs a while.

        Both here and not in a worker: two threads that bring in parts of Qt at once bring the program down.
        """
        if not names:
            self.trail.warm()
            return
        if "." in names[0]:
            import_module(names[0])
        elif self.navigation.made(names[0]) is None:
            page = self.page(names[0])
            page.resize(self.stack.size())
            page.grab()
        QTimer.singleShot(30, self.window, lambda: self._make_ready(*names[1:]))

    def reopen_last(self) -> None:
        """Once the log is open, put the job on the desk that was there when the program was closed, in place of the newest."""
        self._reopens = True

    def _jobs_changed(self, listed) -> None:
        if not listed.search:
            self.ports.lately.forget_all_but({job.id for job in listed.jobs})
        self.page("log").show_jobs(listed)
        if not listed.jobs and not listed.search:
            self.show_page("log")

    def _job_changed(self, job) -> None:
        self.trail.show_job(job)
        self.way.setVisible(job is not None)
        name = job.machine if job else tr("Job log")
        full = f" {name}" + (f"  \u2013  {job.owner}" if job and job.owner else "")
        self.header.job_button.setText(full.replace("&", "&&"))
        self.window.setWindowTitle(f"{name} \u2013 Sagen" + (" (demo)" if self.stand_in else ""))
        busy = self.workspace.core is not None and self.workspace.imports.busy
        if job is None:
            self.show_page("log")
        elif job.id != self._job_shown and not (busy and self.navigation.is_up("incoming")):
            # Whatever page is up shows the job before; it may not stand under this one's name.
            self.back_to_job()
        self._job_shown = job.id if job else None
        if job is not None:
            self.ports.lately.note(job.id)
        self._update_buttons()

    def _show_way(self, weighed) -> None:
        job = self.workspace.job
        self.way.setVisible(job is not None)
        if job is not None and weighed.job_id == job.id:
            way_of = import_module("sagen.casework.way").way_of
            self.way.show_way(way_of(job.records(), weighed.diagnosis))

    def _show_taps(self, weighed) -> None:
        page = self.navigation.made("capture")
        if page is not None:
            page.show_taps(weighed.taps)

    def _capture_opened(self, opened) -> None:
        page = self.page("capture")
        page.show_capture(opened)
        if self.workspace.last_weighed is not None:
            page.show_taps(self.workspace.last_weighed.taps)
        self._update_buttons()
        if self.workspace.imports.busy:
            return  # what was kept does not turn the page under the next file's questions
        self.message.hide()
        self.show_page("capture")
        page.view.setFocus()
        if opened.entry_id is not None:
            self.trail.choose(opened.entry_id)

    def _incoming(self, incoming) -> None:
        page = self.show_page("incoming")
        page.show_job(self.workspace.job)
        page.show_incoming(incoming)

    def _import_left(self) -> None:
        if self.navigation.is_up("incoming"):
            self.back_to_job()

    def _recordings_changed(self) -> None:
        running = any(recording.running for recording in self.workspace.recordings)
        if running:
            self._ticking.start()
        else:
            self._ticking.stop()
        self._show_recording()

    def _show_recording(self) -> None:
        """The recording that runs, or waits to be kept, in sight on every page."""
        self.header.recording.show_recordings(self.workspace.recordings)

    def _update_buttons(self) -> None:
        log, job = self.workspace.log, self.workspace.job
        job_id = job.id if job else None
        steps = (log.can_undo(job_id), log.can_redo(job_id)) if log is not None else (None, None)
        self.header.show_steps(*steps)
        self.header.capture_button.setEnabled(log is not None)
        self.header.meter_button.setEnabled(job is not None)
        self.header.report_button.setEnabled(job is not None)

    def _wishes(self, strategy, gear) -> None:
        self.settings.setValue("reason/strategy", str(strategy))
        self.settings.setValue("reason/gear", self.suspects.gear.currentIndex())
        self.workspace.wish(strategy=strategy, gear=tuple(gear))

    # the window ------------------------------------------------------------------------------

    def bring_in(self, names: list[str]) -> None:
        """Files that were dropped, or named when the program was started."""
        if self.workspace.core is None:
            self.workspace.log_opened.connect(lambda: self.bring_in(names), Qt.ConnectionType.SingleShotConnection)
        else:
            bundles = [name for name in names if name.lower().endswith(".zip")]
            for name in bundles:
                self.commands.run("logs.bring_job_in", Path(name))
            self.workspace.bring_in([Path(name) for name in names if name not in bundles])

    def take(self, names: list[str]) -> None:
        """Files that another start of the program hands on to this window, which comes to the front."""
        window = self.window
        window.setWindowState(window.windowState() & ~Qt.WindowState.WindowMinimized)
        window.raise_()
        window.activateWindow()
        if names:
            self.bring_in(names)

    def fit_panes(self) -> None:
        """On a narrow screen the panes beside the bench give way first: one of them stays, on a very narrow one none, and a press
        brings either up in place of the other."""
        wide = self.window.width()
        room = 2 if wide >= FOLDED else 1 if wide >= NARROWEST else 0
        if room != self._beside:
            self._beside = room
            self._unfold("suspects" if room == 1 else "")
        elif room < 2:
            self._place_panes()

    def toggle_side(self, side: str) -> None:
        """Unfold a pane beside the bench, or fold it away; the guide gives its place to the next check."""
        covered = self._guided and side == "suspects"
        self._guided = self._guided and not covered
        self._unfold("" if self._unfolded == side and not covered else side)

    def next_side(self) -> bool:
        """Unfold the next pane that is folded away; False where both stand beside the bench."""
        if self._beside == 2:
            return False
        self._unfold({"": "trail", "trail": "suspects", "suspects": ""}[self._unfolded])
        return True

    def _unfold(self, side: str) -> None:
        self._unfolded = side
        self._place_panes()

    def show_guide(self) -> None:
        """The guide's chapter on the page that is up, in place of the next check and the suspects; again: the next check back."""
        module = import_module("sagen.desk.help.pane")
        if self.guide is None:
            self.guide = module.GuidePane()
            self.guide.setMinimumWidth(LEAST[2])
            self.guide.left.connect(self.show_guide)
            self.guide.keys.connect(self.commands.runner("view.show_keys"))
            self.guide.report.connect(self.commands.runner("logs.save_report"))
            self.guide.about.connect(self.commands.runner("view.show_about"))
            self.guide.hide()
            self.splitter.addWidget(self.guide)
            self.splitter.setCollapsible(3, False)
        self._guided = not self._guided
        self._place_panes()
        if self._guided:
            page = self.stack.currentWidget()
            self.guide.show_chapter(module.chapter_of(getattr(page, "name", "log")))
            self.guide.text.setFocus()

    def _place_panes(self) -> None:
        """Which panes stand beside the bench, by the room there is, what was asked for and whether the guide is open."""
        roomy, wide = self._beside == 2, self.window.width()
        shown = {name: roomy or name == self._unfolded for name in ("trail", "suspects")}
        shown["suspects"] &= not self._guided
        self.trail.setVisible(shown["trail"])
        self.suspects.setVisible(shown["suspects"])
        if self.guide is not None:
            self.guide.setVisible(self._guided)
        for name, button in self.header.side_buttons.items():
            button.setVisible(not roomy)
            button.setChecked(shown[name])
        left, _, right = PANES if wide >= sum(PANES) else LEAST
        # A trail that was made wider or narrower by hand stays so while there is room.
        left = (self.splitter.sizes()[0] or left) if roomy else left * shown["trail"]
        right *= self._guided or shown["suspects"]
        self.splitter.setSizes([left, wide - left - right, right, right][: self.splitter.count()])

    def may_close(self) -> bool:
        """Whether nothing is being written; else it is said, and the window closes by itself once that is so. Recordings end
        and are kept."""
        self.navigation.commit()
        self.workspace.retire()
        if not self.workspace.blocks_closing:
            return True
        if not self._closing:
            self._closing = True
            self.message.say(tr("Closing as soon as what is being kept is kept."))
            self._close_when_written()
        return False

    def _close_when_written(self) -> None:
        if self.workspace.blocks_closing:
            QTimer.singleShot(50, self.window, self._close_when_written)
        else:
            self.window.close()

    def close_down(self) -> None:
        """Let go of everything."""
        self.settings.setValue("window/panes", self.splitter.saveState())
        self._ticking.stop()
        if hasattr(self.ports, "watched"):
            self.ports.watched.stop()
        self.navigation.close_down()
        self.workspace.close()


def _whole(value: object) -> int:
    """A remembered number; 0 for what is none."""
    try:
        return int(value)
    except (TypeError, ValueError):
        return 0
