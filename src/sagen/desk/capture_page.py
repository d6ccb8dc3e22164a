"""A capture on the bench: its three lenses with their tools, the cursor read-out and the findings in words."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeySequence
from PySide6.QtWidgets import (
    QComboBox,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QScrollArea,
    QSplitter,
    QStackedWidget,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from sagen.desk import theme
from sagen.desk.strip import Lane, Marked, Place, Strip, StripView, Underlay
from sagen.desk.teeth_table import TeethTable
from sagen.desk.turns import TurnsView
from sagen.desk.wheel import WheelView
from sagen.desk.workspace import OpenCapture
from sagen.model.words import FINDING_TITLES, ROLES, STATES


def strip_of(opened: OpenCapture) -> Strip:
    """What the Strip draws of an examined capture: described channels first, in the sheet's order."""
    from sagen.signal.rules_level import expected_bands

    lanes, places = [], {}
    for result in opened.examination.channels:
        channel = opened.capture.channel(result.sheet.column)
        factor = result.sheet.factor
        bands = expected_bands(result.reading, opened.sheet.conditions.state) if result.reading else ()
        pyramid = opened.pyramids[channel.column]
        seen = [factor * (channel.scale * one + channel.offset) for one in pyramid.extremes()]
        low = min([*seen, *(one[0] for one in bands), 0.0])
        high = max([*seen, *(one[1] for one in bands)])
        margin = 0.05 * (high - low) or 0.5
        places[result.sheet.column] = len(lanes)
        lanes.append(
            Lane(
                channel.column, result.sheet.role, channel.unit, opened.pyramids[channel.column],
                channel.scale * factor, channel.offset * factor, low - margin, high + margin, bands, result.reading,
                pattern_of(opened, result),
            )
        )  # fmt: skip
    marks = []
    for index, one in enumerate(opened.examination.findings):
        spans = tuple((span.start_s, span.end_s) for span in one.spans)
        label = f"{index + 1}  {FINDING_TITLES.get(one.kind, one.kind)}"
        if "tooth" in one.fields:
            label += f": tooth {one.fields['tooth']}"
        marks.append(Marked(label, places.get(one.channel, 0), spans))
    return Strip(opened.capture.sfreq, opened.capture.samples, tuple(lanes), tuple(marks))


def pattern_of(opened: OpenCapture, result) -> Underlay | None:
    """The known-good capture's same channel in this one's unit, over the angle of the shaft."""
    from sagen.desk.lens import look_at

    if opened.reference is None or result.reading is None:
        return None
    looks = opened.ready.get("looks", {})
    look = looks.get(result.sheet.column) or look_at(opened, result.sheet.column)
    if look is None or look.pattern is None:
        return None
    if result.reading.wheel is not None and look.pattern.wheel == result.reading.wheel:
        return _tooth_underlay(opened, result, look)
    return _cam_underlay(opened, result, look)


def _tooth_underlay(opened: OpenCapture, result, look) -> Underlay | None:
    from sagen.signal.per_tooth import wave_over_turn

    channel = opened.reference[0].channel(look.pattern.column)
    wave = wave_over_turn(channel.raw, look.pattern)
    if wave is None:
        return None
    values = (wave * channel.scale + channel.offset) * look.pattern.sheet.factor
    speeds = [one.speed_range() for one in (result.reading, look.pattern)]
    if result.reading.kind == "reluctance" and all(speeds):
        values = values * speeds[0]["median"] / speeds[1]["median"]  # a coil's height grows with speed
    return Underlay(result.reading, values)


