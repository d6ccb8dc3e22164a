"""The electrical values of a sensor circuit. Every one can be overridden under `[circuit.values]`."""

from __future__ import annotations

from dataclasses import dataclass, fields

from sagen.model.errors import SheetError, unknown_name
from sagen.model.language import tr


@dataclass
class Values:
    """Volts, ohms, amperes, farads, henries, hertz. Defaults are a plain circuit of common practice."""

    # battery and what stands between it and the sensor
    battery_v: float = 12.6
    battery_ohm: float = 0.011
    crank_a: float = 150.0  #: mean current of the starter
    running_v: float = 14.1
    fuse_ohm: float = 0.008
    relay_ohm: float = 0.012
    feed_wire_ohm: float = 0.14
    feed_pin_ohm: float = 0.006
    regulator_v: float = 5.0
    regulator_ohm: float = 0.25
    other_load_ohm: float = 900.0  #: what else hangs on a regulated feed
    # sensor
    sensor_ohm: float = 1_600.0  #: what a switching sensor draws
    least_supply_v: float = 3.4  #: below this a switching or current sensor is dead
    on_ohm: float = 38.0
    low_v: float = 0.0  #: what the conducting output holds besides its resistance
    off_ohm: float = 4e6
    coil_ohm: float = 870.0
    coil_h: float = 0.36
    coil_v: float = 2.1  #: peak volts of the open coil at 200 teeth a second and the usual gap
    low_a: float = 0.007
    high_a: float = 0.014
    piezo_f: float = 1.15e-9
    piezo_ohm: float = 210_000.0  #: built-in resistor across the element
    piezo_hz: float = 6_450.0
    piezo_zeta: float = 0.021
    piezo_v: float = 1.6  #: first peak of a light tap, open
    # signal and return wires
    signal_wire_ohm: float = 0.22
    signal_pin_ohm: float = 0.006
    ground_wire_ohm: float = 0.15
    ground_pin_ohm: float = 0.006
    strap_ohm: float = 0.00035  #: engine to battery negative, carries the starter's current
    ground_offset_v: float = 0.017  #: what the module's own current lifts its ground by
    leak_ohm: float = 1e9  #: signal wire to ground
    short_to_feed_ohm: float = 1e9  #: signal wire to the feed
    shield_ohm: float = 0.3
    wire_f: float = 450e-12
    # module
    pull_up_v: float = 5.0
    pull_up_ohm: float = 2_150.0
    input_ohm: float = 900_000.0
    input_f: float = 4.7e-9
    threshold_v: float = 2.4
    hysteresis_v: float = 0.7
    bias_v: float = 5.0  #: a coil's input is watched through this
    bias_ohm: float = 47_000.0
    return_ohm: float = 0.001  #: the module's return pin to its ground; a differential input has some there
    return_bias_ohm: float = 1e9  #: through which such an input lifts the return as well
    load_ohm: float = 22_000.0  #: coil and piezo input
    shunt_ohm: float = 100.0
    # instruments
    recorder_ohm: float = 1e6
    recorder_f: float = 120e-12
    meter_ohm: float = 1e7

    @classmethod
    def with_overrides(cls, overrides: dict[str, object]) -> Values:
        """The defaults with some replaced; raises SheetError for an unknown name or a value that is no number.

        Parameters
        ----------
        overrides : dict
            numbers or flags by field, in the field's unit
        """
        known = [field.name for field in fields(cls)]
        clean = {}
        for name, value in overrides.items():
            if name not in known:
                raise SheetError(tr("in [circuit.values], {it}", it=unknown_name("value", name, known)))
            if isinstance(value, bool) or not isinstance(value, int | float) or not 0 <= value < 1e15:
                raise SheetError(
                    tr("[circuit.values] {name}: {value} is not a number of at least 0", name=name, value=repr(value))
                )
            clean[name] = float(value)
        return cls(**clean)


def units() -> dict[str, str]:
    """The unit of every value, from the end of its name."""
    ends = {"_v": "V", "_ohm": "ohm", "_a": "A", "_f": "F", "_h": "H", "_hz": "Hz", "_zeta": ""}
    return {
        field.name: next(unit for end, unit in ends.items() if field.name.endswith(end)) for field in fields(Values)
    }
