"""What a person answers about a capture on its way in: first guesses, the sheet that the answers make, and a first look."""

from __future__ import annotations

from dataclasses import replace

from sagen.casework.examination import Incoming
from sagen.files.wheels import with_wheel_names
from sagen.kinds import Examination, examine
from sagen.kinds.kind import kind_of
from sagen.model.capture import Capture
from sagen.model.circuit import CircuitSpec
from sagen.model.language import tr
from sagen.model.sheet import Sheet
from sagen.model.vocabulary import CIRCUIT_ROLES, Role
from sagen.report.scene import Strip
from sagen.report.strip_scene import strip_scene
from sagen.signal.probe_factors import apply_probe_factors

#: names that recorders and people give channels, and what they then are
LIKELY = (
    ("cam", Role.CAM), ("crank", Role.CRANK), ("knock", Role.KNOCK), ("ground", Role.GROUND), ("gnd", Role.GROUND),
    ("return", Role.GROUND), ("supply", Role.SUPPLY), ("feed", Role.SUPPLY), ("bat", Role.SUPPLY),
    ("speed", Role.SPEED),
)  # fmt: skip
HEAD = 400_000  #: samples that a first look is of


def first_answers(incoming: Incoming, circuit: CircuitSpec | None) -> dict[str, dict]:
    """A row of the sheet for each column: from the sheet beside the file; else by the channels' names; else the liveliest is
    the crank, or what the job's circuit states."""
    capture, sheet = incoming.capture, incoming.sheet
    answers: dict[str, dict] = {}
    for channel in capture.channels:
        described = sheet.of(channel.column) if sheet else None
        if described is not None:
            answers[channel.column] = described.model_dump(exclude_none=True)
            continue
        role = next((role for word, role in LIKELY if word in channel.column.lower()), Role.OTHER)
        answers[channel.column] = {"column": channel.column, "role": role}
    if sheet:
        return answers
    if not any(answer["role"] in CIRCUIT_ROLES for answer in answers.values()):
        ranges = {}
        for name, pyramid in incoming.pyramids.items():
            low, high = pyramid.extremes()
            ranges[name] = abs(capture.channel(name).scale) * (high - low)
        role = circuit.role if circuit else Role.CRANK
        # A set of knock sensors is recorded together; of what turns the liveliest channel is the sensor's.
        for name in answers if role == Role.KNOCK else [max(ranges, key=ranges.get)]:
            answers[name]["role"] = role
    if circuit is not None:
        kind = kind_of(circuit.sensor)
        told = {"sensor": kind.slug} | ({"wheel": circuit.wheel} if circuit.wheel else {}) | kind.stated(circuit)
        for answer in answers.values():
            if answer["role"] == circuit.role:
                answer |= told
            elif answer["role"] == Role.SUPPLY and circuit.supply:
                answer["nominal"] = circuit.supply
    return answers


def changed_answer(before: dict, asked: frozenset[str], given: dict) -> dict:
    """A row after its fields were changed.

    Parameters
    ----------
    before : dict
        the row as it was
    asked : frozenset of str
        what the fields in sight ask for: it is as given, or not stated
    given : dict
        role and sensor, and what stands in the fields

    Returns
    -------
    dict
        with everything that was stated and not asked about, as long as role and sensor are the same.
    """
    same = all(before.get(name) == given.get(name) for name in ("role", "sensor"))
    kept = {
        name: value for name, value in before.items() if name not in asked and (same or name in ("column", "factor"))
    }
    return kept | given


def answered_sheet(incoming: Incoming, answers: dict[str, dict], conditions: dict, engine: dict) -> Sheet:
    """The sheet that the answers make. What the sheet beside the file states and nobody asked about stays; None takes away.

    Raises
    ------
    SheetError
        for an answer that makes no sense.
    """
    data = incoming.sheet.model_dump(exclude_none=True) if incoming.sheet is not None else {}
    for table, told in (("conditions", conditions), ("engine", engine)):
        row = data.get(table, {}) | told
        data[table] = {name: value for name, value in row.items() if value is not None}
    rows = list(answers.values())
    # One load stated stands across all of a set of knock sensors.
    loads = {row["load_ohm"] for row in rows if row.get("role") == Role.KNOCK and row.get("load_ohm")}
    if len(loads) == 1:
        rows = [row | {"load_ohm": min(loads)} if row.get("role") == Role.KNOCK else row for row in rows]
    return Sheet.from_data(with_wheel_names(data | {"channel": rows}), where="answers")


def first_look(incoming: Incoming, sheet: Sheet) -> tuple[Examination, Strip]:
    """What the first part of a capture shows under a sheet, and what is drawn of the whole of it; raises SagenError."""
    first = examine(head_of(incoming.capture), sheet)
    whole, _ = apply_probe_factors(incoming.capture, sheet)
    return first, strip_scene(replace(first, capture=whole), incoming.pyramids)


def head_of(capture: Capture, most: int = HEAD) -> Capture:
    """The first part of a capture, so that a look at it answers at once."""
    channels = tuple(replace(channel, raw=channel.raw[:most]) for channel in capture.channels)
    holes = tuple((first, min(stop, most)) for first, stop in capture.holes if first < most)
    return replace(capture, channels=channels, holes=holes)


def shown_words(first: Examination, column: str) -> str:
    """What a first look shows of a channel; "" where it is not one of the sheet's."""
    result = next((channel for channel in first.channels if channel.sheet.column == column), None)
    if result is None:
        return ""
    reading = result.reading
    parts = [
        tr(
            "low {low:.2f} {unit}, high {high:.2f} {unit}",
            low=result.levels.low,
            unit=result.unit,
            high=result.levels.high,
        )
    ]
    if reading and reading.switching:
        pulses = tr("{times} pulses, no returning gap seen yet", times=len(reading.teeth.times))
        parts.append(tr("wheel {wheel}", wheel=reading.wheel) if reading.wheel else pulses)
    elif reading:
        parts.append(tr("no teeth are seen"))
    if first.tapped is not None and result.strikes is not None:
        parts = [_struck(first.tapped, column, result.unit)]
    return tr("{column}, in the first part of it: ", column=column) + "; ".join(parts) + "."


def _struck(tapped, column: str, unit: str) -> str:
    """How a knock channel answers, in words."""
    strikes = tapped.strikes
    if not len(strikes):
        return tr("no strike stands above the noise")
    sensor = strikes.columns.index(column)
    answered = int(strikes.answers.heard[:, sensor].sum())
    tallest = float(strikes.answers.height[:, sensor].max())
    return tr(
        "answers {answered} of {strikes} strikes, the tallest {tallest:.3g} {unit}",
        answered=answered,
        strikes=len(strikes),
        tallest=tallest,
        unit=unit,
    )
