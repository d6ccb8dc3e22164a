"""Ohms of a set of like parts against one another, and against what is published.

Each part is judged against the others by Student's t of its logarithm (leave one out), whose spread is never taken for
narrower than parts of one make differ and the meter reads; chances are doubled for as many parts as were tried
(Bonferroni). Two parts that differ do not say which of them is odd.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from sagen.meter.judge import Accuracy, Verdict, judge
from sagen.model.errors import SagenError
from sagen.model.language import joined_and, tr
from sagen.model.lazy import lazy

#: loaded when it is first asked: its import takes longer than most of what is done without it
scipy = lazy("scipy")

MOST = 8
PRODUCTION = 0.03  #: how far like parts of one make differ, standard deviation of the logarithm: common practice
PRIOR_READINGS = 6  #: for how many readings that counts
ALPHA = 0.05


@dataclass(frozen=True)
class SetVerdict:
    """A set of two to eight readings in one unit."""

    readings: tuple[Verdict, ...]
    unit: str
    verdict: str  #: "alike", "odd", "differ" (of two: which is not known) or "too_few"
    odd: tuple[int, ...]  #: which are odd, from 0
    p: tuple[float, ...]  #: chance that a part of the same make lies as far off, times the number tried
    outside: tuple[int, ...]  #: which lie outside of what is published for sure
    text: str
    limited: bool = False  #: whether anything was published

    def as_row(self) -> dict:
        each = [reading.as_row() for reading in self.readings]
        row = {
            "values": [item["value"] for item in each], "corrected": [item["corrected"] for item in each], "unit": self.unit,
            "verdict": self.verdict, "odd": [at + 1 for at in self.odd], "p": [float(f"{item:.3g}") for item in self.p],
            "outside": [at + 1 for at in self.outside], "text": self.text,
        }  # fmt: skip
        if self.limited:
            row["each"] = [{name: item[name] for name in ("verdict", "probability_inside", "text")} for item in each]
        return row


def compare_set(
    values: Sequence[float],
    unit: str = "ohm",
    limits: tuple[float, float] | None = None,
    *,
    accuracy: Accuracy | None = None,
    digit: float | None = None,
    **how,
) -> SetVerdict:
    """Which of a set of like parts is the odd one.

    Parameters
    ----------
    values : sequence of float
        two to eight readings, all in `unit`, at one temperature; infinite: over range
    limits : (low, high) or None
        in the same unit; None where nothing is published
    accuracy : Accuracy
        the meter's; without one 1 % and a digit
    digit : float
        size of the last digit shown
    how
        temperature, material, leads and whatever else `judge` takes: it applies to each

    Returns
    -------
    SetVerdict

    Raises
    ------
    SagenError
        for fewer than one or more than eight readings, or one that makes no sense.

    References
    ----------
    The shortest half: Rousseeuw, J. Am. Stat. Assoc. 79 (1984). From memory.
    """
    if not 1 <= len(values) <= MOST:
        raise SagenError(tr("a set is of two to {most} readings, not {values}", most=MOST, values=len(values)))
    accuracy = accuracy or Accuracy()
    low, high = limits or (-math.inf, math.inf)
    readings = tuple(judge(float(value), unit, low, high, accuracy=accuracy, digit=digit, **how) for value in values)
    corrected = np.array([reading.corrected for reading in readings])
    outside = tuple(at for at, reading in enumerate(readings) if reading.verdict == "outside") if limits else ()
    # What is open or shorted is no part of any spread.
    there = np.flatnonzero(np.isfinite(corrected) & (corrected > 0))
    gone = tuple(int(at) for at in np.setdiff1d(np.arange(len(corrected)), there))
    p = np.where(np.isin(np.arange(len(corrected)), there), 1.0, 0.0)
    verdict, odd = "alike", ()
    if len(corrected) < 2:
        verdict = "too_few"
    elif len(there) == 0:
        p[:] = 1.0
    elif len(there) == 1:
        verdict, odd = ("differ", ()) if len(corrected) == 2 else ("odd", tuple(int(at) for at in there))
        if verdict == "odd":
            p = 1.0 - p
    else:
        read = np.array([accuracy.standard(corrected[at], digit or 0.0) / corrected[at] for at in there])
        if len(there) == 2:
            p[there] = _chances(np.log(corrected[there]), read, np.arange(2))
            verdict = "differ" if p[there].min() < ALPHA else "alike"
        else:
            verdict, found, p[there] = _odd_ones(np.log(corrected[there]), read)
            odd = tuple(int(there[at]) for at in found)
    if gone and len(there) > 1:
        verdict, odd = "odd", tuple(sorted((*odd, *gone)))
    if verdict == "differ" and len(outside) == 1 and len(corrected) == 2:
        verdict, odd = "odd", outside
    chances = tuple(float(item) for item in p)
    text = _words(len(readings), unit, verdict, odd, chances, limits, readings, outside)
    return SetVerdict(readings, unit, verdict, odd, chances, outside, text, limits is not None)


def _chances(logs: np.ndarray, read: np.ndarray, core: np.ndarray) -> np.ndarray:
    """For each part, how likely one of the same make lies as far from the others of the core, corrected for having tried
    all."""
    count, out = len(logs), np.ones(len(logs))
    for index in range(count):
        others = core[core != index]
        mean = logs[others].mean()
        freedom = PRIOR_READINGS + len(others) - 1
        own = ((logs[others] - mean) ** 2).sum() + PRIOR_READINGS * PRODUCTION**2
        spread = own / freedom * (1 + 1 / len(others)) + read[index] ** 2 + (read[others] ** 2).mean() / len(others)
        out[index] = min(1.0, count * 2 * scipy.special.stdtr(freedom, -abs(logs[index] - mean) / np.sqrt(spread)))
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
    odd = tuple(int(at) for at in np.flatnonzero(p < ALPHA))
    return ("odd", odd, p) if odd else ("alike", (), p)


def _numbers(odd: Sequence[int]) -> str:
    named = joined_and(str(item + 1) for item in odd)
    return tr("Number {named} differs", named=named) if len(odd) == 1 else tr("Numbers {named} differ", named=named)


def _words(count, unit, verdict, odd, p, limits, readings, outside) -> str:
    least = min((p[at] for at in odd), default=1.0)
    chance = f"p = {least:.2g}" if least >= 1e-4 else "p < 0.0001"
    said = {
        "too_few": tr("One reading is no set: measure the others as well."),
        "alike": tr("All {count} alike, as far as the meter can tell.", count=count),
        "differ": tr(
            "They differ by more than parts of one make do, but which of them is odd cannot be told from this."
        ),
        "odd": tr("{odd} from the others ({chance}).", odd=_numbers(odd), chance=chance),
    }[verdict]
    close = [str(at + 1) for at, reading in enumerate(readings) if reading.verdict == "too_close"]
    if limits:
        low, high = (f"{limit:.6g}" for limit in limits)
        where = ", ".join(str(at + 1) for at in outside)
        published = (
            tr("at most {high}", high=high)
            if math.isinf(limits[0])
            else tr("at least {low}", low=low)
            if math.isinf(limits[1])
            else tr("{low} to {high}", low=low, high=high)
        )
        said += (
            tr(
                " Number {where} lies outside of the published {published} {unit}.",
                where=where,
                published=published,
                unit=unit,
            )
            if outside
            else tr(" None lies outside of the published {published} {unit} for sure.", published=published, unit=unit)
        )
        if close:
            said += tr(" Number {close} lies too close to a limit to say.", close=", ".join(close))
    elif verdict == "alike":
        said += tr(" Alike is not good: without a published range all may be off.")
    return said
