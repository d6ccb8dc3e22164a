"""The machine card on the bench: what is known of this kind of machine, circuit by circuit, and the plug's face."""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path

from PySide6.QtCore import QRectF, Qt, Signal
from PySide6.QtGui import QColor, QPainter, QPen
from PySide6.QtWidgets import (
    QComboBox,
    QFileDialog,
    QGridLayout,
    QHBoxLayout,
    QHeaderView,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from sagen.desk.actions import Action, Hint
from sagen.desk.pages import Page
from sagen.desk.theme import theme
from sagen.desk.theme.plain import Label
from sagen.model.errors import SheetError
from sagen.model.machine_card import CardCircuit, MachineCard
from sagen.model.trail import CardEntry, CircuitEntry
from sagen.model.vocabulary import CIRCUIT_ROLES, CardQuantity, Place, RelearnKind, Role, SensorKind, WireIs
from sagen.model.words import PLACES, RELEARNS, ROLES, SENSORS, WIRES

WIRE_COLUMNS = ("carries", "colour", "sensor_pin", "module_pin", "fuse", "fuse_place", "shared_with")
WIRE_HEADS = ("Wire", "Colour", "Pin, sensor", "Pin, module", "Fuse", "Fuse place", "Shared with")
ROW_COLUMNS = ("from", "to", "state", "when", "quantity", "low", "high", "at", "maker")
ROW_HEADS = ("From", "To", "State", "When", "Unit", "Low", "High", "At °C", "Maker")
#: wires of a new circuit, by kind of sensor
NEW_WIRES = {
    SensorKind.HALL: (WireIs.SUPPLY, WireIs.SIGNAL, WireIs.GROUND), SensorKind.RELUCTANCE: (WireIs.SIGNAL, WireIs.GROUND),
    SensorKind.CURRENT: (WireIs.SUPPLY, WireIs.SIGNAL), SensorKind.PIEZO: (WireIs.SIGNAL, WireIs.GROUND),
}  # fmt: skip
CARD_FILES = "Machine cards (*.toml)"


class PlugFace(QWidget):
    """The plug's face: pins in rows as seen from one side, each with its wire's colour and what it carries."""

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.circuit: CardCircuit | None = None
        self.side = "harness"
        self.setMinimumSize(190, 96)
        self.setAccessibleName("The plug's face")

    def show_circuit(self, circuit: CardCircuit | None) -> None:
        self.circuit = circuit
        self.update()

    def turn(self) -> None:
        """Show it from the other side."""
        self.side = "sensor" if self.side == "harness" else "harness"
        self.update()

    def paintEvent(self, _event) -> None:
        colours, painter = theme.current(), QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), QColor(colours.raised))
        rows = [row for row in (self.circuit.seen_from(self.side) if self.circuit else ()) if row]
        painter.setPen(QColor(colours.quiet))
        painter.setFont(theme.font(8.5))
        view = "harness plug, looked into" if self.side == "harness" else "sensor's plug, looked into"
        painter.drawText(QRectF(0, self.height() - 18, self.width(), 16), Qt.AlignmentFlag.AlignCenter, view)
        if not rows:
            painter.drawText(
                QRectF(0, 0, self.width(), self.height() - 18), Qt.AlignmentFlag.AlignCenter, "no pins yet"
            )
            return
        most = max(len(row) for row in rows)
        box = QRectF(8, 6, self.width() - 16, self.height() - 28)
        painter.setPen(QPen(QColor(colours.quiet), 1.6))
        painter.setBrush(QColor(colours.pane))
        painter.drawRoundedRect(box, 8, 8)
        wide, tall = box.width() / most, box.height() / len(rows)
        for r, row in enumerate(rows):
            for c, pin in enumerate(row):
                cell = QRectF(box.left() + c * wide + 3, box.top() + r * tall + 3, wide - 6, tall - 6)
                self._pin(painter, cell, pin)

    def _pin(self, painter: QPainter, cell: QRectF, pin: str) -> None:
        colours = theme.current()
        wire = next((item for item in self.circuit.wire if item.sensor_pin == pin), None)
        painter.setPen(QPen(QColor(colours.line), 1))
        painter.setBrush(QColor(colours.raised))
        painter.drawRoundedRect(cell, 5, 5)
        painter.setPen(QColor(colours.ink))
        painter.setFont(theme.font(11, bold=True))
        third = cell.height() / 3
        painter.drawText(QRectF(cell.left(), cell.top(), cell.width(), third), Qt.AlignmentFlag.AlignCenter, pin)
        if wire is not None:
            painter.setFont(theme.font(8.5))
            for at, text in ((1, WIRES[wire.carries]), (2, wire.colour)):
                line = QRectF(cell.left(), cell.top() + at * third, cell.width(), third)
                painter.drawText(line, Qt.AlignmentFlag.AlignCenter, text)


