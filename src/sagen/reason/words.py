"""What the reasoning says: reasons, expected readings, why a check, and advice. Made of typed fields, never compared."""

from __future__ import annotations

from functools import singledispatch
from typing import TYPE_CHECKING

import numpy as np

from sagen.model.language import joined_or, lowered, titled, tr, worded
from sagen.model.vocabulary import OHM_POINTS, CheckKind, Point
from sagen.model.words import (
    FINDING_TITLES,
    STATES_THEN,
    pressed_words,
    said_minutes,
    said_ohms,
    said_range,
    said_volts,
)
from sagen.reason.evidence import (
    UNEVEN,
    Captured,
    Code,
    Comes,
    Complained,
    Cranked,
    Evidence,
    Inspected,
    MeterReading,
    Pressed,
    ReadElsewhere,
    Scanned,
    Seen,
    Stayed,
)
from sagen.reason.facts import SOUND, CheckFacts, title_of

if TYPE_CHECKING:
    from sagen.reason.world import World

TELLS_LITTLE = 0.004  #: bits
RELEARN_OWED = tr("A relearn of the wheel is owed as well: undone, a good part sets its own code. ")
PROOF_OWED = tr(
    "Afterwards: the same measurements again, codes cleared, relearn where the maker calls for one, a drive as "
    "the complaint was, and read again."
)


#: this share of machines reads beyond what is called usual, at either end
RARE = 0.005


def usual_bands(drawn: np.ndarray, ohms: bool) -> list[tuple[float, float]]:
    """Where nearly all circuits of a kind read, as bands (a signal at rest has two levels): of sound ones what a reading is judged by,
    what is expected before it is taken, and what is said of it afterwards.

    Parameters
    ----------
    drawn : ndarray
        readings of such circuits, sorted, V or ohm
    ohms : bool
        which of the two
    """
    low, high = np.quantile(drawn, [RARE, 1 - RARE])
    # A gap of nearly half of the whole is no reading that any of them gives; beyond the usual ones there is nothing but gaps.
    usual = np.array([low, *drawn[(drawn > low) & (drawn < high)], high])
    gaps = np.diff(usual)
    widest = int(np.argmax(gaps))
    if gaps[widest] > 0.4 * (high - low) and high - low > (1.0 if not ohms else 0.5 * high):
        return [(float(low), float(usual[widest])), (float(usual[widest + 1]), float(high))]
    return [(float(low), float(high))]


def value_range(drawn: np.ndarray, ohms: bool) -> str:
    """Readings as a technician would say them: "4.9 to 5.1 V, or 12.0 to 12.9 V".

    Parameters
    ----------
    drawn : ndarray, shape (n,)
        V or ohm, sorted
    ohms : bool
        which of the two
    """
    return joined_or(said_range(low, high, ohms) for low, high in usual_bands(drawn, ohms))


def said(value: float, ohms: bool) -> str:
    """One reading with its unit.

    Parameters
    ----------
    value : float
        V or ohm
    ohms : bool
        which of the two
    """
    return said_ohms(value) if ohms else said_volts(value)


def is_ohms(point: str) -> bool:
    """Whether a check at a point measures resistance."""
    return point in OHM_POINTS


@singledispatch
def reason(piece: Evidence, fault: str, world: World) -> str:
    """Why a piece of evidence speaks for or against a fault mode.

    Parameters
    ----------
    piece : Evidence
        of the case
    fault : str
        slug
    world : World
        the circuit's machines
    """
    raise TypeError(f"no words for {type(piece).__name__}")


@reason.register
def _reason_of_code(piece: Code, fault, world) -> str:
    return f"{world.facts.codes[piece.kind].seen} ({piece.code})."


@reason.register
def _reason_of_complained(piece: Complained, fault, world) -> str:
    return f"{world.facts.complaints[piece.name].seen}."


@reason.register
def _reason_of_comes(piece: Comes, fault, world) -> str:
    return f"{world.facts.comes[piece.when].seen}."


