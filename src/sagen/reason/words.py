"""What the reasoning says: reasons, expected readings, why a check, and advice. Made of typed fields, never compared."""

from __future__ import annotations

from functools import singledispatch

from sagen.model.vocabulary import OHM_POINTS
from sagen.model.words import FINDING_TITLES, STATES_THEN
from sagen.reason.evidence import (
    Captured,
    Code,
    Complained,
    Cranked,
    Evidence,
    Inspected,
    MeterReading,
    ReadElsewhere,
)
from sagen.reason.facts import SOUND, CheckFacts, Knowledge, title_of
from sagen.reason.likelihood import LikelihoodModel

UNEVEN_HEARD = 0.03  #: share of the speed from which a beat is told
TELLS_LITTLE = 0.004  #: bits
PROOF_OWED = (
    "Afterwards: the same measurements again, codes cleared, relearn where the maker calls for one, a drive as the "
    "complaint was, and read again."
)


def _sentence(text: str) -> str:
    return text[:1].upper() + text[1:]


def value_range(values: tuple[float, float, float], unit: str) -> str:
    """A range of readings (low, middle, high) as a technician would say it."""
    low, middle, high = values
    if unit == "ohm" and middle > 1e6:
        return "no path"
    if high - low < 0.06 * abs(middle) + 0.03:
        return f"about {middle:.3g} {unit}"
    return f"{low:.3g} to {high:.3g} {unit}"


def unit_at(point: str) -> str:
    """The unit of a reading at a point."""
    return "ohm" if point in OHM_POINTS else "V"


@singledispatch
def reason(piece: Evidence, fault: str, model: LikelihoodModel, facts: Knowledge) -> str:
    """Why a piece of evidence speaks for or against a fault mode."""
    raise TypeError(f"no words for {type(piece).__name__}")


@reason.register
def _(piece: Code, fault, model, facts) -> str:
    return f"{facts.codes[piece.kind].seen} ({piece.code})."


@reason.register
def _(piece: Complained, fault, model, facts) -> str:
    return f"{facts.complaints[piece.name].seen}."


@reason.register
def _(piece: MeterReading, fault, model, facts) -> str:
    unit = "ohm" if piece.ohms else "V"
    where = f"{piece.point.replace('_', ' ')}, {STATES_THEN.get(piece.state, piece.state)}"
    said = f"{_sentence(where)}: {piece.value:.3g} {unit}"
    sound, here = model.expected(piece.point, piece.state), model.expected(piece.point, piece.state, fault)
    if sound is None or here is None:
        return said + "."
    said += f"; a sound circuit shows {value_range(sound, unit)}"
    return said + (f", with {title_of(fault)} {value_range(here, unit)}." if fault != SOUND else ".")


@reason.register
def _(piece: Captured, fault, model, facts) -> str:
    name = f"{piece.source}: " if piece.source else ""
    if not piece.found:
        return f"{name}nothing wrong in the recording."
    told = []
    for one in sorted(piece.found):
        kind, _, held = one.partition(":")
        told.append(FINDING_TITLES.get(kind, kind).lower() + (f" ({held})" if held else ""))
    return f"{name}{', '.join(told)}."


@reason.register
def _(piece: Cranked, fault, model, facts) -> str:
    beat = ""
    if piece.uneven is not None:
        beat = (
            f", with a beat of {100 * piece.uneven:.0f} % once in two turns"
            if piece.uneven > UNEVEN_HEARD
            else ", evenly"
        )
    return f"The starter turns the engine at {piece.rpm:.0f} rpm{beat}."


@reason.register
def _(piece: ReadElsewhere, fault, model, facts) -> str:
    return f"Read elsewhere: {FINDING_TITLES.get(piece.kind, str(piece.kind)).lower()}."


@reason.register
def _(piece: Inspected, fault, model, facts) -> str:
    check = facts.check(piece.check)
    name = check.name if check else piece.check
    return f"{_sentence(name)}: {piece.outcome.replace('_', ' ') if piece.outcome else 'as expected'}."


def unexplained(piece: MeterReading, model: LikelihoodModel, facts: Knowledge) -> str:
    """A reading that no fault explains."""
    said = reason(piece, SOUND, model, facts).rstrip(".")
    return f"{said}: no fault explains this reading well. Take it again before building on it."


def expected(check: CheckFacts, values: tuple[float, float, float] | None) -> str:
    """What a sound circuit shows: computed from the model where it can be."""
    return check.expect if values is None else f"{value_range(values, unit_at(check.point))}. {check.expect}"


def why(check: CheckFacts, gain: float, faults: tuple[str, ...], pays: bool) -> str:
    """Why a check is worth doing next, or not."""
    if not faults or gain < TELLS_LITTLE:
        return "It would tell little that is not known by now."
    told = ", ".join(title_of(one) for one in faults[:3])
    dear = "" if pays else " It is likely to take longer than it saves."
    return f"Why this one: it tells {told} from the rest ({gain:.2f} bits in {check.total_minutes:.0f} minutes).{dear}"


def why_proof(fault: str) -> str:
    """Why a check that proves or clears the leading suspect comes first."""
    return f"Why this one: it proves or clears the leading suspect, {title_of(fault)}."


def good_enough(fault: str, share: float, do: str) -> str:
    """The advice to repair."""
    return f"Good enough to repair: {title_of(fault)} at {100 * share:.0f} %. {do} {PROOF_OWED}"


def cleared() -> str:
    """The advice where nothing is wrong."""
    return "This circuit is cleared. Buy nothing for it; look at what else sets the code."


def not_yet(share: float) -> str:
    """The advice to go on."""
    return f"Not yet: the leading cause stands at {100 * share:.0f} %, and a repair on that would be wrong too often."
