"""What is worked out on the back of a job card: each line of figures answers as it is typed."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

from PySide6.QtWidgets import QComboBox, QDialog, QFormLayout, QLineEdit, QPushButton, QVBoxLayout, QWidget

from sagen.desk.theme.plain import Label
from sagen.meter import arithmetic as work
from sagen.meter.sets import compare_set
from sagen.model.errors import SagenError
from sagen.model.language import titled, tr

MOST = 1e12  #: no figure on a job card is larger


@dataclass(frozen=True)
class Sum:
    """One kind of working-out: what is asked, and how the answer is said."""

    name: str
    fields: tuple[str, ...]
    answer: Callable[[list[float]], str]
    hint: str = ""


def _ohm(value: float) -> str:
    return tr("no leak at all") if value == float("inf") else tr("{value:,.4g} Ω", value=value)


SUMS = (
    Sum(tr("Drop under load: what resistance"), (tr("Drop, V"), tr("Current, A")), lambda v: tr("{it} lie in that stretch of wire.", it=_ohm(work.drop_ohm(*v)))),
    Sum(tr("Reading too low: what leak explains it"), (tr("Pull-up, V"), tr("Pull-up, Ω"), tr("Reading, V")), lambda v: tr("A leak of {it} to ground.", it=_ohm(work.leak_that_explains(*v)))),
    Sum(tr("Low level too high: what resistance explains it"), (tr("Pull-up, V"), tr("Pull-up, Ω"), tr("Low level, V")), lambda v: tr("{it} between output and ground.", it=_ohm(work.series_that_explains(*v)))),
    Sum(tr("Wire by gauge"), (tr("Length, m"), "AWG", tr("Temperature, °C")), lambda v: tr("{v} of copper.", v=_ohm(work.wire_ohm(v[0], awg=int(v[1]), celsius=v[2])))),
    Sum(tr("Wire by cross-section"), (tr("Length, m"), "mm²", tr("Temperature, °C")), lambda v: tr("{v} of copper.", v=_ohm(work.wire_ohm(v[0], mm2=v[1], celsius=v[2])))),
    Sum(tr("Thermistor between two points"), (tr("At, °C"), tr("First °C"), tr("First Ω"), tr("Second °C"), tr("Second Ω")), lambda v: f"{_ohm(work.thermistor_ohm(v[0], (v[1], v[2]), (v[3], v[4])))}."),
    Sum(tr("Set of like parts: which one is odd"), (tr("Readings"),), lambda v: compare_set(v).text, tr("four knock sensors, say: 0.20 0.20 0.31 0.20")),
    Sum(tr("Potentiometer sweep: where it tears"), (tr("Readings"),), lambda v: _sweep(v), tr("volts from closed to open, in order")),
)  # fmt: skip


def _may_be_below(field: str) -> bool:
    """Whether a figure may lie below zero: a temperature, a voltage, a reading."""
    return field == tr("Readings") or field.endswith(("°C", "V"))


def _sweep(values: list[float]) -> str:
    found = work.sweep_faults(values)
    return (
        tr("It jumps or falls back at reading {found}.", found=", ".join(str(item + 1) for item in found))
        if found
        else tr("An even sweep.")
    )


class ArithmeticForm(QDialog):
    """Choose a kind, type the figures, read the answer."""

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.setWindowTitle(tr("Arithmetic"))
        self.setMinimumWidth(520)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(18, 16, 18, 16)
        self.kind = QComboBox()
        self.kind.setAccessibleName(tr("Kind of working-out"))
        for this_sum in SUMS:
            self.kind.addItem(this_sum.name)
        layout.addWidget(self.kind)
        self.form = QFormLayout()
        layout.addLayout(self.form)
        self.answer = Label()
        self.answer.setObjectName("heading")
        self.answer.setWordWrap(True)
        self.answer.setMinimumHeight(56)
        layout.addWidget(self.answer)
        close = QPushButton(tr("Close"))
        close.clicked.connect(self.accept)
        layout.addWidget(close)
        self.lines: list[QLineEdit] = []
        self.kind.currentIndexChanged.connect(self._show_kind)
        self._show_kind(0)

    def _show_kind(self, index: int) -> None:
        while self.form.rowCount():
            self.form.removeRow(0)
        self.lines = []
        for name in SUMS[index].fields:
            line = QLineEdit()
            line.setPlaceholderText(SUMS[index].hint)
            line.textChanged.connect(lambda _: self._answer())
            self.lines.append(line)
            self.form.addRow(name, line)
        self._answer()

    def _answer(self) -> None:
        """The answer, what is wrong with the figures, or nothing while some are still missing."""
        kind = SUMS[self.kind.currentIndex()]
        texts = [line.text().strip().replace(",", ".") for line in self.lines]
        if kind.fields == ("Readings",):
            texts = texts[0].split()
        if not texts or not all(texts):
            self.answer.setText("")
            return
        try:
            figures = [float(text) for text in texts]
        except ValueError:
            figures = [math.nan]
        if not all(abs(figure) < MOST for figure in figures):
            self.answer.setText(tr("Only figures, please.") if any(map(math.isnan, figures)) else tr("No such figure."))
            return
        below = [
            name for name, figure in zip(kind.fields, figures, strict=False) if figure < 0 and not _may_be_below(name)
        ]
        if below:
            self.answer.setText(tr("{it}: this is never below zero.", it=below[0].split(",")[0]))
            return
        try:
            self.answer.setText(kind.answer(figures))
        except SagenError as error:
            said = str(error)
            self.answer.setText(titled(said) + ".")
        except (ArithmeticError, ValueError):
            self.answer.setText(tr("These figures give no answer: one of them is zero, negative or far too large."))
