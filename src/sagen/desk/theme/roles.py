"""The colours of signals, by look and role: apart for colour-blind eyes, legible on their grounds."""

from __future__ import annotations

from PySide6.QtGui import QColor

from sagen.desk.theme import theme
from sagen.model.vocabulary import Role

ROLES: dict[str, dict[Role, str]] = {
    "light": {
        Role.CRANK: "#0072b2", Role.CAM: "#b84800", Role.SPEED: "#00664b", Role.KNOCK: "#8f3a78",
        Role.SUPPLY: "#a0600a", Role.GROUND: "#4d5a57", Role.OTHER: "#5b6764",
    },
    "dark": {
        Role.CRANK: "#56b4e9", Role.CAM: "#ff8f3f", Role.SPEED: "#009e73", Role.KNOCK: "#c77ab5",
        Role.SUPPLY: "#e69f00", Role.GROUND: "#b9c4c2", Role.OTHER: "#a5b4b1",
    },
}  # fmt: skip
#: the sensors of a set, by look, in their order
SENSORS: dict[str, tuple[str, ...]] = {
    name: tuple(roles[role] for role in (Role.CRANK, Role.CAM, Role.SPEED, Role.KNOCK)) for name, roles in ROLES.items()
}


def role_colour(role: Role | str) -> QColor:
    """The colour of a role's signal in the present theme."""
    shown = ROLES[theme.current().name]
    return QColor(shown.get(role, shown[Role.OTHER]))


def sensor_colour(index: int) -> QColor:
    """The colour of a sensor of a set."""
    shown = SENSORS[theme.current().name]
    return QColor(shown[index % len(shown)])
