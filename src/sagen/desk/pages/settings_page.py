"""What the program remembers of this bay, in one place. Each answer is kept as it is given; nothing here is a job's own."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QSettings, Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFileDialog,
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QWidget,
)

from sagen.casework.costs import keep_shop_costs, shop_costs
from sagen.casework.own_meter import keep_accuracy
from sagen.desk.at_hand import ADDRESSES
from sagen.desk.commands.logs import remember_author, remembered_author
from sagen.desk.ear import remembered_volume
from sagen.desk.forms.work import SHOP_COSTS, number
from sagen.desk.pages import Page
from sagen.desk.pages.head import headed
from sagen.desk.parts import last_folder
from sagen.desk.sizes import TEXT_SIZES, remembered_size
from sagen.desk.theme import theme
from sagen.desk.theme.plain import Label, Said
from sagen.desk.window_actions import WATCHED
from sagen.instruments.wired import Addresses
from sagen.meter import stored_accuracy_text
from sagen.model.choice import Choice
from sagen.model.errors import SagenError
from sagen.model.language import CHOICE, LANGUAGES, lowered, titled, tr
from sagen.model.quantities import DEGREES, LENGTH, MEASURES, ROAD_SPEED, TEMPERATURE, TORQUE
from sagen.reason.decide import Costs
from sagen.store.entries import Author

if TYPE_CHECKING:
    from sagen.desk.at_hand import BenchInstruments
    from sagen.desk.ports import Commands, Navigation
    from sagen.desk.watched import WatchedFolders
    from sagen.desk.workspace import DeskWorkspace

LOOKS = {"system": tr("As the system has it"), "light": tr("Light"), "dark": tr("Dark")}


class SettingsPage(Page):
    """Rows of a name, a control and what it does."""

    name, title = "settings", tr("Settings")
    left = Signal()

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        layout = headed(self, tr("Settings"))
        self.said = Said(name="caution", wrap=True)
        layout.addWidget(self.said)
        self.grid = QGridLayout()
        self.grid.setContentsMargins(0, 0, 10, 0)
        self.grid.setHorizontalSpacing(10)
        self.grid.setVerticalSpacing(5)
        self.grid.setColumnStretch(1, 1)
        layout.addLayout(self.grid)
        layout.addStretch(1)

    def wire(
        self, settings: QSettings, workspace: DeskWorkspace, navigation: Navigation, commands: Commands,
        instruments: BenchInstruments, watched: WatchedFolders,
    ) -> None:  # fmt: skip
        self.settings, self.workspace, self.commands = settings, workspace, commands
        self.instruments, self.watched = instruments, watched
        self.left.connect(navigation.back_to_job)
        self._how_it_looks()
        self._who_and_where()
        self._what_is_at_hand()
        self._money()

    def on_shown(self) -> None:
        self._show()
        self.look.setFocus()

    # rows ---------------------------------------------------------------------------------------

    def _section(self, words: str) -> None:
        self.grid.addWidget(Label(words.upper(), name="over"), self.grid.rowCount(), 0, 1, 3)

    def _row(self, words: str, control: QWidget, beside: QWidget | None = None) -> QWidget:
        at = self.grid.rowCount()
        label = Label(words, wrap=True)
        label.setBuddy(control)
        control.setAccessibleName(words)
        self.grid.addWidget(label, at, 0)
        self.grid.addWidget(control, at, 1, 1, 1 if beside is not None else 2)
        if beside is not None:
            self.grid.addWidget(beside, at, 2)
        return control

    def _switch(self, words: str, told: str) -> QCheckBox:
        """On or off, with what it does beside it, in as many lines as it takes."""
        cell, switch, beside = QWidget(), QCheckBox(), Label(told, wrap=True)
        row = QHBoxLayout(cell)
        row.setContentsMargins(0, 0, 0, 0)
        row.addWidget(switch)
        row.addWidget(beside, 1)
        self._row(words, cell)
        switch.setAccessibleName(f"{words}: {told}")
        return switch

    def _line(
        self, words: str, keep: Callable[[str], None], hint: str = "", beside: QWidget | None = None
    ) -> QLineEdit:
        line = self._row(words, QLineEdit(), beside)
        line.setPlaceholderText(hint)
        line.setMaxLength(400)
        line.editingFinished.connect(lambda: self._try(line, keep))
        return line

    def _try(self, line: QLineEdit, keep: Callable[[str], None]) -> None:
        """Keep an answer, or say at the line what is wrong with it; what was kept before stays."""
        try:
            keep(line.text().strip())
            wrong = ""
        except (SagenError, ValueError) as error:
            wrong = str(error)
        line.setProperty("bad", bool(wrong))
        line.style().polish(line)
        self.said.setText(titled(wrong))

    def _how_it_looks(self) -> None:
        self._section(tr("Window"))
        self.look, self.size = QComboBox(), QComboBox()
        for key, words in LOOKS.items():
            self.look.addItem(words, key)
        for share in TEXT_SIZES:
            self.size.addItem(f"{share} %", share)
        self.language = QComboBox()
        self.language.addItem(tr("As the system has it"), "")
        for key, words in LANGUAGES.items():
            self.language.addItem(words, key)
        self._row(tr("Language"), self.language, Label(tr("from the next start on"), name="quiet", wrap=True))
        self.language.activated.connect(lambda _: self._keep_choice(CHOICE, self.language))
        self.degrees, self.measures = QComboBox(), QComboBox()
        for letter, unit in TEMPERATURE.units.items():
            self.degrees.addItem(unit.sign, letter)
        for key in TORQUE.units:
            self.measures.addItem(", ".join(item.units[key].sign for item in (TORQUE, LENGTH, ROAD_SPEED)), key)
        for words, box, choice in (
            (tr("Temperatures"), self.degrees, DEGREES), (tr("Torque, bore, road speed"), self.measures, MEASURES),
        ):  # fmt: skip
            self._row(words, box, Label(tr("from the next start on"), name="quiet", wrap=True))
            box.activated.connect(lambda _, choice=choice, box=box: self._keep_choice(choice, box))
        self._row(tr("Light or dark"), self.look)
        self._row(tr("Text and controls"), self.size, Label(tr("from the next start on"), name="quiet", wrap=True))
        self.look.activated.connect(lambda _: self.commands.run("view.choose_look", self.look.currentData()))
        self.size.activated.connect(lambda _: self.settings.setValue("text/size", self.size.currentData()))
        self.tones = self._switch(tr("Tones"), tr("when a signal is lost and back, and in probe mode"))
        self.tones.clicked.connect(lambda on: self.settings.setValue("live/tones", "on" if on else "off"))
        self.volume = self._line(tr("Their volume, %"), self._keep_volume)

    def _keep_choice(self, choice: Choice, box: QComboBox) -> None:
        try:
            choice.keep(box.currentData())
            self.said.setText("")
        except OSError as error:
            self.said.setText(str(error))

    def _keep_volume(self, text: str) -> None:
        if not text.isdecimal() or int(text) > 100:
            raise ValueError(tr("the volume is a whole number from 0 to 100"))
        self.settings.setValue("live/volume", int(text))

    def _who_and_where(self) -> None:
        self._section(tr("Who writes, and where"))
        self.author = self._line(tr("Name at each entry"), lambda _: self._keep_author(), tr("nobody stated"))
        self.bay = self._line(tr("Bay"), lambda _: self._keep_author(), tr("as bay 2"))
        self.workshop = self._line(
            tr("Workshop on the papers"),
            lambda text: self.settings.setValue("report/workshop", text[:80]),
            tr("not printed"),
        )
        other = QPushButton(tr("Another log"))
        other.clicked.connect(lambda: self.commands.run("logs.open_another"))
        self.where = QLineEdit()
        self.where.setReadOnly(True)
        self._row(tr("The log lies in"), self.where, other)
        self.record = self._switch(
            tr("Own record"), tr("the shop's proven jobs weigh in with the next one of their kind")
        )
        self.record.clicked.connect(lambda _: self.commands.run("view.toggle_record"))

    def _keep_author(self) -> None:
        author = Author(self.author.text().strip()[:80], self.bay.text().strip()[:80])
        remember_author(self.settings, self.workspace, author)

    def _what_is_at_hand(self) -> None:
        self._section(tr("Instruments and folders"))
        self.addresses = [
            self._line(words, lambda _: self._keep_addresses(), hint) for words, hint in ADDRESSES.values()
        ]
        self.accuracy = self._line(tr("The meter is good to"), keep_accuracy, tr("not stated; as 0.8% + 3"))
        self.folders: dict[str, QLineEdit] = {}
        for what, words in WATCHED.items():
            choose = QPushButton(tr("Choose"))
            choose.setAccessibleName(tr("Choose a folder to watch for {what}", what=words))
            choose.clicked.connect(lambda _=False, what=what: self._choose_folder(what))
            self.folders[what] = self._line(
                tr("Watched for {what}", what=words),
                lambda text, what=what: self._watch(what, text),
                tr("none"),
                choose,
            )

    def _keep_addresses(self) -> None:
        self.instruments.addresses = Addresses(*(line.text().strip() for line in self.addresses))

    def _choose_folder(self, what: str) -> None:
        name = QFileDialog.getExistingDirectory(
            self, tr("Watch a folder for {what}", what=WATCHED[what]), str(last_folder(self.settings))
        )
        if name:
            self.folders[what].setText(name)
            self._try(self.folders[what], lambda text: self._watch(what, text))

    def _watch(self, what: str, name: str) -> None:
        if name and not Path(name).is_dir():
            raise ValueError(tr("{name} is no folder", name=name))
        if name != str(self.settings.value(f"{what}/folder", "")):
            self.watched.watch(what, name)

    def _money(self) -> None:
        self._section(tr("What the shop reckons with"))
        self.costs = {
            key: self._line(words, lambda _: self._keep_costs(), tr("not stated")) for key, words in SHOP_COSTS.items()
        }

    def _keep_costs(self) -> None:
        values = {key: number(line, lowered(SHOP_COSTS[key])) for key, line in self.costs.items()}
        keep_shop_costs(Costs(**values))

    # what stands now ------------------------------------------------------------------------------

    def _show(self) -> None:
        settings = self.settings
        self.language.setCurrentIndex(max(0, self.language.findData(CHOICE.chosen())))
        self.degrees.setCurrentIndex(self.degrees.findData(DEGREES.chosen()))
        self.measures.setCurrentIndex(self.measures.findData(MEASURES.chosen()))
        self.look.setCurrentIndex(max(0, self.look.findData(theme.wanted(settings))))
        self.size.setCurrentIndex(max(0, self.size.findData(remembered_size(settings))))
        self.tones.setChecked(str(settings.value("live/tones", "on")) == "on")
        self.volume.setText(str(remembered_volume(settings)))
        author = remembered_author(settings)
        self.author.setText(author.author)
        self.bay.setText(author.bay)
        self.workshop.setText(str(settings.value("report/workshop", "")))
        log = self.workspace.log
        self.where.setText(log.database.place.said if log is not None else "")
        self.where.setCursorPosition(0)
        self.record.setChecked(self.workspace.record_counts)
        stated = self.instruments.addresses
        for line, name in zip(self.addresses, ADDRESSES, strict=True):
            line.setText(getattr(stated, name))
        for what, line in self.folders.items():
            line.setText(str(settings.value(f"{what}/folder", "")))
        self.said.setText("")
        try:
            self.accuracy.setText(stored_accuracy_text())
            costs = shop_costs()
        except SagenError as error:
            self.said.setText(str(error))
            return
        for key, line in self.costs.items():
            value = getattr(costs, key)
            line.setText("" if value is None else f"{value:g}")
