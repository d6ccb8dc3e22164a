"""The event hunter: everything that came and went in a long record, with what else happened in that moment."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from sagen.kinds import Examination, examine
from sagen.model.capture import Capture
from sagen.model.language import Kept, later, one_after_the_other, said_now, tr
from sagen.model.sheet import Sheet
from sagen.model.vocabulary import FindingKind, Role
from sagen.signal.association import Association, associate
from sagen.signal.between import missed_teeth
from sagen.signal.reading import RotatingReading

PIECE_S, OVERLAP_S = 20.0, 1.0  #: a long record is read in such pieces
BESIDE_S = 0.25  #: s before and after an event in which the shaft and the rails are looked at
#: findings that are events by themselves, and what they are called
EVENTS = {FindingKind.DROPOUT: "dropout", FindingKind.SUPPLY_LOSS: "rail_dip", FindingKind.GROUND_LIFT: "ground_lift"}
FEWEST_SPEEDS, SPEEDS_A_PIECE = 10, 100  #: of a record that its speed is known over; that are kept of a piece
BURST_S = 0.05  #: pulses too many that lie closer are one burst
#: what a rail may stray by and still be called steady (common practice, no published source)
STEADY = {Role.SUPPLY: 0.5, Role.GROUND: 0.1}


@dataclass(frozen=True)
class Event:
    """Something that came and went: s since the record began; rpm before and after; what feed, return and the other
    sensor did; how often the signal tried to come back before it did."""

    kind: str  #: dropout rail_dip ground_lift lost_tooth extra_pulse noise_burst
    channel: str
    start_s: float
    end_s: float
    rpm_before: float | None = None
    rpm_after: float | None = None
    feed_v: float | None = None
    return_v: float | None = None
    other_turns: bool | None = None  #: whether another sensor went on showing a turning shaft
    tries: int = 0  #: short pulses within the stretch before the signal was back
    rails_steady: bool | None = None

    @property
    def acceleration(self) -> float | None:
        """rpm a second over the event."""
        if self.rpm_before is None or self.rpm_after is None or self.end_s <= self.start_s:
            return None
        return (self.rpm_after - self.rpm_before) / (self.end_s - self.start_s + 2 * BESIDE_S)

    @property
    def text(self) -> str:
        """The event in words."""
        name = said_now(NAMES[self.kind])
        told = [
            tr(
                "{name} on {channel} for {end_s:.0f} ms",
                name=name,
                channel=self.channel,
                end_s=1e3 * (self.end_s - self.start_s),
            )
            if self.end_s > self.start_s
            else tr("{name} on {channel}", name=name, channel=self.channel)
        ]
        if self.rpm_before is not None:
            after = tr(", {rpm_after:,.0f} after", rpm_after=self.rpm_after) if self.rpm_after is not None else ""
            told.append(tr("{rpm_before:,.0f} rpm before{after}", rpm_before=self.rpm_before, after=after))
        if self.feed_v is not None:
            told.append(tr("feed {feed_v:.2f} V", feed_v=self.feed_v))
        if self.return_v is not None:
            told.append(tr("return {return_v:.0f} mV", return_v=1e3 * self.return_v))
        if self.other_turns is not None:
            told.append(tr("the other sensor went on") if self.other_turns else tr("the other sensor was silent, too"))
        if self.tries:
            told.append(tr("it tried once") if self.tries == 1 else tr("it tried {tries} times", tries=self.tries))
        return "; ".join(told)

    def as_row(self) -> dict:
        row = {
            "event": self.kind,
            "channel": self.channel,
            "time_s": round(self.start_s, 5),
            "end_s": round(self.end_s, 5),
        }
        for name in ("rpm_before", "rpm_after", "feed_v", "return_v"):
            value = getattr(self, name)
            row |= {name: round(value, 3)} if value is not None else {}
        return row | {"text": self.text}


NAMES = {
    "dropout": later("signal lost"), "rail_dip": later("feed falls"), "ground_lift": later("return rises"),
    "lost_tooth": later("a tooth is missed"), "extra_pulse": later("a pulse too many"), "noise_burst": later("a burst of noise"),
}  # fmt: skip


#: what events go with, by what and side; anything else is a mark that they come after
COMES = {
    ("rpm", "above"): later("It comes above {value:,.0f} rpm ({p})."),
    ("rpm", "below"): later("It comes below {value:,.0f} rpm ({p})."),
    ("temperature", "above"): later("It comes above {value:.0f} °C ({p})."),
    ("temperature", "below"): later("It comes below {value:.0f} °C ({p})."),
    ("time", "above"): later("It comes after the first {value:.1f} s of the record ({p})."),
    ("time", "below"): later("It comes within the first {value:.1f} s of the record ({p})."),
}


def hunt(
    capture: Capture, sheet: Sheet | None = None, progress: Callable[[float], bool] | None = None
) -> tuple[Event, ...]:
    """Every event of a record, in the order of time. A long one is read piece by piece, so that memory stays flat."""
    return tuple(_hunt(capture, sheet, progress).found)


def _hunt(capture: Capture, sheet: Sheet | None, progress: Callable[[float], bool] | None) -> Hunter:
    hunter = Hunter(sheet)
    piece, overlap = int(PIECE_S * capture.sfreq), int(OVERLAP_S * capture.sfreq)
    starts = range(0, max(capture.samples - overlap, 1), piece)
    for number, start in enumerate(starts):
        if progress and not progress(number / len(starts)):
            break
        stop = min(capture.samples, start + piece + overlap)
        holes = tuple((max(a - start, 0), min(b, stop) - start) for a, b in capture.holes if a < stop and b > start)
        part = replace(
            capture,
            channels=tuple(replace(channel, raw=np.asarray(channel.raw[start:stop])) for channel in capture.channels),
            holes=holes,
        )
        begins = start / capture.sfreq
        hunter.take(part, begins, begins + PIECE_S if stop < capture.samples else np.inf)
    return hunter


@dataclass
class Hunter:
    """Takes a record piece by piece, each with some of the next, and finds every event once."""

    sheet: Sheet | None = None
    found: list[Event] = field(default_factory=list)
    speeds: list[tuple[float, float]] = field(default_factory=list)  #: s and rpm, some of each piece

    def take(self, part: Capture, begins: float, last: float = np.inf) -> tuple[Event, ...]:
        """The events that a piece adds. It begins at `begins`; what starts at `last` or later (s of the record) is left to
        the next piece."""
        if part.samples < 64:
            return ()
        new, done = [], examine(part, self.sheet)
        self.speeds += _speeds(done, begins, last)
        for each in sorted(_of(done, begins), key=lambda item: (item.start_s, item.kind)):
            known = any(
                each.kind == other.kind and each.channel == other.channel and each.start_s <= other.end_s + 1e-3
                for other in self.found[-12:]
            )
            if each.start_s < last and not known:
                self.found.append(each)
                new.append(each)
        return tuple(new)


def _speeds(done: Examination, begins: float, last: float) -> list[tuple[float, float]]:
    """Times and speeds of a piece before `last`."""
    reading = next((channel.reading for channel in done.channels if channel.reading and channel.reading.wheel), None)
    if reading is None or len(reading.teeth.times) < 20:
        return []
    times, speed = reading.teeth.times[:-1] + begins, reading.teeth.speed_rpm()
    at = np.flatnonzero(np.isfinite(speed) & (times < last))
    at = at[:: max(1, len(at) // SPEEDS_A_PIECE)]
    return list(zip(times[at].tolist(), speed[at].tolist(), strict=True))


def _of(done: Examination, begins: float) -> list[Event]:
    rotating = [channel for channel in done.channels if channel.reading is not None]
    events = []
    for finding in done.findings:
        if finding.kind in EVENTS and "start_s" in finding.fields:
            spans = [(span.start_s, span.end_s) for span in finding.spans] or [
                (finding.fields["start_s"], finding.fields["end_s"])
            ]
            events += [Event(EVENTS[finding.kind], finding.channel, a, b) for a, b in spans]
    for result in rotating:
        events += _single(result.reading)
    return [_with_moment(event, done, begins) for event in events]


def _single(reading: RotatingReading) -> list[Event]:
    """Teeth missed and pulses too many, one by one; pulses close together are one burst."""
    teeth, out = reading.teeth, []
    for k in missed_teeth(reading):
        out.append(Event("lost_tooth", reading.column, float(teeth.times[k]), float(teeth.times[k + 1])))
    times = np.sort(reading.false_edges)
    if len(times):
        groups = np.split(times, np.flatnonzero(np.diff(times) > BURST_S) + 1)
        for group in groups:
            kind = "noise_burst" if len(group) > 2 else "extra_pulse"
            out.append(Event(kind, reading.column, float(group[0]), float(group[-1])))
    return out


def _with_moment(event: Event, done: Examination, begins: float) -> Event:
    """What the shaft, the rails and the other sensors did then."""
    own = next(
        (channel.reading for channel in done.channels if channel.sheet.column == event.channel and channel.reading),
        None,
    )
    turning = own or next((channel.reading for channel in done.channels if channel.reading), None)
    before = after = None
    tries = 0
    if turning is not None:
        before, after = (_speed(turning, event, side) for side in (-1, 1))
        tries = int(np.count_nonzero((turning.false_edges > event.start_s) & (turning.false_edges < event.end_s)))
    feed, feed_steady = _rail(done, Role.SUPPLY, event)
    back, back_steady = _rail(done, Role.GROUND, event)
    steady = [item for item in (feed_steady, back_steady) if item is not None]
    others = [channel.reading for channel in done.channels if channel.reading and channel.sheet.column != event.channel]
    other = None
    if others and event.end_s > event.start_s:
        other = any(
            np.any((this_other.teeth.times > event.start_s) & (this_other.teeth.times < event.end_s))
            for this_other in others
        )
    return replace(
        event, start_s=begins + event.start_s, end_s=begins + event.end_s, rpm_before=before, rpm_after=after, feed_v=feed,
        return_v=back, other_turns=other, tries=tries, rails_steady=all(steady) if steady else None,
    )  # fmt: skip


def _speed(reading: RotatingReading, event: Event, side: int) -> float | None:
    speed, times = reading.teeth.speed_rpm(), reading.teeth.times[:-1]
    near = (
        (times >= event.start_s - BESIDE_S) & (times < event.start_s)
        if side < 0
        else (times >= event.end_s) & (times < event.end_s + BESIDE_S)
    )
    values = speed[near & np.isfinite(speed)]
    return float(np.median(values)) if len(values) else None


def _rail(done: Examination, role: Role, event: Event) -> tuple[float | None, bool | None]:
    """A rail's volts in the event, and whether it held; None where it was not watched."""
    row = next((this_channel for this_channel in done.channels if this_channel.sheet.role == role), None)
    if row is None:
        return None, None
    channel, sfreq = done.capture.channel(row.sheet.column), done.capture.sfreq
    first, last = (int(max(0.0, at) * sfreq) for at in (event.start_s - BESIDE_S, event.end_s + BESIDE_S))
    around = channel.values(first, max(last, first + 8))
    inside = channel.values(int(event.start_s * sfreq), int(max(event.end_s, event.start_s + 1e-3) * sfreq) + 1)
    if not len(around) or not len(inside):
        return None, None
    value = float(np.median(inside))
    return value, abs(value - float(np.median(around))) <= STEADY[role]


