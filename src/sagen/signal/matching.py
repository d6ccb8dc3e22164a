"""Which channel of a known-good capture stands for which here, and whether that capture is fit to compare with."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from itertools import permutations

import numpy as np

from sagen.model.capture import Capture
from sagen.model.language import tr
from sagen.model.sheet import Sheet
from sagen.model.vocabulary import ENGINE_RUNS, STARTING, Role
from sagen.signal.cam import CamTrack
from sagen.signal.cam_difference import cam_difference
from sagen.signal.limits import limits
from sagen.signal.reading import RotatingReading

_LIMIT = limits("compared")
#: how the reason begins where a known-good capture is not fit to compare with
UNFIT = "unfit: "
FAR_OFF = 90.0  #: degrees that count for a cam of another shape


def twins(
    readings: Sequence[RotatingReading],
    others: Sequence[RotatingReading],
    cams: Mapping[str, CamTrack],
    other_cams: Mapping[str, CamTrack],
) -> tuple[dict[str, RotatingReading], tuple[str, ...]]:
    """The channel of another capture that stands for each of `readings`, and what to say of how they were matched.

    Channels are matched by role, then by the bank that both sheets state, then by their pattern; never by column name, which
    is the recorder's.

    Parameters
    ----------
    cams, other_cams : mapping
        each capture's cams over the crank's angle, by column
    """
    found: dict[str, RotatingReading] = {}
    notes = []
    for role in dict.fromkeys(item.sheet.role for item in readings):
        mine = [item for item in readings if item.sheet.role == role]
        theirs = [item for item in others if item.sheet.role == role]
        for item in list(mine):
            same = [other for other in theirs if item.sheet.bank is not None and other.sheet.bank == item.sheet.bank]
            if len(same) == 1:
                found[item.column] = same[0]
                mine.remove(item)
                theirs.remove(same[0])
        mine = [
            item for item in mine
            if not (item.sheet.bank is not None and theirs and all(other.sheet.bank is not None for other in theirs))
        ]  # fmt: skip
        if not mine or not theirs:
            continue
        count = min(len(mine), len(theirs))
        ways = list(permutations(range(len(theirs)), count))

        def apart(way: tuple[int, ...], mine=mine, theirs=theirs) -> float:
            return sum(_apart(item, theirs[k], cams, other_cams) for item, k in zip(mine, way, strict=False))

        best = min(ways, key=lambda way: (round(apart(way), 1), way)) if len(ways) > 1 else ways[0]
        if len(theirs) > 1 and best != tuple(range(count)) and role == Role.CAM:
            pairs = ", ".join(
                tr("{column} with {column_2}", column=item.column, column_2=theirs[k].column)
                for item, k in zip(mine, best, strict=False)
            )
            notes.append(
                tr("The known-good capture's cams lie in another order: matched by their pattern, {pairs}", pairs=pairs)
            )
        found |= {item.column: theirs[k] for item, k in zip(mine, best, strict=False)}
    return found, tuple(notes)


def _apart(
    item: RotatingReading, other: RotatingReading, cams: Mapping[str, CamTrack], other_cams: Mapping[str, CamTrack]
) -> float:
    """How unlike two channels are, degrees."""
    if item.column in cams and other.column in other_cams:
        difference = cam_difference(cams[item.column], other_cams[other.column])
        if difference is not None:
            return FAR_OFF if difference.shape else abs(difference.offset)
    return 0.0 if item.wheel == other.wheel and type(item) is type(other) else FAR_OFF


def fit_of(
    capture: Capture,
    sheet: Sheet,
    readings: Sequence[RotatingReading],
    good: Capture,
    good_sheet: Sheet,
    good_readings: Sequence[RotatingReading],
    faults: Sequence[str],
) -> str:
    """How fit a known-good capture is to compare with: "same state", "other rpm", or "unfit: " and why.

    Parameters
    ----------
    faults : sequence of str
        what the known-good capture itself shows wrong
    """
    if _same_samples(capture, good):
        return tr("{unfit}it is the same capture", unfit=UNFIT)
    mine, theirs = sheet.conditions.state, good_sheet.conditions.state
    groups = (STARTING, ENGINE_RUNS)
    if mine != theirs and not any({mine, theirs} <= group for group in groups):
        return tr(
            "{unfit}it was recorded {theirs}, this one {mine}", unfit=UNFIT, theirs=_words(theirs), mine=_words(mine)
        )
    if sheet.conditions.end != good_sheet.conditions.end:
        return tr(
            "{unfit}it was recorded at the {end}'s end of the wire, this one at the {end_2}'s",
            unfit=UNFIT,
            end=good_sheet.conditions.end,
            end_2=sheet.conditions.end,
        )
    cylinders = (sheet.engine.cylinders, good_sheet.engine.cylinders)
    if None not in cylinders and cylinders[0] != cylinders[1]:
        return tr("{unfit}it is of another engine, with {cylinders} cylinders", unfit=UNFIT, cylinders=cylinders[1])
    roles = {item.sheet.role for item in readings} & {item.sheet.role for item in good_readings}
    if readings and not roles:
        return tr("{unfit}it has no channel of the same role", unfit=UNFIT)
    for role in roles:
        other = next(item for item in good_readings if item.sheet.role == role)
        own = next(item for item in readings if item.sheet.role == role)
        stated = (own.sheet.declared_wheel, other.sheet.declared_wheel)
        wheel = own.sheet.declared_wheel or own.wheel
        if (
            other.wheel is not None
            and wheel is not None
            and wheel != other.wheel
            and (None in stated or stated[0] != stated[1])
        ):
            return tr("{unfit}it has another wheel, {wheel}", unfit=UNFIT, wheel=other.wheel)
        turns = _turns(other)
        if role == Role.CRANK and other.switching and turns < _LIMIT.turns:
            return tr("{unfit}it is too short, {turns:.1f} turns", unfit=UNFIT, turns=turns)
    if faults:
        return tr("{unfit}it shows a fault itself ({faults})", unfit=UNFIT, faults="; ".join(faults[:2]))
    speeds = [
        (own["median"], other["median"])
        for item in readings for twin in good_readings
        if item.sheet.role == twin.sheet.role and (own := item.speed_range()) and (other := twin.speed_range())
    ]  # fmt: skip
    if any(max(pair) > _LIMIT.phaser_rpm * min(pair) for pair in speeds if min(pair) > 0):
        return "other rpm"
    return "same state"


def _words(state) -> str:
    return str(state).replace("_", " ")


def _turns(reading: RotatingReading) -> float:
    wheel = reading.wheel or reading.sheet.declared_wheel
    if wheel is None:
        return np.inf if len(reading.teeth.times) > 8 else 0.0
    return (len(reading.teeth.times) - 1) / max(wheel.teeth, 1)


def _same_samples(capture: Capture, good: Capture) -> bool:
    """Whether two captures hold the same samples, under whatever names and scales."""
    if capture.samples != good.samples:
        return False
    first = [item.channels[0].values(0, min(item.samples, 50_000)) for item in (capture, good)]
    return bool(np.array_equal(*first)) or any(
        np.array_equal(first[0], other.values(0, min(good.samples, 50_000))) for other in good.channels
    )
