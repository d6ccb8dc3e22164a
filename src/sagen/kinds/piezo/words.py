"""What the verdict on a set of knock sensors says: as a row of the command line, and what is missing, in words."""

from __future__ import annotations

import numpy as np

from sagen.kinds.piezo.verdict import Gap, TapVerdict
from sagen.model.language import tr
from sagen.model.vocabulary import Connection
from sagen.model.words import struck_at
from sagen.signal.pairs import Interval, rounded


def verdict_row(verdict: TapVerdict) -> dict:
    """The verdict as the command line prints it, without suspects."""
    band = {"knock_band_hz": [round(item) for item in verdict.band]} if verdict.band else {}
    return {
        **band,
        "sensors": [_sensor_row(verdict, index) for index in range(len(verdict.sensors))],
        "places": {place or tr("not stated"): _place_row(verdict, at) for at, place in enumerate(verdict.fit.places)},
        "verdict": [
            {"column": finding.channel, "kind": str(finding.kind), **finding.fields, "text": finding.text}
            for finding in verdict.findings()
        ],
    }


def _sensor_row(verdict: TapVerdict, at: int) -> dict:
    key, source = verdict.sensors[at], verdict.sources[at]
    relative = rounded("relative_height", verdict.relative[at])
    row = {
        "column": key.column, "bank": key.bank, "relative_height": relative["relative_height"],
        "low": relative["relative_height_low"], "high": relative["relative_height_high"],
        "strikes": verdict.relative[at].count,
        "ring_hz": _number(verdict.rings[at].value, 6), "ring_low": _number(verdict.rings[at].low, 6),
        "ring_high": _number(verdict.rings[at].high, 6),
        "source_ohm": None, "passes": verdict.passes(at),
    }  # fmt: skip
    if source is not None:
        row |= rounded("source", source.ohm, "_ohm") | rounded("open", source.open_v, "_v")
        row |= {"lowest_load_ohm": _number(verdict.lowest_ohm[at]), "module_ohm": _number(verdict.module_ohm[at])}
    return row


def _number(value: float | None, digits: int = 3) -> float | None:
    return float(f"{value:.{digits}g}") if value is not None and np.isfinite(value) else None


def _place_row(verdict: TapVerdict, place: int) -> dict:
    fit = verdict.fit
    reach = np.exp(fit.path[place] - fit.path[place].mean())
    return {
        "strikes": int(fit.offered[:, :, place].sum(axis=1).max()),
        "reaches": {sensor.column: _number(float(share)) for sensor, share in zip(fit.sensors, reach, strict=True)},
    }


_GAPS = {
    "twin": tr("one sensor alone cannot be judged by height: record another one of the block beside it"),
    "more": tr("tap {strikes} more times{place}: a few taps say nothing of a sensor"),
    "place": tr(
        "tap from a second place, nearer to the other sensor: one place cannot part the sensor from where the tap fell"
    ),
    "second_place": tr("say in the sheet where it was struck, and tap from a second place"),
    "sound": tr(
        "record them together, or the sound of the taps beside each capture: of sensors struck one after the other nobody "
        "knows which was struck harder"
    ),
    "load": tr("tap with 20 to 50 kilohm across each sensor: open alone passes no sensor"),
    "unplugged": tr("tap unplugged or under a load, to part the sensors from what the circuit does to them"),
    "plugged": tr("tap plugged in: only that shows whether the circuit holds one of them down"),
}


def gap_words(gap: Gap) -> str:
    """What is still missing, as an instruction.

    Parameters
    ----------
    gap : Gap
        a capture that is missing, and why
    """
    place = tr(" at '{place}'", place=struck_at(gap.place)) if gap.place else ""
    return _GAPS[gap.what].format(strikes=gap.strikes, place=place)


def gap_notes(verdict: TapVerdict) -> tuple[str, ...]:
    return tuple(gap_words(gap) for gap in verdict.gaps)


_LOAD = {
    Connection.UNPLUGGED: tr("open"), Connection.LOADED: tr("under a load"), Connection.PLUGGED: tr("plugged in"), "": tr("load not stated"),
}  # fmt: skip


def load_words(connection: str, ohm: float = -1.0) -> str:
    """What stood across the sensors, in words.

    Parameters
    ----------
    connection : str
        plugged, unplugged, a resistor and so on
    ohm : float
        of the resistor; below 0 where nobody said
    """
    if connection == Connection.LOADED and 0 < ohm < 1e9:
        return tr("{ohm:g} kilohm", ohm=ohm / 1000)
    return _LOAD[connection]


def share_words(interval: Interval) -> str:
    """A relative height with its interval.

    Parameters
    ----------
    interval : Interval
        ratio of heights
    """
    if not np.isfinite(interval.low):
        return tr("not known") if interval.count == 0 else tr("alone")
    return tr(
        "{value:.0f} % ({low:.0f} to {high:.0f})",
        value=100 * interval.value,
        low=100 * interval.low,
        high=100 * interval.high,
    )
