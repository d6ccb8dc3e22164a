"""What the circuit is: its role, its sensor, its feed, pull-up and ohms; a change that makes sense is told."""

from __future__ import annotations

from pydantic import ValidationError
from PySide6.QtCore import Signal
from PySide6.QtWidgets import QComboBox, QGridLayout, QLineEdit, QWidget

from sagen.desk.theme.plain import Label
from sagen.kinds import kind_of
from sagen.model.circuit import CircuitSpec
from sagen.model.language import titled, tr
from sagen.model.quantities import TEMPERATURE
from sagen.model.sheet import first_fault
from sagen.model.typed import typed_figure
from sagen.model.vocabulary import CIRCUIT_ROLES, Capability
from sagen.model.words import ROLES, SENSORS


class CircuitSettings(QWidget):
    """A line of fields."""

    changed = Signal(object)  #: CircuitSpec
    refused = Signal(str)

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self._spec: CircuitSpec | None = None
        grid = QGridLayout(self)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(6)
        grid.setVerticalSpacing(1)
        self.role, self.sensor = QComboBox(), QComboBox()
        for role in CIRCUIT_ROLES:
            self.role.addItem(titled(ROLES[role]), role)
        for key, words in SENSORS.items():
            self.sensor.addItem(titled(words), key)
        self.supply, self.pull_up, self.ohms = QLineEdit(), QLineEdit(), QLineEdit()
        for column, (field, name, tip) in enumerate((
            (self.role, tr("It is"), ""), (self.sensor, tr("Sensor"), ""), (self.supply, tr("Feed, V"), tr("5 or battery voltage")),
            (self.pull_up, tr("Pull-up, V"), tr("the module's pull-up")),
            (self.ohms, tr("Ω at {at}", at=TEMPERATURE.said(20.0)), tr("the maker's value, such as 610-740")),
        )):  # fmt: skip
            label = Label(name, name="quiet")
            label.setBuddy(field)
            field.setToolTip(tip)
            field.setAccessibleName(name)
            grid.addWidget(label, 0, column)
            grid.addWidget(field, 1, column)
            grid.setColumnStretch(column, 3 if column < 2 else 2)
        for line in (self.supply, self.pull_up, self.ohms):
            line.editingFinished.connect(self._edited)
        for box in (self.role, self.sensor):
            box.currentIndexChanged.connect(lambda _=0: self._edited())

    def show_spec(self, spec: CircuitSpec) -> None:
        """What is stated of a circuit; what was not, stays empty."""
        self._spec = None
        self.role.setCurrentIndex(max(0, self.role.findData(spec.role)))
        self.sensor.setCurrentIndex(max(0, self.sensor.findData(spec.sensor)))
        self.supply.setText(f"{spec.supply:g}" if spec.supply else "")
        self.pull_up.setText(f"{spec.pull_up:g}" if spec.pull_up else "")
        self.ohms.setText(f"{spec.ohms[0]:g}-{spec.ohms[1]:g}" if spec.ohms else "")
        kind = kind_of(spec.sensor)
        self.supply.setEnabled(kind.has(Capability.FEED))
        self.pull_up.setEnabled(kind.has(Capability.SWITCHES))
        self._spec = spec

    def _edited(self) -> None:
        if self._spec is None:
            return
        stated = self._spec.model_dump(exclude_none=True)
        data = {name: value for name, value in stated.items() if name not in ("supply", "pull_up", "ohms")}
        data["role"], data["sensor"] = self.role.currentData(), self.sensor.currentData()
        try:
            for key, line in (("supply", self.supply), ("pull_up", self.pull_up)):
                if line.text().strip():
                    data[key] = typed_figure(line.text().lower().rstrip("v"))
            if self.ohms.text().strip():
                low, high = self.ohms.text().replace("–", "-").split("-")
                data["ohms"] = (typed_figure(low), typed_figure(high))
        except ValueError:
            self.refused.emit(tr("Feed and pull-up are volts; ohms are two figures such as 610-740."))
            return
        if data == stated:
            return
        try:
            self.changed.emit(CircuitSpec.model_validate(data))
        except ValidationError as error:
            self.refused.emit(first_fault(error, CircuitSpec))
