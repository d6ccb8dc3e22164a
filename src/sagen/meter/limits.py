"""Limits of a reading as they are published: from one value to another, one-sided, nominal with a tolerance, or a table by
temperature."""

from __future__ import annotations

import math
import re
from dataclasses import dataclass
from itertools import pairwise

from sagen.model.errors import SagenError, unknown_name
from sagen.model.language import tr
from sagen.model.units import UNITS, unit_of

KELVIN = 273.15
#: of a table of single values without a stated tolerance: what resistors by temperature are mostly sold to
USUAL_TOLERANCE = 0.1
#: K, how far beyond a table's ends its last stretch is followed
BEYOND_K = 10.0
#: units that readings have
METER_UNITS = ("ohm", "V", "A", "Hz", "kPa", "degree", "%", "shown")


@dataclass(frozen=True)
class LimitsAt:
    """Limits at a temperature.

    Parameters
    ----------
    low, high : float
        in the reading's unit; infinite on an open side
    slope : float
        how the limits change with the temperature, share of them a kelvin: 0 where they do not
    note : str
        where they were not published for it
    """

    low: float
    high: float
    slope: float = 0.0
    note: str = ""


@dataclass(frozen=True)
class TableRow:
    """One row of a table by temperature: degC, and the least and the most there."""

    celsius: float
    low: float
    high: float


def between_rows(cold: TableRow, warm: TableRow, celsius: float, *, ohms: bool = True) -> LimitsAt:
    """Limits between two rows of a table, or beyond them.

    Of ohms the logarithm is taken on a straight line over the reciprocal of the absolute temperature (the beta equation of
    thermistors, R = R1 exp(B (1/T - 1/T1)); IEC 60539-1, from memory), of everything else the value itself over the
    temperature.

    Parameters
    ----------
    cold, warm : TableRow
        of different temperatures
    celsius : float, degC
    """
    if not ohms or min(cold.low, cold.high, warm.low, warm.high) <= 0:
        share = (celsius - cold.celsius) / (warm.celsius - cold.celsius)
        low, high = (a + share * (b - a) for a, b in ((cold.low, warm.low), (cold.high, warm.high)))
        middle = abs(low + high) / 2
        step = abs((warm.low + warm.high - cold.low - cold.high) / 2 / (warm.celsius - cold.celsius))
        return LimitsAt(low, high, step / middle if middle else 0.0)
    one_over = 1 / (celsius + KELVIN)
    share = (one_over - 1 / (cold.celsius + KELVIN)) / (1 / (warm.celsius + KELVIN) - 1 / (cold.celsius + KELVIN))
    low, high = (
        math.exp(math.log(a) + share * math.log(b / a)) for a, b in ((cold.low, warm.low), (cold.high, warm.high))
    )
    beta = math.log((cold.low * cold.high) / (warm.low * warm.high)) / 2
    beta /= 1 / (cold.celsius + KELVIN) - 1 / (warm.celsius + KELVIN)
    return LimitsAt(low, high, abs(beta) * one_over**2)


@dataclass(frozen=True)
class Limits:
    """Limits in one unit; with a table, by temperature."""

    low: float = -math.inf
    high: float = math.inf
    table: tuple[TableRow, ...] = ()
    note: str = ""
    ohms: bool = True

    def at(self, celsius: float | None) -> LimitsAt:
        """The limits at a temperature, degC.

        Raises
        ------
        SagenError
            for a table without a temperature, or one far beyond its ends.

        Parameters
        ----------
        celsius : float or None
            degC

        Returns
        -------
        LimitsAt
            ohm, or the limits' own unit

        References
        ----------
        Interpolated as the logarithm of ohms over 1 / K, as two points of the equation of Steinhart and Hart, Deep-Sea Research 15 (1968). From
        memory.
        """
        if not self.table:
            return LimitsAt(self.low, self.high, 0.0, self.note)
        first, last = self.table[0].celsius, self.table[-1].celsius
        if celsius is None:
            raise SagenError(
                tr(
                    "the table goes from {first:g} to {last:g} degC: state the part's --temperature",
                    first=first,
                    last=last,
                )
            )
        if not first - BEYOND_K <= celsius <= last + BEYOND_K:
            raise SagenError(
                tr(
                    "{celsius:g} degC is too far beyond the table, which goes from {first:g} to {last:g} degC",
                    celsius=celsius,
                    first=first,
                    last=last,
                )
            )
        pairs = list(pairwise(self.table))
        cold, warm = next((pair for pair in pairs if celsius <= pair[1].celsius), pairs[-1])
        found = between_rows(cold, warm, celsius, ohms=self.ohms)
        beyond = (
            ""
            if first <= celsius <= last
            else tr("the table ends at {celsius:g} degC", celsius=first if celsius < first else last)
        )
        return LimitsAt(found.low, found.high, found.slope, "; ".join(filter(None, (self.note, beyond))))


