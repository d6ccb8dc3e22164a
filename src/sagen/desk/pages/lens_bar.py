"""The row over the lenses of a capture: which lens, of which channel and measure or which strikes, and the tools."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtGui import QKeySequence
from PySide6.QtWidgets import QComboBox, QPushButton, QSizePolicy, QToolButton, QWidget

from sagen.desk.actions import spelled
from sagen.desk.pages.compare_menu import CompareMenu
from sagen.desk.theme import theme
from sagen.desk.wrap_row import WrapRow
from sagen.model.language import tr

LENSES = (
    ("strip", tr("Strip"), "1", tr("Channels over time")),
    ("turns", tr("Turns"), "2", tr("One row a revolution, one column a tooth")),
    ("wheel", tr("Wheel"), "3", tr("The wheel as the sensor saw it")),
    ("beside", tr("Beside"), "4", tr("Beside the known-good one, edge by edge over the angle")),
    ("rings", tr("Rings"), "2", tr("Strikes laid over each other from their onset")),
)
#: tools: name, icon, what it does, its key
TOOLS = (
    ("previous", "arrow-left", tr("Previous place of a finding"), "P"), ("next", "arrow-right", tr("Next place of a finding"), "N"),
    ("out", "zoom-out", tr("Show more"), ""), ("in", "zoom-in", tr("Show less, closer"), ""),
    ("fit", "maximize", tr("The whole of it (Home)"), ""), ("export", "file-down", tr("Write the capture as CSV, WAV or MDF4"), ""),
)  # fmt: skip


class LensBar(QWidget):
    """The row."""

    lens_chosen = Signal(str)
    tool_pressed = Signal(str)

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        row = WrapRow(self, spacing=3)
        self.lenses: dict[str, QPushButton] = {}
        for name, words, key, tip in LENSES:
            button = QPushButton(words)
            button.setCheckable(True)
            button.setAutoExclusive(True)
            button.setToolTip(f"{tip} ({spelled(key)})")
            button.setProperty("key", key)
            button.setSizePolicy(QSizePolicy.Policy.Minimum, QSizePolicy.Policy.Fixed)
            button.clicked.connect(lambda _=False, name=name: self.lens_chosen.emit(name))
            self.lenses[name] = button
            row.addWidget(button)
        self.lenses["strip"].setChecked(True)
        self.strikes, self.channel, self.what = QComboBox(), QComboBox(), QComboBox()
        for box, name in (
            (self.strikes, tr("Which strikes are shown")), (self.channel, tr("Channel of the lens")), (self.what, tr("Measure of the lens")),
        ):  # fmt: skip
            box.setAccessibleName(name)
            box.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Fixed)
            row.addWidget(box)
        for box in (self.channel, self.what):
            box.setMinimumWidth(70)
        row.push_right()
        self.tools: dict[str, QToolButton] = {}
        for name, icon, tip, key in TOOLS:
            button = self._tool(name, icon, tip, f"{tip} ({spelled(key)})" if key else tip)
            button.clicked.connect(lambda _=False, name=name: self.tool_pressed.emit(name))
            if key:
                button.setShortcut(QKeySequence(key))
            row.addWidget(button)
        compare = self._tool(
            "compare", "list", tr("Compare and keep"),
            tr("Lay another capture under it, keep it as known-good, compare both ends of the wire"),
        )  # fmt: skip
        compare.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self.menu = CompareMenu(self)
        compare.setMenu(self.menu)
        row.addWidget(compare)
        self.apply_theme()

    def _tool(self, name: str, icon: str, words: str, tip: str) -> QToolButton:
        button = self.tools[name] = QToolButton()
        button.setProperty("icon_name", icon)
        button.setAccessibleName(words)
        button.setToolTip(tip)
        return button

    def apply_theme(self) -> None:
        for button in self.tools.values():
            button.setIcon(theme.icon(button.property("icon_name")))

    def offer_lenses(self, shown: tuple[str, ...]) -> None:
        """Show these lenses only; their keys are theirs alone."""
        for name, button in self.lenses.items():
            button.setVisible(name in shown)
            button.setShortcut(QKeySequence(button.property("key") if name in shown else ""))
