"""The circuit that a capture's sheet describes."""

from __future__ import annotations

from collections.abc import Iterable

from sagen.model.circuit import CircuitSpec
from sagen.model.finding import Finding
from sagen.model.sheet import Sheet
from sagen.reason.finding_sets import ABOUT_CAPTURE

SENSORS = ("crank", "cam", "speed", "knock")


def spec_of(sheet: Sheet, findings: Iterable[Finding] = ()) -> CircuitSpec:
    """The circuit that a capture is about: the sensor with the gravest finding, else the sheet's first; with its own
    feed where a feed channel states one."""
    sensors = {one.column: one for one in sheet.channel if one.role in SENSORS}
    if not sensors:
        return CircuitSpec()
    grave = [one for one in findings if one.channel in sensors and one.kind not in ABOUT_CAPTURE]
    gravest = max(grave, key=lambda one: one.severity, default=None)
    sensor = sensors[gravest.channel] if gravest else next(iter(sensors.values()))
    feed = next((one.nominal for one in sheet.channel if one.role == "supply" and one.nominal), None)
    kind = sensor.sensor or ("piezo" if sensor.role == "knock" else "hall")
    return CircuitSpec(
        role=sensor.role,
        sensor=kind,
        supply=feed,
        pull_up=sensor.pull_up if kind == "hall" else None,
        wheel=sensor.wheel,
    )
