"""What can be done with keys: actions as data, from which keys, tips and the list of keys are made."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from dataclasses import dataclass

from PySide6.QtCore import Qt
from PySide6.QtGui import QAction, QKeySequence
from PySide6.QtWidgets import QDialog, QGridLayout, QPushButton, QScrollArea, QVBoxLayout, QWidget

from sagen.desk.theme.plain import Label
from sagen.model.language import tr

COLUMNS, TALLEST = 3, 620  #: of the list of keys; more scrolls
#: what stands on keys, by Qt's names of them
KEYCAPS = {
    "Ctrl": tr("Ctrl"), "Shift": tr("Shift"), "Alt": tr("Alt"), "Space": tr("Space"), "Del": tr("Del"), "Home": tr("Home"),
    "End": tr("End"), "Esc": tr("Esc"), "PgUp": tr("PgUp"), "PgDown": tr("PgDown"), "Return": tr("Enter"), "Enter": tr("Enter"),
    "Tab": tr("Tab"),
}  # fmt: skip


def spelled(keys: str) -> str:
    """Keys as they stand on a keyboard of the language that is spoken.

    Parameters
    ----------
    keys : str
        as Qt spells them, such as "Ctrl+Shift+M"; words that are no names of keys stay
    """
    return re.sub(r"[A-Z][A-Za-z]+", lambda found: KEYCAPS.get(found[0], found[0]), keys)


@dataclass(frozen=True)
class Action:
    """An action: its key as Qt spells it, what it does in a few words, and what is run."""

    keys: str
    words: str
    run: Callable


@dataclass(frozen=True)
class Hint:
    """Keys that a widget takes by itself, for the list of keys."""

    keys: str
    words: str


def bind(widget: QWidget, actions: Iterable[Action], *arguments) -> None:
    """Give a widget the keys of actions; each is run with `arguments`."""
    for each_action in actions:
        action = QAction(each_action.words, widget)
        action.setShortcut(QKeySequence(each_action.keys))
        action.triggered.connect(lambda _=False, run=each_action.run: run(*arguments))
        widget.addAction(action)


class KeysDialog(QDialog):
    """The list of keys, made from the actions and hints themselves."""

    def __init__(self, groups: Iterable[tuple[str, Iterable[Action | Hint]]], parent: QWidget | None = None):
        super().__init__(parent)
        self.setWindowTitle(tr("Keys"))
        layout = QVBoxLayout(self)
        layout.setContentsMargins(18, 14, 18, 14)
        inside = QWidget()
        grid = QGridLayout(inside)
        grid.setContentsMargins(0, 0, 12, 0)
        grid.setHorizontalSpacing(14)
        grid.setVerticalSpacing(3)
        lengths = [0] * COLUMNS
        for title, rows in groups:
            rows = list(rows)
            side = lengths.index(min(lengths))
            grid.addWidget(Label(title, name="over"), lengths[side], 2 * side, 1, 2)
            lengths[side] += 1
            for row in rows:
                grid.addWidget(Label(spelled(row.keys), name="strong"), lengths[side], 2 * side)
                words = Label(row.words, wrap=True)
                words.setMinimumWidth(190)
                grid.addWidget(words, lengths[side], 2 * side + 1)
                lengths[side] += 1
        grid.setRowStretch(max(lengths), 1)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setFrameShape(QScrollArea.Shape.NoFrame)
        area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        area.setWidget(inside)
        area.setMinimumSize(min(inside.sizeHint().width() + 24, 1180), min(inside.sizeHint().height(), TALLEST))
        layout.addWidget(area)
        close = QPushButton(tr("Close"))
        close.setDefault(True)
        close.clicked.connect(self.accept)
        layout.addWidget(close)

    def told(self) -> str:
        """Everything that the list says."""
        return " ".join(item.text() for item in self.findChildren(Label))
