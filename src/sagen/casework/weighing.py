"""A trail weighed, whether it is of one circuit or of several: the same for a job file and for the log."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace

from sagen.casework.diagnosis import Diagnosis, diagnosis, stage_of
from sagen.casework.judging import card_circuit, published_words
from sagen.casework.lessons import ShopLessons
from sagen.codes.lookup import beside, several_silent, unknown_codes
from sagen.meter.published import rows_for
from sagen.model.circuit import CircuitSpec
from sagen.model.language import titled, tr
from sagen.model.machine_card import CardCircuit, MachineCard
from sagen.model.proof import standing
from sagen.model.trail import CardEntry, CodeEntry, Record
from sagen.model.vocabulary import CHOSEN_GEAR, OHM_POINTS, CheckKind, Gear, Point, Strategy, WireIs
from sagen.reason.askable import timing_in_doubt
from sagen.reason.case import case_of
from sagen.reason.checks import Advice, NextCheck, advice, next_checks
from sagen.reason.several import OfCircuit, records_of, weigh_together
from sagen.reason.suspects import suspects
from sagen.reason.weights import infer


def weigh_records(
    records: Iterable[Record],
    circuits: Mapping[str, CircuitSpec],
    gear: Iterable[Gear] = CHOSEN_GEAR,
    strategy: Strategy = Strategy.MOST,
    access: Mapping[str, float] | None = None,
    opened: Iterable[str] = (),
    record: ShopLessons | None = None,
    first: int = 0,
) -> Diagnosis:
    """The diagnosis of a trail; an open case without suspects of one without any evidence. `record` is what the shop's own jobs taught,
    where that is to count; `first` says how many records stand before those that a person counts as entries."""
    records, gear = list(records), tuple(gear)
    card = next((this_record.machine for this_record in reversed(records) if isinstance(this_record, CardEntry)), None)
    parts = []
    for name, spec in circuits.items():
        here = card_circuit(card, name, spec)
        minutes = {**(card.minutes(here.name if here else "") if card else {}), **(access or {})}
        hangs = (
            frozenset().union(*(g for wire in (WireIs.SUPPLY, WireIs.GROUND) for g in card.shares(wire) if name in g))
            if card
            else frozenset()
        )
        own = records_of(records, name, circuits, hangs) if len(circuits) > 1 else records
        case = case_of(own, spec, gear, strategy, minutes, opened, alone=len(circuits) == 1)
        if record is not None:
            case = replace(case, learned=record.of(spec, card))
        parts.append(OfCircuit(name, case, infer(case), hangs))
    if not any(this_part.case.trail for this_part in parts):
        return Diagnosis(stage=stage_of(standing(records)))
    cases = tuple((this_part.name, this_part.case) for this_part in parts)
    doubt = any(timing_in_doubt(this_part.case, this_part.posterior.by_fault()) for this_part in parts)
    pieces = sum(len(this_part.posterior.used) for this_part in parts)
    codes = [this_record for this_record in records if isinstance(this_record, CodeEntry)]
    named = [code.code for code in codes]
    read_alone = [code.code for code in codes if not code.says]
    together = (*unknown_codes(read_alone), *beside(read_alone), *_unexplained(parts))
    if len(parts) == 1:
        (one,) = parts
        checks = _by_the_card(next_checks(one.case, one.posterior), card, circuits)
        found, said = suspects(one.case, one.posterior), advice(one.case, one.posterior, checks)
    else:
        whole = weigh_together(parts, silent=several_silent(named))
        lead = whole.suspects[0]
        part = next(this_part for this_part in whole.parts if this_part.name == lead.circuit)
        own = tuple(check for check in whole.checks if check.circuit == lead.circuit)
        said = advice(part.case, part.posterior, own, lead.probability)
        said = Advice(said.enough, f"{lead.circuit}: {said.text}")
        found, checks = whole.suspects, _by_the_card(whole.checks, card, circuits)
    return diagnosis(
        records, found, checks, said, timing_in_doubt=doubt, together=together, cases=cases, pieces=pieces, first=first
    )


def _unexplained(parts: Iterable[OfCircuit]) -> tuple[str, ...]:
    """Readings that no fault explains, each once."""
    return tuple(dict.fromkeys(said for part in parts for said in part.posterior.odd))


#: the wire that a probe point is on
WIRE_AT = {
    Point.SUPPLY: WireIs.SUPPLY, Point.SIGNAL: WireIs.SIGNAL, Point.GROUND: WireIs.GROUND, Point.SHIELD: WireIs.SHIELD,
    Point.SUPPLY_WIRE: WireIs.SUPPLY, Point.SIGNAL_WIRE: WireIs.SIGNAL, Point.GROUND_WIRE: WireIs.GROUND,
}  # fmt: skip


def _by_the_card(
    checks: tuple[NextCheck, ...], card: MachineCard | None, circuits: Mapping[str, CircuitSpec]
) -> tuple[NextCheck, ...]:
    """Checks that name pin, colour and place as the card has them, and expect what it publishes."""
    if card is None:
        return checks
    out = []
    for this_check in checks:
        # A check of a job of one circuit names none, also where that circuit has a name.
        name = this_check.circuit or next(iter(circuits))
        found = card_circuit(card, name, circuits[name])
        if found is None:
            out.append(this_check)
            continue
        check = this_check.check
        where = pin_words(found, check.point) if check.kind in (CheckKind.METER, CheckKind.CAPTURE) else ""
        text = f"{this_check.text} {where}".strip()
        ohms = check.point in OHM_POINTS
        rows = rows_for(found, check.point, check.state, ohms=ohms) if check.kind == CheckKind.METER else ()
        expect = f"{published_words(rows)} {check.expect}" if rows else this_check.expect
        out.append(replace(this_check, text=text, expect=expect))
    return tuple(out)


def pin_words(circuit: CardCircuit, point: str) -> str:
    """Pin, colour and place of a probe point: "Pin 2, green, at the plug (behind the starter)."; "" where the card has none."""
    wire = circuit.wire_of(WIRE_AT[point]) if point in WIRE_AT else None
    told = wire.called if wire is not None else ""
    if circuit.place:
        told = (
            tr("{told}, at the plug ({place})", told=told, place=circuit.place)
            if told
            else tr("The plug: {place}", place=circuit.place)
        )
    if point in OHM_POINTS and wire is not None and (wire.fuse or wire.module_pin):
        other = (
            tr("the fuse {fuse}", fuse=wire.fuse)
            if wire.fuse
            else tr("pin {module_pin} of the module", module_pin=wire.module_pin)
        )
        told += tr(", to {other}", other=other)
    return f"{titled(told)}." if told else ""
