"""What the taps of a job say together, before and after its last repair."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from sagen.kinds.piezo.verdict import TapVerdict, judge_taps, tapped_of
from sagen.model.trail import CaptureEntry, Record, RepairEntry
from sagen.report.rings import sensor_name
from sagen.signal.tapped import Tapped


@dataclass(frozen=True)
class JobTaps:
    """The verdict on the taps since the last repair, and on those before it; None where there are none."""

    now: TapVerdict | None = None
    before: TapVerdict | None = None
    repaired: bool = False

    @property
    def shown(self) -> TapVerdict | None:
        return self.now or self.before


NO_TAPS = JobTaps()


def job_taps(records: Iterable[Record]) -> JobTaps:
    """The taps of a trail, oldest record first."""
    before: list[Tapped] = []
    now: list[Tapped] = []
    repaired = False
    for record in records:
        if isinstance(record, RepairEntry):
            # Of several repairs the last one is what is proved.
            before, now, repaired = now or before, [], True
        elif isinstance(record, CaptureEntry):
            tapped = tapped_of(record)
            now += [tapped] if tapped is not None else []
    return JobTaps(judge_taps(now), judge_taps(before), repaired)


@dataclass(frozen=True)
class BeforeAfter:
    """One sensor before and after: height against the others under one connection, and ring in Hz; None where that was
    not taken."""

    name: str
    before: float | None
    after: float | None
    ring_before: float | None
    ring_after: float | None


def before_and_after(taps: JobTaps) -> tuple[str, tuple[BeforeAfter, ...]]:
    """The same taps before and after the repair, under the heaviest load that both have: plugged in before any other.
    The connection's name, and a row a sensor; no rows where nothing can be set side by side."""
    if taps.now is None or taps.before is None:
        return "", ()
    both = [
        (order, name)
        for order, name in enumerate(("plugged", "loaded", "", "unplugged"))
        if all(_heights(item, name) is not None for item in (taps.before, taps.now))
    ]
    if not both:
        return "", ()
    connection = min(both)[1]
    was, now = _heights(taps.before, connection), _heights(taps.now, connection)
    rows = []
    for at, key in enumerate(taps.now.sensors):
        then = next(
            (
                i
                for i, sensor in enumerate(taps.before.sensors)
                if (sensor.column, sensor.bank) == (key.column, key.bank)
            ),
            None,
        )
        name = sensor_name(key.column, key.bank)
        ring = taps.before.rings[then].value if then is not None and taps.before.rings[then].known else None
        ring_now = taps.now.rings[at].value if taps.now.rings[at].known else None
        rows.append(BeforeAfter(name, was[then] if then is not None else None, now[at], ring, ring_now))
    return connection, tuple(rows)


def _heights(verdict: TapVerdict, connection: str) -> list[float | None] | None:
    """Each sensor's height against the tallest under a connection; None where it was not tapped so."""
    fit = verdict.fit
    load = next((at for at, this_load in enumerate(fit.loads) if this_load.connection == connection), None)
    if load is None or not np.isfinite(fit.effect[:, load]).any():
        return None
    tallest = float(np.nanmax(fit.effect[:, load]))
    return [
        float(np.exp(item - tallest)) if np.isfinite(item) else (0.0 if fit.offered[at, load].sum() else None)
        for at, item in enumerate(fit.effect[:, load])
    ]
