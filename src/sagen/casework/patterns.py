"""Which known-good captures fit a capture, and how it stands against several of them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

from sagen.kinds import Examination, examine
from sagen.model.finding_words import odd_words
from sagen.model.job import Job
from sagen.model.language import lowered, tr
from sagen.model.machine_card import MachineCard
from sagen.model.pattern import RAILS, Pattern, fits
from sagen.model.sheet import ChannelSheet, Sheet
from sagen.model.trail import CardEntry
from sagen.model.vocabulary import Role
from sagen.model.words import ROLES, STATES
from sagen.reason.several import circuits_of
from sagen.signal.envelope import Beyond, beyond, envelope
from sagen.signal.reading import RotatingReading

if TYPE_CHECKING:
    from sagen.store.log import JobLog

RAREST = 1e-3  #: few captures do not tell of rarer things than that


def card_of(job: Job) -> MachineCard | None:
    """The card of a job; None where it has none."""
    return next((record.machine for record in reversed(job.records(CardEntry))), None)


def circuit_name(job: Job, sheet: Sheet) -> str:
    """Which of the job's circuits a capture is of: the only one of its role and bank; "" where that is not plain."""
    circuits = circuits_of(job.records())
    if len(circuits) < 2:
        return next(iter(circuits))
    sensors = [item for item in sheet.channel if item.role not in RAILS]
    found = {
        name for name, spec in circuits.items() for sensor in sensors
        if sensor.role == spec.role and (sensor.bank is None or spec.bank in (None, sensor.bank))
    }  # fmt: skip
    return next(iter(found)) if len(found) == 1 else ""


def fitting_patterns(log: JobLog, job: Job, sheet: Sheet) -> list[Pattern]:
    """The known-good captures of the circuit and state of a capture, the most alike first: same card, then the newest."""
    card = card_of(job)
    title, circuit = (card.title if card else job.machine), circuit_name(job, sheet)
    found = [item for _, item in log.shelf.patterns() if fits(item, sheet, title, circuit)]
    return sorted(found, key=lambda item: (item.circuit != circuit, -item.id))


@dataclass(frozen=True)
class OnShelf:
    """A known-good capture that has the pattern of a capture, and in what it differs from it, in words."""

    pattern: Pattern
    differs: tuple[str, ...]
    likeness: int  #: the more, the better it fits

    @property
    def text(self) -> str:
        return tr(
            "{name}: {differs}",
            name=self.pattern.name,
            differs=", ".join(self.differs) if self.differs else tr("same machine, circuit and state"),
        )


def on_shelf(log: JobLog, job: Job, done: Examination) -> list[OnShelf]:
    """Every known-good capture of a wheel that is seen here, whatever machine or state it is of, the best fit first.

    What is asked for is a sensor of the same role whose wheel, as stated or as seen, is the same; all else only ranks them.
    """
    card = card_of(job)
    title, circuit = (card.title if card else job.machine), circuit_name(job, done.sheet)
    mine = _wheels(done)
    found = (_ranked(item, done.sheet, mine, title, circuit) for _, item in log.shelf.patterns())
    return sorted((item for item in found if item is not None), key=lambda item: (-item.likeness, -item.pattern.id))


def _wheels(done: Examination) -> dict[Role, set[str]]:
    """The wheels of a capture's sensors by role: those stated and those seen; a cam's own shape is none."""
    out: dict[Role, set[str]] = {}
    for channel in done.channels:
        if channel.sheet.role in RAILS:
            continue
        names = {channel.sheet.wheel} | (
            {str(channel.reading.wheel)} if channel.reading and channel.reading.wheel else set()
        )
        out.setdefault(channel.sheet.role, set()).update(name for name in names if name)
    return out


