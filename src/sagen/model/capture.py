"""A capture: sampled channels with a sample rate."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field, replace

import numpy as np

from sagen.model.language import said_now, tr

LEAST_RATE, MOST_RATE = 0.1, 1e10  #: Hz


@dataclass(frozen=True)
class Channel:
    """One recorded channel, kept as the recorder gave it.

    Samples stay in the type they came in (integers stay integers): a value in `unit` is
    `raw * scale + offset`.
    """

    column: str
    raw: np.ndarray  #: shape (n,), int16 or float32, one value a sample
    unit: str = "V"
    scale: float = 1.0
    offset: float = 0.0
    #: how many samples the recorder marked as beyond its range
    over_range: int = 0

    def values(self, start: int = 0, stop: int | None = None) -> np.ndarray:
        """Samples start..stop in `unit`, shape (stop - start,), float64."""
        return self.raw[start:stop].astype(np.float64) * self.scale + self.offset

    def about(self) -> dict:
        """Everything but the samples, as plain data."""
        return {
            "column": self.column, "unit": self.unit, "scale": self.scale, "offset": self.offset,
            "over_range": self.over_range,
        }  # fmt: skip

    def to_raw(self, value: float) -> float:
        """A value in `unit` brought to the scale of `raw`."""
        return (value - self.offset) / self.scale


@dataclass(frozen=True)
class Capture:
    """Channels that were recorded together."""

    name: str
    sfreq: float  #: samples a second, Hz, > 0
    channels: tuple[Channel, ...]
    #: what the reader did on the way in (left-out rows, resampling, ...), each as `later` keeps it; sentences in older logs
    notes: tuple[dict | str, ...] = field(default=())
    #: stretches in which nothing was recorded, first sample and the one behind the last; samples there stand for nothing
    holes: tuple[tuple[int, int], ...] = ()
    #: of stretches put end to end (`joined`): the sample at which each begins, and how many were left out before it in all
    joints: tuple[tuple[int, int], ...] = ()

    @property
    def said(self) -> tuple[str, ...]:
        """The notes in words."""
        return tuple(said_now(note) for note in self.notes)

    def about(self) -> dict:
        """Everything but the samples, as plain data."""
        return {
            "name": self.name, "sfreq": self.sfreq, "notes": list(self.notes), "holes": [list(hole) for hole in self.holes],
            "channels": [channel.about() for channel in self.channels],
        }  # fmt: skip

    @classmethod
    def of(cls, about: dict, samples: Iterable[np.ndarray]) -> Capture:
        """The capture that `about` tells of, with its samples, an array a channel; raises KeyError, TypeError or
        ValueError for what does not fit."""
        channels = tuple(Channel(raw=raw, **item) for item, raw in zip(about["channels"], samples, strict=True))
        sfreq = about["sfreq"]
        if isinstance(sfreq, bool) or not isinstance(sfreq, int | float) or not LEAST_RATE <= sfreq <= MOST_RATE:
            raise ValueError(tr("a sample rate of {sfreq} makes no sense", sfreq=str(sfreq)[:20]))
        for channel in channels:
            if channel.raw.ndim != 1 or len(channel.raw) != len(channels[0].raw) or channel.raw.dtype.kind not in "iuf":
                raise ValueError(
                    tr(
                        "the samples of {column} are not a row of numbers as long as the others",
                        column=channel.column[:40],
                    )
                )
            if not (np.isfinite(channel.scale) and channel.scale and np.isfinite(channel.offset)):
                raise ValueError(tr("the scale of {column} makes no sense", column=channel.column[:40]))
        holes = tuple((int(first), int(stop)) for first, stop in about.get("holes", ()))
        notes = tuple(note if isinstance(note, dict) else str(note) for note in about["notes"])
        return cls(about["name"], about["sfreq"], channels, notes, holes)

    @property
    def samples(self) -> int:
        return len(self.channels[0].raw) if self.channels else 0

    @property
    def seconds(self) -> float:
        return self.samples / self.sfreq

    @property
    def recorded(self) -> np.ndarray:
        """Whether each sample was recorded, shape (samples,)."""
        there = np.ones(self.samples, bool)
        for first, stop in self.holes:
            there[first:stop] = False
        return there

    def joined(self) -> Capture:
        """The recorded stretches put end to end: what a level is measured of. Itself where there is no hole."""
        if not self.holes:
            return self
        there, out, joints = self.recorded, 0, []
        for first, stop in self.holes:
            out += stop - first
            joints.append((stop - out, out))
        channels = tuple(replace(channel, raw=channel.raw[there]) for channel in self.channels)
        return replace(self, channels=channels, holes=(), joints=tuple(joints))

    @property
    def span(self) -> int:
        """Samples from the first to the last one, those of holes among them."""
        return self.samples + (self.joints[-1][1] if self.joints else 0)

    def time_of(self, at: np.ndarray) -> np.ndarray:
        """Times (s) of places in the samples, holes counted."""
        if not self.joints:
            return at / self.sfreq
        begins, out = np.array(self.joints).T
        before = np.searchsorted(begins, at, "right")
        return (at + np.concatenate([[0], out])[before]) / self.sfreq

    @property
    def breaks(self) -> np.ndarray:
        """Times (s) within each hole between stretches put end to end."""
        return np.array([(begin + out - 0.75) / self.sfreq for begin, out in self.joints])

    def channel(self, column: str) -> Channel | None:
        """The channel named `column`, or None."""
        return next((channel for channel in self.channels if channel.column == column), None)


class GrowingCapture:
    """A capture that grows by blocks. Room is doubled as it fills, so that each sample is copied about once."""

    def __init__(self, name: str, sfreq: float, channels: tuple[Channel, ...]):
        self.name, self.sfreq = name, sfreq
        self._channels = channels
        self._room = [np.empty(1 << 14, channel.raw.dtype) for channel in channels]
        self.samples = 0

    def append(self, raw: np.ndarray) -> None:
        """Add a block, shape (channels, n), in the channels' raw units; raises ValueError for another count of rows."""
        if raw.ndim != 2 or len(raw) != len(self._channels):
            raise ValueError(
                tr(
                    "a block of {channels} rows is due, not one of shape {shape}",
                    channels=len(self._channels),
                    shape=raw.shape,
                )
            )
        end = self.samples + raw.shape[1]
        for index, row in enumerate(raw):
            if end > len(self._room[index]):
                grown = np.empty(max(end, 2 * len(self._room[index])), self._room[index].dtype)
                grown[: self.samples] = self._room[index][: self.samples]
                self._room[index] = grown
            self._room[index][self.samples : end] = row
        self.samples = end

    def skip(self, count: int) -> None:
        """Nothing was recorded for so many samples: noughts stand there."""
        self.append(np.zeros((len(self._channels), count), self._room[0].dtype))

    def capture(self) -> Capture:
        """The capture so far. Its samples stay as they are while more is added."""
        channels = tuple(
            replace(channel, raw=room[: self.samples]) for channel, room in zip(self._channels, self._room, strict=True)
        )
        return Capture(self.name, self.sfreq, channels)
