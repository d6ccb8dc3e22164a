"""The live page: start, drawing, move a wire, and keep what was recorded."""

from __future__ import annotations

import shutil
import time
from datetime import datetime
from pathlib import Path

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import (
    QComboBox,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QSlider,
    QSplitter,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from sagen.casework.examination import MOST_KEPT
from sagen.casework.live import Live, Verdict, live_trigger, sheet_for, with_role
from sagen.desk.actions import Action, Hint
from sagen.desk.ear import Ear
from sagen.desk.events_form import event_rows
from sagen.desk.lenses.live_strip import LiveStrip
from sagen.desk.lenses.turns import TurnsView
from sagen.desk.lenses.wheel import WheelView
from sagen.desk.pages import Page
from sagen.desk.tables import TextTable
from sagen.desk.theme.plain import ElidedLabel, Label
from sagen.files.long_record import SUFFIX
from sagen.model.errors import SagenError
from sagen.model.trail import NoteEntry
from sagen.model.vocabulary import ROTATING_ROLES, STARTING, Role, State
from sagen.model.words import ROLES, STATES
from sagen.signal.trigger import TriggerKind

#: time bases, s
SPANS = (0.005, 0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1.0, 2.0, 5.0, 10.0, 30.0, 60.0, 120.0, 300.0, 600.0)
RANGES = (0.5, 1.0, 2.0, 5.0, 10.0, 20.0, 50.0, 100.0)
LIVE_STATES = {State.CRANKING: "Cranking", State.RUNNING: "Running", State.WIGGLE: "Moving it"}
#: what a channel can be said to be, live
RAILS = (Role.SUPPLY, Role.GROUND)
ROLES_HERE = (Role.OTHER, *ROTATING_ROLES, *RAILS)
#: trigger kinds: words, what its figure is, the figure at first
TRIGGERS = {
    TriggerKind.RISE: ("rises past", "V", "2.5"), TriggerKind.FALL: ("falls past", "V", "2.5"),
    TriggerKind.MISSING: ("pulse missing", "tooth times", "4"), TriggerKind.DIP: ("rail below", "V", "9"),
    TriggerKind.RPM: ("rpm above", "rpm", "1000"),
}  # fmt: skip
TICK_MS, LEAST_S, RESTS = 100, 0.8, 5.0  #: a verdict at most so often, and resting so many times what it took
TEMPERATURE_S = 5.0  #: between two askings of the module
COUNTED = 3  #: s before "crank now"


def span_words(span: float) -> str:
    """A time base as it is said."""
    return f"{1e3 * span:g} ms" if span < 1 else f"{span:g} s" if span < 60 else f"{span / 60:g} min"


class LivePage(Page):
    """Strip with figures and verdict above it; turns, wheel or events below."""

    name, title = "live", "Live"
    commands = (
        Action("Space", "start or stop", lambda page: page.start_or_stop()),
        Action("Alt+H", "hold the picture", lambda page: page.hold_button.toggle()),
        Action("Alt+M", "set a mark", lambda page: page.mark()),
        Action("Alt+K", "keep what was recorded", lambda page: page.keep()),
        Action("Alt+V", "tones on or off", lambda page: page.ear_button.toggle()),
        Action("Alt+1", "turns below", lambda page: page.show_below(0)),
        Action("Alt+2", "wheel below", lambda page: page.show_below(1)),
        Action("Alt+3", "events below", lambda page: page.show_below(2)),
    )
    hints = (Hint("Alt+Up / Alt+Down", "longer or shorter time base"),)

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.shell, self.live, self.wired = None, None, None
        self.ear = Ear(self)
        self._job_id: int | None = None
        self._stated, self._folder, self._modules, self._ask_again = None, None, None, 0.0
        self._looking, self._due, self._heard, self._told, self._counting = None, 0.0, 0, 0, 0
        self.verdict: Verdict | None = None
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(5)
        layout.addLayout(self._head())
        layout.addLayout(self._settings())
        figures = QHBoxLayout()
        self.figures, self.since = ElidedLabel(name="live"), Label(name="quiet")
        figures.addWidget(self.figures, 1)
        figures.addWidget(self.since)
        layout.addLayout(figures)
        self.said = Label(name="caution", wrap=True)
        layout.addWidget(self.said)
        self.strip, self.turns, self.wheel = LiveStrip(), TurnsView(), WheelView()
        self.events = TextTable(("s", "Event", "What else happened then"), "Events", stretch=2)
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
        self._buttons()

    def _head(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setSpacing(5)
        row.addWidget(Label("Live", name="heading"))
        self.state = QComboBox()
        self.state.setAccessibleName("How the machine stands")
        for key, words in LIVE_STATES.items():
            self.state.addItem(words, key)
        self.state.currentIndexChanged.connect(lambda _: self._cautions())
        row.addWidget(self.state)
        self.start_button, self.keep_button = QPushButton("Start"), QPushButton("Keep")
        self.start_button.setObjectName("first")
        self.start_button.clicked.connect(self.start_or_stop)
        self.hold_button, self.ear_button = QPushButton("Hold"), QPushButton("Tones")
        for button, tip in (
            (self.hold_button, "The picture stands, the recording goes on (Alt+H)"),
            (self.ear_button, "A tone when the signal is lost, another when it is back (Alt+V)"),
        ):
            button.setCheckable(True)
            button.setToolTip(tip)
        self.start_button.setToolTip("Start or stop (Space)")
        self.keep_button.setToolTip("Stop, and bring what was recorded in (Alt+K)")
        self.keep_button.clicked.connect(self.keep)
        self.hold_button.toggled.connect(lambda on: self.strip.hold(on))
        self.ear_button.setChecked(True)
        self.ear_button.toggled.connect(self._muted)
        self.volume = QSlider(Qt.Orientation.Horizontal)
        self.volume.setRange(0, 100)
        self.volume.setFixedWidth(64)
        self.volume.setAccessibleName("Volume of the tones")
        self.volume.setToolTip("Volume of the tones")
        self.volume.valueChanged.connect(self._louder)
        for item in (self.start_button, self.hold_button, self.keep_button):
            row.addWidget(item)
        row.addStretch(1)
        row.addWidget(self.ear_button)
        row.addWidget(self.volume)
        where = QPushButton("Instruments")
        where.setToolTip("Where recorder, meter and module answer")
        where.clicked.connect(lambda _=False: self.shell.choose_instruments())
        back = QPushButton("Back")
        back.clicked.connect(lambda _=False: self.shell.back_to_job())
        row.addWidget(where)
        row.addWidget(back)
        return row

    def _settings(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setSpacing(5)
        self.span, self.channel, self.range, self.role = QComboBox(), QComboBox(), QComboBox(), QComboBox()
        self.kind, self.level, self.unit = QComboBox(), QLineEdit(), Label("V", name="small")
        for span in SPANS:
            self.span.addItem(span_words(span), span)
        self.span.setCurrentIndex(SPANS.index(1.0))
        self.span.currentIndexChanged.connect(lambda _: self._spanned())
        self.range.addItem("fits", 0.0)
        for range_ in RANGES:
            self.range.addItem(f"{range_:g} V", range_)
        for item in ROLES_HERE:
            self.role.addItem(ROLES[item].capitalize() if item != Role.OTHER else "Not stated", item)
        self.role.activated.connect(lambda _: self._role_chosen())
        self.range.currentIndexChanged.connect(lambda _: self._ranged())
        self.kind.addItem("runs freely", None)
        for kind, (words, _, _) in TRIGGERS.items():
            self.kind.addItem(words, kind)
        self.kind.currentIndexChanged.connect(lambda _: self._kind_chosen())
        self.channel.currentIndexChanged.connect(lambda _: self._channel_chosen())
        self.level.setFixedWidth(64)
        self.level.setAccessibleName("Figure of the trigger")
        self.level.editingFinished.connect(self._triggered)
        self.words = QLineEdit()
        self.words.setPlaceholderText("mark: moved plug")
        self.words.setAccessibleName("Words of a mark")
        self.words.setMinimumWidth(130)
        self.words.setMaxLength(60)
        self.words.returnPressed.connect(self.mark)
        self.kind.setMaximumWidth(150)
        for box in (self.span, self.channel, self.range):
            box.setMaximumWidth(84)
        self.role.setMaximumWidth(128)
        mark = QPushButton("Mark")
        mark.setToolTip("Set a mark now: what events go with is tested against it (Alt+M)")
        mark.clicked.connect(self.mark)
        for name, each, words in (
            ("Time base", self.span, ""), ("Channel", self.channel, ""), ("What the channel is", self.role, ""), ("Range", self.range, ""),
            ("Trigger", self.kind, ""),
        ):  # fmt: skip
            each.setAccessibleName(name)
            each.setToolTip(name + words)
            row.addWidget(each)
        row.addWidget(self.level)
        row.addWidget(self.unit)
        row.addWidget(self.words, 1)
        row.addWidget(mark)
        self._kind_chosen()
        return row

    # the shell ------------------------------------------------------------------------------

    def wire(self, shell) -> None:
        self.shell = shell
        self.ear.silent.connect(shell.message.say)
        self.volume.setValue(int(shell.settings.value("live/volume", 60)))
        self.ear_button.setChecked(str(shell.settings.value("live/tones", "on")) == "on")
        self.span.setCurrentIndex(max(0, self.span.findData(float(shell.settings.value("live/span", 1.0)))))
        shell.workspace.job_changed.connect(self._job_changed)
        shell.workspace.kept.connect(self._was_kept)

    def _was_kept(self, name: str) -> None:
        """A recording that lies whole on the trail is not needed beside it."""
        incoming = self.shell.page("incoming").incoming
        if incoming is None or incoming.path.parent != self._records():
            return
        capture = incoming.capture
        if capture.name == name and capture.samples * len(capture.channels) <= MOST_KEPT:
            shutil.rmtree(incoming.path, ignore_errors=True)

    def on_shown(self) -> None:
        self._cautions()
        if self.live is None and self._left():
            when = self._left()[-1].name.partition("-")[2][:6]
            self.said.setText(
                f"A recording begun at {when[:2]}:{when[2:4]} was not kept when the program ended. Keep brings it in; "
                f"it lies in {self._left()[-1]}."
            )
        self._buttons()
        self.strip.setFocus()

    def apply_theme(self) -> None:
        self.turns.apply_theme()
        self.wheel.apply_theme()

    def _job_changed(self, job) -> None:
        if self.live is not None and (job is None or job.id != self._job_id):
            self.close_bench()

    def keyPressEvent(self, event) -> None:
        step = {Qt.Key.Key_Up: 1, Qt.Key.Key_Down: -1}.get(event.key())
        if step and event.modifiers() & Qt.KeyboardModifier.AltModifier:
            self.span.setCurrentIndex(max(0, min(self.span.currentIndex() + step, self.span.count() - 1)))
        else:
            super().keyPressEvent(event)

    def _cautions(self) -> None:
        from sagen.reason.facts import knowledge

        said, state = knowledge().cautions, self.state.currentData()
        names = ("cranking", "no_start", "negative") if state == State.CRANKING else ("moving", "hot", "negative")
        self.caution.setText(" ".join(said[name] for name in (*names, "ignition")))

    # recording ------------------------------------------------------------------------------

    def start_or_stop(self) -> None:
        if self.live is not None and self.live.running:
            self.stop()
        elif self._counting == 0:
            self.start()

    def start(self) -> None:
        """Open the recorder off this thread, and begin."""
        workspace, state = self.shell.workspace, State(self.state.currentData())
        job = workspace.job
        if job is None:
            self.shell.message.say("Open a job first: what is recorded goes on its trail.")
            return
        self.close_bench()
        self._job_id = job.id
        addresses, name = self.shell.addresses(), workspace.instruments
        self._folder = self._records() / f"{datetime.now():%Y%m%d-%H%M%S-%f}-{state}{SUFFIX}"
        folder, ranges = self._folder, {name: volts for name, volts in self.strip.ranges.items() if volts}
        self.start_button.setEnabled(False)
        self.said.setText("Opening the recorder.")

        def work(_task):
            from sagen.desk.at_hand import wired_for

            wired = wired_for(addresses, name, job)
            try:
                recorder = wired.recorder(state, ranges=ranges)
                columns = tuple(channel.column for channel in recorder.channels())
                return wired, Live(recorder, f"live-{state}.npz", sheet_for(job, columns, str(state)), folder=folder)
            except SagenError:
                wired.close()
                raise

        workspace.work.ask(work, done=self._opened, failed=self._refused, writes=True)

    def _opened(self, opened) -> None:
        self.wired, self.live = opened
        self.start_button.setEnabled(True)
        self._heard = self._told = 0
        self.verdict = None
        self.events.setRowCount(0)
        self.goes_with.setText("No event yet.")
        self.figures.setText("")
        self.said.setText("")
        self.channel.clear()
        for channel in self.live.channels:
            self.channel.addItem(channel.column, channel.column)
        self._stated = self.live.sheet
        self._remembered_roles()
        self._channel_chosen()
        self.live.start()
        self.strip.show_live(self.live)
        self.turns.show_drawing(None)
        self.wheel.show_drawing(None)
        self._counting = COUNTED * 1000 // TICK_MS if self.state.currentData() in STARTING else 0
        self._timer.start()
        self._buttons()

    def _refused(self, why: str) -> None:
        self.start_button.setEnabled(True)
        self.said.setText(why)

    def stop(self) -> None:
        """End the recording; it stays in sight."""
        if self.live is not None:
            self.live.recorder.stop()
        self._counting = 0
        self._buttons()

    def _records(self) -> Path:
        """Where recordings grow: beside the job log."""
        return self.shell.workspace.log.captures.folder.parent / "records"

    def _left(self) -> list[Path]:
        """Recordings that were neither kept nor let go, oldest first: the program ended while they ran."""
        return sorted(path for path in self._records().glob(f"*{SUFFIX}") if path != self._folder)

    def close_bench(self, *, keep: bool = False) -> None:
        """Let go of recorder and stand-in; what was recorded and is not to be kept is gone."""
        self._timer.stop()
        if self._looking is not None:
            self._looking.stop()
            self._looking = None
        if self.live is not None:
            self.live.stop()
            self.live.recorder.close()
        for item in (self._modules, self.wired):
            if item is not None:
                item.close()
        self._modules = None
        if self.live is not None and not keep:
            shutil.rmtree(self._folder, ignore_errors=True)
        self.live = self.wired = None
        self.strip.show_live(None)
        self._buttons()

    def close_down(self) -> None:
        self.close_bench()
        self.ear.close()

    def mark(self) -> None:
        """A mark, by its words."""
        if self.live is not None and self.live.running:
            self.live.mark(self.words.text().strip() or "mark")

    def keep(self) -> None:
        """Stop, and bring the recording in as a file would be; what the events go with goes on the trail."""
        live, folder = self.live, self._folder
        if live is None and self._left():
            self.shell.bring_in([str(self._left()[-1])])
            return
        if live is None or not live.samples:
            return
        self.stop()
        job_id = self._job_id

        def work(_task):
            from sagen.casework.examination import Incoming
            from sagen.files.long_record import long_pyramids

            live.stop()
            live.hunt()
            capture = live.capture()
            return Incoming(folder, capture, live.sheet, pyramids=long_pyramids(folder, capture)), live.hunted()

        def came(answer) -> None:
            incoming, hunted = answer
            workspace = self.shell.workspace
            if workspace.job is None or workspace.job.id != job_id:
                return
            if hunted.events:
                words = f"Live, {STATES[self.state.currentData()].lower()}, {live.seconds:.0f} s: " + " ".join(
                    hunted.said
                )
                workspace.add(NoteEntry(words))
            self.close_bench(keep=True)
            workspace.incoming.emit(incoming)

        self.shell.workspace.work.ask(work, done=came, failed=self.shell.message.say, writes=True)

    # while it runs --------------------------------------------------------------------------

    def _tick(self) -> None:
        live = self.live
        if live is None:
            return
        if self._counting:
            self._count_down()
        self._hear()
        self.since.setText(f"{live.seconds:.1f} s" + ("" if live.running else ", stopped"))
        for item in live.happened[self._told :]:
            if item.kind in ("lost", "gone", "back"):
                self.said.setText(item.said[:1].upper() + item.said[1:] + ".")
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
            self.figures.setText("Crank now")
            self.ear.say("go")
        elif self._counting % (1000 // TICK_MS) == 0:
            self.ear.say("tick")
        if self._counting:
            self.figures.setText(f"Crank in {left}")

    def _hear(self) -> None:
        heard = self.live.heard[self._heard :]
        self._heard += len(heard)
        if heard and self.live.running:
            # Of what came since the last tick the last counts: it is how things stand.
            self.ear.say("lost" if heard[-1][2] else "back")

    def _look(self, *, last: bool) -> None:
        live, below = self.live, self.below.currentIndex()
        began = time.monotonic()

        def work(_task):
            from sagen.report.turn_drawing import draw_turns

            verdict = live.verdict()
            drawing = None
            if verdict is not None and verdict.done is not None and below < 2:
                own = next(
                    (channel.sheet.column for channel in verdict.done.channels if channel.reading is not None), None
                )
                drawing = draw_turns(verdict.done, own) if own else None
            self._ask_temperature(live)
            new = live.hunt()
            return verdict, drawing, live.hunted() if new or last else None

        def came(answer) -> None:
            self._looking = None
            self._due = time.monotonic() + max(LEAST_S, RESTS * (time.monotonic() - began))
            if self.live is live:
                self._show(*answer)

        def failed(why: str) -> None:
            self._looking, self._due = None, time.monotonic() + 2.0
            if why:
                self.said.setText(why)

        self._looking = self.shell.workspace.work.ask(work, done=came, failed=failed)

    def _ask_temperature(self, live: Live) -> None:
        """The coolant's temperature from the module, every few seconds, where one answers; called off this thread."""
        if time.monotonic() < self._ask_again or self.wired is None:
            return
        self._ask_again = time.monotonic() + TEMPERATURE_S
        try:
            if self._modules is None:
                self._modules = self.wired.modules()
            live.warm(self._modules.live("coolant").value)
        except SagenError:
            self._ask_again = time.monotonic() + 12 * TEMPERATURE_S  # no module: a live page works without one

    def _show(self, verdict: Verdict | None, drawing, hunted) -> None:
        if verdict is not None:
            self.verdict = verdict
            self.live.listen(verdict)
            self.strip.show_verdict(verdict)
            if not self._counting:
                self.figures.setText(verdict.line)
            self.said.setText(verdict.said)
            if self.below.currentIndex() == 0:
                self.turns.show_drawing(drawing)
            elif self.below.currentIndex() == 1:
                self.wheel.show_drawing(drawing)
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

    def _spanned(self) -> None:
        self.strip.span = self.span.currentData()
        self.strip.update()
        if self.shell is not None:
            self.shell.settings.setValue("live/span", self.strip.span)

    def _channel_chosen(self) -> None:
        if self.live is not None:
            stated = self.live.sheet.of(self.channel.currentText()) if self.live.sheet else None
            self.role.setCurrentIndex(max(0, self.role.findData(stated.role if stated else Role.OTHER)))
        self.range.setCurrentIndex(max(0, self.range.findData(self.strip.ranges.get(self.channel.currentText(), 0.0))))
        self._triggered()

    def _role_chosen(self) -> None:
        """The channel is what was chosen; remembered for the next recording with as many channels."""
        live, column = self.live, self.channel.currentText()
        if live is None or not column:
            return
        try:
            live.describe(with_role(live.sheet, column, Role(self.role.currentData()), self._stated))
        except SagenError as error:
            self.said.setText(str(error))
            return
        roles = [str(one.role) if (one := live.sheet.of(name.column)) else "" for name in live.channels]
        self.shell.settings.setValue("live/roles", ",".join(roles))
        self._due = 0.0

    def _remembered_roles(self) -> None:
        """Rails as they were stated the last time, where nothing else says what a channel is."""
        live, told = self.live, str(self.shell.settings.value("live/roles", "")).split(",")
        if len(told) != len(live.channels):
            return
        for channel, role in zip(live.channels, told, strict=True):
            if role in RAILS and live.sheet is not None and live.sheet.of(channel.column) is None:
                live.describe(with_role(live.sheet, channel.column, Role(role)))

    def _ranged(self) -> None:
        self.strip.ranges[self.channel.currentText()] = self.range.currentData()
        self.strip.update()

    def _kind_chosen(self) -> None:
        kind = self.kind.currentData()
        for item in (self.level, self.unit):
            item.setVisible(kind is not None)
        if kind is not None:
            self.unit.setText(TRIGGERS[kind][1])
            self.level.setText(TRIGGERS[kind][2])
        self._triggered()

    def _triggered(self) -> None:
        """Set the trigger as chosen; a figure that makes no sense is said and changes nothing."""
        kind, live = self.kind.currentData(), self.live
        if live is None or self.channel.currentIndex() < 0:
            return
        if kind is None:
            live.set_trigger(0, None)
            return
        try:
            figure = float(self.level.text().replace(",", "."))
            if not 0 < abs(figure) < 1e6:
                raise ValueError
        except ValueError:
            self.said.setText(f"'{self.level.text()[:20]}' is no figure for a trigger.")
            return
        at = self.channel.currentIndex()
        try:
            live.set_trigger(at, live_trigger(live, at, kind, figure))
        except SagenError as error:
            self.said.setText(str(error))

    def _muted(self, on: bool) -> None:
        self.ear.muted = not on
        if self.shell is not None:
            self.shell.settings.setValue("live/tones", "on" if on else "off")
            if on and self.ear.why:
                self.shell.message.say(self.ear.why)

    def _louder(self, value: int) -> None:
        self.ear.volume = value / 100
        if self.shell is not None:
            self.shell.settings.setValue("live/volume", value)

    def _buttons(self) -> None:
        running = self.live is not None and self.live.running
        self.start_button.setText("Stop" if running else "Start")
        left = (
            self.live is None and self.shell is not None and self.shell.workspace.log is not None and bool(self._left())
        )
        self.keep_button.setEnabled(left or (self.live is not None and self.live.samples > 0))
        self.hold_button.setEnabled(self.live is not None)
