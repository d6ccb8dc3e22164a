"""Small forms for what surrounds the measuring: places, steps, parts, second faults, costs, readings by the card."""

from __future__ import annotations

from PySide6.QtWidgets import QCheckBox, QComboBox, QLineEdit, QPushButton

from sagen.casework.costs import keep_shop_costs, shop_costs
from sagen.casework.judging import judged_value, published_limits
from sagen.desk.forms.base import NOTHING_YET, EntryForm
from sagen.desk.theme.plain import Label
from sagen.model.errors import SagenError
from sagen.model.language import titled, tr
from sagen.model.quantities import TEMPERATURE
from sagen.model.trail import (
    BENCH,
    CostsEntry,
    PartEntry,
    PhotoEntry,
    PlaceEntry,
    SeenEntry,
    StepEntry,
    ValueEntry,
)
from sagen.model.typed import typed_figure, typed_whole
from sagen.model.vocabulary import EntryKind, LineState, Origin, Part, Place, SeenMark, State, StepKind
from sagen.model.words import (
    LINE_STATES,
    ORIGINS,
    PARTS,
    PLACES,
    QUANTITIES,
    SEEN_MARKS,
    STATES_THEN,
    STEPS,
)
from sagen.reason.decide import Costs


def number(line: QLineEdit, what: str, *, whole: bool = False) -> float | int | None:
    """The figure of a line, None where it is empty; raises ValueError in words for what is none."""
    text = line.text().strip()
    if not text:
        return None
    return typed_whole(text, what) if whole else typed_figure(text, what)


class Checked(EntryForm):
    """A form whose answer is checked by making the record."""

    def problem(self) -> str:
        try:
            self.answer()
        except ValueError as error:
            message = str(error)
            return f"{titled(message)}."
        return ""

    def line(self, name: str, value: object = "", hint: str = "") -> QLineEdit:
        """A field of one line."""
        text = "" if value is None else f"{value:g}" if isinstance(value, float) else str(value)
        field = self.add(name, QLineEdit(text))
        field.setPlaceholderText(hint)
        return field


class PlaceForm(Checked):
    record = PlaceEntry

    def build(self, old: PlaceEntry | None) -> None:
        self.place = self.choice(tr("Place"), PLACES, old.place if old else Place.SENSOR)
        self.opened = self.choice(
            tr("It is"), {True: tr("Open now"), False: tr("Closed up")}, old.opened if old else True
        )

    def answer(self) -> PlaceEntry:
        return PlaceEntry(self.place.currentData(), bool(self.opened.currentData()))


class StepForm(Checked):
    record = StepEntry

    def build(self, old: StepEntry | None) -> None:
        self.step = self.choice(tr("Step"), STEPS, old.step if old else StepKind.UNBOLTED)
        self.what = self.line(tr("What"), old.what if old else "", tr("as hose at the throttle body"))
        self.size = self.line(tr("Bolt, size"), old.size if old else "", tr("as 2 x M6, 10 mm"))
        self.owes = self.line(tr("Before it goes back"), old.owes if old else "", tr("as new seal, 9 Nm"))
        self.place = self.choice(tr("At"), {None: tr("Not said"), **PLACES}, old.place if old else None)
        self.back = QCheckBox(tr("Together again"))
        self.back.setChecked(old is not None and old.back)
        self.fields.addRow(self.back)

    def answer(self) -> StepEntry:
        return StepEntry(
            self.step.currentData(), self.what.text().strip(), self.size.text().strip(), self.owes.text().strip(),
            self.place.currentData(), self.back.isChecked(),
        )  # fmt: skip


class PartForm(Checked):
    record = PartEntry

    def build(self, old: PartEntry | None) -> None:
        one = old or PartEntry("?")
        self.name = self.line(tr("Part"), old.name if old else "", tr("as crank sensor, bank 1"))
        self.part = self.choice(tr("It is"), {None: tr("Something else"), **PARTS}, one.part if old else Part.SENSOR)
        self.number = self.line(tr("Number"), one.number)
        self.maker = self.line(tr("Maker"), one.maker)
        self.origin = self.choice(tr("Origin"), ORIGINS, one.origin)
        self.source = self.line(tr("From"), one.source, tr("who sells it"))
        self.price = self.line(tr("Price, each"), one.price)
        self.count = self.line(tr("How many"), one.count)
        self.days = self.line(tr("Comes in days"), one.lead_days, tr("0: at hand"))
        self.state = self.choice(tr("State"), LINE_STATES, one.state if old else LineState.WANTED)
        hints = {
            "ohms": (tr("Bench: ohms"), tr("before it is fitted")),
            "pulses": (tr("Bench: pulses"), tr("as counted")),
            "looks": (tr("Bench: looks"), tr("beside the old one")),
        }
        self.bench = {key: self.line(hints[key][0], one.bench.get(key, ""), hints[key][1]) for key in BENCH}
        self.text = self.line(tr("More"), one.text)

    def answer(self) -> PartEntry:
        return PartEntry(
            self.name.text().strip(), self.part.currentData(), self.number.text().strip(), self.maker.text().strip(),
            Origin(self.origin.currentData()), self.source.text().strip(), number(self.price, tr("price")),
            number(self.count, tr("how many"), whole=True) or 1, number(self.days, tr("days")), self.state.currentData(),
            {key: line.text().strip() for key, line in self.bench.items() if line.text().strip()}, self.text.text().strip(),
        )  # fmt: skip