def _cam_underlay(opened: OpenCapture, result, look) -> Underlay | None:
    """Where the known-good cam's edges lie over two turns of this capture's crank."""
    from sagen.signal.cam import best_turn

    here = opened.examination.cams.get(result.sheet.column)
    good = opened.reference[2].cams.get(look.pattern.column)
    crank = next(
        (one.reading for one in opened.examination.channels if one.sheet.role == "crank" and one.reading), None
    )
    if here is None or good is None or crank is None or crank.wheel is None or len(good.template) < 2:
        return None
    steps = 1440
    grid = np.arange(steps) * 720.0 / steps
    # The state after the last edge before each step, carried round the cycle.
    before = np.searchsorted(good.template, grid, "right") - 1
    high = good.template_rising[before]
    levels = look.pattern.levels
    return Underlay(crank, np.where(high, levels.high, levels.low), 2, best_turn(here, good) / 360.0)


class ReadOut(QWidget):
    """What lies under the pointer and between the cursors."""

    def __init__(self, parent=None):
        super().__init__(parent)
        self.setObjectName("card")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        grid = QGridLayout(self)
        grid.setContentsMargins(10, 6, 10, 6)
        grid.setHorizontalSpacing(14)
        grid.setVerticalSpacing(1)
        self.cells: dict[tuple[str, str], QLabel] = {}
        names = ("time", "volts", "angle", "tooth")
        for column, name in enumerate(("", "time", "value", "angle", "tooth")):
            head = QLabel(name)
            head.setObjectName("quiet")
            grid.addWidget(head, 0, column)
        for row, name in enumerate(("pointer", "A", "B", "B \u2212 A"), start=1):
            grid.addWidget(QLabel(name), row, 0)
            for column, what in enumerate(names, start=1):
                cell = QLabel("\u2013")
                cell.setObjectName("mono")
                cell.setMinimumWidth({"time": 112, "volts": 190, "angle": 84, "tooth": 40}[what])
                grid.addWidget(cell, row, column)
                self.cells[name, what] = cell
        grid.setColumnStretch(5, 1)

    def show_place(self, name: str, place: Place | None) -> None:
        values = ("\u2013",) * 4
        if place is not None:
            volts = "  ".join(f"{value:.2f} {unit}" for _, value, unit in place.values[:3])
            angle = "\u2013" if place.angle_deg is None else f"{place.angle_deg:.1f}°"
            values = (
                _time(place.time_s),
                volts,
                angle,
                "\u2013" if place.tooth is None else str(place.tooth),
            )
        for what, text in zip(("time", "volts", "angle", "tooth"), values, strict=True):
            self.cells[name, what].setText(text)

    def show_difference(self, first: Place | None, second: Place | None) -> None:
        if first is None or second is None:
            self.show_place("B \u2212 A", None)
            return
        apart = second.time_s - first.time_s
        self.cells["B \u2212 A", "time"].setText(_time(apart))
        pairs = zip(first.values[:3], second.values[:3], strict=True)
        volts = "  ".join(f"{b[1] - a[1]:+.2f} {a[2]}" for a, b in pairs)
        self.cells["B \u2212 A", "volts"].setText(volts)
        known = first.angle_deg is not None and second.angle_deg is not None
        angle = f"{(second.angle_deg - first.angle_deg) % 360:.1f}°" if known else "\u2013"
        self.cells["B \u2212 A", "angle"].setText(angle)
        self.cells["B \u2212 A", "tooth"].setText(f"{1 / abs(apart):.1f} Hz" if apart else "\u2013")


def _time(seconds: float) -> str:
    return f"{seconds * 1000:.3f} ms" if abs(seconds) < 10 else f"{seconds:.4f} s"


LENSES = (("strip", "Strip", "1"), ("turns", "Turns", "2"), ("wheel", "Wheel", "3"))


