"""A meter reading typed with big keys: the value in its unit, what it is against its limits, and what goes with ohms."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QComboBox, QGridLayout, QHBoxLayout, QLineEdit, QPushButton, QVBoxLayout, QWidget

from sagen.desk.theme.plain import Label
from sagen.desk.wrap_row import WrapRow
from sagen.model.errors import SagenError
from sagen.model.language import tr
from sagen.model.quantities import TEMPERATURE
from sagen.model.trail import ReadingEntry
from sagen.model.typed import is_over_range, typed_figure
from sagen.model.vocabulary import OVER_RANGE_OHM, Quantity

UNITS = {Quantity.VOLTS: (("V", 1.0), ("mV", 1e-3)), Quantity.OHMS: (("Ω", 1.0), ("kΩ", 1e3), ("MΩ", 1e6))}
MOST_VOLTS = 60  #: more than this no sensor circuit has
KEYS = ("7", "8", "9", "4", "5", "6", "1", "2", "3", "0", ".", "⌫")


class MeterEntry(QWidget):
    """The lower part of the circuit page. `typed` follows each key, `kept` the button."""

    typed = Signal()
    kept = Signal()
    stand_in_wanted = Signal()

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(12)
        left = QVBoxLayout()
        self.where, self.expect, self.verdict = Label(name="heading", wrap=True), Label(wrap=True), Label(wrap=True)
        for item in (self.where, self.expect, self.verdict):
            left.addWidget(item)
        extras = QHBoxLayout()
        self.temperature, self.leads = QLineEdit(), QLineEdit()
        self.temperature.setAccessibleName(tr("Temperature of the part, {unit}", unit=TEMPERATURE.sign))
        self.leads.setAccessibleName(tr("The leads' own ohms"))
        self.temperature.setPlaceholderText(tr("part {unit}", unit=TEMPERATURE.sign))
        self.leads.setPlaceholderText(tr("leads Ω"))
        extras.addWidget(self.temperature)
        extras.addWidget(self.leads)
        left.addStretch(1)
        left.addLayout(extras)
        value = QHBoxLayout()
        self.value = QLineEdit()
        self.value.setPlaceholderText(tr("reading"))
        self.value.setObjectName("reading")
        self.value.setAccessibleName(tr("Reading"))
        self.value.setMaxLength(40)
        self.value.returnPressed.connect(self.kept)
        self.value.textChanged.connect(lambda _: self.typed.emit())
        self.unit = QComboBox()
        self.unit.setAccessibleName(tr("Unit of the reading"))
        self.unit.currentIndexChanged.connect(lambda _=0: self.typed.emit())
        value.addWidget(self.value, 1)
        value.addWidget(self.unit)
        left.addLayout(value)
        buttons = WrapRow()
        self.open = QPushButton(tr("No path (OL)"))
        self.open.setToolTip(tr("The meter shows over range: an open circuit"))
        self.open.clicked.connect(lambda: self.value.setText("OL"))
        self.keep_button = QPushButton(tr("Put on the trail"))
        self.keep_button.setObjectName("first")
        self.keep_button.clicked.connect(lambda _=False: self.kept.emit())
        self.stand_in = QPushButton(tr("Read the stand-in"))
        self.stand_in.setToolTip(tr("The meter on the demo's simulated machine: fills the reading in, for practice"))
        self.stand_in.clicked.connect(lambda _=False: self.stand_in_wanted.emit())
        self.stand_in.hide()
        buttons.addWidget(self.stand_in)
        buttons.addWidget(self.open)
        buttons.addWidget(self.keep_button)
        left.addLayout(buttons)
        row.addLayout(left, 1)
        row.addLayout(self._pad())

    def _pad(self) -> QGridLayout:
        self.keys: dict[str, QPushButton] = {}
        pad = QGridLayout()
        pad.setSpacing(5)
        places = {key: (index // 3, index % 3) for index, key in enumerate(KEYS)} | {"±": (0, 3)}
        for key, place in places.items():
            button = QPushButton(key)
            button.setFixedSize(58, 42)
            button.setFocusPolicy(Qt.FocusPolicy.NoFocus)
            button.clicked.connect(lambda _=False, key=key: self._press(key))
            self.keys[key] = button
            pad.addWidget(button, *place)
        return pad

    def _press(self, key: str) -> None:
        text = self.value.text()
        if key == "⌫":
            text = text[:-1]
        elif key == "±":
            text = text.removeprefix("-") if text.startswith("-") else "-" + text
        elif key != "." or "." not in text:
            text += key
        self.value.setText(text)
        self.value.setFocus()

    def offer_units(self, quantity: Quantity) -> None:
        """The units of a quantity, and the fields that only ohms have."""
        units = UNITS[quantity]
        if [self.unit.itemText(at) for at in range(self.unit.count())] != [words for words, _ in units]:
            self.unit.clear()
            for words, factor in units:
                self.unit.addItem(words, factor)
        for item in (self.temperature, self.leads, self.open):
            item.setVisible(quantity == Quantity.OHMS)

    def show_taken(self, value: float, over_range: bool) -> None:
        """What a meter shows, put in as if it had been typed; it goes on the trail when the user says so."""
        self.value.setText("OL" if over_range else f"{value / float(self.unit.currentData() or 1.0):.4g}")
        self.value.setFocus()

    def reading(self, quantity: Quantity, point: str, state: str, circuit: str) -> ReadingEntry:
        """The entry as typed.

        Raises
        ------
        SagenError
            for what makes no sense.
        """
        ohmic, text = quantity == Quantity.OHMS, self.value.text().strip()
        over = is_over_range(text)
        try:
            number = OVER_RANGE_OHM if over else typed_figure(text) * float(self.unit.currentData() or 1.0)
        except ValueError:
            raise SagenError(tr("type the figure that the meter shows")) from None
        if ohmic and number < 0:
            raise SagenError(tr("ohms cannot be negative: short the leads and take their own resistance off"))
        if not ohmic and abs(number) > MOST_VOLTS:
            raise SagenError(tr("{number:g} V is more than this circuit can have; is the unit right?", number=number))
        entry = {
            "reading": quantity, "point": point, "state": state, "value": number, "circuit": circuit,
            "shown": tr("over range") if over else f"{text} {self.unit.currentText()}",
        }  # fmt: skip
        if ohmic:
            lines = (("temperature_c", self.temperature, -60, 250), ("leads_ohm", self.leads, 0, 10))
            for key, line, low, high in lines:
                if not line.text().strip():
                    continue
                try:
                    entry[key] = (
                        TEMPERATURE.typed(line.text(), tr("part"))
                        if line is self.temperature
                        else typed_figure(line.text())
                    )
                except ValueError as error:
                    raise SagenError(str(error)) from None
                if not low <= entry[key] <= high:
                    raise SagenError(
                        tr(
                            "{key:g} makes no sense for {placeholdertext}",
                            key=entry[key],
                            placeholdertext=line.placeholderText(),
                        )
                    )
        try:
            return ReadingEntry.of(entry)
        except ValueError as error:
            raise SagenError(str(error)) from None
