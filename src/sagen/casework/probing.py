"""What probe mode asks for, step by step: the meter checks of a circuit in an order that opens the plug once."""

from __future__ import annotations

from dataclasses import dataclass

from sagen.casework.judging import card_circuit, expected_reading
from sagen.kinds.kind import kind_of
from sagen.model.circuit import CircuitSpec
from sagen.model.language import titled
from sagen.model.machine_card import MachineCard
from sagen.model.vocabulary import OHM_POINTS, CheckKind, Point, Quantity, State
from sagen.model.words import POINTS, STATES
from sagen.reason.askable import SHAFT_TURNS
from sagen.reason.facts import knowledge

#: states in the order in which they are gone through: plugged in first, then unplugged, then key off
ORDER = (
    State.KEY_ON, State.METAL_NEAR, State.METAL_AWAY, State.CRANKING, State.RUNNING, State.KEY_ON_UNPLUGGED,
    State.UNPLUGGED,
)  # fmt: skip
POINT_ORDER = (Point.SUPPLY, Point.GROUND, Point.SIGNAL)


@dataclass(frozen=True)
class Step:
    """One step: where the probe goes, how the machine stands, what a sound circuit shows, and what to mind."""

    point: Point
    state: State
    text: str
    expect: str
    where: str
    cautions: tuple[str, ...] = ()

    @property
    def quantity(self) -> Quantity:
        return Quantity.OHMS if self.point in OHM_POINTS else Quantity.VOLTS


def probe_steps(spec: CircuitSpec, card: MachineCard | None, name: str, *, turning: bool = True) -> tuple[Step, ...]:
    """The steps of a circuit: every meter check that it can have, each point and state once; none that turns the engine where
    `turning` is False."""
    circuit = card_circuit(card, name, spec)
    seen: dict[tuple[Point, State], Step] = {}
    for check in knowledge().checks:
        at = (check.point, check.state)
        if check.kind != CheckKind.METER or at in seen or check.state not in ORDER:
            continue
        if not turning and check.state in SHAFT_TURNS:
            continue
        if not check.fits(spec) or check.point not in kind_of(spec.sensor).points(spec):
            continue
        expect = expected_reading(spec, card, name, check.point, check.state, ohms=check.point in OHM_POINTS)
        if not expect:
            continue
        wire = circuit.wire_of(check.point) if circuit is not None else None
        told = [POINTS[check.point], *([wire.called] if wire is not None and wire.called else [])]
        where = f"{', '.join(told)}; {STATES[check.state]}"
        seen[at] = Step(check.point, check.state, check.text, expect, titled(where), check.cautions)
    points = [*POINT_ORDER, *(point for point in Point if point not in POINT_ORDER)]
    return tuple(sorted(seen.values(), key=lambda item: (ORDER.index(item.state), points.index(item.point))))