class CapturePage(QWidget):
    """A capture under its three lenses, linked by one pointer, with the read-out and the findings in words."""

    report_wanted = Signal()
    export_wanted = Signal()

    def __init__(self, parent=None):
        super().__init__(parent)
        self.opened: OpenCapture | None = None
        self.finding_at = -1
        self.lens, self.column, self.what = "strip", "", "phase_error"
        self._looked_at = False  #: whether Turns, Wheel and the table show the present capture
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(8)
        layout.addLayout(self._head())
        layout.addLayout(self._lens_bar())
        self.view, self.turns, self.wheel, self.table = StripView(), TurnsView(), WheelView(), TeethTable()
        self.round = QStackedWidget()
        self.round.addWidget(self.turns)
        self.round.addWidget(self.wheel)
        self.beside = QSplitter()
        self.beside.setHandleWidth(8)
        self.beside.addWidget(self.round)
        self.beside.addWidget(self.table)
        self.beside.setSizes([350, 320])
        self.beside.setStretchFactor(0, 1)
        self.beside.setChildrenCollapsible(False)
        self.lenses = QStackedWidget()
        self.lenses.addWidget(self.view)
        self.lenses.addWidget(self.beside)
        layout.addWidget(self.lenses, 1)
        self.readout = ReadOut()
        layout.addWidget(self.readout)
        self.words = QLabel()
        self.words.setWordWrap(True)
        self.words.setTextFormat(Qt.TextFormat.RichText)
        self.words.setAlignment(Qt.AlignmentFlag.AlignTop)
        self.words.setContentsMargins(4, 2, 4, 2)
        self.scroll = QScrollArea()
        self.scroll.setWidget(self.words)
        self.scroll.setWidgetResizable(True)
        self.scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.scroll.setFixedHeight(104)
        layout.addWidget(self.scroll)
        self.view.cursor_moved.connect(self._strip_points)
        self.view.measured.connect(self._show_cursors)
        for one in (self.turns, self.wheel):
            one.pointed.connect(self.point_at)
            one.pressed.connect(self._press)
        self.table.chosen.connect(self._tooth_chosen)

    def _head(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setSpacing(6)
        words = QVBoxLayout()
        words.setSpacing(0)
        self.title = QLabel()
        self.title.setObjectName("heading")
        self.about = QLabel()
        self.about.setObjectName("quiet")
        words.addWidget(self.title)
        words.addWidget(self.about)
        row.addLayout(words, 1)
        return row

    def _tools(self, row: QHBoxLayout) -> None:
        self.buttons: dict[str, QToolButton] = {}
        for name, icon, tip, key, action in (
            ("previous", "arrow-left", "Previous place of a finding", "P", lambda: self.step_finding(-1)),
            ("next", "arrow-right", "Next place of a finding", "N", lambda: self.step_finding(1)),
            ("out", "zoom-out", "Show more", None, lambda: self.view.zoom(1.8)),
            ("in", "zoom-in", "Show less, closer", None, lambda: self.view.zoom(1 / 1.8)),
            ("fit", "maximize", "The whole capture (Home)", None, lambda: self.view.fit()),
            ("export", "file-down", "Write the capture as CSV, WAV or MDF4", None, self.export_wanted.emit),
        ):
            button = QToolButton()
            button.setToolTip(tip + (f" ({key})" if key else ""))
            button.setAccessibleName(tip)
            button.setProperty("icon_name", icon)
            button.clicked.connect(action)
            if key:
                button.setShortcut(QKeySequence(key))
            self.buttons[name] = button
            row.addWidget(button)

    def _lens_bar(self) -> QHBoxLayout:
        """Which lens, of which channel, and which measure."""
        row = QHBoxLayout()
        row.setSpacing(6)
        self.lens_buttons: dict[str, QPushButton] = {}
        for name, words, key in LENSES:
            button = QPushButton(words)
            button.setCheckable(True)
            button.setAutoExclusive(True)
            button.setToolTip(
                {
                    "strip": "Channels over time",
                    "turns": "One row a revolution, one column a tooth",
                    "wheel": "The wheel as the sensor saw it",
                }[name]
                + f" ({key})"
            )
            button.setShortcut(QKeySequence(key))
            button.clicked.connect(lambda _=False, name=name: self.show_lens(name))
            self.lens_buttons[name] = button
            row.addWidget(button)
        self.lens_buttons["strip"].setChecked(True)
        row.addSpacing(10)
        self.channel_box, self.what_box = QComboBox(), QComboBox()
        self.channel_box.setAccessibleName("Channel of the lens")
        self.what_box.setAccessibleName("Measure of the lens")
        self.channel_box.currentIndexChanged.connect(lambda _=0: self._channel_chosen())
        self.what_box.currentIndexChanged.connect(lambda _=0: self._channel_chosen())
        row.addWidget(self.channel_box)
        row.addWidget(self.what_box)
        row.addStretch(1)
        self._tools(row)
        self.dress()
        return row

    def dress(self) -> None:
        """Icons and colours of the present look."""
        for button in self.buttons.values():
            button.setIcon(theme.icon(button.property("icon_name")))
        if self.opened is not None:
            self._show_words()
            self.turns.dress()
            self.wheel.dress()

    # what is shown ------------------------------------------------------------------------

    def show_capture(self, opened: OpenCapture) -> None:
        self.opened, self.finding_at = opened, -1
        capture = opened.capture
        self.title.setText(capture.name)
        rows = [one for one in opened.examination.channels if one.reading is not None]
        parts = [
            f"{capture.seconds:.3g} s at {capture.sfreq / 1000:.6g} kHz",
            STATES[opened.sheet.conditions.state],
        ]
        for one in rows[:2]:
            speed = one.reading.speed_range()
            wheel = f" {one.reading.wheel}" if one.reading.wheel else ""
            parts.append(f"{ROLES[one.sheet.role]}{wheel}" + (f" {speed['median']:.0f} rpm" if speed else ""))
        self.about.setText("  ·  ".join(parts))
        self.view.show_strip(opened.ready.get("strip") or strip_of(opened))
        spans = any(one.spans for one in opened.examination.findings)
        for name in ("previous", "next"):
            self.buttons[name].setEnabled(spans)
        self._fill_channels(rows)
        self._show_words()
        self._show_cursors()
        self.readout.show_place("pointer", None)

    def _fill_channels(self, rows) -> None:
        for box in (self.channel_box, self.what_box):
            box.blockSignals(True)
            box.clear()
        for one in rows:
            self.channel_box.addItem(f"{one.sheet.column} · {ROLES[one.sheet.role]}", one.sheet.column)
        known = [index for index, one in enumerate(rows) if one.reading.wheel is not None]
        self.channel_box.setCurrentIndex(known[0] if known else 0 if rows else -1)
        for name, words in (("phase_error", "Place"), ("size", "Size")):
            self.what_box.addItem(words, name)
        # What was found decides what is looked at first: a wheel that runs out shows in the size.
        found = {one.kind for one in self.opened.examination.findings}
        self.what_box.setCurrentIndex(1 if "runout" in found else 0)
        for box in (self.channel_box, self.what_box):
            box.blockSignals(False)
        for name in ("turns", "wheel"):
            self.lens_buttons[name].setEnabled(bool(rows))
        if not rows and self.lens != "strip":
            self.show_lens("strip")
        self._channel_chosen()

    def _channel_chosen(self) -> None:
        if self.opened is None:
            return
        self.column, self.what = self.channel_box.currentData(), self.what_box.currentData() or "phase_error"
        self._looked_at = False
        if self.lens != "strip":
            self._show_look()
        self._show_boxes()

    def _show_look(self) -> None:
        """What Turns, Wheel and the table show: made when one of them is first looked at."""
        if self._looked_at or self.opened is None:
            return
        self._looked_at = True
        look = self.opened.ready.get("looks", {}).get(self.column)
        self.turns.show_look(look, self.what)
        self.wheel.show_look(look)
        self.table.show_look(look)

    def _show_boxes(self) -> None:
        self.channel_box.setVisible(self.lens != "strip" and self.channel_box.count() > 1)
        self.what_box.setVisible(self.lens == "turns")
        for name in ("out", "in", "fit"):
            self.buttons[name].setVisible(self.lens == "strip")

    def show_lens(self, name: str) -> None:
        """Strip, turns or wheel over the same data."""
        self.lens = name
        self.lens_buttons[name].setChecked(True)
        self.lenses.setCurrentWidget(self.view if name == "strip" else self.beside)
        if name != "strip":
            self._show_look()
            self.round.setCurrentWidget(getattr(self, name))
        self._show_boxes()
        getattr(self, "view" if name == "strip" else name).setFocus()

    # the shared pointer -------------------------------------------------------------------

    def point_at(self, time_s: float | None) -> None:
        """One pointer for all lenses and the read-out."""
        for one in (self.view, self.turns, self.wheel):
            one.set_pointer(time_s)
        strip = self.view.strip
        self.readout.show_place("pointer", strip.place(time_s) if strip is not None and time_s is not None else None)

    def _strip_points(self, place: Place | None) -> None:
        self.readout.show_place("pointer", place)
        for one in (self.turns, self.wheel):
            one.set_pointer(place.time_s if place is not None else None)

    def _press(self, time_s: float) -> None:
        """A press in Turns or Wheel sets a cursor there, as one in the Strip does, and brings the place to its middle."""
        self.view.set_cursor_at(self.view.next_cursor, time_s)
        self.view.next_cursor = "B" if self.view.next_cursor == "A" else "A"
        reading = self.turns.look.reading if self.turns.look else None
        if reading is not None and len(reading.teeth.times) > 3:
            pitch = float(np.median(np.diff(reading.teeth.times)))
            self.view.look_at_span(time_s - pitch, time_s + pitch, around=9.0)

    def _tooth_chosen(self, number: int) -> None:
        time = self.wheel.time_of(number) if self.wheel.look and self.wheel.look.table else None
        if time is not None:
            self.point_at(time)

    def step_finding(self, step: int) -> None:
        """Bring the next or previous place of a finding to the middle."""
        if self.opened is None:
            return
        places = sorted((span.start_s, span.end_s) for one in self.opened.examination.findings for span in one.spans)
        if not places:
            return
        self.finding_at = (self.finding_at + step) % len(places) if self.finding_at >= 0 else (0 if step > 0 else -1)
        self.finding_at %= len(places)
        self.view.look_at_span(*places[self.finding_at], around=14.0)
        if self.lens != "strip":
            self.point_at(places[self.finding_at][0])

    def _show_words(self) -> None:
        look = theme.look()
        lines = []
        for index, one in enumerate(self.opened.examination.findings, start=1):
            title = FINDING_TITLES.get(one.kind, one.kind)
            sure = f"<br><span style='color:{look.quiet}'>To be sure: {one.sure}</span>" if one.sure else ""
            lines.append(
                f"<p style='margin:0 0 6px'><b style='color:{look.mark}'>{index} {title}.</b> {one.text}{sure}</p>"
            )
        if not lines:
            lines = [
                f"<p style='margin:0 0 6px'><b style='color:{look.sound}'>Nothing wrong seen.</b> "
                "Every level and every tooth is as it should be for as long as this capture lasts.</p>"
            ]
        data = self.opened.entry.data if self.opened.entry else {}
        lines += [
            f"<p style='margin:0 0 6px'><b>Against the known-good capture:</b> {one}</p>"
            for one in data.get("compared", ())
        ]
        lines += [f"<p style='margin:0;color:{look.quiet}'>Note: {one}.</p>" for one in self.opened.capture.notes]
        self.words.setText("".join(lines))

    def _show_cursors(self) -> None:
        strip = self.view.strip
        places = {name: strip.place(strip.cursors[name]) if strip and name in strip.cursors else None for name in "AB"}
        for name, place in places.items():
            self.readout.show_place(name, place)
        self.readout.show_difference(places["A"], places["B"])
