"""The machine card on the bench: what is known of this kind of machine, circuit by circuit."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QComboBox,
    QFileDialog,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from sagen.casework.card_filling import begun, circuits_to_state, new_circuit
from sagen.casework.patterns import card_of
from sagen.casework.shelf import KeepCard, ListShelf, ReadCard, StorePhoto, WriteCard
from sagen.desk.actions import Action, Hint
from sagen.desk.pages import Page
from sagen.desk.pages.card_circuit import CircuitFields, narrow_line, put_field
from sagen.desk.pages.card_read import CardRead
from sagen.desk.theme.plain import Label
from sagen.desk.wrap_row import WrapRow
from sagen.model.errors import SheetError
from sagen.model.language import tr
from sagen.model.machine_card import MachineCard
from sagen.model.quantities import LENGTH
from sagen.model.trail import CardEntry
from sagen.model.typed import typed_whole
from sagen.model.vocabulary import Role, SensorKind

if TYPE_CHECKING:
    from sagen.desk.parts import Message
    from sagen.desk.ports import Commands, Navigation
    from sagen.desk.workspace import DeskWorkspace
    from sagen.model.job import Job

CARD_FILES = tr("Machine cards (*.toml)")
#: fields of the machine: name, words, how wide
MACHINE = (
    ("make", tr("Make"), 12), ("model", tr("Model"), 14), ("engine", tr("Engine"), 9), ("years", tr("Years"), 12), ("volts", tr("Volts"), 3),
    ("cylinders", tr("Cyl."), 3), ("firing", tr("Firing order"), 14), ("bore_mm", tr("Bore, {unit}", unit=LENGTH.sign), 5),
)  # fmt: skip
NOT_SHOWN = ("banks", "note", "access", "code")  #: of the card, what the fields do not show
PHOTOS = tr("Photos (*.jpg *.jpeg *.png)")


class CardPage(Page):
    """Fill in, keep on the shelf, put on the job, exchange as a file."""

    name, title = "card", tr("Machine card")
    left = Signal()
    shortcuts = (
        Action("Ctrl+S", tr("keep the card, and put it on the job"), lambda page: page.keep()),
        Action("Ctrl+Return", tr("keep the card, and put it on the job"), lambda page: page.keep()),
        Action("Ctrl+Shift+M", tr("the plug from the other side"), lambda page: page.turn_plug()),
        Action("Alt+E", tr("write on the card"), lambda page: page.edit(True)),
    )
    hints = (Hint("Tab", tr("next cell; behind the last one a new row")),)

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.card, self.kept_id, self.at = MachineCard(model=tr("A machine")), None, 0
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(6)
        layout.addLayout(self._head())
        layout.addLayout(self._circuit_row())
        self.read = CardRead()
        layout.addWidget(self.read, 1)
        self.scroll = scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        # It takes what the page has left, so that the page itself need not be scrolled beside it.
        scroll.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Ignored)
        scroll.setMinimumHeight(180)
        inside = QWidget()
        body = QVBoxLayout(inside)
        body.setContentsMargins(0, 0, 8, 0)
        body.setSpacing(6)
        body.addLayout(self._machine())
        self.fields = CircuitFields()
        self.fields.photo_wanted.connect(self._choose_photo)
        body.addWidget(self.fields)
        scroll.setWidget(inside)
        layout.addWidget(scroll, 1)
        self.problem_text = Label(name="error", wrap=True)
        self.problem_text.hide()
        layout.addWidget(self.problem_text)
        self._fill(0)

    # building -----------------------------------------------------------------------------

    def _head(self) -> WrapRow:
        row = WrapRow()
        row.addWidget(Label(tr("Machine card"), name="heading"))
        row.push_right()
        self.shelf = QComboBox()
        self.shelf.setAccessibleName(tr("Cards on the shelf"))
        self.shelf.setMinimumWidth(190)
        self.shelf.activated.connect(lambda _=0: self._from_shelf())
        row.addWidget(self.shelf)
        made = []
        for words, tip, action in (
            (tr("Edit"), tr("Write on the card (Alt+E)"), lambda: self.edit(True)),
            (
                tr("Which wire?"),
                tr("Name the wires from volts and ohms at the open plug"),
                lambda: self.fields.find_wires(),
            ),
            (tr("Load"), tr("A card from its file, or rows of published values from a CSV"), self._load),
            (tr("Save"), tr("The card as a file, for another workshop"), self._save),
            (tr("Keep"), tr("Keep it on the shelf, and put it on the job's trail (Ctrl+S)"), self.keep),
            (tr("Back"), "", self.left.emit),
        ):
            button = QPushButton(words)
            made.append(button)
            button.setToolTip(tip)
            button.clicked.connect(lambda _=False, action=action: action())
            row.addWidget(button)
        self.edit_button, wires, load, _, self.keep_button, _ = made
        self.writing = (wires, load, self.keep_button)
        self.keep_button.setObjectName("first")
        return row

    def _machine(self) -> WrapRow:
        self.machine: dict[str, QLineEdit] = {}
        row = WrapRow(spacing=4)
        for key, words, wide in MACHINE:
            put_field(row, words, self.machine.setdefault(key, narrow_line()), wide)
        return row

    def _circuit_row(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.addWidget(Label(tr("CIRCUIT"), name="over"))
        self.circuits = QComboBox()
        self.circuits.setAccessibleName(tr("Circuits of the card"))
        self.circuits.activated.connect(lambda _=0: self._choose(self.circuits.currentIndex()))
        row.addWidget(self.circuits, 1)
        self.turn = QPushButton(tr("From the other side"))
        self.turn.setObjectName("tight")
        self.turn.setToolTip(tr("The plug as it is seen from the other side (Ctrl+Shift+M)"))
        self.turn.clicked.connect(self.turn_plug)
        row.addWidget(self.turn)
        for words, action in ((tr("Add circuit"), self.add_circuit), (tr("Remove"), self.remove_circuit)):
            button = QPushButton(words)
            button.setObjectName("tight")
            button.clicked.connect(lambda _=False, action=action: action())
            row.addWidget(button)
            self.writing = (*self.writing, button)
        return row

    def edit(self, on: bool) -> None:
        """Write on the card, or read it."""
        self.editing = on
        self.scroll.setVisible(on)
        self.read.setVisible(not on)
        self.turn.setVisible(not on)
        self.edit_button.setVisible(not on)
        for button in self.writing:
            button.setVisible(on)

    def turn_plug(self) -> None:
        """The plug from the other side."""
        (self.fields if self.editing else self.read).face.turn()

    def wire(self, workspace: DeskWorkspace, navigation: Navigation, message: Message, commands: Commands) -> None:
        self.workspace, self.message, self.commands = workspace, message, commands
        self.left.connect(navigation.back_to_job)

    # showing ------------------------------------------------------------------------------

    def show_job(self, job: Job) -> None:
        """The job's card; one begun from what the job states, where it has none."""
        card = card_of(job)
        self.show_card(card if card is not None else begun(job), written=card is not None)
        self.workspace.submit(ListShelf(job.id), self.show_shelf, slot="shelf")
        if self.editing:
            self.fields.wires.setCurrentCell(0, 1)
            self.fields.wires.setFocus()
        else:
            self.circuits.setFocus()

    def show_card(self, card: MachineCard, kept_id: int | None = None, *, written: bool = False) -> None:
        """Show a card, to be read where it was written before; `kept_id` where it stands on the shelf."""
        self.card, self.kept_id = card, kept_id
        self.problem_text.hide()
        self._fill(0)
        self.edit(not written)

    def show_shelf(self, shelf) -> None:
        """The cards that can be chosen."""
        self.shelf.clear()
        self.shelf.addItem(tr("{cards} on the shelf", cards=len(shelf.cards)), None)
        for kept_id, card in shelf.cards:
            self.shelf.addItem(card.title, (kept_id, card))

    def _from_shelf(self) -> None:
        chosen = self.shelf.currentData()
        if chosen is not None:
            self.show_card(chosen[1], chosen[0], written=True)

    def _fill(self, at: int) -> None:
        """Everything of the card, with its circuit at `at` in sight."""
        data = self.card.as_data()
        for key, line in self.machine.items():
            value = data.get(key, getattr(self.card, key) if key == "volts" else "")
            if key == "bore_mm" and value:
                value = f"{LENGTH.shown(value):g}"
            line.setText("-".join(str(number) for number in value) if isinstance(value, list | tuple) else f"{value}")
            line.setCursorPosition(0)
        self._list_circuits()
        self._show_circuit(at)

    def _list_circuits(self) -> None:
        self.circuits.clear()
        for circuit in self.card.circuit:
            self.circuits.addItem(circuit.name)

    def _show_circuit(self, at: int) -> None:
        self.at = at
        self.circuits.setCurrentIndex(min(at, self.circuits.count() - 1))
        circuit = self.card.circuit[at] if at < len(self.card.circuit) else None
        self.fields.show_circuit(circuit)
        self.read.show_circuit(self.card, circuit)

    def _choose(self, index: int) -> None:
        """Another circuit; what was typed of the one before is kept."""
        self._show_circuit(index if not self.editing or self._take() else self.at)

    # typing -------------------------------------------------------------------------------

    def _machine_data(self) -> dict:
        typed = {key: line.text().strip() for key, line in self.machine.items() if line.text().strip()}
        data = {key: typed[key] for key in ("make", "model", "engine", "years") if key in typed}
        for key in ("volts", "cylinders"):
            if key in typed:
                data[key] = typed_whole(typed[key], key)
        if "bore_mm" in typed:
            data["bore_mm"] = LENGTH.typed(typed["bore_mm"], tr("bore"))
        if "firing" in typed:
            data["firing"] = [
                typed_whole(word, tr("firing order")) for word in typed["firing"].replace(",", "-").split("-")
            ]
        return data

    def _take(self) -> bool:
        """The card as typed; False, and said why, where it makes no sense."""
        try:
            circuits = [
                circuit.model_dump(mode="json", exclude_defaults=True) | {"name": circuit.name}
                for circuit in self.card.circuit
            ]
            circuits[self.at : self.at + 1] = [self.fields.data()]
            old = self.card.as_data()
            rest = {key: old[key] for key in NOT_SHOWN if key in old}
            self.card = MachineCard.from_data({**rest, **self._machine_data(), "circuit": circuits})
        except (SheetError, ValueError) as error:
            self._refuse(str(error)[:300])
            return False
        self.problem_text.hide()
        self._list_circuits()
        self.circuits.setCurrentIndex(self.at)
        return True

    def _refuse(self, words: str) -> None:
        self.problem_text.setText(words)
        self.problem_text.show()

    def add_circuit(self) -> None:
        """One more circuit, begun with the usual wires."""
        if not self._take():
            return
        names = {circuit.name for circuit in self.card.circuit}
        number = next(k for k in range(1, 99) if f"circuit {k}" not in names)
        more = new_circuit(tr("circuit {number}", number=number), Role.CAM, SensorKind.HALL)
        self.card = self.card.model_copy(update={"circuit": (*self.card.circuit, more)})
        self._fill(len(self.card.circuit) - 1)
        self.fields.own["name"].setFocus()
        self.fields.own["name"].selectAll()

    def remove_circuit(self) -> None:
        """Take the circuit in sight off the card."""
        if self.at < len(self.card.circuit):
            rest = (*self.card.circuit[: self.at], *self.card.circuit[self.at + 1 :])
            self.card = self.card.model_copy(update={"circuit": rest})
            self._fill(0)

    # keeping ------------------------------------------------------------------------------

    def keep(self) -> None:
        """Keep the card on the shelf, and put it on the job: its circuits become the job's."""
        if self.editing and not self._take():
            return
        job, card = self.workspace.job, self.card
        self.workspace.submit(KeepCard(job.id if job else None, card), self.show_shelf)
        if job is None:
            return
        said = tr("Kept: {title}, on the shelf and on this job.", title=card.title)
        self.workspace.add(
            CardEntry(card.as_data()),
            *circuits_to_state(job.records(), card),
            job=job.id,
            then=lambda: self.message.say(said),
        )
        self.left.emit()

    def _load(self) -> None:
        kinds = tr("{card_files};;Rows (*.csv)", card_files=CARD_FILES)
        name, _ = QFileDialog.getOpenFileName(self, tr("Load a card, or rows"), str(Path.home()), kinds)
        if name:
            self.load(Path(name))

    def load(self, path: Path) -> None:
        """A card from its file, or rows from a CSV."""
        if path.suffix.lower() == ".csv" and not self._take():
            return

        def show(read) -> None:
            self.show_card(read.card)
            if read.refused:
                more = tr("; and more") if len(read.refused) > 4 else ""
                self._refuse(tr("Left out: {refused}{more}", refused="; ".join(read.refused[:4]), more=more))

        self.workspace.submit(ReadCard(None, path, self.card), show)

    def _save(self) -> None:
        if self.editing and not self._take():
            return
        start = str(Path.home() / f"{self.card.title}.toml")
        name, _ = QFileDialog.getSaveFileName(self, tr("Save the card"), start, CARD_FILES)
        if name:
            self.workspace.submit(
                WriteCard(None, Path(name), self.card), lambda path: self.message.say(tr("Written: {path}", path=path))
            )

    def _choose_photo(self) -> None:
        if self.fields.photo_of:
            title = f"{self.card.title}: {self.fields.own['name'].text()}"
            self.commands.run("photos.show_kept", self.fields.photo_of, title)
            return
        name, _ = QFileDialog.getOpenFileName(self, tr("Photo of the place"), str(Path.home()), PHOTOS)
        if name:
            self.set_photo(Path(name))

    def set_photo(self, path: Path) -> None:
        """Keep a photo of where the circuit's sensor sits."""
        card, at = self.card, self.at

        def show(token: str) -> None:
            if self.card is card and self.at == at:
                self.fields.show_photo(token)

        self.workspace.submit(StorePhoto(None, path), show)
