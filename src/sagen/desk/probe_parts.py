"""What probe mode is worked by: keys of a foot switch or a remote, a line for figures, and how a reading stands on the screen."""

from __future__ import annotations

from PySide6.QtGui import QKeySequence
from PySide6.QtWidgets import QFormLayout, QKeySequenceEdit, QLineEdit, QWidget

from sagen.desk.forms.base import Form
from sagen.model.language import tr
from sagen.model.vocabulary import Quantity

#: what a foot switch or a remote does, and with which key at first
FOOT_KEYS = {
    "take": (tr("Take the reading"), "Space"), "next": (tr("Next step"), "PgDown"), "before": (tr("Step before"), "PgUp"),
}  # fmt: skip


class ProbeKeysForm(Form):
    """Which keys a foot switch or a remote sends."""

    def __init__(self, keys: dict[str, str], parent: QWidget | None = None):
        super().__init__(tr("Keys of probe mode"), tr("Use these"), parent)
        self.fields.setRowWrapPolicy(QFormLayout.RowWrapPolicy.DontWrapRows)
        self.edits = {}
        for name, (words, _) in FOOT_KEYS.items():
            edit = self.add(words, QKeySequenceEdit(QKeySequence(keys[name])))
            edit.setMaximumSequenceLength(1)
            self.edits[name] = edit

    def answer(self) -> dict[str, str]:
        return {name: edit.keySequence().toString() for name, edit in self.edits.items()}


class FigureLine(QLineEdit):
    """Takes figures; keys that a foot switch sends go on to the window."""

    def keyPressEvent(self, event) -> None:
        if self.window().foot_key(event):
            event.ignore()
        else:
            super().keyPressEvent(event)


def said(value: float, quantity: str, over: bool) -> str:
    """A reading as it stands large on the screen."""
    if over:
        return "OL"
    if quantity == Quantity.OHMS:
        return (
            tr("{value:.3g} MΩ", value=value / 1e6)
            if value >= 1e6
            else tr("{value:.4g} kΩ", value=value / 1e3)
            if value >= 1e3
            else tr("{value:.4g} Ω", value=value)
        )
    return tr("{value:.0f} mV", value=1e3 * value) if abs(value) < 0.1 else tr("{value:.2f} V", value=value)
