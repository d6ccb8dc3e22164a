"""One table of units for every file format, the meter and the command line: how each is written, and what it is in SI."""

from __future__ import annotations

from dataclasses import dataclass
from types import MappingProxyType


@dataclass(frozen=True)
class Unit:
    """A unit: its SI unit, and how many of that one of it is."""

    si: str
    factor: float


_PREFIXES = {"n": 1e-9, "u": 1e-6, "µ": 1e-6, "μ": 1e-6, "m": 1e-3, "": 1.0, "k": 1e3, "M": 1e6}
#: SI unit: its spellings, and the prefixes that are met with it
_SPELLED = {
    "V": (("V", "volt", "volts"), "uµμm k"),
    "A": (("A", "amp", "amps", "ampere", "amperes"), "uµμm "),
    "ohm": (("ohm", "ohms", "Ohm", "Ohms", "OHM", "\u03a9", "\u2126"), " kM"),
    "s": (("s", "sec", "second", "seconds"), "nuµμm "),
    "Hz": (("Hz", "hertz", "S/s", "Sa/s", "sps", "samples/s"), " kM"),
}
_OTHERS = {
    "min": Unit("s", 60.0),
    "Pa": Unit("kPa", 1e-3), "hPa": Unit("kPa", 0.1), "mbar": Unit("kPa", 0.1), "kPa": Unit("kPa", 1.0),
    "bar": Unit("kPa", 100.0), "MPa": Unit("kPa", 1e3),
    "psi": Unit("kPa", 6.894757),  # 1 lbf/in2 = 6894.757 Pa (NIST SP 811, appendix B, from memory)
    "degree": Unit("degree", 1.0), "%": Unit("%", 1.0), "shown": Unit("shown", 1.0),
}  # fmt: skip


def _table() -> dict[str, Unit]:
    out = dict(_OTHERS)
    for si, (spellings, prefixes) in _SPELLED.items():
        for prefix in prefixes.replace(" ", "\0"):
            for spelling in spellings:
                prefix = prefix.strip("\0")
                out[prefix + spelling] = Unit(si, _PREFIXES[prefix])
    return out


UNITS = MappingProxyType(_table())
#: what a recorder's channels are in, and its times and rates
SAMPLED, TIMES, RATES = ("V", "A", "kPa"), ("s",), ("Hz",)


def unit_of(text: str, among: tuple[str, ...] = (), *, any_case: bool = False) -> Unit | None:
    """A unit as it is written.

    Parameters
    ----------
    text : str
        as "mV", "kΩ", "kS/s"
    among : tuple of str
        SI units it may be of; empty: any
    any_case : bool
        letters of the other case count, too, as files have them: there "MV" is millivolts

    Returns
    -------
    Unit or None
        None for what is no unit, or one of another quantity

    >>> unit_of("mV"), unit_of("kΩ").factor, unit_of("furlong")
    (Unit(si='V', factor=0.001), 1000.0, None)
    """
    written = text.strip()
    found = UNITS.get(written)
    if found is not None and among and found.si not in among:
        found = None
    if found is None and any_case:
        found = _folded(among).get(written.casefold())
    return found


_FOLDED: dict[tuple[str, ...], dict[str, Unit]] = {}


def _folded(among: tuple[str, ...]) -> dict[str, Unit]:
    if among not in _FOLDED:
        table: dict[str, Unit] = {}
        for name, unit in UNITS.items():
            if not among or unit.si in among:
                # Of two that differ in case only the smaller is meant: milli, not mega; but no recorder gives millihertz.
                before = table.get(name.casefold())
                if before is None or unit.factor < before.factor:
                    table[name.casefold()] = unit
        _FOLDED[among] = table
    return _FOLDED[among]


def sampled_unit(written: str) -> tuple[str, float]:
    """The SI unit of a channel of a file and the factor that brings the file's numbers to it; volts where it names none, and
    what is not known stays as it is written.

    >>> sampled_unit("MV"), sampled_unit(""), sampled_unit("rpm")
    (('V', 0.001), ('V', 1.0), ('rpm', 1.0))
    """
    found = unit_of(written, SAMPLED, any_case=True)
    return (found.si, found.factor) if found is not None else (written.strip() or "V", 1.0)


def seconds_of(written: str) -> float | None:
    """Seconds for one unit of times as a file names it; None for what is no unit of times."""
    found = unit_of(written, TIMES, any_case=True)
    return found.factor if found is not None else None


def hertz_of(written: str) -> float | None:
    """Hz for one unit of a rate as a file names it; None for what is no unit of rates."""
    found = unit_of(written, RATES, any_case=True)
    return found.factor if found is not None else None
