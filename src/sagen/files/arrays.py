"""From named arrays, wherever they came from, to a capture: which is time, which are channels."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from itertools import pairwise

import numpy as np

from sagen.model.capture import Capture, Channel
from sagen.model.errors import CaptureFileError
from sagen.model.language import later, said_now, tr
from sagen.model.units import sampled_unit, seconds_of

FEWEST_SAMPLES = 16
MOST_CHANNELS = 64
LARGEST_VALUE = 1e9  #: of a sample, in the unit of its file
#: a time step may differ from the usual one by this share before the samples are laid on an even grid
JITTER = 0.05
#: a step this many times the usual one is a hole in the recording
HOLE = 20.0
#: where steps hardly ever differ, one this many times the usual one is a hole too
FEW_LOST, RARE = 2.6, 0.01
MOST_HOLES = 2000
MOST_LOST_SHARE = 0.7  #: of the whole: what holds less than that is no recording

_TIME = re.compile(r"^(time|t|ts|timestamps?|zeit|temps|tiempo|x|master)$", re.I)
_RATE = re.compile(r"^(sfreq|fs|rate|sample_?rate|sampling_?rate|sampling_?frequency|frequency|samplefreq)$", re.I)
_INTERVAL = re.compile(r"^(dt|interval|t_?interval|sample_?interval|delta|tinterval)$", re.I)
Holes = tuple[tuple[int, int], ...]


def even_grid(
    times: np.ndarray,
    columns: list[np.ndarray],
    notes: list[dict],
    where=lambda row: later("sample {number}", number=row + 1),
) -> tuple[float, list[np.ndarray], Holes]:
    """Sample rate (Hz) from times (s), the samples on an even grid, and the holes in it; unevenly spaced samples are moved.

    Parameters
    ----------
    times : np.ndarray [shape=(n,)], s
    columns : list of np.ndarray [shape=(n,)]
    notes : list
        gets a line when the samples had to be moved, and one for each hole
    where : callable
        says where row `k` stands in the file

    Returns
    -------
    sfreq, columns, holes : float, list of np.ndarray, tuple
        a hole is its first sample and the one behind its last; the value before it stands there

    Raises
    ------
    CaptureFileError
        for times that are not finite, run backwards or stand still, or more hole than recording.
    """

    def fail(message: str, row: int):
        raise CaptureFileError(f"{said_now(where(row))}: {message}")

    if not np.isfinite(times).all():
        fail(tr("a time is not a number"), int(np.flatnonzero(~np.isfinite(times))[0]))
    steps = np.diff(times)
    back = np.flatnonzero(steps < 0)
    if len(back):
        fail(tr("time runs backwards here"), int(back[0]) + 1)
    span = times[-1] - times[0]
    if span <= 0:
        raise CaptureFileError(tr("time stands still: all samples bear the same time"))
    interval = span / (len(times) - 1)
    if (steps == 0).any():
        found = _coarse_stamps(times, columns, notes, where)
        if found is not None:
            return found
        times = _spread(times)
        steps = np.diff(times)
    # A time kept with few digits comes in steps; what counts is how far it strays from even.
    usual = float(np.median(steps[steps > 0]))
    digits = _kept_step(steps, usual)
    stray = np.abs(times - times[0] - np.arange(len(times)) * interval).max()
    if stray <= max(JITTER * interval, 1.01 * digits):
        return 1.0 / interval, columns, ()
    gaps = np.flatnonzero(steps > HOLE * max(usual, digits))
    few = np.flatnonzero(steps > FEW_LOST * max(usual, digits))
    if len(few) <= RARE * len(steps):
        gaps = few
    lost = float(steps[gaps].sum())
    if len(gaps) and (len(gaps) > MOST_HOLES or lost > MOST_LOST_SHARE * span):
        fail(
            tr("the recording has a hole here, {lost:.4g} s are missing in all: more than was recorded", lost=lost),
            int(gaps[0]) + 1,
        )
    # The interval of what was recorded, holes left out.
    interval = (span - lost) / (len(steps) - len(gaps)) if len(gaps) else usual
    grid = times[0] + np.arange(round(span / interval) + 1) * (span / round(span / interval))
    sfreq = round(span / interval) / span
    if len(grid) != len(times) or np.abs(grid - times).max() > JITTER * interval:
        moved = np.abs((times - times[0]) * sfreq - np.round((times - times[0]) * sfreq)).max() > JITTER
        if moved or not len(gaps):
            notes.append(later("the samples were not evenly spaced and were laid on an even grid"))
    laid = [np.interp(grid, times, this_column).astype(np.float32) for this_column in columns]
    holes, told = _hold_in_gaps(times, columns, laid, gaps, sfreq, where)
    notes += _first_of(told)
    return sfreq, laid, holes


def _hold_in_gaps(times, columns, laid, gaps, sfreq: float, where) -> tuple[Holes, list[dict]]:
    """Write the value before each gap into it, in place; the holes on the grid, and a message of each."""
    holes, told = [], []
    for gap in gaps:
        first = int(np.floor((times[gap] - times[0]) * sfreq + 0.5)) + 1
        stop = int(np.ceil((times[gap + 1] - times[0]) * sfreq - 0.5))
        if stop <= first:
            continue
        holes.append((first, stop))
        for item, column in zip(laid, columns, strict=True):
            item[first:stop] = column[gap]
        told.append(
            later(
                "nothing was recorded for {stop:.3g} ms from {first:.4f} s on ({gap}): nothing is measured across it",
                stop=1000 * (stop - first) / sfreq,
                first=first / sfreq,
                gap=where(int(gap) + 1),
            )
        )
    return tuple(holes), told


def _first_of(told: list[dict]) -> list[dict]:
    """The messages of the first three holes, and how many more there are."""
    more = len(told) - 3
    return told if more <= 0 else [*told[:3], later("and {holes} more such holes", holes=more)]


#: stamps of one stretch, over which the last kept digit of a time hardly changes
STAMPS = 64


def _coarse_stamps(
    times: np.ndarray, columns: list[np.ndarray], notes: list[dict], where
) -> tuple[float, list[np.ndarray], Holes] | None:
    """The same of times kept with so few digits that several samples bear each: the rate is that of samples a stamp, and a
    step of several stamps at once is a hole. None where the samples were not taken evenly."""
    first = np.flatnonzero(np.concatenate([[True], np.diff(times) > 0]))
    stamps = np.diff(times[first])
    if len(stamps) < 3:
        return None
    # Digits run out as time grows: the usual step is that of the neighbourhood.
    parts = [np.median(stamps[k : k + STAMPS]) for k in range(0, len(stamps), STAMPS)]
    around = np.max(np.stack([np.roll(np.pad(parts, 1, "edge"), k)[1:-1] for k in (-1, 0, 1)]), axis=0)
    usual = np.repeat(around, STAMPS)[: len(stamps)]
    gaps = np.flatnonzero(stamps > FEW_LOST * usual)
    if len(gaps) > MOST_HOLES:
        return None
    # From where one stamp begins to where the next does: its own samples, and what was not recorded.
    runs, whole = np.diff(first), np.ones(len(stamps), bool)
    # Not the first stamp, which may have begun before; and a hole cuts the stamp before it short, and the one behind it.
    whole[[0, *gaps, *np.minimum(gaps + 1, len(stamps) - 1)]] = False
    if not whole.any():
        return None
    interval = stamps[whole].sum() / runs[whole].sum()
    # Where digits run out a stamp bears fewer samples than its step tells.
    even = whole & (np.abs(runs * interval - stamps) <= np.maximum(0.3 * stamps, 1.5 * interval))
    if even.any():
        interval = stamps[even].sum() / runs[even].sum()
    lost = stamps[gaps] - runs[gaps] * interval
    if lost.sum() > MOST_LOST_SHARE * (times[-1] - times[0]):
        return None
    before = np.zeros(len(times))
    before[first[gaps + 1]] = lost
    stray = times - times[0] - np.arange(len(times)) * interval - np.cumsum(before)
    for start, stop in pairwise([0, *first[gaps + 1], len(times)]):
        stray[start:stop] -= np.median(stray[start:stop])
    room = np.concatenate([usual, usual[-1:]])[np.searchsorted(first, np.arange(len(times)), "right") - 1]
    if (np.abs(stray) > 1.1 * room).any():
        return None
    holes, told, out, starts = [], [], 0, first[gaps + 1]
    for at, missing in zip(starts, np.round(lost / interval).astype(np.int64), strict=True):
        holes.append((int(at) + out, int(at) + out + int(missing)))
        out += int(missing)
        told.append(
            later(
                "nothing was recorded for about {missing:.3g} ms from {holes:.4f} s on ({at}): nothing is "
                "measured across it",
                missing=1000 * missing * interval,
                holes=holes[-1][0] * interval,
                at=where(int(at)),
            )
        )
    notes += _first_of(told)
    missing = np.array([stop - begin for begin, stop in holes], np.int64)
    laid = [np.insert(column, np.repeat(starts, missing), np.repeat(column[starts - 1], missing)) for column in columns]
    return 1.0 / interval, laid, tuple(holes)


def _spread(times: np.ndarray) -> np.ndarray:
    """Times of which several samples bear the same, each put evenly between one stamp and the next."""
    first = np.flatnonzero(np.concatenate([[True], np.diff(times) > 0]))
    return np.interp(np.arange(len(times)), first, times[first]) if len(first) > 1 else times


def _kept_step(steps: np.ndarray, usual: float) -> float:
    """The last kept digit of a time column, s: the smallest difference between two of its steps."""
    different = np.unique(np.round(steps / usual, 6))
    return min(float(np.diff(different).min(initial=1.0)), 1.0) * usual if len(different) > 1 else 0.0


def picture_note(channel: str, known: float, unit: str) -> dict:
    """What is noted of a channel that was read from a picture.

    Parameters
    ----------
    channel : str
        its column
    known : float
        how far a sample may lie off, twice its standard uncertainty, in `unit`
    unit : str
    """
    return later(
        "from a picture: {channel} is known to about ± {known:.2g} {unit} at each sample",
        channel=channel,
        known=known,
        unit=unit,
    )


def capture_of(
    name: str,
    arrays: Mapping[str, np.ndarray],
    *,
    sfreq: float | None = None,
    units: Mapping[str, str] | None = None,
    notes: list[dict] | None = None,
) -> Capture:
    """A capture of named arrays.

    A one-dimensional array named like a time is the time (s); a single number named like a rate or an
    interval gives the sample rate; every other array as long as the longest is a channel, the columns of
    a two-dimensional one a channel each. Integers stay integers.

    Raises
    ------
    CaptureFileError
        when no channel or no sample rate is found, or a value is not finite.
    """
    notes, units = list(notes or ()), dict(units or {})
    rows: dict[str, np.ndarray] = {}
    times: np.ndarray | None = None
    for key, array in arrays.items():
        array = np.asarray(array)
        if array.dtype.kind not in "iufb" or array.ndim > 2 or not array.size:
            continue
        if array.size == 1:
            value = float(array.ravel()[0])
            if _RATE.match(key) and value > 0:
                sfreq = sfreq or value
            elif _INTERVAL.match(key) and value > 0:
                sfreq = sfreq or 1.0 / value
            continue
        flat = array.ravel() if 1 in array.shape or array.ndim == 1 else None
        if flat is not None and _TIME.match(key):
            times = flat.astype(np.float64) * (seconds_of(units.get(key, "")) or 1.0)
        elif flat is not None:
            rows[key] = flat
        else:
            table = array if array.shape[0] >= array.shape[1] else array.T
            single = len(arrays) == 1
            if single and sfreq is None and climbs(table[:, 0]):
                times, table = table[:, 0].astype(np.float64), table[:, 1:]
            for index in range(min(table.shape[1], MOST_CHANNELS + 1)):
                rows[f"{index + 1}" if single else f"{key} {index + 1}"] = table[:, index]
    length = len(times) if times is not None else max((len(row) for row in rows.values()), default=0)
    left = [key for key, row in rows.items() if len(row) != length]
    rows = {key: row for key, row in rows.items() if len(row) == length}
    if left:
        notes.append(later("left out, of another length than the others: {left}", left=", ".join(left[:5])))
    named = [(key, values, units.get(key, "")) for key, values in rows.items()]
    return capture_at(name, times, named, sfreq=sfreq, notes=notes)


def capture_at(
    name: str,
    times: np.ndarray | None,
    rows: list[tuple[str, np.ndarray, str]],
    *,
    sfreq: float | None = None,
    notes: list[dict] | None = None,
) -> Capture:
    """A capture of rows of samples whose times or rate are known.

    Parameters
    ----------
    times : np.ndarray [shape=(n,)] or None
        s; None where `sfreq` tells the rate
    rows : list of (name, values [shape=(n,)], unit)
        a channel each; names may be anything
    sfreq : float, Hz

    Raises
    ------
    CaptureFileError
        when there is no channel or no rate, or a value is not finite.
    """
    notes = list(notes or ())
    length = len(rows[0][1]) if rows else 0
    if not rows:
        raise CaptureFileError(tr("no channel was found: no row of numbers besides time"))
    if len(rows) > MOST_CHANNELS:
        raise CaptureFileError(
            tr("{rows} channels; a capture has at most {most_channels}", rows=len(rows), most_channels=MOST_CHANNELS)
        )
    if length < FEWEST_SAMPLES:
        raise CaptureFileError(
            tr(
                "only {length} samples; a capture needs at least {fewest_samples}",
                length=length,
                fewest_samples=FEWEST_SAMPLES,
            )
        )
    values = [item for _, item, _ in rows]
    holes: Holes = ()
    if times is not None:
        sfreq, values, holes = even_grid(times, values, notes)
    if sfreq is None:
        raise CaptureFileError(
            tr(
                "the file says neither the time of its samples nor their rate; add an array named 'time' (s) or a "
                "number named 'sfreq' (Hz)"
            )
        )
    if not 0.1 <= sfreq <= 1e10:
        raise CaptureFileError(tr("a sample rate of {sfreq:.3g} Hz makes no sense", sfreq=sfreq))
    channels = tuple(_channel(key, value, unit) for (key, _, unit), value in zip(rows, values, strict=True))
    return Capture(name, float(sfreq), channels, tuple(notes), holes)


def tells_time(key: str) -> bool:
    """Whether an array of this name is taken for times, a rate or an interval."""
    return any(item.match(key) for item in (_TIME, _RATE, _INTERVAL))


def climbs(column: np.ndarray) -> bool:
    """Whether a column climbs by even steps, as time does."""
    with np.errstate(invalid="ignore"):
        steps = np.diff(column[:10_000].astype(np.float64))
    usual = np.median(steps)
    return bool(usual > 0 and steps.min() >= 0 and abs(steps - usual).max() <= 1.5 * usual)


def _channel(name: str, values: np.ndarray, unit: str) -> Channel:
    si, factor = sampled_unit(unit)
    if values.dtype.kind == "b":
        values = values.astype(np.int16)
    if values.dtype.kind in "iu":
        if values.dtype.itemsize <= 2 and values.dtype != np.uint16:
            return Channel(name, np.ascontiguousarray(values, np.int16), si, factor)
        return Channel(name, np.ascontiguousarray(values, np.float32), si, factor)
    with np.errstate(over="ignore"):
        raw = np.ascontiguousarray(values, np.float32)
    check_values(raw, lambda at: tr("channel '{name}', sample {at}", name=name[:60], at=at + 1))
    return Channel(name, raw, si, factor)


def check_values(raw: np.ndarray, where: Callable[[int], str]) -> None:
    """Refuse samples that no recorder writes.

    Raises
    ------
    CaptureFileError
        for one that is no finite number, or is beyond `LARGEST_VALUE`; `where` says where sample `k` stands.
    """
    if not max(-float(raw.min()), float(raw.max())) <= LARGEST_VALUE:
        at = int(np.flatnonzero(~(np.abs(raw) <= LARGEST_VALUE))[0])
        what = (
            tr("{at:.3g} is no value of a recording", at=raw[at])
            if np.isfinite(raw[at])
            else tr("a value is not a finite number")
        )
        raise CaptureFileError(f"{where(at)}: {what}")
