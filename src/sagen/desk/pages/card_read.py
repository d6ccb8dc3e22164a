"""A machine card as it is read at the car: what it says of one circuit, its plug drawn large, its wires and published values."""

from __future__ import annotations

from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from sagen.casework.judging import published_limits
from sagen.desk.pages.plug_face import PlugFace
from sagen.desk.tables import TextTable
from sagen.desk.theme.plain import Label
from sagen.model.language import lowered, titled, tr, worded
from sagen.model.machine_card import CardCircuit, MachineCard
from sagen.model.quantities import LENGTH, TEMPERATURE, TORQUE
from sagen.model.vocabulary import Place, RelearnKind
from sagen.model.words import PLACES, RELEARNS, ROLES, SENSORS, WIRES, card_points

WIRE_HEADS = (tr("Wire"), tr("Colour"), tr("Pin, sensor"), tr("Pin, module"), tr("Fuse"), tr("Shared with"))
ROW_HEADS = (tr("Between"), tr("When"), tr("From"), tr("To"), tr("For"))
FACE = (300, 150)  #: px of the plug's face at least


class CardRead(QWidget):
    """What is known, without a field; what is not known is left out."""

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(8)
        self.about = Label(name="quiet", wrap=True)
        layout.addWidget(self.about)
        row = QHBoxLayout()
        row.setSpacing(14)
        told = QVBoxLayout()
        told.setSpacing(4)
        self.name, self.facts = Label(name="heading", wrap=True), Label(wrap=True)
        self.place, self.minutes, self.relearn = (
            Label(wrap=True),
            Label(name="quiet", wrap=True),
            Label(name="caution", wrap=True),
        )
        for item in (self.name, self.facts, self.place, self.minutes, self.relearn):
            told.addWidget(item)
        told.addStretch(1)
        row.addLayout(told, 3)
        self.face = PlugFace()
        self.face.setMinimumSize(*FACE)
        row.addWidget(self.face, 4)
        layout.addLayout(row)
        self.wires = TextTable(WIRE_HEADS, tr("Wires of the circuit"), stretch=5)
        self.published = TextTable(ROW_HEADS, tr("Published values"), stretch=0)
        self.none = Label(tr("Nothing is published on this card of this circuit."), name="quiet", wrap=True)
        layout.addWidget(Label(tr("WIRES"), name="over"))
        layout.addWidget(self.wires)
        layout.addWidget(Label(tr("PUBLISHED VALUES"), name="over"))
        layout.addWidget(self.published)
        layout.addWidget(self.none)
        layout.addStretch(1)

    def show_circuit(self, card: MachineCard, circuit: CardCircuit | None) -> None:
        """One circuit of a card; None of one that has none yet."""
        self.about.setText(machine_words(card))
        self.face.show_circuit(circuit)
        said = circuit_words(card, circuit) if circuit is not None else (tr("No circuit yet"), "", "", "", "")
        for label, words in zip((self.name, self.facts, self.place, self.minutes, self.relearn), said, strict=True):
            label.setText(words)
            label.setVisible(bool(words))
        wires = circuit.wire if circuit is not None else ()
        self.wires.show_rows([
            ((
                WIRES[wire.carries], wire.colour, wire.sensor_pin, wire.module_pin,
                ", ".join(item for item in (wire.fuse, wire.fuse_place) if item), ", ".join(wire.shared_with),
            ), "", wire)
            for wire in wires
        ])  # fmt: skip
        rows = circuit.published if circuit is not None else ()
        self.published.show_rows([((*_row(item),), "", item) for item in rows])
        for table in (self.wires, self.published):
            table.resizeRowsToContents()
            tall = sum(table.rowHeight(row) for row in range(table.rowCount()))
            table.setFixedHeight(table.horizontalHeader().sizeHint().height() + tall + 4)
        self.published.setVisible(bool(rows))
        self.none.setVisible(not rows)


def machine_words(card: MachineCard) -> str:
    """The machine in a line."""
    firing = "-".join(str(number) for number in card.firing)
    told = (
        card.years, card.engine, tr("{cylinders} cylinders", cylinders=card.cylinders) if card.cylinders else "", tr("firing {firing}", firing=firing) if firing else "",
        f"{card.volts} V", tr("bore {bore}", bore=LENGTH.said(card.bore_mm)) if card.bore_mm else "", card.note,
    )  # fmt: skip
    return " \u00b7 ".join(item for item in told if item)


def circuit_words(card: MachineCard, circuit: CardCircuit) -> tuple[str, str, str, str, str]:
    """A circuit's name, what it is, where it sits, the minutes to get there, and what is to be taught again."""
    kind = [ROLES[circuit.role]] + ([SENSORS[circuit.sensor]] if circuit.sensor is not None else [])
    facts = (
        ", ".join(kind), tr("bank {bank}", bank=circuit.bank) if circuit.bank else "", tr("wheel {wheel}", wheel=circuit.wheel) if circuit.wheel else "",
        tr("feed {supply:g} V", supply=circuit.supply) if circuit.supply else "", tr("pull-up {pull_up:g} V", pull_up=circuit.pull_up) if circuit.pull_up else "",
        TORQUE.said(circuit.torque_nm) if circuit.torque_nm else "",
    )  # fmt: skip
    minutes = card.minutes(circuit.name)
    reach = [
        tr("{place} {minutes:g}", place=lowered(PLACES[place]), minutes=minutes[str(place)])
        for place in Place
        if str(place) in minutes
    ]
    relearn = circuit.relearn
    owed = ""
    if relearn is not None and relearn.kind != RelearnKind.NONE:
        owed = tr("After a change: {kind}", kind=lowered(RELEARNS[relearn.kind])) + (
            f". {relearn.text}" if relearn.text else ""
        )
    return (
        titled(circuit.name), "; ".join(item for item in facts if item),
        tr("Sits {place}", place=circuit.place) if circuit.place else "", tr("Minutes to get there: {reach}", reach=', '.join(reach)) if reach else "", owed,
    )  # fmt: skip


def _row(item) -> tuple[str, str, str, str, str]:
    """A published value: where, when, its ends, and for whom it holds."""
    state = worded(str(item.state)) if item.state else ""
    when = ", ".join(
        part for part in (state, item.when, TEMPERATURE.said(item.at) if item.at is not None else "") if part
    )
    unit = str(item.quantity)
    if item.over:
        return card_points(item.between), when, published_limits(item), "", item.maker
    ends = (tr("{end:g} {unit}", end=end, unit=unit) if end is not None else "" for end in (item.low, item.high))
    return (card_points(item.between), when, *ends, item.maker)
