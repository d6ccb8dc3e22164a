"""Temperatures as a person reads and types them: in Celsius, or in Fahrenheit where that was chosen. Files, logs and what programs read
hold Celsius. As with the language it is settled once, when this module is first imported."""

from __future__ import annotations

from pathlib import Path

import platformdirs

from sagen.model.language import figure, tr
from sagen.model.typed import typed_figure

#: by the letter that is kept
UNITS = {"C": "°C", "F": "°F"}


def chosen_file() -> Path:
    """Where the choice is kept: of the window and the command line alike."""
    return platformdirs.user_config_path("sagen") / "temperature"


def chosen() -> str:
    """The unit that a person chose; Celsius where nobody did."""
    try:
        kept = chosen_file().read_text("utf-8")[:4].strip()
    except (OSError, ValueError):
        return "C"
    return kept if kept in UNITS else "C"


def choose(unit: str) -> None:
    """Keep a choice for the next start; raises OSError where it cannot be kept.

    Parameters
    ----------
    unit : str
        a key of UNITS
    """
    path = chosen_file()
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_text(unit, "utf-8")


class _Shown:
    """The unit of this process."""

    def __init__(self) -> None:
        self.unit = chosen()


_SHOWN = _Shown()


def use(unit: str) -> None:
    """Take a unit from here on.

    Parameters
    ----------
    unit : str
        a key of UNITS
    """
    _SHOWN.unit = unit


def degrees() -> str:
    """The unit's sign."""
    return UNITS[_SHOWN.unit]


def shown(celsius: float) -> float:
    """A temperature in the unit that is shown, to a tenth.

    Parameters
    ----------
    celsius : float

    References
    ----------
    Fahrenheit is 1.8 times Celsius and 32: NIST SP 811, B.9.
    """
    return round(celsius * 1.8 + 32.0, 1) if _SHOWN.unit == "F" else celsius


def said(celsius: float) -> str:
    """A temperature with its unit, as "20 °C".

    Parameters
    ----------
    celsius : float
    """
    return f"{figure(shown(celsius), 'g')} {degrees()}"


def typed(text: str, what: str) -> float:
    """A temperature as it was typed, in Celsius; a unit behind it counts, else it is in the one that is shown.

    Parameters
    ----------
    text : str
    what : str
        named where it is none

    Raises
    ------
    ValueError
        in words, for what is no number
    """
    clean, unit = text.strip(), _SHOWN.unit
    for letter in UNITS:
        for sign in (f"°{letter}", f"° {letter}", letter, letter.lower()):
            if clean.endswith(sign):
                clean, unit = clean.removesuffix(sign).strip(), letter
                break
    value = typed_figure(clean, tr("{what}, {unit}", what=what, unit=UNITS[unit]))
    return round((value - 32.0) / 1.8, 2) if unit == "F" else value