class CardPage(Page):
    """Fill in, keep on the shelf, put on the job, exchange as a file."""

    name, title = "card", "Machine card"
    left = Signal()
    commands = (
        Action("Ctrl+S", "keep the card, and put it on the job", lambda page: page.keep()),
        Action("Ctrl+Return", "keep the card, and put it on the job", lambda page: page.keep()),
        Action("Ctrl+Shift+M", "the plug from the other side", lambda page: page.face.turn()),
    )
    hints = (Hint("Tab", "next cell; behind the last one a new row"),)

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.card = MachineCard(model="A machine")
        self.kept_id: int | None = None
        self._filling, self.at, self.photo_of = False, 0, ""
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(6)
        layout.addLayout(self._head())
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        inside = QWidget()
        body = QVBoxLayout(inside)
        body.setContentsMargins(0, 0, 8, 0)
        body.setSpacing(6)
        body.addLayout(self._machine())
        body.addLayout(self._circuit_row())
        body.addLayout(self._circuit_fields())
        both = QHBoxLayout()
        self.wires = self._table(WIRE_HEADS, "Wires of the circuit", 4)
        both.addWidget(self.wires, 3)
        plug = QVBoxLayout()
        self.face = PlugFace()
        plug.addWidget(self.face, 1)
        turn = QPushButton("From the other side")
        turn.setObjectName("tight")
        turn.setToolTip("Plug faces are drawn mirrored as often as not (Ctrl+Shift+M)")
        turn.clicked.connect(self.face.turn)
        plug.addWidget(turn)
        self.photo = QPushButton("Photo of the place")
        self.photo.setObjectName("tight")
        self.photo.setToolTip("Where it sits, as a photo; it is kept on the shelf with the card")
        self.photo.clicked.connect(self._choose_photo)
        plug.addWidget(self.photo)
        both.addLayout(plug, 1)
        body.addLayout(both)
        body.addWidget(Label("PUBLISHED VALUES", name="over"))
        self.rows = self._table(ROW_HEADS, "Published values of the circuit", 4)
        body.addWidget(self.rows)
        scroll.setWidget(inside)
        layout.addWidget(scroll, 1)
        self.message = Label(name="error", wrap=True)
        self.message.hide()
        layout.addWidget(self.message)
        self._fill()

    # building -----------------------------------------------------------------------------

    def _head(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.addWidget(Label("Machine card", name="heading"), 1)
        self.shelf = QComboBox()
        self.shelf.setAccessibleName("Cards on the shelf")
        self.shelf.setMinimumWidth(190)
        self.shelf.activated.connect(lambda _=0: self._from_shelf())
        row.addWidget(self.shelf)
        for words, tip, action in (
            ("Which wire?", "Name the wires from volts and ohms at the open plug", self.find_wires),
            ("Load", "A card from its file, or rows of published values from a CSV", self._load),
            ("Save", "The card as a file, for another workshop", self._save),
        ):
            button = QPushButton(words)
            button.setToolTip(tip)
            button.clicked.connect(lambda _=False, action=action: action())
            row.addWidget(button)
        self.keep_button = QPushButton("Keep")
        self.keep_button.setObjectName("first")
        self.keep_button.setToolTip("Keep it on the shelf, and put it on the job's trail (Ctrl+S)")
        self.keep_button.clicked.connect(self.keep)
        row.addWidget(self.keep_button)
        back = QPushButton("Back")
        back.clicked.connect(self.left)
        row.addWidget(back)
        return row

    def _machine(self) -> QGridLayout:
        self.machine: dict[str, QLineEdit] = {}
        grid = _grid()
        fields = (
            ("make", "Make", 2), ("model", "Model", 2), ("engine", "Engine", 2), ("years", "Years", 2), ("volts", "Volts", 1),
            ("cylinders", "Cyl.", 1), ("firing", "Firing order", 2), ("bore_mm", "Bore, mm", 1),
        )  # fmt: skip
        for column, (key, words, wide) in enumerate(fields):
            self._field(grid, column, words, self.machine.setdefault(key, _line()), wide)
        return grid

    def _field(self, grid: QGridLayout, column: int, words: str, field: QWidget, wide: int) -> None:
        label = Label(words, name="small")
        label.setBuddy(field)
        field.setAccessibleName(words)
        if isinstance(field, QComboBox):
            field.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        grid.addWidget(label, 0, column)
        grid.addWidget(field, 1, column)
        grid.setColumnStretch(column, wide)

    def _circuit_row(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.addWidget(Label("CIRCUIT", name="over"))
        self.circuits = QComboBox()
        self.circuits.setAccessibleName("Circuits of the card")
        self.circuits.activated.connect(lambda _=0: self._choose(self.circuits.currentIndex()))
        row.addWidget(self.circuits, 1)
        for words, action in (("Add circuit", self.add_circuit), ("Remove", self.remove_circuit)):
            button = QPushButton(words)
            button.setObjectName("tight")
            button.clicked.connect(lambda _=False, action=action: action())
            row.addWidget(button)
        return row

    def _circuit_fields(self) -> QVBoxLayout:
        self.own: dict[str, QLineEdit] = {}
        self.role, self.sensor, self.relearn = QComboBox(), QComboBox(), QComboBox()
        for circuit_role in (*CIRCUIT_ROLES, Role.OTHER):
            self.role.addItem(ROLES[circuit_role].capitalize(), circuit_role)
        self.sensor.addItem("Not stated", None)
        for this_key, words in SENSORS.items():
            self.sensor.addItem(words.capitalize(), this_key)
        for each_key, words in RELEARNS.items():
            self.relearn.addItem(words, each_key)
        self.place, self.relearn_text = _line("behind the starter, from below"), _line("what it takes")
        first = _grid()
        for column, (key, words, wide) in enumerate((
            ("name", "Name", 3), (self.role, "It is", 4), (self.sensor, "Sensor", 5), ("bank", "Bank", 1), ("wheel", "Wheel", 2),
            ("supply", "Feed, V", 2), ("pull_up", "Pull-up, V", 2), ("torque_nm", "Torque, Nm", 2),
        )):  # fmt: skip
            self._field(first, column, words, self.own.setdefault(key, _line()) if isinstance(key, str) else key, wide)
        second = _grid()
        self._field(second, 0, "Where it sits", self.place, 5)
        self._field(second, 1, "Relearn", self.relearn, 4)
        self._field(second, 2, "What it takes", self.relearn_text, 4)
        self.access: dict[Place, QLineEdit] = {}
        for column, place in enumerate((Place.PLUG, Place.SENSOR, Place.WHEEL, Place.MODULE, Place.FUSE), start=3):
            self.access[place] = _line()
            self.access[place].setToolTip(f"Minutes to get at the {PLACES[place].lower()}")
            self._field(second, column, f"{PLACES[place].partition(' ')[0]}, min", self.access[place], 2)
        both = QVBoxLayout()
        both.setSpacing(4)
        both.addLayout(first)
        both.addLayout(second)
        return both

    def _table(self, heads: tuple[str, ...], name: str, rows: int) -> QTableWidget:
        table = QTableWidget(rows, len(heads))
        table.setHorizontalHeaderLabels(list(heads))
        table.setAccessibleName(name)
        table.verticalHeader().hide()
        table.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
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

    def show_card(self, card: MachineCard, kept_id: int | None = None) -> None:
        """Show a card; `kept_id` where it stands on the shelf."""
        self.card, self.kept_id, self.at = card, kept_id, 0
        self.message.hide()
        self._fill()

    def show_shelf(self, shelf) -> None:
        """The cards that can be chosen."""
        self.shelf.clear()
        self.shelf.addItem(f"{len(shelf.cards)} on the shelf", None)
        for kept_id, card in shelf.cards:
            self.shelf.addItem(card.title, (kept_id, card))

    def _from_shelf(self) -> None:
        chosen = self.shelf.currentData()
        if chosen is not None:
            self.show_card(chosen[1], chosen[0])

    def _fill(self) -> None:
        self._filling = True
        data = self.card.as_data()
        for key, line in self.machine.items():
            value = data.get(key, getattr(self.card, key) if key == "volts" else "")
            line.setText("-".join(str(item) for item in value) if isinstance(value, list | tuple) else f"{value}")
            line.setCursorPosition(0)
        self.circuits.clear()
        for each in self.card.circuit:
            self.circuits.addItem(each.name)
        self._filling = False
        self._show_circuit()

    def _choose(self, index: int) -> None:
        """Another circuit; what was typed of the one before is kept."""
        if self._take():
            self.at = index
        self._show_circuit()

    def _show_circuit(self) -> None:
        self._filling = True
        one = (
            self.card.circuit[self.at] if self.at < len(self.card.circuit) else CardCircuit(name="crank", role="crank")
        )
        self.circuits.setCurrentIndex(min(self.at, self.circuits.count() - 1))
        for key, line in self.own.items():
            value = getattr(one, key)
            line.setText("" if value is None else f"{value:g}" if isinstance(value, float) else str(value))
            line.setCursorPosition(0)
        self.photo_of = one.photo
        self.photo.setText("See the photo" if one.photo else "Photo of the place")
        self.role.setCurrentIndex(max(0, self.role.findData(one.role)))
        self.sensor.setCurrentIndex(max(0, self.sensor.findData(one.sensor)))
        self.place.setText(one.place)
        self.place.setCursorPosition(0)
        relearn = one.relearn
        self.relearn.setCurrentIndex(max(0, self.relearn.findData(relearn.kind if relearn else RelearnKind.NONE)))
        self.relearn_text.setText(relearn.text if relearn else "")
        self.relearn_text.setCursorPosition(0)
        for place, line in self.access.items():
            minutes = one.access.get(place)
            line.setText(f"{minutes:g}" if minutes is not None else "")
        self._rows_of(
            self.wires,
            [[*(getattr(wire, key) for key in WIRE_COLUMNS[:-1]), ", ".join(wire.shared_with)] for wire in one.wire],
        )
        self._rows_of(self.rows, [_row_cells(row) for row in one.published])
        self._filling = False
        self._show_face()

    def _rows_of(self, table: QTableWidget, rows: list[list[str]]) -> None:
        table.clearContents()
        table.setRowCount(max(len(rows) + 1, 3))
        for r, cells in enumerate(rows):
            for c, text in enumerate(cells):
                table.setItem(r, c, QTableWidgetItem(str(text)))

    def _show_face(self) -> None:
        with suppress(ValueError):  # half typed: the face follows when it makes sense
            self.face.show_circuit(CardCircuit.model_validate({"name": "x", "wire": self._wire_rows()}))

    # typing -------------------------------------------------------------------------------

    def _cells(self, table: QTableWidget) -> list[list[str]]:
        rows = []
        for r in range(table.rowCount()):
            cells = [(table.item(r, c).text().strip() if table.item(r, c) else "") for c in range(table.columnCount())]
            if any(cells):
                rows.append(cells)
        return rows

    def _wire_rows(self) -> list[dict]:
        out = []
        known = {words.lower(): key for key, words in WIRES.items()} | {str(wire_is): wire_is for wire_is in WireIs}
        for cells in self._cells(self.wires):
            row = {key: text for key, text in zip(WIRE_COLUMNS, cells, strict=True) if text}
            row["carries"] = known.get(row.get("carries", "other").lower(), row.get("carries", "other"))
            if "shared_with" in row:
                row["shared_with"] = [word.strip() for word in row["shared_with"].split(",") if word.strip()]
            out.append(row)
        return out

    def _published_rows(self) -> list[dict]:
        out = []
        for number, cells in enumerate(self._cells(self.rows), start=1):
            row = {key: text for key, text in zip(ROW_COLUMNS, cells, strict=True) if text}
            data: dict = {"between": [row[key] for key in ("from", "to") if key in row]}
            for key in ("state", "when", "maker"):
                if key in row:
                    data[key] = row[key].replace(" ", "_") if key == "state" else row[key]
            data["quantity"] = {"Ω": "ohm", "ohms": "ohm"}.get(row.get("quantity", "ohm"), row.get("quantity", "ohm"))
            for key in ("low", "high", "at"):
                if key in row:
                    data[key] = _figure(row[key], f"published value {number}, {key}")
            out.append(data)
        return out

    def _circuit_data(self) -> dict:
        data: dict = {
            "name": self.own["name"].text().strip() or str(self.role.currentData()),
            "role": self.role.currentData(),
        }
        if self.sensor.currentData() is not None:
            data["sensor"] = self.sensor.currentData()
        for key in ("supply", "pull_up", "torque_nm"):
            if self.own[key].text().strip():
                data[key] = _figure(self.own[key].text(), key.replace("_", " "))
        if self.own["bank"].text().strip():
            data["bank"] = int(_figure(self.own["bank"].text(), "bank"))
        if self.own["wheel"].text().strip():
            data["wheel"] = self.own["wheel"].text().strip()
        data["place"] = self.place.text().strip()
        data["photo"] = self.photo_of
        kind, text = self.relearn.currentData(), self.relearn_text.text().strip()
        old = self.card.circuit[self.at] if self.at < len(self.card.circuit) else None
        if kind != RelearnKind.NONE or text:
            steps = (
                old.relearn.model_dump(mode="json", exclude_defaults=True)
                if old and old.relearn and old.relearn.kind == kind
                else {}
            )
            data["relearn"] = steps | {"kind": kind, "text": text}
        data["access"] = {
            place: _figure(line.text(), f"minutes to the {place}")
            for place, line in self.access.items()
            if line.text().strip()
        }
        data["wire"], data["published"] = self._wire_rows(), self._published_rows()
        if old is not None:
            # What the form does not show stays as it is.
            kept = old.model_dump(mode="json", exclude_defaults=True)
            data = {
                key: value
                for key, value in kept.items()
                if key in ("position", "number", "polarity", "photo", "face", "pins")
            } | data
            over = [row for row in kept.get("published", ()) if "over" in row]
            data["published"] += [row for row in over if row not in data["published"]]
        return data

    def _machine_data(self) -> dict:
        data = {
            key: self.machine[key].text().strip()
            for key in ("make", "model", "engine", "years")
            if self.machine[key].text().strip()
        }
        for key in ("volts", "cylinders", "bore_mm"):
            if self.machine[key].text().strip():
                value = _figure(self.machine[key].text(), key)
                data[key] = value if key == "bore_mm" else int(value)
        if self.machine["firing"].text().strip():
            data["firing"] = [
                int(_figure(word, "firing order"))
                for word in self.machine["firing"].text().replace(",", "-").split("-")
            ]
        return data

    def _take(self) -> bool:
        """The card as typed; False, and said why, where it makes no sense."""
        try:
            circuits = [
                item.model_dump(mode="json", exclude_defaults=True) | {"name": item.name} for item in self.card.circuit
            ]
            circuits[self.at : self.at + 1] = [self._circuit_data()]
            old = self.card.as_data()
            rest = {key: old[key] for key in ("banks", "note", "access", "code") if key in old}
            self.card = MachineCard.from_data({**rest, **self._machine_data(), "circuit": circuits})
        except (SheetError, ValueError) as error:
            self.message.setText(str(error)[:300])
            self.message.show()
            return False
        self.message.hide()
        self._filling = True
        self.circuits.clear()
        for each in self.card.circuit:
            self.circuits.addItem(each.name)
        self.circuits.setCurrentIndex(self.at)
        self._filling = False
        return True

    def add_circuit(self) -> None:
        """One more circuit, begun with the usual wires."""
        if not self._take():
            return
        names = {item.name for item in self.card.circuit}
        number = next(k for k in range(1, 99) if f"circuit {k}" not in names)
        self.card = self.card.model_copy(
            update={"circuit": (*self.card.circuit, new_circuit(f"circuit {number}", Role.CAM, SensorKind.HALL))}
        )
        self.at = len(self.card.circuit) - 1
        self._fill_at(self.at)
        self.own["name"].setFocus()
        self.own["name"].selectAll()

    def _fill_at(self, at: int) -> None:
        self._fill()
        self.at = at
        self._show_circuit()

    def remove_circuit(self) -> None:
        """Take the circuit in sight off the card."""
        if self.at < len(self.card.circuit):
            left = (*self.card.circuit[: self.at], *self.card.circuit[self.at + 1 :])
            self.card = self.card.model_copy(update={"circuit": left})
            self._fill_at(0)

    # the shell ----------------------------------------------------------------------------

    def wire(self, shell) -> None:
        self.shell = shell
        self.left.connect(shell.back_to_job)

    def show_job(self, job) -> None:
        """The job's card; one begun from what the job states, where it has none."""
        from sagen.casework.patterns import card_of
        from sagen.casework.shelf import ListShelf

        card = card_of(job)
        self.show_card(card if card is not None else begun(job))
        self.shell.workspace.ask(ListShelf(job.id), self.show_shelf, slot="shelf")
        self.wires.setCurrentCell(0, 1)
        self.wires.setFocus()

    def keep(self) -> None:
        """Keep the card on the shelf, and put it on the job: its circuits become the job's."""
        from sagen.casework.shelf import KeepCard

        if not self._take():
            return
        job = self.shell.workspace.job
        self.shell.workspace.ask(KeepCard(job.id if job else None, self.card), self.show_shelf)
        if job is None:
            return
        self.shell.workspace.add(CardEntry(self.card.as_data()), *circuits_to_state(job, self.card))
        self.shell.message.say(f"Kept: {self.card.title}, on the shelf and on this job.")
        self.left.emit()

    def _load(self) -> None:
        name, _ = QFileDialog.getOpenFileName(
            self, "Load a card, or rows", str(Path.home()), f"{CARD_FILES};;Rows (*.csv)"
        )
        if name:
            self.load(Path(name))

    def load(self, path: Path) -> None:
        """A card from its file, or rows from a CSV."""
        from sagen.casework.shelf import ReadCard

        if path.suffix.lower() == ".csv" and not self._take():
            return

        def came(read) -> None:
            self.show_card(read.card)
            if read.refused:
                self.message.setText(
                    f"Left out: {'; '.join(read.refused[:4])}" + ("; and more" if len(read.refused) > 4 else "")
                )
                self.message.show()

        self.shell.workspace.ask(ReadCard(None, path, self.card), came)

    def _save(self) -> None:
        if not self._take():
            return
        start = str(Path.home() / f"{self.card.title}.toml")
        name, _ = QFileDialog.getSaveFileName(self, "Save the card", start, CARD_FILES)
        if name:
            from sagen.casework.shelf import WriteCard

            self.shell.workspace.ask(
                WriteCard(None, Path(name), self.card), lambda path: self.shell.message.say(f"Written: {path}")
            )

    def _choose_photo(self) -> None:
        if self.photo_of:
            self.shell.show_kept_photo(self.photo_of, f"{self.card.title}: {self.own['name'].text()}")
            return
        name, _ = QFileDialog.getOpenFileName(
            self, "Photo of the place", str(Path.home()), "Photos (*.jpg *.jpeg *.png)"
        )
        if name:
            self.set_photo(Path(name))

    def set_photo(self, path: Path) -> None:
        """Keep a photo of where the circuit's sensor sits."""
        from sagen.casework.shelf import KeepPhoto

        at = self.at

        def came(record) -> None:
            if self.at == at:
                self.photo_of = record.token
                self.photo.setText("See the photo")

        self.shell.workspace.ask(KeepPhoto(None, path), came)

    def find_wires(self) -> None:
        """Name the wires from readings at the open plug, and fill them in."""
        from sagen.desk.wire_form import WireForm

        pins = [cells[2] for cells in self._cells(self.wires) if cells[2]]
        form = WireForm(pins, self)
        if form.exec() and form.named is not None:
            by_pin = {cells[2]: cells for cells in self._cells(self.wires) if cells[2]}
            rows = []
            for pin in form.named.pins:
                old = by_pin.get(pin.pin, [""] * len(WIRE_COLUMNS))
                rows.append([str(pin.best), old[1], pin.pin, *old[3:]])
            self._filling = True
            self._rows_of(self.wires, rows)
            self._filling = False
            self._show_face()


def _grid() -> QGridLayout:
    grid = QGridLayout()
    grid.setHorizontalSpacing(4)
    grid.setVerticalSpacing(1)
    return grid


def _line(hint: str = "") -> QLineEdit:
    """A field that gives way: eight of them stand beside each other."""
    line = QLineEdit()
    line.setPlaceholderText(hint)
    line.setStyleSheet("padding-left: 4px; padding-right: 2px;")
    line.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
    line.setMinimumWidth(38)
    return line


def _figure(text: str, what: str) -> float:
    try:
        return float(text.strip().replace(",", "."))
    except ValueError:
        raise ValueError(f"{what}: '{text.strip()[:30]}' is not a number") from None


def _row_cells(row) -> list[str]:
    """A published value as cells; a table over temperature keeps its own row, shown and not changed here."""
    if row.over:
        limits = ["table", "", ""]
    else:
        limits = ["" if item is None else f"{item:g}" for item in (row.low, row.high, row.at)]
    between = [*row.between, ""][:2]
    unit = "Ω" if row.quantity == CardQuantity.OHM else str(row.quantity)
    return [*between, str(row.state or "").replace("_", " "), row.when, unit, *limits, row.maker]


def new_circuit(name: str, role: Role, sensor: SensorKind | None) -> CardCircuit:
    """A circuit with the wires that its kind of sensor usually has, numbered from 1."""
    wires = [{"carries": item, "sensor_pin": str(k)} for k, item in enumerate(NEW_WIRES.get(sensor, ()), start=1)]
    return CardCircuit.model_validate({"name": name, "role": role, "sensor": sensor, "wire": wires})


def begun(job) -> MachineCard:
    """A card begun from what a job states."""
    from sagen.reason.several import circuits_of

    circuits = []
    for name, spec in circuits_of(job.records()).items():
        one = new_circuit(name or str(spec.role), spec.role, spec.sensor)
        circuits.append(one.model_copy(update={
            "bank": spec.bank, "position": spec.position, "wheel": spec.wheel, "supply": spec.supply, "pull_up": spec.pull_up,
        }))  # fmt: skip
    return MachineCard(model=job.machine[:60], cylinders=job.cylinders, circuit=tuple(circuits))


def circuits_to_state(job, card: MachineCard) -> list[CircuitEntry]:
    """The circuits that a job is about, as the card has them: those that it states already or its codes point at; of a job
    that states none, the card's first."""
    from sagen.codes import meaning
    from sagen.model.errors import SagenError
    from sagen.model.trail import CodeEntry
    from sagen.reason.several import circuits_of

    stated = circuits_of(job.records())
    known = [item for item in card.circuit if item.spec is not None]
    wanted = [item for item in known if item.name in stated]
    for entry in job.records(CodeEntry):
        own = card.circuit_of_code(entry.code)
        try:
            found = meaning(entry.code)
        except SagenError:
            found = None
        wanted += [
            item for item in known
            if (own and own.circuit == item.name)
            or (found and found.role == item.role and (found.bank is None or item.bank in (None, found.bank)))
        ]  # fmt: skip
    if not wanted:
        roles = {spec.role for spec in stated.values()}
        wanted = [item for item in known if item.role in roles] or known[:1]
    unique = list({item.name: item for item in wanted}.values())
    # One circuit needs no name: what the job holds already stays its own.
    if len(unique) == 1 and set(stated) == {""}:
        return [CircuitEntry(unique[0].spec)] if unique[0].spec != stated[""] else []
    return [CircuitEntry(item.spec, circuit=item.name) for item in unique]
