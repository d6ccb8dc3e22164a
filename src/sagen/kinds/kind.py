"""All kinds of sensor by name."""

from __future__ import annotations

from sagen.kinds.coil.kind import Coil
from sagen.kinds.current.kind import Current
from sagen.kinds.hall.kind import Hall
from sagen.kinds.piezo.kind import Piezo
from sagen.kinds.protocol import FormField, Kind
from sagen.model.vocabulary import Role, SensorKind

KINDS: dict[SensorKind, Kind] = {item.slug: item for item in (Hall(), Coil(), Current(), Piezo())}
#: what a circuit of a role most often has, where nothing says it
USUAL = {
    Role.CRANK: SensorKind.HALL,
    Role.CAM: SensorKind.HALL,
    Role.SPEED: SensorKind.CURRENT,
    Role.KNOCK: SensorKind.PIEZO,
}


def kind_of(name: str) -> Kind:
    """The kind of that name."""
    return KINDS[SensorKind(name)]


__all__ = ["KINDS", "USUAL", "FormField", "Kind", "kind_of"]
