"""A sensor in the hand: how it is wired on the bench. Its twin: the harness pulsed by hand."""

from __future__ import annotations

from dataclasses import dataclass

from sagen.kinds.kind import kind_of
from sagen.model.circuit import CircuitSpec
from sagen.model.language import later, tr
from sagen.model.trail import InspectionEntry, NoteEntry, Record

PULSED = "pulse_the_signal_wire"
PASSES = 12
#: mA through the pull-up resistor: enough for a meter and a small lamp diode, little for an output (common practice, no
#: published source)
PULL_UP_MA = 5.0
RESISTORS = (470, 1000, 2200, 4700)


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
    volts = tr("{feed:g} V", feed=feed) if feed is not None else tr("the feed that the maker states")
    ohms = f"{resistor} Ω" if resistor else tr("1 kΩ at 5 V, 2.2 kΩ at battery volts")
    return BenchWiring(
        feed,
        resistor,
        (
            (tr("feed pin"), tr("plus of {volts}, through a fuse of 1 A or less", volts=volts)),
            (tr("return pin"), tr("minus")),
            (tr("signal pin"), tr("through {ohms} to plus; meter or recorder from here to minus", ohms=ohms)),
        ),
    )


def pulsed_records(counted: bool) -> tuple[Record, ...]:
    """What it comes to whether the module showed a speed while its signal wire was pulsed."""
    said = (
        later("Signal wire pulsed by hand: the module shows a speed.")
        if counted
        else later("Signal wire pulsed by hand: the module shows no speed.")
    )
    return (InspectionEntry(PULSED, "" if counted else "not_counted"), NoteEntry.of_message(said))
