"""The live page: start, drawing, move a wire, and keep what was recorded."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING

from PySide6.QtCore import QSettings, Qt, QTimer
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QPushButton, QSplitter, QStackedWidget, QVBoxLayout, QWidget

from sagen.casework.live import Live, Verdict
from sagen.desk.actions import Action, Hint
from sagen.desk.forms.events import event_rows
from sagen.desk.forms.logs import SureForm
from sagen.desk.lenses.live_strip import LiveStrip
from sagen.desk.lenses.turns import TurnsView
from sagen.desk.lenses.wheel import WheelView
from sagen.desk.pages import Page
from sagen.desk.pages.live_settings import LiveSettings
from sagen.desk.pages.tones import Tones
from sagen.desk.tables import TextTable
from sagen.desk.theme.plain import ElidedLabel, Label, Said
from sagen.desk.wrap_row import WrapRow
from sagen.model.language import titled, tr
from sagen.model.sheet import Sheet
from sagen.model.vocabulary import STARTING, State
from sagen.reason.facts import knowledge

if TYPE_CHECKING:
    from sagen.desk.at_hand import BenchInstruments
    from sagen.desk.parts import Message
    from sagen.desk.ports import Commands, Navigation
    from sagen.desk.workspace import DeskWorkspace
    from sagen.workspace.recordings import LeftRecording, LiveLook, Recording

LIVE_STATES = {State.CRANKING: tr("Cranking"), State.RUNNING: tr("Running"), State.WIGGLE: tr("Moving it")}
TICK_MS, LEAST_S, RESTS = 100, 0.8, 5.0  #: a verdict at most so often, and resting so many times what it took
COUNTED = 3  #: s before "crank now"


class LivePage(Page):
    """Strip with figures and verdict above it; turns, wheel or events below."""

    name, title = "live", tr("Live")
    shortcuts = (
        Action("Space", tr("start or stop"), lambda page: page.start_or_stop()),
        Action("Alt+H", tr("hold the picture"), lambda page: page.hold_button.toggle()),
        Action("Alt+M", tr("set a mark"), lambda page: page.mark()),
        Action("Alt+K", tr("keep what was recorded"), lambda page: page.keep()),
        Action("Alt+V", tr("tones on or off"), lambda page: page.tones.button.toggle()),
        Action("Alt+1", tr("turns below"), lambda page: page.show_below(0)),
        Action("Alt+2", tr("wheel below"), lambda page: page.show_below(1)),
        Action("Alt+3", tr("events below"), lambda page: page.show_below(2)),
    )
    hints = (Hint(tr("Alt+Up / Alt+Down"), tr("longer or shorter time base")),)

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.recording: Recording | None = None
        self.tones = Tones()
        self.ear = self.tones.ear
        self._looking, self._due, self._heard, self._told, self._counting = None, 0.0, 0, 0, 0
        self.verdict: Verdict | None = None
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(5)
        layout.addLayout(self._head())
        self.controls = LiveSettings()
        layout.addWidget(self.controls)
        figures = QHBoxLayout()
        self.figures, self.since = ElidedLabel(name="live"), Label(name="quiet")
        figures.addWidget(self.figures, 1)
        for item in (self.since, self.controls.marks):
            figures.addWidget(item)
        layout.addLayout(figures)
        self.said = Said(name="caution", wrap=True)
        layout.addWidget(self.said)
        self.strip, self.turns, self.wheel = LiveStrip(), TurnsView(), WheelView()
        self.events = TextTable(("s", tr("Event"), tr("What else happened then")), tr("Events"), stretch=2)
        self.goes_with = Label(name="small", wrap=True)
        hunted = QWidget()
        inside = QVBoxLayout(hunted)
        inside.setContentsMargins(0, 0, 0, 0)
        inside.addWidget(self.goes_with)
        inside.addWidget(self.events, 1)
        self.below = QStackedWidget()
        for item in (self.turns, self.wheel, hunted):
            self.below.addWidget(item)
        split = self.split = QSplitter(Qt.Orientation.Vertical)
        split.setHandleWidth(6)
        split.addWidget(self.strip)
        split.addWidget(self.below)
        split.setStretchFactor(0, 3)
        split.setStretchFactor(1, 2)
        split.setSizes([300, 200])
        layout.addWidget(split, 1)
        self.caution = Label(name="caution", wrap=True)
        layout.addWidget(self.caution)
        self._timer = QTimer(self, interval=TICK_MS)
        self._timer.timeout.connect(self._tick)
        for heard, heed in (
            (self.controls.spanned, self._spanned), (self.controls.ranged, self._ranged), (self.controls.marked, self.mark),
            (self.controls.described, self._described), (self.controls.said, self.said.setText),
        ):  # fmt: skip
            heard.connect(heed)

    def _head(self) -> WrapRow:
        row = WrapRow()
        row.addWidget(Label(tr("Live"), name="heading"))
        self.state = QComboBox()
        self.state.setAccessibleName(tr("How the machine stands"))
        for key, words in LIVE_STATES.items():
            self.state.addItem(words, key)
        self.state.currentIndexChanged.connect(lambda _: self._cautions())
        row.addWidget(self.state)
        self.start_button, self.keep_button = QPushButton(tr("Start")), QPushButton(tr("Keep"))
        self.discard_button = QPushButton(tr("Discard"))
        self.discard_button.setToolTip(tr("Have what was recorded no more, after a question"))
        self.start_button.setObjectName("first")
        self.start_button.clicked.connect(self.start_or_stop)
        self.hold_button = QPushButton(tr("Hold"))
        self.hold_button.setCheckable(True)
        self.hold_button.setToolTip(tr("The picture stands, the recording goes on (Alt+H)"))
        self.start_button.setToolTip(tr("Start or stop (Space)"))
        self.keep_button.setToolTip(tr("Stop, and bring what was recorded in (Alt+K)"))
        self.keep_button.clicked.connect(self.keep)
        self.hold_button.toggled.connect(lambda on: self.strip.hold(on))
        for item in (self.start_button, self.hold_button, self.keep_button, self.discard_button):
            row.addWidget(item)
        row.push_right()
        row.addWidget(self.tones)
        self.where, self.back = QPushButton(tr("Instruments")), QPushButton(tr("Back"))
        self.where.setToolTip(tr("Where recorder, meter and module answer"))
        row.addWidget(self.where)
        row.addWidget(self.back)
        return row

    # the window ------------------------------------------------------------------------------

    def wire(
        self, workspace: DeskWorkspace, navigation: Navigation, commands: Commands, instruments: BenchInstruments,
        message: Message, settings: QSettings,
    ) -> None:  # fmt: skip
        self.workspace, self.instruments = workspace, instruments
        self.tones.silent.connect(message.say)
        self.tones.remember(settings)
        self.controls.remember(settings)
        self.where.clicked.connect(commands.runner("instruments.choose"))
        self.controls.sound.clicked.connect(commands.runner("captures.hear"))
        self.discard_button.clicked.connect(lambda _=False: self.discard())
        self.back.clicked.connect(lambda _=False: navigation.back_to_job())
        workspace.job_changed.connect(lambda _: self._take_up())
        workspace.recordings_changed.connect(self._take_up)
        self._take_up()

    def on_shown(self) -> None:
        self.tones.recall()
        self._cautions()
        left = self._left()
        if self.recording is None and left is not None:
            when = tr(" begun at {began}", began=left.began) if left.began else ""
            self.said.setText(
                tr("A recording{when} was not kept when the program ended. Keep brings it in.", when=when)
            )
        self._buttons()
        self.strip.setFocus()

    def apply_theme(self) -> None:
        self.turns.apply_theme()
        self.wheel.apply_theme()

    def keyPressEvent(self, event) -> None:
        step = {Qt.Key.Key_Up: 1, Qt.Key.Key_Down: -1}.get(event.key())
        if step and event.modifiers() & Qt.KeyboardModifier.AltModifier:
            self.controls.longer(step)
        else:
            super().keyPressEvent(event)

    def _cautions(self) -> None:
        own = ("cranking", "no_start") if self.state.currentData() == State.CRANKING else ("moving", "hot")
        told = (self.workspace.why_not_turned, *map(knowledge().cautions.__getitem__, (*own, "negative", "ignition")))
        self.caution.setText(" ".join(filter(None, told)))

    # whose recording is shown -----------------------------------------------------------------

    @property
    def live(self) -> Live | None:
        """The session that is shown: the open job's."""
        return self.recording.live if self.recording is not None else None

    def _left(self) -> LeftRecording | None:
        return self.workspace.held.left_of(self.workspace.job.id) if self.workspace.job is not None else None

    def _take_up(self) -> None:
        """Show the open job's recording; another job's goes on out of sight."""
        job = self.workspace.job
        recording = self.workspace.held.of(job.id) if job is not None else None
        if recording is not self.recording:
            self._leave()
            self.recording = recording
            live = self.live
            self._heard, self._told = (len(live.heard), len(live.happened)) if live is not None else (0, 0)
            self.controls.show_live(live, recording.stated if recording is not None else None)
            self.strip.show_live(live)
            if recording is not None:
                self.state.setCurrentIndex(max(0, self.state.findData(recording.state)))
                self._timer.start()
        self._buttons()

    def _leave(self) -> None:
        """Nothing of a recording stands on the page any more."""
        self._timer.stop()
        if self._looking is not None:
            self._looking.stop()
            self._looking = None
        self._counting, self._due, self.verdict = 0, 0.0, None
        self.events.setRowCount(0)
        self.goes_with.setText(tr("No event yet."))
        for label in (self.figures, self.said, self.since):
            label.setText("")
        self.turns.show_drawing(None)
        self.wheel.show_drawing(None)

    def close_down(self) -> None:
        self._leave()
        self.ear.close()

    # recording ------------------------------------------------------------------------------

    def start_or_stop(self) -> None:
        if self.live is not None and self.live.running:
            self.stop()
        elif self._counting == 0:
            self.start()

    def start(self) -> None:
        """Begin a recording of the open job."""
        if not self.start_button.isEnabled():
            return
        if self.recording is not None:
            self.said.setText(
                tr(
                    "{seconds:.0f} s are recorded and not kept yet: keep them (Alt+K), or discard them.",
                    seconds=self.recording.seconds,
                )
            )
            return
        ranges = {column: volts for column, volts in self.strip.ranges.items() if volts}
        self.start_button.setEnabled(False)
        self.said.setText(tr("Opening the recorder."))
        self.workspace.held.start(
            self.workspace.job, State(self.state.currentData()), self.instruments.wired, self._began, self._refused,
            ranges=ranges,
        )  # fmt: skip

    def _began(self, recording: Recording) -> None:
        self.start_button.setEnabled(True)
        if self.recording is recording:
            self._counting = COUNTED * 1000 // TICK_MS if recording.state in STARTING else 0
            self.said.setText("")

    def _refused(self, why: str) -> None:
        self.start_button.setEnabled(True)
        self.said.setText(titled(why))

    def stop(self) -> None:
        """End the recording; it stays in sight until it is kept or discarded."""
        self._counting = 0
        if self.recording is not None:
            self.workspace.held.stop(self.recording)
        self._buttons()

    def mark(self, words: str = "") -> None:
        """A mark, by its words or those that stand in the line."""
        if self.live is not None and self.live.running:
            self.live.mark(words or self.controls.words.text().strip() or "mark")

    def keep(self) -> None:
        """Stop, and bring the recording in as a file would be; or one that a dead program left."""
        if self.recording is not None:
            if self.recording.live.samples:
                self._counting = 0
                self.workspace.bring_recording_in(self.recording)
        elif (left := self._left()) is not None:
            self.workspace.bring_recording_in(left)

    def discard(self) -> None:
        """Have the recording no more, after a question."""
        recording = self.recording or self._left()
        if recording is None:
            return
        words = tr("The recording is not on the trail. Discarded, it is gone for good.")
        if SureForm(tr("Discard the recording"), words, tr("Discard it"), self).exec():
            self.workspace.held.discard(recording)
            self.said.setText("")

    # while it runs --------------------------------------------------------------------------

    def _tick(self) -> None:
        live = self.live
        if live is None:
            return
        if self._counting:
            self._count_down()
        self._hear()
        self.since.setText(tr("{seconds:.1f} s", seconds=live.seconds) + ("" if live.running else tr(", stopped")))
        for item in live.happened[self._told :]:
            if item.kind in ("lost", "gone", "back"):
                self.said.setText(titled(item.said) + ".")
        self._told = len(live.happened)
        if self._looking is None and time.monotonic() >= self._due and live.samples:
            self._look(last=not live.running)
        if not live.running and self._looking is None:
            self._timer.stop()
            self.strip.set_going(False)
        self._buttons()

    def _count_down(self) -> None:
        self._counting -= 1
        left = -(-self._counting * TICK_MS // 1000)
        if self._counting == 0:
            self.figures.setText(tr("Crank now"))
            self.ear.say(tr("go"))
        elif self._counting % (1000 // TICK_MS) == 0:
            self.ear.say(tr("tick"))
        if self._counting:
            self.figures.setText(tr("Crank in {left}", left=left))

    def _hear(self) -> None:
        heard = self.live.heard[self._heard :]
        self._heard += len(heard)
        if heard and self.live.running:
            # Of what came since the last tick the last counts: it is how things stand.
            self.ear.say("lost" if heard[-1][2] else "back")

    def _look(self, *, last: bool) -> None:
        recording, below = self.recording, self.below.currentIndex()
        began = time.monotonic()

        def show(look: LiveLook) -> None:
            self._looking = None
            self._due = time.monotonic() + max(LEAST_S, RESTS * (time.monotonic() - began))
            if self.recording is recording:
                self._show(look)

        def failed(why: str) -> None:
            self._looking, self._due = None, time.monotonic() + 2.0
            if why:
                self.said.setText(why)

        self._looking = self.workspace.compute(lambda _task: recording.look(drawn=below < 2, last=last), show, failed)

    def _show(self, look: LiveLook) -> None:
        verdict, hunted = look.verdict, look.hunted
        if verdict is not None:
            self.verdict = verdict
            self.live.listen(verdict)
            self.strip.show_verdict(verdict)
            if not self._counting:
                self.figures.setText(verdict.line)
            self.said.setText(verdict.said)
            shown = self.below.currentWidget()
            if shown in (self.turns, self.wheel):
                shown.show_drawing(look.drawing)
        if hunted is not None:
            self.goes_with.setText(" ".join(hunted.said))
            self.events.show_rows(event_rows(hunted.events[-200:]))

    # settings -------------------------------------------------------------------------------

    def show_below(self, which: int) -> None:
        self.below.setCurrentIndex(which)
        tall = sum(self.split.sizes())
        share = 0.56 if self.below.currentWidget() is self.wheel else 0.4
        self.split.setSizes([round((1 - share) * tall), round(share * tall)])
        self._due = 0.0

    def _spanned(self, span: float) -> None:
        self.strip.span = span
        self.strip.update()

    def _ranged(self, column: str, volts: float) -> None:
        self.strip.ranges[column] = volts
        self.strip.update()

    def _described(self, sheet: Sheet) -> None:
        if self.recording is not None:
            self.workspace.held.describe(self.recording, sheet)
            self._due = 0.0

    def _buttons(self) -> None:
        running = self.live is not None and self.live.running
        # Before the start what is to be minded stands over the picture, while it runs at the foot.
        self.layout().insertWidget(-1 if running else self.layout().indexOf(self.said), self.caution)
        self.below.setVisible(self.live is not None)
        self.start_button.setText(tr("Stop") if running else tr("Start"))
        left = self.recording is None and self._left() is not None
        self.keep_button.setEnabled(left or (self.live is not None and self.live.samples > 0))
        self.discard_button.setVisible(not running and (left or self.recording is not None))
        self.hold_button.setEnabled(self.live is not None)