def _ranked(pattern: Pattern, sheet: Sheet, mine: dict[Role, set[str]], title: str, circuit: str) -> OnShelf | None:
    theirs = {item.role: item for item in pattern.sheet.channel if item.role not in RAILS}
    shared = [role for role in mine if role in theirs]
    known = [role for role in shared if mine[role] and theirs[role].wheel]
    if not shared or any(theirs[role].wheel not in mine[role] for role in known):
        return None
    if Role.KNOCK in mine and pattern.sheet.conditions.connection != sheet.conditions.connection:
        return None
    same_machine = bool(title) and pattern.card.casefold() == title.casefold()
    if not known and not same_machine:
        return None  # neither a wheel nor a machine says that it is of this circuit
    differs, likeness = [], 0
    for same, words, worth in (
        (same_machine, tr("of {card}", card=pattern.card) if pattern.card else tr("machine not stated"), 8),
        (bool(circuit) and pattern.circuit.casefold() == circuit.casefold(), "", 2),
        (pattern.sheet.conditions.state == sheet.conditions.state, STATES[pattern.sheet.conditions.state], 4),
        (len(shared) == len(mine), tr("only {shared}", shared=", ".join(lowered(ROLES[role]) for role in shared)), 3),
        (_sensors_alike(sheet, theirs), tr("another kind of sensor"), 3),
        (
            pattern.sheet.engine.cylinders in (None, sheet.engine.cylinders),
            tr("{cylinders} cylinders", cylinders=pattern.sheet.engine.cylinders),
            1,
        ),
    ):
        likeness += worth if same else 0
        differs += [words] if words and not same else []
    return OnShelf(pattern, tuple(differs), likeness)


def _sensors_alike(sheet: Sheet, theirs: dict[Role, ChannelSheet]) -> bool:
    return all(
        item.sensor is None or theirs[item.role].sensor in (None, item.sensor)
        for item in sheet.channel
        if item.role in theirs
    )


MOST_AMONG = 12


def known_good_ones(log: JobLog, job: Job, sheet: Sheet) -> dict[str, Examination]:
    """The known-good captures of the kind of a capture by their tokens, examined; none where there are fewer than two."""
    patterns = fitting_patterns(log, job, sheet)
    if len(patterns) < 2:
        return {}
    return {pattern.token: examine(log.capture(pattern.token), pattern.sheet) for pattern in patterns[:MOST_AMONG]}


def beyond_envelope(done: Examination, read: Sequence[Examination]) -> tuple[dict, ...]:
    """What of a capture is beyond the envelope of several known-good ones, a table a channel as the log keeps it; `compared_words` says
    it."""
    told = []
    for result in done.channels:
        if result.reading is None or result.reading.wheel is None:
            continue
        alike = [
            found.reading for item in read for found in item.channels
            if isinstance(found.reading, RotatingReading) and found.sheet.role == result.sheet.role
        ]  # fmt: skip
        known = envelope(alike)
        if known is not None:
            rows = [
                {"measure": row.measure, "tooth": int(row.tooth), "size": float(row.size), "chance": float(row.chance)}
                for row in beyond(result.reading, known)
            ]
            told.append({"column": result.sheet.column, "captures": known.captures, "beyond": rows})
    return tuple(told)


LEVEL_WORDS = {"low": tr("the low level"), "high": tr("the high level")}


def compared_words(kept: dict | str) -> str:
    """What a record keeps of a comparison, in words; sentences of older logs as they are."""
    if isinstance(kept, str):
        return kept
    try:
        rows = [Beyond(**row) for row in kept["beyond"]]
        return envelope_words(str(kept["column"]), int(kept["captures"]), rows)
    except (KeyError, TypeError, ValueError, ZeroDivisionError):  # changed by another hand
        return tr("A comparison that makes no sense.")


def envelope_words(column: str, captures: int, rows: list[Beyond]) -> str:
    """What an envelope says of a channel."""
    if not rows:
        return tr("{column}: within the envelope of {captures} known-good captures.", column=column, captures=captures)
    told = []
    firsts = {row.tooth if row.tooth else row.measure: row for row in reversed(rows)}
    for this_first in sorted(firsts.values(), key=lambda first: first.chance)[:3]:
        by_level = tr(
            "is {size:.2g} V {size_2}",
            size=abs(this_first.size),
            size_2=tr("higher") if this_first.size > 0 else tr("lower"),
        )
        what = odd_words(this_first.measure, this_first.size, tr("than in those")) if this_first.tooth else by_level
        name = (
            tr("tooth {tooth}", tooth=this_first.tooth)
            if this_first.tooth
            else LEVEL_WORDS.get(this_first.measure, this_first.measure)
        )
        told.append(f"{name} {what}")
    # Few captures do not tell of rarer things than that.
    chance = (
        tr("once in {chance:,.0f}", chance=1 / rows[0].chance)
        if rows[0].chance > RAREST
        else tr("less than once in {rarest:,.0f}", rarest=1 / RAREST)
    )
    return tr(
        "{column}: beyond the envelope of {captures} known-good captures: {told}. A sound one is as far off "
        "anywhere {chance}.",
        column=column,
        captures=captures,
        told="; ".join(told),
        chance=chance,
    )
