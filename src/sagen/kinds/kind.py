"""All kinds of sensor by name."""

from __future__ import annotations

from collections.abc import Iterable

from sagen.kinds.coil.kind import Coil
from sagen.kinds.current.kind import Current
from sagen.kinds.hall.kind import Hall
from sagen.kinds.piezo.kind import Piezo
from sagen.kinds.protocol import FormField, Kind
from sagen.machine.faults import FaultMode
from sagen.model.vocabulary import CAPABILITIES, Capability, Cause, Role, SensorKind, can
from sagen.model.words import SENSORS

#: what a circuit of a role most often has, where nothing says it
USUAL = {
    Role.CRANK: SensorKind.HALL,
    Role.CAM: SensorKind.HALL,
    Role.SPEED: SensorKind.CURRENT,
    Role.KNOCK: SensorKind.PIEZO,
}
#: causes of which a sensor that does and has this must be able to fail
MUST_FAIL = {
    Cause.SENSOR: (), Cause.WIRING: (), Cause.MODULE: (), Cause.INTERFERENCE: (), Cause.AIR_GAP: (),
    Cause.SUPPLY: (Capability.FEED,), Cause.GROUND: (Capability.RETURN,),
    Cause.RELUCTOR: (Capability.TURNS,), Cause.TIMING: (Capability.TURNS,), Cause.ENGINE: (Capability.TURNS,),
}  # fmt: skip
MEMBERS = ("material", "form", "not_by_hand", "needs_pattern", "rules", "part")


def what_is_missing(
    known: dict[SensorKind, Kind], slugs: Iterable[SensorKind], faults: Iterable[FaultMode] | None = None
) -> list[str]:
    """What is to be written before every kind of sensor is whole, a sentence each; [] where nothing is.

    Parameters
    ----------
    known: kinds by slug
    slugs: those that there must be
    faults: all fault modes, where they are to be looked at, too
    """
    missing = []
    for slug in slugs:
        kind = known.get(slug)
        if kind is None:
            missing.append(f"'{slug}' has no class of its own: write kinds/{slug}/kind.py and name it in kinds/kind.py")
            continue
        missing += [f"'{slug}' says no `{name}`" for name in MEMBERS if not hasattr(kind, name)]
        if not getattr(kind, "rules", True):
            missing.append(f"'{slug}' has no rules: nothing would be found on it")
        part = getattr(kind, "part", None)
        if part is not None and part.kind != slug:
            missing.append(f"the simulated part of '{slug}' calls itself '{part.kind}'")
        if not CAPABILITIES.get(slug):
            missing.append(f"'{slug}' has no row in CAPABILITIES (model/vocabulary.py)")
            continue
        if slug not in SENSORS:
            missing.append(f"'{slug}' has no name in SENSORS (model/words.py)")
        if faults is None:
            continue
        own = {mode.cause for mode in faults if can(slug, *mode.sensor_can)}
        missing += [
            f"'{slug}' cannot fail by {cause}: write a fault mode in machine/faults/{cause}.py"
            for cause, asks in MUST_FAIL.items()
            if can(slug, *asks) and cause not in own
        ]
    return missing


def all_kinds(*kinds: Kind) -> dict[SensorKind, Kind]:
    """Kinds by slug.

    Raises
    ------
    TypeError
        where one of `SensorKind` is missing or not whole; lists what is to be written.
    """
    known = {item.slug: item for item in kinds}
    missing = what_is_missing(known, SensorKind)
    if missing:
        raise TypeError("; ".join(missing))
    return known


KINDS: dict[SensorKind, Kind] = all_kinds(Hall(), Coil(), Current(), Piezo())


def kind_of(name: str) -> Kind:
    """The kind of that name.

    Parameters
    ----------
    name : str
        a slug or a title

    Raises
    ------
    SagenError
        for a name that is none
    """
    return KINDS[SensorKind(name)]


__all__ = ["KINDS", "USUAL", "FormField", "Kind", "kind_of", "what_is_missing"]
