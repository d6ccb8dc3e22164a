"""Which wire is which, from what a meter reads at the open plug on the harness side: key-on volts and ohms to body.

All ways to lay the usual circuits of so many wires on the pins compete, each with how usual it is and how likely it makes
the readings (Bayes' rule over permutations). Where several stay, the one further reading is named that is expected to tell
most. The ranges are common practice, no published source.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import permutations

import numpy as np

from sagen.model.errors import SagenError
from sagen.model.language import tr
from sagen.model.vocabulary import WireIs

OPEN_OHM = 4e7
FEWEST, MOST = 2, 5


@dataclass(frozen=True)
class PinReading:
    """What was read at one pin of the open plug, harness side. Volts against battery negative, key on; the same with
    2.2 kilohm from the pin to body; ohms to body, key off. None: not read."""

    pin: str
    volts: float | None = None
    ohms: float | None = None
    loaded: float | None = None


@dataclass(frozen=True)
class NamedPin:
    """A pin with how likely it is each wire, likeliest first."""

    pin: str
    chances: tuple[tuple[WireIs, float], ...]

    @property
    def best(self) -> WireIs:
        return self.chances[0][0]

    @property
    def sure(self) -> float:
        return self.chances[0][1]


@dataclass(frozen=True)
class NamedWires:
    """All pins, and what one more reading would settle ("": nothing is left to settle)."""

    pins: tuple[NamedPin, ...]
    settle: str = ""


#: wires of usual circuits, and how usual each is among those of as many wires
FORMS: dict[int, tuple[tuple[tuple[WireIs, ...], float], ...]] = {
    2: (
        ((WireIs.SIGNAL, WireIs.GROUND), 0.35), ((WireIs.COIL, WireIs.COIL), 0.35), ((WireIs.SUPPLY, WireIs.SIGNAL), 0.3),
    ),
    3: (
        ((WireIs.SUPPLY, WireIs.SIGNAL, WireIs.GROUND), 0.8), ((WireIs.COIL, WireIs.COIL, WireIs.SHIELD), 0.12),
        ((WireIs.SIGNAL, WireIs.GROUND, WireIs.SHIELD), 0.08),
    ),
    4: (
        ((WireIs.SUPPLY, WireIs.SIGNAL, WireIs.SIGNAL, WireIs.GROUND), 0.6),
        ((WireIs.SUPPLY, WireIs.SIGNAL, WireIs.GROUND, WireIs.SHIELD), 0.4),
    ),
    5: (
        ((WireIs.SUPPLY, WireIs.SIGNAL, WireIs.SIGNAL, WireIs.GROUND, WireIs.SHIELD), 0.5),
        ((WireIs.SUPPLY, WireIs.SUPPLY, WireIs.SIGNAL, WireIs.SIGNAL, WireIs.GROUND), 0.5),
    ),
}  # fmt: skip


def _bells(x, rows: Sequence[tuple[float, float, float]]):
    """A mixture of bell curves: (share, middle, spread) each, with a little anywhere."""
    return 1e-4 + sum(
        share / spread / math.sqrt(2 * math.pi) * np.exp(-0.5 * ((x - middle) / spread) ** 2)
        for share, middle, spread in rows
    )


def _volts(wire: WireIs, volts: float, battery: float) -> float:
    """How likely a wire shows so many volts at the open plug, key on."""
    rows = {
        WireIs.SUPPLY: ((0.5, battery - 0.2, 0.35), (0.5, 5.0, 0.1)),
        WireIs.SIGNAL: ((0.62, 5.0, 0.16), (0.2, battery - 0.6, 0.6), (0.18, 0.66 * battery, 1.2)),
        WireIs.GROUND: ((0.9, 0.015, 0.02), (0.1, 0.06, 0.05)),
        WireIs.COIL: ((0.35, 0.03, 0.05), (0.35, 2.4, 0.5), (0.3, 1.5, 0.8)),
        WireIs.SHIELD: ((1.0, 0.0, 0.015),),
    }[wire]
    return float(_bells(volts, rows))


def _ohms(wire: WireIs, ohms: float) -> float:
    """How likely a wire shows so many ohms to body, key off (in decades)."""
    decades = math.log10(max(min(ohms, OPEN_OHM), 0.05))
    rows = {
        WireIs.SUPPLY: ((0.5, 2.6, 0.8), (0.5, 1.2, 0.8)),
        WireIs.SIGNAL: ((0.85, 4.1, 0.7), (0.15, 5.6, 0.6)),
        WireIs.GROUND: ((0.95, -0.1, 0.45), (0.05, 1.0, 0.5)),
        WireIs.COIL: ((0.6, 4.4, 0.7), (0.25, 6.5, 0.8), (0.15, 0.0, 0.5)),
        WireIs.SHIELD: ((0.6, 0.0, 0.4), (0.4, 7.4, 0.4)),
    }[wire]
    return float(_bells(decades, rows))


def _holds(wire: WireIs, share) -> np.ndarray:
    """How likely a wire holds such a share of its volts with 2.2 kilohm to body: a feed holds, a pull-up sags."""
    rows = {
        WireIs.SUPPLY: ((1.0, 0.99, 0.02),), WireIs.SIGNAL: ((0.8, 0.5, 0.13), (0.2, 0.2, 0.12)),
        WireIs.GROUND: ((1.0, 0.9, 0.3),), WireIs.COIL: ((1.0, 0.08, 0.08),), WireIs.SHIELD: ((1.0, 0.9, 0.4),),
    }[wire]  # fmt: skip
    return _bells(share, rows)


def name_wires(pins: Sequence[PinReading], battery: float = 12.5) -> NamedWires:
    """Name the wires of a plug of two to five pins.

    Parameters
    ----------
    battery : float
        volts of the battery at rest

    Raises
    ------
    SagenError
        for fewer or more pins, a pin named twice, or readings that no such circuit gives.
    """
    pins = list(pins)
    if not FEWEST <= len(pins) <= MOST:
        raise SagenError(
            tr("a plug of {fewest} to {most} pins can be told, not of {pins}", fewest=FEWEST, most=MOST, pins=len(pins))
        )
    if len({pin.pin for pin in pins}) < len(pins) or not all(pin.pin for pin in pins):
        raise SagenError(tr("each pin has a name of its own"))
    for this_pin in pins:
        for value, most, what in (
            (this_pin.volts, 4 * battery, "V"),
            (this_pin.loaded, 4 * battery, "V"),
            (this_pin.ohms, 1e12, "ohm"),
        ):
            if value is not None and not (math.isfinite(value) and -1 <= value <= most):
                raise SagenError(
                    tr(
                        "pin {pin}: {value:g} {what} is no reading of a sensor's plug",
                        pin=this_pin.pin,
                        value=value,
                        what=what,
                    )
                )
    ways = sorted({way: 0.0 for form, _ in FORMS[len(pins)] for way in permutations(form)})
    usual = {}
    for form, share in FORMS[len(pins)]:
        own = set(permutations(form))
        for way in own:
            usual[way] = usual.get(way, 0.0) + share / len(own)
    log = np.array(
        [
            math.log(usual[way]) + sum(_log(pin, wire, battery) for pin, wire in zip(pins, way, strict=True))
            for way in ways
        ]
    )
    weight = np.exp(log - log.max())
    weight /= weight.sum()
    named = []
    for at, each_pin in enumerate(pins):
        chances: dict[WireIs, float] = {}
        for way, share in zip(ways, weight, strict=True):
            chances[way[at]] = chances.get(way[at], 0.0) + float(share)
        named.append(NamedPin(each_pin.pin, tuple(sorted(chances.items(), key=lambda row: -row[1]))))
    return NamedWires(tuple(named), _settle(pins, ways, weight))


def _log(pin: PinReading, wire: WireIs, battery: float) -> float:
    total = 0.0
    if pin.volts is not None:
        total += math.log(_volts(wire, pin.volts, battery))
    if pin.ohms is not None:
        total += math.log(_ohms(wire, pin.ohms))
    if pin.loaded is not None and pin.volts is not None and pin.volts > 0.3:
        total += math.log(float(_holds(wire, pin.loaded / pin.volts)))
    return total


#: what is tried as a further reading: its grid, how likely each wire makes it, whether it is still open at a pin, in words
_DECADES, _SHARES = np.linspace(-1, 7.6, 60), np.linspace(0, 1.1, 60)


def _settle(pins: Sequence[PinReading], ways: list[tuple[WireIs, ...]], weight: np.ndarray) -> str:
    """The further reading that is expected to tell most of what is still in doubt; "" where little is."""
    doubt = float(-(weight * np.log2(np.maximum(weight, 1e-12))).sum())
    best, said = 0.15, ""
    # Of two signals, or the two legs of a coil, nothing more can be told by a meter, and nothing needs to be.
    for at, pin in enumerate(pins):
        for table, open_, words in (
            (_table(lambda wire: np.array([_ohms(wire, 10**d) for d in _DECADES])), pin.ohms is None,
             tr("Read the ohms from pin {pin} to body, key off.", pin=pin.pin)),
            (_table(lambda wire: _holds(wire, _SHARES)), pin.loaded is None and (pin.volts or 0.0) > 0.3,
             tr("Put 2.2 kilohm from pin {pin} to body, key on: a feed holds its volts, a pull-up sags.", pin=pin.pin)),
        ):  # fmt: skip
            if not open_:
                continue
            rows = np.array([table[way[at]] for way in ways])
            joint = rows * weight[:, None]
            share = joint.sum(axis=0)
            after = joint / np.maximum(share, 1e-300)
            gain = doubt - float(share @ -(after * np.log2(np.maximum(after, 1e-12))).sum(axis=0))
            if gain > best:
                best, said = gain, words
    return said


def _table(of) -> dict[WireIs, np.ndarray]:
    out = {}
    for wire in WireIs:
        if wire != WireIs.OTHER:
            row = np.asarray(of(wire), float)
            out[wire] = row / row.sum()
    return out
