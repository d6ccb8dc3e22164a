"""One circuit of a machine card as fields: what it is, where it sits, its wires with the plug's face, and published values."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QComboBox,
    QHBoxLayout,
    QHeaderView,
    QLineEdit,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from sagen.casework.card_filling import WIRE_COLUMNS, circuit_data, published_rows, relearn_data, row_cells, wire_rows
from sagen.desk.forms.wire import WireForm
from sagen.desk.pages.plug_face import PlugFace
from sagen.desk.theme.plain import Label
from sagen.desk.wrap_row import WrapRow
from sagen.model.language import lowered, titled, tr
from sagen.model.machine_card import CardCircuit
from sagen.model.quantities import TEMPERATURE, TORQUE
from sagen.model.typed import typed_figure, typed_whole
from sagen.model.vocabulary import CIRCUIT_ROLES, Place, RelearnKind, Role
from sagen.model.words import PLACES, RELEARNS, ROLES, SENSORS, WIRES

WIRE_HEADS = (
    tr("Wire"),
    tr("Colour"),
    tr("Pin, sensor"),
    tr("Pin, module"),
    tr("Fuse"),
    tr("Fuse place"),
    tr("Shared with"),
)
ROW_HEADS = (
    tr("From"),
    tr("To"),
    tr("State"),
    tr("When"),
    tr("Unit"),
    tr("Low"),
    tr("High"),
    tr("At {unit}", unit=TEMPERATURE.sign),
    tr("Maker"),
)
#: fields of figures
FIGURES = {"supply": tr("Feed, V"), "pull_up": tr("Pull-up, V"), "torque_nm": tr("Torque, {unit}", unit=TORQUE.sign)}
LETTER = 8  #: px of a letter in a field
REACHED = (Place.PLUG, Place.SENSOR, Place.WHEEL, Place.MODULE, Place.FUSE)  #: places that take minutes to get at


def narrow_line(hint: str = "") -> QLineEdit:
    """A field of few letters; many stand beside each other."""
    line = QLineEdit()
    line.setPlaceholderText(hint)
    line.setObjectName("narrow")
    return line


def put_field(row: WrapRow, words: str, field: QWidget, wide: int) -> None:
    """A field with its name above it, so many letters wide; what is chosen from stands whole."""
    if isinstance(field, QLineEdit):
        field.setFixedWidth(24 + LETTER * wide)
    row.add_named(words, field)


class CircuitFields(QWidget):
    """The fields of one circuit."""

    photo_wanted = Signal()

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.circuit: CardCircuit | None = None
        self.photo_of = ""  #: token of the photo of the place
        self._filling = False
        body = QVBoxLayout(self)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(6)
        body.addLayout(self._fields())
        both = QHBoxLayout()
        # A head of two words stands in two lines: columns are as wide as what is in them, and the fuse's place takes the rest.
        self.wires = self._table([head.replace(" ", "\n", 1) for head in WIRE_HEADS], tr("Wires of the circuit"), 4)
        self.wires.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        self.wires.horizontalHeader().setSectionResizeMode(5, QHeaderView.ResizeMode.Stretch)
        self.wires.verticalHeader().setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        both.addWidget(self.wires, 3)
        plug = QVBoxLayout()
        self.face = PlugFace()
        plug.addWidget(self.face, 1)
        turn, self.photo = QPushButton(tr("From the other side")), QPushButton(tr("Photo of the place"))
        turn.setToolTip(tr("Plug faces are drawn mirrored as often as not (Ctrl+Shift+M)"))
        turn.clicked.connect(lambda _=False: self.face.turn())
        self.photo.setToolTip(tr("Where it sits, as a photo; it is kept on the shelf with the card"))
        self.photo.clicked.connect(lambda _=False: self.photo_wanted.emit())
        for button in (turn, self.photo):
            button.setObjectName("tight")
            plug.addWidget(button)
        both.addLayout(plug, 1)
        body.addLayout(both)
        body.addWidget(Label(tr("PUBLISHED VALUES"), name="over"))
        self.rows = self._table(ROW_HEADS, tr("Published values of the circuit"), 4)
        body.addWidget(self.rows)

    def _fields(self) -> QVBoxLayout:
        self.own: dict[str, QLineEdit] = {}
        self.role, self.sensor, self.relearn = QComboBox(), QComboBox(), QComboBox()
        for role in (*CIRCUIT_ROLES, Role.OTHER):
            self.role.addItem(titled(ROLES[role]), role)
        self.sensor.addItem(tr("Not stated"), None)
        for sensor, words in SENSORS.items():
            self.sensor.addItem(titled(words), sensor)
        for kind, words in RELEARNS.items():
            self.relearn.addItem(words, kind)
        self.place, self.relearn_text = (
            narrow_line(tr("behind the starter")),
            narrow_line(tr("what it takes")),
        )
        first, second = WrapRow(spacing=4), WrapRow(spacing=4)
        for key, words, wide in (
            ("name", tr("Name"), 8), (self.role, tr("It is"), 0), (self.sensor, tr("Sensor"), 0), ("bank", tr("Bank"), 3), ("wheel", tr("Wheel"), 8),
            ("supply", FIGURES["supply"], 4), ("pull_up", FIGURES["pull_up"], 6),
        ):  # fmt: skip
            field = self.own.setdefault(key, narrow_line()) if isinstance(key, str) else key
            put_field(first, words, field, wide)
        put_field(second, tr("Where it sits"), self.place, 23)
        put_field(second, tr("Relearn"), self.relearn, 0)
        put_field(second, tr("What it takes"), self.relearn_text, 23)
        put_field(second, FIGURES["torque_nm"], self.own.setdefault("torque_nm", narrow_line()), 6)
        self.access: dict[Place, QLineEdit] = {}
        for place in REACHED:
            self.access[place] = narrow_line()
            self.access[place].setToolTip(tr("Minutes to get at the {place}", place=lowered(PLACES[place])))
            put_field(second, tr("{it}, min", it=PLACES[place].partition(" ")[0]), self.access[place], 6)
        both = QVBoxLayout()
        both.setSpacing(4)
        both.addLayout(first)
        both.addLayout(second)
        return both

    def _table(self, heads: Sequence[str], name: str, rows: int) -> QTableWidget:
        table = QTableWidget(rows, len(heads))
        table.setHorizontalHeaderLabels(list(heads))
        table.setAccessibleName(name)
        table.verticalHeader().hide()
        table.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        table.horizontalHeader().setSectionResizeMode(0, QHeaderView.ResizeMode.ResizeToContents)
        table.horizontalHeader().setMinimumHeight(44)  # two lines
        table.horizontalHeader().setDefaultAlignment(Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap)
        table.setMinimumHeight(38 + 30 * rows)
        table.setMinimumWidth(120)
        table.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        table.setEditTriggers(QTableWidget.EditTrigger.AllEditTriggers)
        table.cellChanged.connect(lambda row, _column, table=table: self._grown(table, row))
        return table

    def _grown(self, table: QTableWidget, row: int) -> None:
        """An empty row is always at the end."""
        if not self._filling and row == table.rowCount() - 1:
            table.setRowCount(row + 2)
        if not self._filling and table is self.wires:
            self._show_face()

    # showing ------------------------------------------------------------------------------

    def show_circuit(self, circuit: CardCircuit | None) -> None:
        """A circuit of the card; None: one that is still to be filled in."""
        self.circuit = circuit
        shown = circuit if circuit is not None else CardCircuit(name="crank", role="crank")
        self._filling = True
        for key, line in self.own.items():
            value = getattr(shown, key)
            if key == "torque_nm" and value is not None:
                value = float(TORQUE.shown(value))
            line.setText("" if value is None else f"{value:g}" if isinstance(value, float) else str(value))
            line.setCursorPosition(0)
        self.show_photo(shown.photo)
        self.role.setCurrentIndex(max(0, self.role.findData(shown.role)))
        self.sensor.setCurrentIndex(max(0, self.sensor.findData(shown.sensor)))
        self.place.setText(shown.place)
        self.place.setCursorPosition(0)
        relearn = shown.relearn
        self.relearn.setCurrentIndex(max(0, self.relearn.findData(relearn.kind if relearn else RelearnKind.NONE)))
        self.relearn_text.setText(relearn.text if relearn else "")
        self.relearn_text.setCursorPosition(0)
        for place, line in self.access.items():
            minutes = shown.access.get(place)
            line.setText(f"{minutes:g}" if minutes is not None else "")
        wires = [
            [WIRES[wire.carries], *(getattr(wire, key) for key in WIRE_COLUMNS[1:-1]), ", ".join(wire.shared_with)]
            for wire in shown.wire
        ]
        self._fill_table(self.wires, wires)
        self._fill_table(self.rows, [row_cells(row) for row in shown.published])
        self._filling = False
        self._show_face()

    def show_photo(self, token: str) -> None:
        """The photo of where it sits, to be kept with the card."""
        self.photo_of = token
        self.photo.setText(tr("See the photo") if token else tr("Photo of the place"))

    def _fill_table(self, table: QTableWidget, rows: list[list[str]]) -> None:
        table.clearContents()
        table.setRowCount(max(len(rows) + 1, 3))
        for r, cells in enumerate(rows):
            for c, text in enumerate(cells):
                table.setItem(r, c, QTableWidgetItem(str(text)))

    def _show_face(self) -> None:
        with suppress(ValueError):  # half typed: the face follows when it makes sense
            wires = wire_rows(_cells(self.wires))
            self.face.show_circuit(CardCircuit.model_validate({"name": "x", "wire": wires}))

    # typing -------------------------------------------------------------------------------

    def data(self) -> dict:
        """The circuit as typed, as the card's model takes it; raises ValueError for a figure that is none."""
        data: dict = {
            "name": self.own["name"].text().strip() or str(self.role.currentData()), "role": self.role.currentData(),
            "place": self.place.text().strip(), "photo": self.photo_of,
        }  # fmt: skip
        if self.sensor.currentData() is not None:
            data["sensor"] = self.sensor.currentData()
        for key, words in FIGURES.items():
            if self.own[key].text().strip():
                text = self.own[key].text()
                data[key] = TORQUE.typed(text, tr("Torque")) if key == "torque_nm" else typed_figure(text, words)
        if self.own["bank"].text().strip():
            data["bank"] = typed_whole(self.own["bank"].text(), tr("bank"))
        if self.own["wheel"].text().strip():
            data["wheel"] = self.own["wheel"].text().strip()
        kind, text = self.relearn.currentData(), self.relearn_text.text().strip()
        if kind != RelearnKind.NONE or text:
            data["relearn"] = relearn_data(kind, text, self.circuit)
        data["access"] = {
            place: typed_figure(line.text(), tr("minutes to the {place}", place=place))
            for place, line in self.access.items()
            if line.text().strip()
        }
        data["wire"], data["published"] = wire_rows(_cells(self.wires)), published_rows(_cells(self.rows), self.circuit)
        return circuit_data(self.circuit, data)

    def find_wires(self) -> None:
        """Name the wires from readings at the open plug, and fill them in."""
        before = {cells[2]: cells for cells in _cells(self.wires) if cells[2]}
        form = WireForm(list(before), self)
        if not form.exec() or form.named is None:
            return
        rows = []
        for pin in form.named.pins:
            old = before.get(pin.pin, [""] * len(WIRE_COLUMNS))
            rows.append([WIRES[pin.best], old[1], pin.pin, *old[3:]])
        self._filling = True
        self._fill_table(self.wires, rows)
        self._filling = False
        self._show_face()


def _cells(table: QTableWidget) -> list[list[str]]:
    """The texts of every row that has any."""
    rows = []
    for r in range(table.rowCount()):
        items = [table.item(r, c) for c in range(table.columnCount())]
        texts = [item.text().strip() if item is not None else "" for item in items]
        if any(texts):
            rows.append(texts)
    return rows