# what they go with -----------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Hunted:
    """The events of a record, what they go with, and what that means for the rails."""

    events: tuple[Event, ...]
    goes_with: tuple[Association, ...] = ()
    notes: tuple[dict, ...] = field(default=())  #: what that comes to, as `model.language.later` keeps it

    @property
    def said(self) -> tuple[str, ...]:
        """What it comes to, in sentences."""
        return tuple(said_now(note) for note in self.notes)

    def note(self, began: Kept) -> dict:
        """The message that goes on a trail, after how the record is called."""
        return later(
            "{began}: {told}",
            began=began,
            told=one_after_the_other(self.notes),
        )


def hunted(
    capture: Capture,
    sheet: Sheet | None = None,
    marks: Mapping[str, Sequence[float]] | None = None,
    progress: Callable[[float], bool] | None = None,
) -> Hunted:
    """Hunt, and say what the events go with."""
    hunter = _hunt(capture, sheet, progress)
    found = {}
    if len(hunter.speeds) > FEWEST_SPEEDS:
        times, speed = np.array(hunter.speeds).T
        found["rpm"] = np.interp(np.linspace(0, capture.seconds, 400), times, speed)
    return told_of(tuple(hunter.found), capture.seconds, found, marks)


def told_of(
    events: tuple[Event, ...],
    seconds: float,
    known: Mapping[str, np.ndarray],
    marks: Mapping[str, Sequence[float]] | None = None,
) -> Hunted:
    """What the events of a record of so many seconds go with. `known`: rpm and temperature, as far as they are, each on an
    even grid over the record."""
    lost = [event for event in events if event.kind in ("dropout", "lost_tooth", "rail_dip")] or list(events)
    covariates = {"time": np.linspace(0, seconds, 400), **known}
    found = associate([item.start_s for item in lost], seconds, covariates, marks)
    return Hunted(events, tuple(found), tuple(_sentences(events, lost, found)))


def _sentences(events: tuple[Event, ...], lost: list[Event], found: list[Association]) -> list[dict]:
    said = []
    if not events:
        return [later("Nothing came and went in this record.")]
    kinds = dict.fromkeys(event.kind for event in events)
    counted = [
        later("{events} times {kind}", events=sum(event.kind == kind for event in events), kind=NAMES[kind])
        for kind in kinds
    ]
    said.append(later("{counted}.", counted=counted))
    for this_item in found:
        p = later("p = {p:.3f}", p=this_item.p) if this_item.p >= 0.001 else later("p below 0.001")
        comes = COMES.get((this_item.what, this_item.side)) or later(
            "It comes within {value:g} s after '{what}' ({p}).", what=this_item.what
        )
        said.append({**comes, "value": this_item.value, "p": p})
    watched = [item for item in lost if item.rails_steady is not None]
    if (
        watched
        and all(item.rails_steady for item in watched)
        and all(item.feed_v is not None and item.return_v is not None for item in watched)
    ):
        said.append(
            later(
                "Feed and return were watched and held through all {watched} events: sensor, gap or signal wire are "
                "left.",
                watched=len(watched),
            )
        )
    return said
