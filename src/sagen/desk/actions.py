"""What can be done with keys: actions as data, from which keys, tips and the list of keys are made."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass

from PySide6.QtGui import QAction, QKeySequence
from PySide6.QtWidgets import QDialog, QGridLayout, QPushButton, QVBoxLayout, QWidget

from sagen.desk.look.plain import Label


@dataclass(frozen=True)
class Action:
    """One deed: its key as Qt spells it, what it does in a few words, and the deed itself."""

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
    for one in actions:
        action = QAction(one.words, widget)
        action.setShortcut(QKeySequence(one.keys))
        action.triggered.connect(lambda _=False, run=one.run: run(*arguments))
        widget.addAction(action)


class KeysDialog(QDialog):
    """The list of keys, made from the actions and hints themselves."""

    def __init__(self, groups: Iterable[tuple[str, Iterable[Action | Hint]]], parent: QWidget | None = None):
        super().__init__(parent)
        self.setWindowTitle("Keys")
        layout = QVBoxLayout(self)
        layout.setContentsMargins(18, 14, 18, 14)
        grid = QGridLayout()
        grid.setHorizontalSpacing(18)
        grid.setVerticalSpacing(3)
        columns = [0, 0]
        for title, rows in groups:
            rows = list(rows)
            side = 0 if columns[0] <= columns[1] else 1
            grid.addWidget(Label(title, name="over"), columns[side], 2 * side, 1, 2)
            columns[side] += 1
            for one in rows:
                grid.addWidget(Label(one.keys, name="strong"), columns[side], 2 * side)
                grid.addWidget(Label(one.words), columns[side], 2 * side + 1)
                columns[side] += 1
        layout.addLayout(grid)
        close = QPushButton("Close")
        close.setDefault(True)
        close.clicked.connect(self.accept)
        layout.addWidget(close)

    def told(self) -> str:
        """Everything that the list says."""
        return " ".join(one.text() for one in self.findChildren(Label))
