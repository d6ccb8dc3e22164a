"""Ohms of a set of like parts against one another, and against what is published.

Each part is judged against the others by Student's t of its logarithm (leave one out), whose spread is never taken for
narrower than parts of one make differ and the meter reads; chances are doubled for as many parts as were tried
(Bonferroni). Two parts that differ do not say which of them is odd.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from sagen.meter.judge import SURE, Accuracy
from sagen.model.errors import SagenError

MOST = 8
PRODUCTION = 0.03  #: how far like parts of one make differ, standard deviation of the logarithm: common practice
PRIOR_READINGS = 6  #: for how many readings that counts
ALPHA = 0.05


@dataclass(frozen=True)
class SetVerdict:
    """A set of two to eight readings in one unit."""

    values: tuple[float, ...]
    unit: str
    verdict: str  #: "alike", "odd", "differ" (of two: which is not known) or "too_few"
    odd: tuple[int, ...]  #: which are odd, from 0
    p: tuple[float, ...]  #: chance that a part of the same make lies as far off, times the number tried
    limits: tuple[float, float] | None
    outside: tuple[int, ...]  #: which lie outside of what is published for sure
    text: str

    def as_row(self) -> dict:
        return {
            "values": list(self.values), "unit": self.unit, "verdict": self.verdict,
            "odd": [one + 1 for one in self.odd], "p": [float(f"{one:.3g}") for one in self.p],
            "outside": [one + 1 for one in self.outside], "text": self.text,
        }  # fmt: skip


def compare_set(
    values: Sequence[float],
    unit: str = "ohm",
    limits: tuple[float, float] | None = None,
    *,
    accuracy: Accuracy | None = None,
    digit: float | None = None,
) -> SetVerdict:
    """Which of a set of like parts is the odd one.

    Parameters
    ----------
    values : two to eight readings, all in `unit`, at one temperature
    limits : (low, high) in the same unit, or None where nothing is published
    accuracy : the meter's; without one 1 % and a digit
    digit : float
        size of the last digit shown

    Raises
    ------
    SagenError
        for fewer than one or more than eight readings, or one that is not above zero.
    """
    values = tuple(float(one) for one in values)
    if not 1 <= len(values) <= MOST:
        raise SagenError(f"a set is of two to {MOST} readings, not {len(values)}")
    wrong = next((one for one in values if not 0 < one < 1e12), None)
    if wrong is not None:
        raise SagenError(f"{wrong:g} {unit} is no resistance of a part")
    accuracy = accuracy or Accuracy()
    read = np.array([accuracy.standard(one, digit or 0.0) / one for one in values])
    outside = tuple(_outside(values, read, limits)) if limits else ()
    if len(values) < 2:
        verdict, odd, p = "too_few", (), (1.0,)
    elif len(values) == 2:
        p = _chances(np.log(values), read, np.arange(2))
        verdict, odd = ("differ", ()) if p[0] < ALPHA else ("alike", ())
        if verdict == "differ" and len(outside) == 1:
            verdict, odd = "odd", outside
    else:
        verdict, odd, p = _odd_ones(np.log(values), read)
    text = _words(values, unit, verdict, odd, p, limits, outside)
    return SetVerdict(values, unit, verdict, odd, tuple(float(one) for one in p), limits, outside, text)


def _chances(logs: np.ndarray, read: np.ndarray, core: np.ndarray) -> np.ndarray:
    """For each part, how likely one of the same make lies as far from the others of the core, corrected for having tried
    all."""
    from scipy.special import stdtr

    count, out = len(logs), np.ones(len(logs))
    for one in range(count):
        others = core[core != one]
        mean = logs[others].mean()
        freedom = PRIOR_READINGS + len(others) - 1
        own = ((logs[others] - mean) ** 2).sum() + PRIOR_READINGS * PRODUCTION**2
        spread = own / freedom * (1 + 1 / len(others)) + read[one] ** 2 + (read[others] ** 2).mean() / len(others)
        out[one] = min(1.0, count * 2 * stdtr(freedom, -abs(logs[one] - mean) / np.sqrt(spread)))
    return out


def _odd_ones(logs: np.ndarray, read: np.ndarray) -> tuple[str, tuple[int, ...], np.ndarray]:
    """The odd ones against the greater part that lies closest together (the shortest half: Rousseeuw 1984, J. Am. Stat.
    Assoc. 79), so that two of them do not hide each other. Where that part does not agree in itself nobody can say."""
    half = len(logs) // 2 + 1
    order = np.argsort(logs)
    spans = logs[order[half - 1 :]] - logs[order[: len(logs) - half + 1]]
    first = int(np.argmin(spans))
    core = np.sort(order[first : first + half])
    p = _chances(logs, read, core)
    if p[core].min() < ALPHA:
        return "differ", (), p
    odd = tuple(int(one) for one in np.flatnonzero(p < ALPHA))
    return ("odd", odd, p) if odd else ("alike", (), p)


def _outside(values, read, limits):
    low, high = limits
    from scipy.special import ndtr

    for at, (value, spread) in enumerate(zip(values, read, strict=True)):
        width = max(spread * value, 1e-12)
        inside = float(ndtr((high - value) / width) - ndtr((low - value) / width))
        if inside < 1 - SURE:
            yield at


def _numbers(odd: Sequence[int]) -> str:
    named = " and ".join(str(one + 1) for one in odd)
    return f"Number {named} differs" if len(odd) == 1 else f"Numbers {named} differ"


def _words(values, unit, verdict, odd, p, limits, outside) -> str:
    chance = f"p = {min(p[one] for one in odd):.2g}" if odd and min(p[one] for one in odd) >= 1e-4 else "p < 0.0001"
    said = {
        "too_few": "One reading is no set: measure the others as well.",
        "alike": f"All {len(values)} alike, as far as the meter can tell.",
        "differ": "They differ by more than parts of one make do, but which of them is odd cannot be told from this.",
        "odd": f"{_numbers(odd)} from the others ({chance}).",
    }[verdict]
    if limits:
        low, high = limits
        where = ", ".join(str(one + 1) for one in outside)
        said += (
            f" Number {where} lies outside of the published {low:g} to {high:g} {unit}."
            if outside
            else f" None lies outside of the published {low:g} to {high:g} {unit} for sure."
        )
    elif verdict == "alike":
        said += " Alike is not good: without a published range all may be off."
    return said