@reason.register
def _reason_of_meter_reading(piece: MeterReading, fault, world) -> str:
    where = f"{piece.point.replace('_', ' ')}, {STATES_THEN.get(piece.state, piece.state)}"
    text = f"{titled(where)}: {said(piece.value, piece.ohms)}"
    if piece.point == Point.SENSOR and world.spec.ohms:
        low, high = world.spec.ohms
        text += tr("; published {low}", low=said_range(low, high, True))
    else:
        sound = world.expected(piece.point, piece.state, ohms=piece.ohms)
        if sound is None:
            return text + "."
        text += tr("; a sound circuit shows {sound}", sound=value_range(sound, piece.ohms))
    here = world.expected(piece.point, piece.state, fault, ohms=piece.ohms)
    if fault == SOUND or here is None:
        return text + "."
    return text + tr(", with {fault} {here}.", fault=title_of(fault), here=value_range(here, piece.ohms))


@reason.register
def _reason_of_captured(piece: Captured, fault, world) -> str:
    name = f"{piece.source}: " if piece.source else ""
    if not piece.found:
        return tr("{name}nothing wrong in the recording.", name=name)
    told = []
    for item in sorted(piece.found):
        kind, _, held = item.partition(":")
        told.append(lowered(FINDING_TITLES.get(kind, kind)) + (f" ({held})" if held else ""))
    return f"{name}{', '.join(told)}."


@reason.register
def _reason_of_cranked(piece: Cranked, fault, world) -> str:
    beat = ""
    if piece.uneven is not None:
        beat = (
            tr(", with a beat of {uneven:.0f} % once in two turns", uneven=100 * piece.uneven)
            if piece.uneven > UNEVEN
            else tr(", evenly")
        )
    return tr("The starter turns the engine at {rpm:.0f} rpm{beat}.", rpm=piece.rpm, beat=beat)


@reason.register
def _reason_of_read_elsewhere(piece: ReadElsewhere, fault, world) -> str:
    return tr("Read elsewhere: {kind}.", kind=lowered(FINDING_TITLES.get(piece.kind, str(piece.kind))))


@reason.register
def _reason_of_pressed(piece: Pressed, fault, world) -> str:
    return tr("Picture board: {words}.", words=pressed_words(piece.shown, piece.chosen))


@reason.register
def _reason_of_inspected(piece: Inspected, fault, world) -> str:
    check = world.facts.check(piece.check)
    name = check.name if check else piece.check
    told = [worded(outcome) or tr("as expected") for outcome in (piece.outcome, *piece.more)]
    return tr(
        "{name}: {told}{told_2}.",
        name=titled(name),
        told=told[0],
        told_2="".join(tr(", once more: {again}", again=again) for again in told[1:]),
    )


@reason.register
def _reason_of_seen(piece: Seen, fault, world) -> str:
    sure = tr(", certain") if piece.certain else ""
    return tr(
        "Looked at {thing}: {words}{sure}.",
        thing=worded(piece.thing),
        words=piece.words or (tr("damaged") if piece.bad else tr("as expected")),
        sure=sure,
    )


@reason.register
def _reason_of_scanned(piece: Scanned, fault, world) -> str:
    if piece.what == "rpm_cranking":
        shown = tr("{value:.0f} rpm", value=piece.value) if piece.value else tr("no speed")
        return tr("The module shows {shown} while cranking.", shown=shown)
    return (
        tr("After clearing, the code comes back {value}.", value=piece.value)
        if piece.value != "never"
        else tr("The code stays away.")
    )


@reason.register
def _reason_of_stayed(piece: Stayed, fault, world) -> str:
    return (
        tr("After the repair the complaint is still there.")
        if piece.stayed
        else tr("After the repair the complaint is gone.")
    )


def unexplained(piece: MeterReading, world: World) -> str:
    """A reading that no fault explains."""
    text = reason(piece, SOUND, world).rstrip(".")
    return tr("{text}: no fault explains this reading well. Take it again before building on it.", text=text)


