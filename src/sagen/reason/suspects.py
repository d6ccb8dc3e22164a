"""What a posterior amounts to for a person: causes, each named by its likeliest fault mode, with its evidence for and against."""

from __future__ import annotations

import numpy as np

from sagen.machine.faults import all_faults
from sagen.model.finding import Estimate, Reason, Suspect
from sagen.model.language import worded
from sagen.reason import words
from sagen.reason.evidence import Captured, MeterReading
from sagen.reason.facts import SOUND, cause_of, title_of
from sagen.reason.history import Case
from sagen.reason.magnitude import estimate
from sagen.reason.particle_set import END_SHARE
from sagen.reason.posterior import Posterior
from sagen.reason.world import World, world_of

#: a reason weaker than this many bits is not worth a sentence
LEAST_BITS = 0.35


def suspects(
    case: Case, posterior: Posterior, *, world: World | None = None, most_reasons: int = 8
) -> tuple[Suspect, ...]:
    """Causes, likeliest first, each named by its likeliest fault mode and with its evidence for and against.

    Parameters
    ----------
    case : Case
    posterior : Posterior
        of that case
    world : World or None
        the one that the posterior was drawn in
    most_reasons : int
        for and against together, strongest first
    """
    world = world or world_of(case.spec)
    by_fault, by_cause = posterior.by_fault(), posterior.by_cause()
    rows = []
    for cause, p in by_cause.items():
        top = max((item for item in by_fault if cause_of(item) == cause), key=by_fault.get)
        reasons = _reasons(top, posterior, world)[:most_reasons]
        size = _estimate(top, posterior, world)
        rows.append(Suspect(cause, top, p, reasons, world.facts.priors[top].do, named(top, posterior, world), size))
    return tuple(sorted(rows, key=lambda row: -row.probability))


def named(fault: str, posterior: Posterior, world: World) -> str:
    """A fault mode in words, by the name of its end where most of its particles have come to it: open, shorted.

    Parameters
    ----------
    fault : str
        slug
    posterior : Posterior
        with the particles of each history
    world : World
        the circuit's machines
    """
    weighted = posterior.weighted_of(fault)
    end = next((name for name, at in all_faults()[fault].ends.items() if at == 1.0), "") if fault != SOUND else ""
    slot = next((slot for item, slot in weighted.row if item == fault), 0) if weighted else 0
    if end and weighted is not None and len(posterior.used):
        at_end = weighted.cube[:, world.places.column[f"severity.{slot}"]] >= 1 - END_SHARE
        if float(weighted.weights[at_end].sum()) > MOSTLY:
            return worded(end)
    return title_of(fault)


MOSTLY = 0.6


def _estimate(fault: str, posterior: Posterior, world: World) -> Estimate | None:
    weighted = posterior.weighted_of(fault)
    measured = any(isinstance(item, MeterReading | Captured) for item in posterior.used)
    if weighted is None or fault == SOUND or not measured:
        return None
    with world.lock:
        return estimate(
            fault, world.particle_set_of((weighted.row,), weighted.cube[None], posterior.generations), weighted.weights
        )


def _reasons(fault: str, posterior: Posterior, world: World) -> tuple[Reason, ...]:
    """Each piece's weight: its likelihood under the fault against that under all others, in bits."""
    found: dict[str, Reason] = {}
    others = [this_fault for this_fault in world.faults if this_fault != fault]
    weight = dict(zip(others, world.facts.weights(others, world.spec.role), strict=True))
    before = posterior.before or (False,) * len(posterior.used)
    for piece, alone, earlier in zip(posterior.used, posterior.alone, before, strict=True):
        if fault not in alone:
            continue
        told = [other for other in others if other in alone]
        there = sum(weight[item] * alone[item] for item in told) / max(sum(weight[item] for item in told), 1e-9)
        bits = float(np.log2(max(alone[fault], 1e-9) / max(there, 1e-9)))
        if abs(bits) >= LEAST_BITS:
            text = words.reason(piece, fault, world)
            text = words.of_what_was_taken_out(text) if earlier else text
            found[text] = Reason(text, bits, piece.record)
    return tuple(sorted(found.values(), key=lambda item: -abs(item.bits)))
