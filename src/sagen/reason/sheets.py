"""The circuit that a capture's sheet describes."""

from __future__ import annotations

from sagen.model.circuit import CircuitSpec
from sagen.model.sheet import Sheet


def spec_of(sheet: Sheet) -> CircuitSpec:
    """The circuit of the sheet's first sensor: its own feed where a feed channel states one."""
    sensor = next((one for one in sheet.channel if one.role in ("crank", "cam", "speed", "knock")), None)
    if sensor is None:
        return CircuitSpec()
    feed = next((one.nominal for one in sheet.channel if one.role == "supply" and one.nominal), None)
    kind = sensor.sensor or ("piezo" if sensor.role == "knock" else "hall")
    # A cam recorded beside a crank is what the capture is about: its own findings are the crank's reference.
    return CircuitSpec(
        role=sensor.role,
        sensor=kind,
        supply=feed,
        pull_up=sensor.pull_up if kind == "hall" else None,
        wheel=sensor.wheel,
    )