def expected(check: CheckFacts, drawn: np.ndarray | None, published: tuple[float, float] | None) -> str:
    """What a sound circuit shows: published where it is, else computed from the model where it can be.

    Parameters
    ----------
    check : CheckFacts
        a row of the checks
    drawn : ndarray, shape (n,), or None
        what sound circuits read, V or ohm, sorted
    published : (float, float) or None
        limits in the same unit
    """
    if published and check.point == Point.SENSOR and check.kind == CheckKind.METER:
        return tr("{it}, as published. {expect}", it=said_range(*published, True), expect=check.expect)
    if drawn is None:
        return check.expect
    ohms = is_ohms(check.point)
    return f"{value_range(drawn, ohms)}. {check.expect}"


def why(
    gain: float,
    faults: tuple[str, ...],
    minutes: float,
    pays: bool,
    points_at: tuple[tuple[str, tuple[str, ...]], ...] = (),
) -> str:
    """Why a check is worth doing next, or not.

    Parameters
    ----------
    gain : float
        bits
    faults : tuple of str
        slugs that it tells apart
    minutes : float
        min
    pays : bool
        whether it is expected to save minutes
    points_at : tuple of (str, tuple of str)
        an answer in a word, and the fault modes that it would point at
    """
    if not faults or gain < TELLS_LITTLE:
        return tr("It would tell little that is not known by now.")
    told = _titles(faults[:3])
    dear = "" if pays else tr(" It is likely to take longer than it saves.")
    took = tr("in a minute") if minutes < 1.5 else tr("in {minutes:.0f} minutes", minutes=minutes)
    if points_at:
        answers = answers_in_words(points_at)
        return tr("Why this one: {took} it tells more. If {answers}.{dear}", took=took, answers=answers, dear=dear)
    return tr("Why this one: {took} it tells {told} from the rest.{dear}", took=took, told=told, dear=dear)


def _titles(faults: tuple[str, ...]) -> str:
    return ", ".join(map(title_of, faults))


def answers_in_words(points_at: tuple[tuple[str, tuple[str, ...]], ...]) -> str:
    """What the answers of a check point at: "lower: feed wire open; higher: ..."."""
    return "; ".join(f"{word}: {joined_or(title_of(fault) for fault in some[:3])}" for word, some in points_at[:3])


def tells(faults: tuple[str, ...]) -> str:
    """What a check tells apart from the rest, where no word says its answers."""
    return tr("{told} from the rest", told=_titles(faults[:3])) if faults else ""


def proves(fault: str) -> str:
    """What a check is for that proves or clears the leading suspect."""
    return tr("Proves or clears the leading suspect, {fault}.", fault=title_of(fault))


def why_together(place: str, count: int) -> str:
    """Why a check comes with others behind the same opening."""
    return tr("With the {place} open {count} checks are done at once.", place=place, count=count)


def why_again() -> str:
    """Why a check that was answered is asked once more."""
    return tr("Why again: all hangs on this one. {taken_afresh}", taken_afresh=TAKEN_AFRESH)


TAKEN_AFRESH = tr(
    "Take it afresh: look whether it is the right pin or place, with clean contact, by another hand where there is one."
)


def why_proof(fault: str) -> str:
    """Why a check that proves or clears the leading suspect comes first."""
    return tr("Why this one: it proves or clears the leading suspect, {fault}.", fault=title_of(fault))


def good_enough(name: str, share: float, do: str, owed: str) -> str:
    """The advice to repair.

    Parameters
    ----------
    name, do, owed : str
        the suspect, the repair, and what is owed after it
    share : float
        probability, 0 to 1
    """
    return tr(
        "Good enough to repair: {name} at {share}. {do} {owed}{proof_owed}",
        name=name,
        share=_percent(share),
        do=do,
        owed=owed,
        proof_owed=PROOF_OWED,
    )


def cleared(owed: str = "") -> str:
    """The advice where nothing is wrong."""
    return tr("This circuit is cleared. Buy nothing for it; look at what else sets the code. {owed}", owed=owed).strip()


def cleared_for_now(share: float, watch: tuple[str, ...]) -> str:
    """The advice where nothing shows, and only what comes and goes is left."""
    return tr(
        "Cleared for now at {share}: nothing shows, and what is left comes and goes. Buy nothing yet; let a long "
        "record run, drive with the recorder, or have it come back when it shows again. Watch for {named}.",
        share=_percent(share),
        named=_titles(watch),
    )


