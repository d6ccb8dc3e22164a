"""A capture on the bench: its three lenses with their tools, one line of figures, and the findings as rows that jump."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QSettings, Signal
from PySide6.QtWidgets import (
    QFileDialog,
    QHBoxLayout,
    QSplitter,
    QStackedWidget,
    QVBoxLayout,
)

from sagen.casework.open_capture import OpenCapture
from sagen.desk.actions import Hint
from sagen.desk.lenses.beside import BesidePanel
from sagen.desk.lenses.overview import Overview
from sagen.desk.lenses.rings import ALL, MEAN, RingsView
from sagen.desk.lenses.strip import StripView
from sagen.desk.lenses.teeth_table import TeethTable
from sagen.desk.lenses.turns import TurnsView
from sagen.desk.lenses.wheel import WheelView
from sagen.desk.pages import Page
from sagen.desk.pages.findings_list import FindingsList, taken_as
from sagen.desk.pages.lens_bar import LensBar
from sagen.desk.pages.pointer_words import difference_words, place_words, time_words
from sagen.desk.parts import last_folder
from sagen.desk.theme.plain import ElidedLabel
from sagen.model.language import tr
from sagen.model.vocabulary import FindingKind
from sagen.model.words import ROLES, STATES
from sagen.report.scene import Place
from sagen.signal.catalogue import usual_name

if TYPE_CHECKING:
    from sagen.desk.ports import Commands, Navigation
    from sagen.desk.workspace import DeskWorkspace

#: lenses of a capture that turns, and of one that was struck
TURNING, STRUCK = ("strip", "turns", "wheel", "beside"), ("rings", "strip")
FORMATS = tr("CSV (*.csv);;WAV (*.wav);;ASAM MDF4 (*.mf4)")


class CapturePage(Page):
    """A capture under its three lenses, linked by one pointer."""

    name, title = "capture", tr("Capture")
    hints = (
        Hint(tr("Left / Right"), tr("look earlier / later")),
        Hint(tr("Up / Down or + / −"), tr("closer / further")),
        Hint("Home", tr("the whole capture")),
        Hint("A / B", tr("set a cursor at the pointer")),
        Hint(tr("Shift with A or B"), tr("without snapping to an edge")),
        Hint("Esc", tr("take the cursors away")),
        Hint("N / P", tr("next / previous place of a finding")),
        Hint("1 / 2 / 3 / 4", tr("Strip, Turns, Wheel, Beside; of taps Strip, Rings")),
        Hint("M", tr("of taps: all, or their mean")),
        Hint("S", tr("Beside: the edges by how far they are off, or in order")),
    )
    export_wanted = Signal()

    def __init__(self, parent=None):
        super().__init__(parent)
        self.opened: OpenCapture | None = None
        self.finding_at = -1
        self.lens, self.column, self.what = "strip", "", "phase_error"
        self.taps = None
        self._was_struck = False  #: whether the capture before was one of taps
        self._looked_at = False  #: whether Turns, Wheel and the table show the present capture
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(5)
        self.title_label, self.about = ElidedLabel(name="heading"), ElidedLabel(name="quiet")
        head = QHBoxLayout()
        head.setSpacing(10)
        head.addWidget(self.title_label, 2)
        head.addWidget(self.about, 3)
        layout.addLayout(head)
        self.bar = LensBar()
        layout.addWidget(self.bar)
        self.view, self.turns, self.wheel, self.table = StripView(), TurnsView(), WheelView(), TeethTable()
        self.overview = Overview(self.view)
        layout.addWidget(self.overview)
        self.round = QStackedWidget()
        self.round.addWidget(self.turns)
        self.round.addWidget(self.wheel)
        self.beside = QSplitter()
        self.beside.setHandleWidth(8)
        self.beside.addWidget(self.round)
        self.beside.addWidget(self.table)
        self.beside.setSizes([330, 350])
        self.beside.setStretchFactor(0, 1)
        self.beside.setChildrenCollapsible(False)
        self.lenses = QStackedWidget()
        self.lenses.addWidget(self.view)
        self.lenses.addWidget(self.beside)
        self.rings, self.good = RingsView(), BesidePanel()
        self.lenses.addWidget(self.rings)
        self.lenses.addWidget(self.good)
        self.rings.measured.connect(self._show_figures)
        strikes = self.bar.strikes
        self.rings.chosen.connect(lambda which: strikes.setCurrentIndex(strikes.findData(which)))
        strikes.activated.connect(lambda _=0: self.rings.show_strikes(strikes.currentData()))
        for box in (self.bar.channel, self.bar.what):
            box.currentIndexChanged.connect(lambda _=0: self._channel_chosen())
        self.bar.lens_chosen.connect(self.show_lens)
        self.bar.tool_pressed.connect(self._tool)
        layout.addWidget(self.lenses, 1)
        self.figures = ElidedLabel(name="quiet")
        self.figures.setFixedHeight(20)
        self.figures.setAccessibleName(tr("Figures under the pointer and between the cursors"))
        layout.addWidget(self.figures)
        self.findings = FindingsList()
        self.findings.chosen.connect(self.jump_to)
        layout.addWidget(self.findings)
        self._pointed: Place | None = None
        self.view.cursor_moved.connect(self._strip_points)
        self.view.measured.connect(self._show_figures)
        self.overview.moved.connect(self._look_around)
        for item in (self.turns, self.wheel):
            item.pointed.connect(self.point_at)
            item.pressed.connect(self._press)
        self.table.chosen.connect(self._tooth_chosen)

    def wire(self, workspace: DeskWorkspace, navigation: Navigation, commands: Commands, settings: QSettings) -> None:
        self.workspace, self.settings = workspace, settings
        self.bar.menu.wire(workspace, navigation, commands)
        self.export_wanted.connect(self._export)

    def _export(self) -> None:
        """Write the capture on the bench in an open format, off the interface thread."""
        if self.opened is None:
            return
        folder = last_folder(self.settings)
        stem = "".join(item for item in self.opened.capture.name.rsplit(".", 1)[0] if item not in "/\\\0")
        name, _ = QFileDialog.getSaveFileName(self, tr("Write the capture"), str(folder / f"{stem}.csv"), FORMATS)
        if name:
            self.workspace.export(self.opened, Path(name))

    # building -----------------------------------------------------------------------------

    def _tool(self, name: str) -> None:
        {
            "previous": lambda: self.step_finding(-1), "next": lambda: self.step_finding(1),
            "out": lambda: self._zoom(False), "in": lambda: self._zoom(True), "fit": self._whole,
            "export": self.export_wanted.emit,
        }[name]()  # fmt: skip

    def _zoom(self, closer: bool) -> None:
        if self.lens == "rings":
            self.rings.zoom(closer)
        elif self.lens == "beside":
            self.good.view.zoom(1 / 1.8 if closer else 1.8)
        else:
            self.view.zoom(1 / 1.8 if closer else 1.8)

    def _whole(self) -> None:
        {"rings": self.rings, "beside": self.good.view}.get(self.lens, self.view).fit()

    def show_taps(self, taps) -> None:
        """What the taps of the whole job say, as they come in."""
        self.rings.show_taps(taps)
        self.taps = taps
        if self.opened is not None and self.opened.rings is not None:
            self.findings.show_findings(self.opened, taps)

    def apply_theme(self) -> None:
        self.bar.apply_theme()
        if self.opened is not None:
            self.turns.apply_theme()
            self.rings.apply_theme()
            self.wheel.apply_theme()
            self.good.apply_theme()

    # what is shown ------------------------------------------------------------------------

    def show_capture(self, opened: OpenCapture) -> None:
        self.opened, self.finding_at, self._pointed = opened, -1, None
        capture = opened.capture
        self.title_label.setText(capture.name)
        rows = [channel for channel in opened.examination.channels if channel.reading is not None]
        parts = [
            tr("{seconds:.3g} s at {sfreq:.6g} kHz", seconds=capture.seconds, sfreq=capture.sfreq / 1000),
            STATES[opened.sheet.conditions.state],
        ]
        parts += taken_as(opened.sheet)
        for row in rows[:2]:
            speed = row.reading.speed_range()
            wheel = f" {usual_name(row.reading.wheel)}" if row.reading.wheel else ""
            parts.append(
                f"{ROLES[row.sheet.role]}{wheel}" + (tr(" {median:.0f} rpm", median=speed["median"]) if speed else "")
            )
        self.about.setText("  ·  ".join(parts))
        self.view.show_strip(opened.strip)
        self.view.open_at_what_was_found()
        self._fill_channels(rows)
        self._fill_strikes()
        self.findings.show_findings(opened, self.taps)
        self._show_figures()
        self.bar.menu.look_on_shelf(opened, lambda count: self.findings.show_offers(0 if opened.beside else count))

    def _fill_strikes(self) -> None:
        """The lenses that this capture has: of one that was struck, its rings first."""
        scene = self.opened.rings
        self.rings.show_scene(scene)
        self.bar.strikes.clear()
        if scene is not None:
            self.bar.strikes.addItem(tr("All {strikes} strikes", strikes=len(scene.strikes)), ALL)
            self.bar.strikes.addItem(tr("Mean and band (M)"), MEAN)
            for at, when in enumerate(scene.strikes.time_s[: scene.waves.shape[1]]):
                self.bar.strikes.addItem(tr("Strike {at}, {when:.3f} s", at=at + 1, when=when), at)
            self.bar.strikes.setCurrentIndex(self.bar.strikes.findData(self.rings.shown))
        shown = STRUCK if scene is not None else TURNING if self.opened.beside else TURNING[:-1]
        self.bar.offer_lenses(shown)
        if scene is not None and self.lens not in STRUCK:
            self.show_lens("rings")
        elif scene is not None:
            self.show_lens("rings" if not self._was_struck else self.lens)
        elif self.lens == "rings":
            self.show_lens("strip")
        self._was_struck = scene is not None

    def _fill_channels(self, rows) -> None:
        names = {lane.column: lane.name for lane in self.opened.strip.lanes}
        for box in (self.bar.channel, self.bar.what):
            box.blockSignals(True)
            box.clear()
        for this_row in rows:
            self.bar.channel.addItem(f"{names[this_row.sheet.column]} ({this_row.sheet.column})", this_row.sheet.column)
        known = [index for index, row in enumerate(rows) if row.reading.wheel is not None]
        self.bar.channel.setCurrentIndex(known[0] if known else 0 if rows else -1)
        for name, words in (("phase_error", tr("Place")), ("size", tr("Size"))):
            self.bar.what.addItem(words, name)
        # What was found decides what is looked at first: a wheel that runs out shows in the size.
        found = {finding.kind for finding in self.opened.examination.findings}
        self.bar.what.setCurrentIndex(1 if FindingKind.RUNOUT in found else 0)
        for box in (self.bar.channel, self.bar.what):
            box.blockSignals(False)
        for name in ("turns", "wheel"):
            self.bar.lenses[name].setEnabled(bool(rows))
        compared = bool(self.opened.beside)
        if compared:
            first = self.bar.channel.findData(next(iter(self.opened.beside)))
            self.bar.channel.setCurrentIndex(max(first, 0))
        if (not rows and self.lens in ("turns", "wheel")) or (self.lens == "beside" and not compared):
            self.show_lens("strip")
        self._channel_chosen()

    def _channel_chosen(self) -> None:
        if self.opened is None:
            return
        self.column, self.what = self.bar.channel.currentData(), self.bar.what.currentData() or "phase_error"
        self._looked_at = False
        if self.lens in ("turns", "wheel"):
            self._show_look()
        self._show_good()
        self._show_boxes()

    def _show_good(self) -> None:
        """The Beside lens, where it is looked at."""
        if self.lens == "beside" and self.opened is not None:
            self.good.show_scene(self.opened.beside.get(self.column))

    def _show_look(self) -> None:
        """What Turns, Wheel and the table show: made when one of them is first looked at."""
        if self._looked_at or self.opened is None:
            return
        self._looked_at = True
        drawing = self.opened.drawings.get(self.column)
        self.turns.show_drawing(drawing, self.what)
        self.wheel.show_drawing(drawing)
        self.table.show_drawing(drawing)

    def _show_boxes(self) -> None:
        self.bar.channel.setVisible(self.lens in ("turns", "wheel", "beside") and self.bar.channel.count() > 1)
        self.bar.strikes.setVisible(self.lens == "rings")
        self.bar.what.setVisible(self.lens == "turns")
        self.overview.setVisible(self.lens == "strip")
        if self.lens == "beside":
            steps = self.good.view.scene is not None and bool(self.good.view.scene.edges)
        else:
            steps = self.opened is not None and any(finding.spans for finding in self.opened.examination.findings)
        for name in ("previous", "next"):
            self.bar.tools[name].setEnabled(steps)
        for name in ("out", "in", "fit"):
            self.bar.tools[name].setVisible(self.lens in ("strip", "rings", "beside"))

    def show_lens(self, name: str) -> None:
        """One of the lenses over the same data."""
        self.lens = name
        self.bar.lenses[name].setChecked(True)
        self.lenses.setCurrentWidget(
            {"strip": self.view, "rings": self.rings, "beside": self.good}.get(name, self.beside)
        )
        self._show_good()
        if name in ("turns", "wheel"):
            self._show_look()
            self.round.setCurrentWidget(getattr(self, name))
        self._show_boxes()
        self._show_figures()
        focus = {
            "strip": self.view,
            "turns": self.turns,
            "wheel": self.wheel,
            "rings": self.rings,
            "beside": self.good.view,
        }
        focus[name].setFocus()

    # findings -----------------------------------------------------------------------------

    def jump_to(self, index: int) -> None:
        """Bring the first place of a finding to the middle."""
        finding = self.opened.examination.findings[index]
        if finding.spans:
            self._go_to(finding.spans[0].start_s, finding.spans[0].end_s)

    def step_finding(self, step: int) -> None:
        """Bring the next or previous place of a finding to the middle."""
        if self.opened is None:
            return
        if self.lens == "beside":
            self.good.view.step(step)
            return
        places = sorted(
            (span.start_s, span.end_s) for finding in self.opened.examination.findings for span in finding.spans
        )
        if not places:
            return
        self.finding_at = (self.finding_at + step) % len(places) if self.finding_at >= 0 else (0 if step > 0 else -1)
        self.finding_at %= len(places)
        self._go_to(*places[self.finding_at])

    def _go_to(self, start_s: float, end_s: float) -> None:
        self.view.look_at_span(start_s, end_s, around=14.0)
        if self.lens == "rings":
            self.rings.show_strikes(int(np.argmin(np.abs(self.opened.rings.strikes.time_s - start_s))))
        elif self.lens != "strip":
            self.point_at(start_s)

    # the shared pointer -------------------------------------------------------------------

    def point_at(self, time_s: float | None) -> None:
        """One pointer for all lenses and the line of figures."""
        for item in (self.view, self.turns, self.wheel):
            item.set_pointer(time_s)
        strip = self.view.strip
        self._pointed = strip.place(time_s) if strip is not None and time_s is not None else None
        self._show_figures()

    def _strip_points(self, place: Place | None) -> None:
        self._pointed = place
        self._show_figures()
        for item in (self.turns, self.wheel):
            item.set_pointer(place.time_s if place is not None else None)

    def _press(self, time_s: float) -> None:
        """A press in Turns or Wheel sets a cursor there, as one in the Strip does, and brings the place to its middle."""
        self.view.set_cursor_at(self.view.next_cursor, time_s)
        self.view.next_cursor = "B" if self.view.next_cursor == "A" else "A"
        reading = self.turns.drawing.reading if self.turns.drawing else None
        if reading is not None and len(reading.teeth.times) > 3:
            pitch = float(np.median(np.diff(reading.teeth.times)))
            self.view.look_at_span(time_s - pitch, time_s + pitch, around=9.0)

    def _look_around(self, time_s: float) -> None:
        """Bring a time to the middle without coming closer; from the whole capture, come closer first."""
        span = self.view.view.span
        if self.view.strip is not None and span > 0.9 * self.view.strip.seconds:
            span = 0.1 * self.view.strip.seconds
        self.view.look_at_span(time_s - span / 2, time_s + span / 2, around=1.0)

    def _tooth_chosen(self, number: int) -> None:
        time = self.wheel.time_of(number) if self.wheel.drawing and self.wheel.drawing.table else None
        if time is not None:
            self.point_at(time)

    def _show_figures(self) -> None:
        """One line: what lies between the cursors, else under one of them, else under the pointer; else nothing.

        With both set the difference is what was asked for; what a narrow window cuts off is the least of it.
        """
        if self.lens == "rings":
            self.figures.setText(self.rings.figures())
            return
        strip = self.view.strip
        places = {name: strip.place(strip.cursors[name]) for name in "AB" if strip and name in strip.cursors}
        if len(places) == 2:
            parts = [f"B \u2212 A {difference_words(places['A'], places['B'])}"]
            parts += [f"{name} {time_words(place.time_s)}" for name, place in places.items()]
        else:
            parts = [f"{name} {place_words(place)}" for name, place in places.items()]
            parts += [place_words(self._pointed)] if self._pointed is not None else []
        self.figures.setText("   ".join(parts))
