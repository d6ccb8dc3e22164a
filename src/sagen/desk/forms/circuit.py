"""One more circuit of a job: from the card, or stated here."""

from __future__ import annotations

from collections.abc import Mapping

from PySide6.QtWidgets import QComboBox, QLineEdit, QWidget

from sagen.desk.forms.base import Form
from sagen.model.circuit import CircuitSpec
from sagen.model.language import titled, tr
from sagen.model.machine_card import MachineCard
from sagen.model.vocabulary import CIRCUIT_ROLES, Role, SensorKind
from sagen.model.words import ROLES, SENSORS


class CircuitForm(Form):
    """Its name, what it is, and its sensor; a job that had one circuit names that one, too."""

    def __init__(self, circuits: Mapping[str, CircuitSpec], card: MachineCard | None, parent: QWidget | None = None):
        super().__init__(tr("Another circuit of this job"), tr("Put on the trail"), parent)
        self.circuits, self.card = circuits, card
        self.own = None
        if set(circuits) == {""}:
            self.own = self.add(tr("The first one is"), QLineEdit(str(circuits[""].role)))
        self.known = None
        offered = [item for item in card.circuit if item.spec is not None and item.name not in circuits] if card else []
        if offered:
            self.known = self.add(tr("From the card"), QComboBox())
            self.known.addItem(tr("Not from the card"), None)
            for each in offered:
                self.known.addItem(each.name, each)
            self.known.currentIndexChanged.connect(lambda _=0: self._chosen())
        self.line = self.add(tr("Name"), QLineEdit())
        self.line.setPlaceholderText(tr("as cam 1"))
        self.role = self.add(tr("It is"), QComboBox())
        for circuit_role in CIRCUIT_ROLES:
            self.role.addItem(titled(ROLES[circuit_role]), circuit_role)
        self.role.setCurrentIndex(max(0, self.role.findData(Role.CAM)))
        self.sensor = self.add(tr("Sensor"), QComboBox())
        for key, words in SENSORS.items():
            self.sensor.addItem(titled(words), key)
        self.bank = self.add(tr("Bank"), QLineEdit())

    def _chosen(self) -> None:
        one = self.known.currentData()
        if one is not None:
            self.line.setText(one.name)
            self.role.setCurrentIndex(max(0, self.role.findData(one.role)))
            self.sensor.setCurrentIndex(max(0, self.sensor.findData(one.sensor)))
            self.bank.setText(str(one.bank or ""))

    def name(self) -> str:
        return self.line.text().strip()

    def first_name(self) -> str:
        """What the job's first circuit is called from now on."""
        return self.own.text().strip() if self.own is not None else next(iter(self.circuits))

    def spec(self) -> CircuitSpec:
        """The circuit, as the card has it or as stated."""
        one = self.known.currentData() if self.known is not None else None
        if one is not None:
            return one.spec
        bank = self.bank.text().strip()
        return CircuitSpec(
            role=Role(self.role.currentData()),
            sensor=SensorKind(self.sensor.currentData()),
            bank=int(bank) if bank else None,
        )

    def problem(self) -> str:
        names = {*(circuit for circuit in self.circuits if circuit), self.first_name()}
        if not self.name() or not self.first_name():
            return tr("Each of several circuits has a name.")
        if self.name() in names:
            return tr("'{name}' is the other one's name.", name=self.name())
        try:
            self.spec()
        except ValueError:
            return tr("The bank is a number from 1 to 4.")
        return ""