def quantity_of(unit: str) -> tuple[str, float]:
    """The SI unit of a reading's unit and its factor; raises SagenError for what is none.

    Parameters
    ----------
    unit : str
        V, ohm, A, Hz, their signs and multiples
    """
    found = unit_of(unit, METER_UNITS)
    if found is None:
        known = [name for name, this_unit in UNITS.items() if this_unit.si in METER_UNITS[:3]]
        raise SagenError(unknown_name("unit", unit, known))
    return found.si, found.factor


_FIGURE = re.compile(r"\s*([-+]?(?:\d+(?:[.,]\d*)?|[.,]\d+)(?:[eE][-+]?\d{1,3})?)\s*([A-Za-zµμ\u03a9\u2126%]*)\s*")


def limit_of(text: str, unit: str) -> float:
    """A limit in the reading's unit, from a number that may carry a unit of its own.

    >>> limit_of("2000ohm", "kohm"), limit_of("0.5", "V"), limit_of("50mV", "V")
    (2.0, 0.5, 0.05)

    Raises
    ------
    SagenError
        for what is no number, or a unit of another quantity.

    Parameters
    ----------
    text : str
        a number, with or without a unit
    unit : str
        the reading's

    Returns
    -------
    float
        in `unit`
    """
    match = _FIGURE.fullmatch(text)
    if not match:
        raise SagenError(tr("limit '{text}' is not a number, with a unit of its own or without", text=text))
    value, own = float(match[1].replace(",", ".")), match[2] or unit
    (quantity, factor), (wanted, per) = quantity_of(own), quantity_of(unit)
    if quantity != wanted:
        raise SagenError(tr("limit '{text}' is in {own}, the reading in {unit}", text=text, own=own, unit=unit))
    if not math.isfinite(value):
        raise SagenError(tr("limit '{text}' is larger than any reading", text=text[:20]))
    return value * factor / per


def tolerance_of(text: str) -> float:
    """A tolerance as a share, from per cent.

    >>> tolerance_of("10%")
    0.1

    Parameters
    ----------
    text : str
        per cent

    Returns
    -------
    float
        0 to 1
    """
    match = re.fullmatch(r"\s*(\d+(?:[.,]\d+)?)\s*%?\s*", text)
    share = float(match[1].replace(",", ".")) / 100 if match else math.nan
    if not 0 < share < 1:
        raise SagenError(tr("tolerance '{text}' is not of the form 10%", text=text))
    return share


def table_of(text: str, unit: str, tolerance: float | None) -> Limits:
    """A table by temperature: `"20:2500 80:320"`, or with both limits `"20:2200-2700 80:290-350"`.

    Raises
    ------
    SagenError
        with what is wrong.

    Parameters
    ----------
    text : str
        rows as above
    unit : str
        the reading's
    tolerance : float or None
        percent about rows that have one value
    """
    rows, single = [], False
    for word in text.replace(";", " ").split():
        celsius, _, values = word.partition(":")
        low, _, high = values.partition("-")
        try:
            at = float(celsius.replace(",", "."))
        except ValueError:
            raise SagenError(
                tr("table: '{word}' is not of the form 20:2500, a temperature and what is read there", word=word)
            ) from None
        if not -60 <= at <= 300:
            raise SagenError(tr("table: {at:g} degC makes no sense for a sensor", at=at))
        ends = [limit_of(item, unit) for item in (low, high or low)]
        single = single or not high
        if ends[0] > ends[1]:
            raise SagenError(tr("table: '{word}' has its limits the wrong way round", word=word))
        share = tolerance if tolerance is not None else (USUAL_TOLERANCE if not high else 0.0)
        rows.append(TableRow(at, ends[0] * (1 - share), ends[1] * (1 + share)))
    rows.sort(key=lambda row: row.celsius)
    if len(rows) < 2 or any(a.celsius == b.celsius for a, b in pairwise(rows)):
        raise SagenError(tr("a table needs at least two rows of different temperatures"))
    assumed = single and tolerance is None
    note = (
        tr("no tolerance was stated: {usual_tolerance:g} % either way is taken", usual_tolerance=100 * USUAL_TOLERANCE)
        if assumed
        else ""
    )
    return Limits(table=tuple(rows), note=note, ohms=quantity_of(unit)[0] == "ohm")
