"""How large a fault is: the ohms or volts of its own that the evidence leaves."""

from __future__ import annotations

import numpy as np

from sagen.model.finding import Estimate
from sagen.reason.particle_set import ParticleSet
from sagen.reason.scales import MOST_OHM

#: fault mode -> the value of the circuit that it is, and what that is called
QUANTITIES = {
    "signal_pin_high_resistance": ("signal_pin_ohm", "contact_ohm"),
    "feed_pin_high_resistance": ("feed_pin_ohm", "contact_ohm"),
    "return_pin_high_resistance": ("ground_pin_ohm", "contact_ohm"),
    "signal_wire_high_resistance": ("signal_wire_ohm", "wire_ohm"),
    "signal_wire_leaking": ("leak_ohm", "leak_ohm"),
    "signal_wire_leaking_to_feed": ("short_to_feed_ohm", "leak_to_feed_ohm"),
    "return_high_resistance": ("ground_wire_ohm", "return_ohm"),
    "feed_wire_high_resistance": ("feed_wire_ohm", "feed_ohm"),
    "ground_lifts_when_cranking": ("strap_ohm", "strap_ohm"),
    "pull_up_weak": ("pull_up_ohm", "pull_up_ohm"),
    "input_loads_the_line": ("input_ohm", "load_ohm"),
    "output_cannot_pull_down": ("on_ohm", "output_on_ohm"),
    "output_cannot_release": ("off_ohm", "output_off_ohm"),
    "coil_high_resistance": ("coil_ohm", "coil_ohm"),
    "coil_turns_shorted": ("coil_ohm", "coil_ohm"),
    "element_high_resistance": ("piezo_ohm", "element_ohm"),
    "element_leaking": ("piezo_ohm", "element_ohm"),
}
#: of a coil's or a piezo's input the load is another value
_LOADS = {"reluctance": "load_ohm", "piezo": "load_ohm", "current": "shunt_ohm"}
WIDEST = 2.0  #: decades between the ends: beyond it nothing is said
SHARES = (0.1, 0.5, 0.9)


def estimate(fault: str, particle_set: ParticleSet, weights: np.ndarray) -> Estimate | None:
    """The weighted 10, 50 and 90 % of a fault's own quantity over the particles of one row; None where the evidence
    leaves it open, it is over any meter's range, or it has none.

    Parameters
    ----------
    fault : str
        its slug
    particle_set : ParticleSet
        of that fault's row
    weights : ndarray, shape (particles,)
        >= 0, not all 0

    Returns
    -------
    Estimate or None
        in ohm, V, mm or a share, as the fault has it

    References
    ----------
    Weighted quantiles by interpolation (Hazen's plotting position, 1914). From memory.
    """
    if fault not in QUANTITIES:
        return None
    name, quantity = QUANTITIES[fault]
    if name == "input_ohm":
        name = _LOADS.get(particle_set.spec.sensor, name)
    values = particle_set.value(name)[0]
    order = np.argsort(values)
    at = np.cumsum(weights[order]) - 0.5 * weights[order]
    low, middle, high = np.exp(np.interp(SHARES, at / weights.sum(), np.log(np.maximum(values[order], 1e-6))))
    if np.log10(high / low) > WIDEST or middle >= MOST_OHM:
        return None
    return Estimate(quantity, float(middle), float(low), float(high))
