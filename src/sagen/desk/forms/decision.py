"""The decision while it is open: what is known of the set, what parts and labour cost, and which choice is the cheapest."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtWidgets import QCheckBox, QComboBox, QGridLayout, QLineEdit, QWidget

from sagen.desk.forms.base import Form
from sagen.desk.theme.plain import Label
from sagen.model.errors import SagenError
from sagen.model.language import titled, tr
from sagen.model.trail import DecisionEntry
from sagen.model.typed import typed_figure
from sagen.model.vocabulary import Origin
from sagen.model.words import ORIGINS
from sagen.reason.decide import Decision, PartState, WhileOpen, decide, said

MOST = 1e9


def parts_of(taps) -> tuple[PartState, ...]:
    """The set as the taps tell of it; two sensors of which nothing is known where there are none."""
    verdict = taps.shown if taps is not None else None
    if verdict is None:
        return PartState(tr("sensor {number}", number=1)), PartState(tr("sensor {number}", number=2))
    bad = {blame.sensor for blame in verdict.blames}
    loaded = any(load.connection in ("loaded", "plugged") for load in verdict.fit.loads)
    return tuple(
        PartState(
            tr("bank {bank}", bank=key.bank) if key.bank else key.column, at in bad,
            verdict.relative[at].value if verdict.relative[at].known else None, loaded,
        )
        for at, key in enumerate(verdict.sensors)
    )  # fmt: skip


class DecisionForm(Form):
    """Figures on the left of nothing: every choice answers as they are typed; one is put on the trail."""

    def __init__(
        self, taps=None, record: dict | None = None, parent: QWidget | None = None, old: DecisionEntry | None = None
    ):
        super().__init__(tr("While it is open: fit one, or more of the set"), tr("Put on the trail"), parent)
        self.setMinimumWidth(720)
        self.record = record or {}
        self.parts = parts_of(taps)
        self.decision: Decision | None = None
        set_of = QWidget(self)
        grid = QGridLayout(set_of)
        grid.setContentsMargins(0, 0, 0, 0)
        self.failed: list[QCheckBox] = []
        for at, part in enumerate(self.parts):
            box = QCheckBox(tr("{name} failed ({part})", name=part.name, part=_measured(part)), set_of)
            box.setChecked(part.failed)
            box.toggled.connect(lambda _=False: self._answer())
            self.failed.append(box)
            grid.addWidget(box, at, 0)
        self.add(tr("The set"), set_of)
        self.origin = QComboBox()
        for origin in Origin:
            self.origin.addItem(ORIGINS[origin], origin)
        self.origin.setCurrentIndex(self.origin.findData(Origin.UNKNOWN))  # nobody has said yet whose part it is
        self.price, self.hours, self.rate = (
            self._figure(name) for name in (tr("price, needed"), tr("hours, needed"), tr("an hour, needed"))
        )
        self.each = self._figure(tr("hours, or empty"))
        self.at_hand, self.wait, self.day = (
            self._figure(name) for name in (tr("how many"), tr("days"), tr("a day, or not counted"))
        )
        self._row(tr("One part"), self.price, self.origin)
        self._row(tr("To get here again"), self.hours, self.rate)
        self._row(tr("One more now"), self.each, None)
        self._row(tr("At hand; others come in"), self.at_hand, self.wait)
        self._row(tr("Standing costs"), self.day, None)
        self.shop = Label(name="quiet", wrap=True)
        self.add(tr("This shop"), self.shop)
        self.choice = QComboBox()
        self.add(tr("We do"), self.choice)
        self.told = Label(tr("Give the price and the labour."), name="caution", wrap=True)
        self.told.setMinimumHeight(96)
        self.fields.addRow(self.told)
        self.origin.currentIndexChanged.connect(lambda _=0: self._answer())
        if old is not None:
            self._fill(old.given)
        self._answer()

    def _figure(self, hint: str) -> QLineEdit:
        line = QLineEdit()
        line.setPlaceholderText(hint)
        line.textChanged.connect(lambda _="": self._answer())
        return line

    def _row(self, name: str, first: QLineEdit, second: QWidget | None) -> None:
        """One or two fields beside each other, so that all of it stays in sight."""
        fields = (first, second or QWidget(self))
        self.add_beside(name, *fields)
        for field in fields:
            field.setAccessibleName(f"{name}: {field.placeholderText()}" if isinstance(field, QLineEdit) else name)

    def _lines(self) -> dict[str, QLineEdit]:
        """The fields of figures, by the names under which they are kept."""
        return {
            "price": self.price, "hours": self.hours, "rate": self.rate, "each": self.each, "at_hand": self.at_hand,
            "wait": self.wait, "day": self.day,
        }  # fmt: skip

    def _fill(self, given: dict) -> None:
        for name, line in self._lines().items():
            value = given.get(name)
            line.setText(f"{value:g}" if isinstance(value, int | float) else "")
        self.origin.setCurrentIndex(max(0, self.origin.findData(given.get("origin"))))

    def _number(self, line: QLineEdit) -> float | None:
        """The figure of a line, None where it is empty; raises ValueError for what is none."""
        text = line.text().strip()
        if not text:
            return None
        value = typed_figure(text)
        if not 0 <= value < MOST:
            raise ValueError(text)
        return value

    def given(self) -> dict:
        """The figures as typed, by name."""
        return {name: self._number(line) for name, line in self._lines().items()} | {
            "origin": str(self.origin.currentData())
        }

    def _answer(self) -> None:
        """Every choice, with its cost, as the figures stand."""
        fitted, back = self.record.get(self.origin.currentData(), (0, 0))
        self.shop.setText(
            tr("{fitted} of this origin fitted, {back} came back", fitted=fitted, back=back)
            if fitted
            else tr("no record of this origin yet: common practice is taken")
        )
        self.decision = None
        try:
            given = self.given()
        except ValueError:
            self.told.setText(tr("Figures only, and none below zero."))
            return
        missing = [
            name
            for name, key in (
                (tr("the price of a part"), "price"),
                (tr("the hours"), "hours"),
                (tr("the labour an hour"), "rate"),
            )
            if given[key] is None
        ]
        if missing:
            self.told.setText(tr("Still needed: {missing}.", missing=", ".join(missing)))
            return
        parts = tuple(replace(part, failed=box.isChecked()) for part, box in zip(self.parts, self.failed, strict=True))
        try:
            self.decision = decide(
                WhileOpen(
                    parts, given["price"], given["hours"] * given["rate"], (given["each"] or 0.0) * given["rate"],
                    Origin(given["origin"]), given["wait"] or 0.0, int(given["at_hand"] or 0), given["day"], self.record,
                )
            )  # fmt: skip
        except SagenError as error:
            message = str(error)
            self.told.setText(titled(message) + ".")
            return
        chosen = self.choice.currentData()
        self.choice.clear()
        for choice in self.decision.choices:
            self.choice.addItem(
                tr(
                    "{name}: {cost:,.0f} ({low:,.0f} to {high:,.0f})",
                    name=titled(choice.name),
                    cost=choice.cost,
                    low=choice.low,
                    high=choice.high,
                ),
                choice.name,
            )
        self.choice.setCurrentIndex(max(0, self.choice.findData(chosen)))
        self.told.setText(said(self.decision))

    def problem(self) -> str:
        return "" if self.decision is not None else self.told.text()

    def answer(self) -> DecisionEntry:
        """The decision for the trail."""
        choices = tuple(choice.as_data() for choice in self.decision.choices)
        return DecisionEntry(str(self.choice.currentData()), choices, self.given(), said(self.decision))


def _measured(part: PartState) -> str:
    if part.ratio is None:
        return tr("not measured")
    return tr("{ratio:.0f} % as tall{loaded}", ratio=100 * part.ratio, loaded="" if part.loaded else tr(", open only"))