class SeenForm(Checked):
    record = SeenEntry

    def build(self, old: SeenEntry | None) -> None:
        self.seen = self.line(tr("Also seen"), old.seen if old else "", tr("as dried coolant at the plug"))
        self.mark = self.choice(tr("What becomes of it"), SEEN_MARKS, old.mark if old else SeenMark.WATCH)
        self.because = self.line(tr("Because"), old.because if old else "")

    def answer(self) -> SeenEntry:
        return SeenEntry(self.seen.text().strip(), self.mark.currentData(), self.because.text().strip())


#: what a shop reckons with in every job, in words
SHOP_COSTS = {"hour": tr("An hour of labour"), "come_back": tr("A come-back, in all"), "day": tr("A day of standing")}


class CostsForm(Checked):
    record = CostsEntry

    def build(self, old: CostsEntry | None) -> None:
        try:
            shop = shop_costs()
        except SagenError:
            shop = None
        one = old or CostsEntry()

        def hint(name: str) -> str:
            value = getattr(shop, name) if shop is not None else None
            return tr("the shop's: {value:g}", value=value) if value is not None else tr("not stated")

        self.lines = {
            name: self.line(words, getattr(one, name), hint(name))
            for name, words in (
                SHOP_COSTS | {"part_price": tr("The part"), "lead_days": tr("It comes in days")}
            ).items()
        }
        self.usual = QPushButton(tr("Keep hour, come-back and day as the shop's own"))
        self.usual.clicked.connect(self._keep_for_shop)
        self.fields.addRow(self.usual)
        self.kept = Label(name="quiet", wrap=True)
        self.fields.addRow(self.kept)

    def _keep_for_shop(self) -> None:
        try:
            one = self.answer()
            keep_shop_costs(Costs(one.hour, one.come_back, one.day))
            self.kept.setText(tr("Kept: every job that states none takes these."))
        except (SagenError, ValueError) as error:
            self.kept.setText(str(error))

    def answer(self) -> CostsEntry:
        return CostsEntry(**{name: number(line, name.replace("_", " ")) for name, line in self.lines.items()})


class PhotoForm(Checked):
    record = PhotoEntry

    def build(self, old: PhotoEntry | None) -> None:
        self.old = old
        self.caption = self.line(tr("Caption"), old.caption if old else "")
        self.words = self.line(tr("Words on it"), old.words if old else "")

    def answer(self) -> PhotoEntry:
        if self.old is None:
            raise ValueError(NOTHING_YET)
        return PhotoEntry(
            self.old.token,
            self.caption.text().strip(),
            self.old.arrow,
            self.words.text().strip(),
            circuit=self.old.circuit,
        )


class ValueForm(Checked):
    """A reading of what the card publishes: the row is chosen, the figure typed, and judged as it is typed."""

    record = ValueEntry

    def __init__(self, old: ValueEntry | None = None, parent=None, *, card=None):
        self.card = card
        super().__init__(old, parent)

    def build(self, old: ValueEntry | None) -> None:
        self.rows: list[tuple] = []
        self.row = self.add(tr("Reading"), QComboBox())
        for circuit in self.card.circuit if self.card else ():
            for row in circuit.published:
                self.rows.append((circuit.name, row))
                maker = f" ({row.maker})" if row.maker else ""
                self.row.addItem(f"{circuit.name}: {row.where}, {published_limits(row)}{maker}", len(self.rows) - 1)
        self.value = self.line(tr("It reads"), old.value if old else "")
        self.temperature = self.line(
            tr("Part, {unit}", unit=TEMPERATURE.sign),
            TEMPERATURE.shown(old.temperature_c) if old and old.temperature_c is not None else None,
        )
        self.leads = self.line(tr("Leads, Ω"), old.leads_ohm or None if old else None)
        self.said = Label(name="caution", wrap=True)
        self.said.setMinimumHeight(56)
        self.fields.addRow(self.said)
        if old is not None:
            at = next(
                (
                    k
                    for k, (name, row) in enumerate(self.rows)
                    if name == old.circuit and row.between == old.between and row.quantity == old.quantity
                ),
                0,
            )
            self.row.setCurrentIndex(at)
        for line in (self.value, self.temperature, self.leads):
            line.textChanged.connect(lambda _="": self._judge())
        self.row.currentIndexChanged.connect(lambda _=0: self._judge())
        self._judge()

    def _judge(self) -> None:
        try:
            _, found = judged_value(self._typed(), self.card)
            self.said.setText(found.text if found else "")
        except (SagenError, ValueError) as error:
            self.said.setText(str(error) if self.value.text().strip() else "")

    def _typed(self) -> ValueEntry:
        if not self.rows:
            raise ValueError(tr("the card of this job publishes nothing"))
        name, row = self.rows[int(self.row.currentData() or 0)]
        value = number(self.value, tr("it reads"))
        if value is None:
            raise ValueError(tr("type the figure that the meter shows"))
        return ValueEntry(
            row.between, row.quantity, float(value), row.state, row.when, self._part_temperature(),
            number(self.leads, tr("leads")) or 0.0, shown=f"{self.value.text().strip()} {QUANTITIES[row.quantity]}", circuit=name,
        )  # fmt: skip

    def _part_temperature(self) -> float | None:
        text = self.temperature.text()
        return TEMPERATURE.typed(text, tr("part")) if text.strip() else None

    def answer(self) -> ValueEntry:
        try:
            return judged_value(self._typed(), self.card)[0]
        except SagenError as error:
            raise ValueError(str(error)) from None


#: what a state is called where a row names one
ROW_STATES = {None: "", **{state: STATES_THEN[state] for state in State}}

WORK_FORMS: dict[EntryKind, type[EntryForm]] = {
    kind.record.kind: kind for kind in (PlaceForm, StepForm, PartForm, SeenForm, CostsForm, PhotoForm)
}
