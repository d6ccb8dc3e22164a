"""Bringing a capture in: asks only what the file does not say, with the samples in sight."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QComboBox,
    QFormLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from sagen.desk.session import Incoming, OpenCapture
from sagen.desk.strip import StripView
from sagen.model.errors import SagenError
from sagen.model.words import SENSORS, STATES

#: what this reader can judge; the other kinds follow
KINDS = ("hall",)
STATES_OFFERED = ("cranking", "start", "running", "rolling", "key_on", "wiggle")


class ImportPage(QWidget):
    """The import sheet with a live preview."""

    kept = Signal(object, object)  #: Incoming, Sheet
    left = Signal()

    def __init__(self, parent=None):
        super().__init__(parent)
        self.incoming: Incoming | None = None
        self._filling = False
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(8)
        self.title = QLabel()
        self.title.setObjectName("heading")
        self.about = QLabel()
        self.about.setObjectName("quiet")
        self.about.setWordWrap(True)
        self.problem = QLabel()
        self.problem.setObjectName("error")
        self.problem.setWordWrap(True)
        for one in (self.title, self.about, self.problem):
            layout.addWidget(one)
        self.preview = StripView()
        layout.addWidget(self.preview, 1)
        self.told = QLabel()
        self.told.setWordWrap(True)
        self.told.setTextFormat(Qt.TextFormat.RichText)
        self.told.setMinimumHeight(40)
        layout.addWidget(self.told)
        form = QFormLayout()
        form.setFieldGrowthPolicy(QFormLayout.FieldGrowthPolicy.ExpandingFieldsGrow)
        form.setHorizontalSpacing(14)
        self.column = QComboBox()
        self.sensor = QComboBox()
        for kind in KINDS:
            self.sensor.addItem(SENSORS[kind], kind)
        self.wheel = QLineEdit()
        self.wheel.setPlaceholderText("48-2, or empty to find it")
        self.pull_up = QLineEdit()
        self.pull_up.setPlaceholderText("volts, or empty to guess")
        self.state = QComboBox()
        for state in STATES_OFFERED:
            self.state.addItem(STATES[state].capitalize(), state)
        left, right = QFormLayout(), QFormLayout()
        for one, name, field in (
            (left, "Signal is in", self.column), (left, "Sensor", self.sensor), (left, "Taken while", self.state),
            (right, "Wheel", self.wheel), (right, "Pull-up", self.pull_up),
        ):  # fmt: skip
            label = QLabel(name)
            label.setBuddy(field)
            one.addRow(label, field)
        self.good = QLabel()
        right.addRow(QLabel("Known-good"), self.good)
        columns = QHBoxLayout()
        columns.addLayout(left, 1)
        columns.addSpacing(16)
        columns.addLayout(right, 1)
        layout.addLayout(columns)
        row = QHBoxLayout()
        self.cancel = QPushButton("Leave it")
        self.accept = QPushButton("Keep and examine")
        self.accept.setObjectName("first")
        self.accept.setDefault(True)
        row.addStretch(1)
        row.addWidget(self.cancel)
        row.addWidget(self.accept)
        layout.addLayout(row)
        self.cancel.clicked.connect(self.left)
        self.accept.clicked.connect(self._keep)
        for box in (self.column, self.sensor, self.state):
            box.currentIndexChanged.connect(lambda _=0: self._preview())
        for line in (self.wheel, self.pull_up):
            line.textChanged.connect(lambda _="": self._preview())
            line.returnPressed.connect(self._keep)

    def show_incoming(self, incoming: Incoming) -> None:
        self.incoming, self._filling = incoming, True
        capture, sheet = incoming.capture, incoming.sheet
        self.title.setText(f"Bring in {capture.name}")
        notes = "".join(f" Note: {one}." for one in capture.notes)
        self.about.setText(
            f"{len(capture.channels)} channel{'s' * (len(capture.channels) != 1)}, {capture.samples:,} samples, "
            f"{capture.seconds:.4g} s at {capture.sfreq / 1000:.6g} kHz.{notes}"
        )
        self.problem.setText(incoming.problem)
        self.problem.setVisible(bool(incoming.problem))
        self.column.clear()
        for one in capture.channels:
            self.column.addItem(f"{one.column} ({one.unit})", one.column)
        self._fill(sheet)
        self.good.setText(incoming.sheet.reference if incoming.reference else "none named in the sheet")
        self._filling = False
        self._preview()
        (self.wheel if not self.wheel.text() else self.accept).setFocus()

    def _fill(self, sheet) -> None:
        """Start from the sheet beside the file, else from the channel that moves most."""
        described = next((one for one in sheet.channel if one.role == "crank"), None) if sheet else None
        if described is None:
            ranges = [
                float(p.levels[-1][2].max()) - float(p.levels[-1][1].min()) for p in self.incoming.pyramids.values()
            ]
            self.column.setCurrentIndex(ranges.index(max(ranges)))
            return
        self.column.setCurrentIndex(max(0, self.column.findData(described.column)))
        self.wheel.setText(described.wheel or "")
        self.pull_up.setText(f"{described.pull_up:g}" if described.pull_up else "")
        self.state.setCurrentIndex(max(0, self.state.findData(sheet.conditions.state)))

    def sheet(self):
        """The sheet as answered; raises SheetError for an answer that makes no sense."""
        from sagen.model.sheet import Sheet

        data = {
            "conditions": {"state": self.state.currentData()},
            "channel": [{"column": self.column.currentData(), "role": "crank", "sensor": self.sensor.currentData()}],
        }
        if self.wheel.text().strip():
            data["channel"][0]["wheel"] = self.wheel.text().strip()
        if self.pull_up.text().strip():
            text = self.pull_up.text().lower().replace("v", "").replace(",", ".").strip()
            data["channel"][0]["pull_up"] = text
        old = self.incoming.sheet
        if old is not None:
            data["reference"] = old.reference
            data["engine"] = old.engine.model_dump()
            chosen = self.column.currentData()
            data["channel"] += [one.model_dump() for one in old.channel if one.column != chosen and one.role != "crank"]
        return Sheet.from_data(data, where="answers")

    def _preview(self) -> None:
        if self.incoming is None or self._filling:
            return
        from sagen.desk.capture_page import strip_of
        from sagen.signal.examine import examine

        for line in (self.wheel, self.pull_up):
            line.setProperty("bad", False)
        try:
            sheet = self.sheet()
            first = examine(_head(self.incoming.capture), sheet)
        except SagenError as error:
            self.accept.setEnabled(False)
            self.told.setText(f"<b>{error}</b>")
            wrong = self.wheel if "wheel" in str(error) else self.pull_up
            wrong.setProperty("bad", True)
            self._restyle()
            return
        self.accept.setEnabled(True)
        self._restyle()
        result = first.channels[0]
        reading = result.reading
        parts = [f"low {result.levels.low:.2f} {result.unit}, high {result.levels.high:.2f} {result.unit}"]
        if reading and reading.switching:
            parts.append(f"wheel {reading.wheel}" if reading.wheel else "no returning gap seen yet")
        elif reading:
            parts.append("the line does not switch")
        self.told.setText("In the first part of it: " + "; ".join(parts) + ".")
        opened = OpenCapture(self.incoming.capture, sheet, first, self.incoming.pyramids)
        view = self.preview.view
        again = self.preview.strip is not None and self.preview.strip.samples == self.incoming.capture.samples
        self.preview.show_strip(strip_of(opened))
        if again:
            self.preview.zoom(view.span / self.preview.view.span, view.start)

    def _restyle(self) -> None:
        for line in (self.wheel, self.pull_up):
            line.style().unpolish(line)
            line.style().polish(line)

    def _keep(self) -> None:
        if self.incoming is None or not self.accept.isEnabled():
            return
        try:
            sheet = self.sheet()
        except SagenError as error:
            self.told.setText(f"<b>{error}</b>")
            return
        self.kept.emit(self.incoming, sheet)


def _head(capture, most: int = 400_000):
    """The first part of a capture, so that the preview answers at once."""
    from dataclasses import replace

    return replace(capture, channels=tuple(replace(one, raw=one.raw[:most]) for one in capture.channels))
