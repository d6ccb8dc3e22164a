"""A sensor in the hand: how it is wired on the bench, and what its counts mean. Its twin: the harness pulsed by hand."""

from __future__ import annotations

from dataclasses import dataclass

from sagen.kinds.kind import kind_of
from sagen.model.circuit import CircuitSpec
from sagen.model.trail import InspectionEntry, NoteEntry, Record

IN_THE_HAND, PULSED = "sensor_in_the_hand", "pulse_the_signal_wire"
PASSES = 12
LEAST_PASSES, MOST_PASSES = 3, 200
#: mA through the pull-up resistor: enough for a meter and a small lamp diode, little for an output (common practice, no
#: published source)
PULL_UP_MA = 5.0
RESISTORS = (470, 1000, 2200, 4700)
WAYS = {"eye": "by eye, a lamp diode", "meter": "by meter", "recorder": "by recorder"}


@dataclass(frozen=True)
class BenchWiring:
    """How a sensor is wired on the bench: feed in V (None: not stated), resistor in ohm, and which lead goes where."""

    feed: float | None
    resistor_ohm: int | None
    leads: tuple[tuple[str, str], ...]


def refusal(spec: CircuitSpec) -> str:
    """Why the sensor of a circuit is not for this test; "" where it is."""
    return kind_of(spec.sensor).not_by_hand


def wiring(spec: CircuitSpec) -> BenchWiring:
    """Feed, pull-up resistor and leads for a sensor with an output that pulls down; what is not stated stays open."""
    feed = spec.supply
    resistor = None
    if feed is not None:
        wanted = 1000 * feed / PULL_UP_MA
        resistor = min(RESISTORS, key=lambda this_resistor: abs(this_resistor - wanted))
    volts = f"{feed:g} V" if feed is not None else "the feed that the maker states"
    ohms = f"{resistor} Ω" if resistor else "1 kΩ at 5 V, 2.2 kΩ at battery volts"
    return BenchWiring(
        feed,
        resistor,
        (
            ("feed pin", f"plus of {volts}, through a fuse of 1 A or less"),
            ("return pin", "minus"),
            ("signal pin", f"through {ohms} to plus; meter or recorder from here to minus"),
        ),
    )


def bench_records(passes: int, counted: int, *, way: str, new_part: bool) -> tuple[Record, ...]:
    """What a count comes to. A part that is not fitted yet says nothing of this machine's fault: it is only told.

    Raises
    ------
    ValueError
        for counts that make no sense.
    """
    if not LEAST_PASSES <= passes <= MOST_PASSES:
        raise ValueError(f"{passes} passes: at least {LEAST_PASSES} are needed, at most {MOST_PASSES} can be")
    if not 0 <= counted <= 10 * passes:
        raise ValueError(f"{counted} counted of {passes} passes makes no sense")
    told = f"{'new part before it is fitted' if new_part else 'the part of this machine'}, in the hand: "
    told += f"{counted} counted of {passes} passes, {WAYS[way]}."
    note = NoteEntry(told[:1].upper() + told[1:])
    if new_part:
        return (note,)
    outcome = "" if counted == passes else "counts_none" if counted == 0 else "misses_some"
    return (InspectionEntry(IN_THE_HAND, outcome), note)


def pulsed_records(counted: bool) -> tuple[Record, ...]:
    """What it comes to whether the module showed a speed while its signal wire was pulsed."""
    said = "Signal wire pulsed by hand: the module shows " + ("a speed." if counted else "no speed.")
    return (InspectionEntry(PULSED, "" if counted else "not_counted"), NoteEntry(said))
