"""Which wire is which: readings at the open plug, and what they make of each pin."""

from __future__ import annotations

from PySide6.QtWidgets import QGridLayout, QLineEdit, QWidget

from sagen.desk.forms.base import Form
from sagen.desk.theme.plain import Label
from sagen.model.errors import SagenError
from sagen.model.language import titled, tr
from sagen.model.typed import typed_reading
from sagen.model.vocabulary import OVER_RANGE_OHM
from sagen.model.words import WIRES
from sagen.reason.wires import MOST, NamedWires, PinReading, name_wires

HEADS = (tr("Pin"), tr("Volts, key on"), tr("With 2.2 kΩ to body"), tr("Ω to body, key off"))


class WireForm(Form):
    """A row a pin; every figure answers as it is typed."""

    def __init__(self, pins: list[str] | None = None, parent: QWidget | None = None):
        super().__init__(tr("Which wire is which"), tr("Take these names"), parent)
        self.setMinimumWidth(620)
        self.named: NamedWires | None = None
        self.fields.addRow(Label(
            tr("Plug open, harness side. Volts against battery negative with the key on; ohms to body with the key " "off. Do not spread the contacts."), name="caution", wrap=True,
        ))  # fmt: skip
        grid = QGridLayout()
        for column, words in enumerate(HEADS):
            grid.addWidget(Label(words, name="quiet"), 0, column)
        self.lines: list[list[QLineEdit]] = []
        self.said: list[Label] = []
        names = [*(pins or ["1", "2", "3"])][:MOST]
        for row in range(MOST):
            cells = [QLineEdit(names[row] if row < len(names) and column == 0 else "") for column in range(len(HEADS))]
            for column, line in enumerate(cells):
                line.setAccessibleName(tr("{column}, row {row}", column=HEADS[column], row=row + 1))
                line.textChanged.connect(lambda _="": self._answer())
                grid.addWidget(line, row + 1, column)
            self.lines.append(cells)
            label = Label(name="strong")
            label.setMinimumWidth(150)
            self.said.append(label)
            grid.addWidget(label, row + 1, len(HEADS))
        self.fields.addRow(grid)
        self.settle = Label(name="quiet", wrap=True)
        self.settle.setMinimumHeight(40)
        self.fields.addRow(self.settle)
        self.lines[0][1].setFocus()
        self._answer()

    def readings(self) -> list[PinReading]:
        """The pins as typed; raises SagenError for what is no number."""
        out = []
        for cells in self.lines:
            texts = [cell.text().strip() for cell in cells]
            if not texts[0]:
                continue
            figures = []
            for text in texts[1:]:
                try:
                    figures.append(min(typed_reading(text), OVER_RANGE_OHM) if text else None)
                except ValueError as error:
                    raise SagenError(str(error)) from None
            out.append(PinReading(texts[0], figures[0], figures[2], figures[1]))
        return out

    def _answer(self) -> None:
        self.named = None
        for label in self.said:
            label.setText("")
        try:
            pins = self.readings()
            if not any(pin.volts is not None or pin.ohms is not None for pin in pins):
                self.settle.setText(tr("Type what the meter shows at each pin."))
                return
            self.named = name_wires(pins)
        except SagenError as error:
            message = str(error)
            self.settle.setText(f"{titled(message)}.")
            return
        by_pin = {pin.pin: pin for pin in self.named.pins}
        for cells, label in zip(self.lines, self.said, strict=True):
            one = by_pin.get(cells[0].text().strip())
            if one is not None:
                label.setText(tr("{best}, {sure:.0f} %", best=WIRES[one.best], sure=min(100 * one.sure, 99)))
        self.settle.setText(
            tr("To settle more: {settle}", settle=self.named.settle)
            if self.named.settle
            else tr("Nothing is left to settle by a meter.")
        )

    def problem(self) -> str:
        return "" if self.named is not None else self.settle.text()