def nothing_worth_asking(share: float, watch: tuple[str, ...]) -> str:
    """The advice where nothing shows, and no check that is left is worth its minutes."""
    return tr(
        "Nothing shows, at {share}, and no check that is left is worth its minutes. Buy nothing yet: hand it back, and have it come "
        "back when it shows again. What it may still be: {named}.",
        share=_percent(share),
        named=_titles(watch),
    )


def not_in_this_circuit(share: float, watch: tuple[str, ...]) -> str:
    """The advice where nothing shows in the circuit of an engine that does not start."""
    return tr(
        "Nothing shows in this circuit, at {share}, and no check of it that is left is worth its minutes. Buy nothing for it, and look "
        "elsewhere for what keeps the engine from starting: fuel, spark, compression, immobiliser. What it may still be here: {named}.",
        share=_percent(share),
        named=_titles(watch),
    )


def what_left(fault: str, share: float) -> str:
    """What left with a part that was changed, and how likely it was that before; "" where that was nothing."""
    if not fault or fault == SOUND:
        return ""
    return tr("{fault}, {share} before", fault=title_of(fault), share=_percent(share))


def after_change(part: str, left: str, owed: str = "") -> str:
    """The advice after a repair that the evidence since then bears out; `left` is what left with the part."""
    named = f": {left}" if left else ""
    return tr(
        "What was wrong left with the {part}{named}; sound now. Nothing has shown since it was changed. Buy "
        "nothing more for this circuit. {owed}{proof_owed}",
        part=part,
        named=named,
        owed=owed,
        proof_owed=PROOF_OWED,
    )


def of_what_was_taken_out(text: str) -> str:
    """A reason from before the last repair."""
    return tr("Before the repair: {text}", text=lowered(text))


def not_yet(share: float, check: str = "", now: float = 0.0, first: float = 0.0) -> str:
    """The advice to go on; what a repair now and what one more check first are expected to cost, minutes."""
    if not check:
        return tr(
            "Not yet: the leading cause stands at {share}, and a repair on that would be wrong too often.",
            share=_percent(share),
        )
    if not now:
        return tr(
            "Not yet: the leading cause stands at {share}. Measure on before anything is bought: {check} is next.",
            share=_percent(share),
            check=check,
        )
    return tr(
        "Not yet: the leading cause stands at {share}. To repair now is expected to cost {now} in repairs of the "
        "wrong thing, one more check first ({check}) {first:.0f}.",
        share=_percent(share),
        now=said_minutes(now),
        check=check,
        first=first,
    )


def nothing_leads(share: float, check: str = "") -> str:
    """The advice where nothing wrong is the likeliest."""
    on = tr(" Measure on while it shows: {check} is next.", check=check) if check else ""
    if share < 0.5:
        return tr("Not yet: no cause leads.{on}", on=on)
    return tr(
        "Nothing shows for certain: nothing wrong is the likeliest, at {share}. Leave the parts alone, and watch "
        "for when it comes.{on}",
        share=_percent(share),
        on=on,
    )


def still_there(check: str = "") -> str:
    """The advice after a repair that did not end the complaint; `check`: the one that is listed first."""
    on = tr(" {check} is next.", check=titled(check)) if check else ""
    return tr(
        "The complaint is still there: measure again as before the repair, before anything is called sound.{on}", on=on
    )


def hangs_on_one(share: float, again: str = "") -> str:
    """The advice to confirm what hangs on one reading; `again`: the check that is listed first, to be taken once more."""
    which = (
        tr("it all hangs on {again}. Take that once more, afresh,", again=again)
        if again
        else (tr("it hangs on one reading or look. Confirm it in another way"))
    )
    return tr(
        "Not yet: the leading cause stands at {share}, but {which} before anything is bought.",
        share=_percent(share),
        which=which,
    )


def begins_with(share: float, check: str) -> str:
    """The advice to ask first what the repair of what leads begins with."""
    return tr(
        "Not yet: the leading cause stands at {share}, and its repair begins with a check that may still clear it: {check}.",
        share=_percent(share),
        check=check,
    )


def _percent(share: float) -> str:
    return tr("{share:.0f} %", share=min(100 * share, 99))
