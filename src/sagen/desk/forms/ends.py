"""What the comparison of both ends needs to know of the module."""

from __future__ import annotations

from PySide6.QtWidgets import QLineEdit, QWidget

from sagen.desk.forms.base import Form
from sagen.desk.theme.plain import Label
from sagen.model.language import tr


class EndsForm(Form):
    """The resistance of the module's pull-up or of a coil's load, where it is known."""

    def __init__(self, parent: QWidget | None = None):
        super().__init__(tr("Both ends of the signal wire"), tr("Compare"), parent)
        self.line = self.add(tr("Pull-up or load, Ω"), QLineEdit())
        self.line.setPlaceholderText(tr("of the module; empty: as it usually is"))
        self.fields.addRow(
            Label(
                tr("The pull-up's current makes a drop along the wire: with its resistance known the wire's ohms " "are known. Without it the interval is wide."), name="quiet", wrap=True,
            )
        )  # fmt: skip

    def ohm(self) -> float | None:
        """The resistance as typed, in ohm or with k behind it; None where it is empty."""
        text = self.line.text().strip().lower().replace(",", ".").removesuffix("ohm").removesuffix("\u03c9").strip()
        if not text:
            return None
        return float(text.removesuffix("k")) * (1000.0 if text.endswith("k") else 1.0)

    def problem(self) -> str:
        try:
            value = self.ohm()
        except ValueError:
            return tr("Ohms are a number, as 2200 or 2.2k.")
        return "" if value is None or 1.0 <= value <= 1e7 else tr("From 1 ohm to 10 megohm.")
