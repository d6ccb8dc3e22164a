"""Recording from an instrument: blocks kept as they come, holes marked, and what happens told while it happens."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from sagen.files.long_record import LongRecord
from sagen.instruments.protocols import Block
from sagen.instruments.scpi import InstrumentGone, Lost
from sagen.model.capture import Capture, GrowingCapture
from sagen.model.errors import SagenError, StoreError
from sagen.model.language import tr


@dataclass(frozen=True)
class Happened:
    """Something that happened while recording: when (s since it began), what, and in words."""

    at_s: float
    kind: str  #: started lost back ended gone
    said: str

    def as_row(self) -> dict:
        return {"time_s": round(self.at_s, 6), "event": self.kind, "text": self.said}


@dataclass
class Recording:
    """What a recorder gave. `capture` may be asked for at any time; what is kept then stays as it is."""

    name: str
    recorder: object
    told: Callable[[Happened], None] = lambda happened: None
    took: Callable[[np.ndarray], None] = lambda raw: None  #: each block as it comes, shape (channels, n)
    skipped: Callable[[int], None] = lambda count: None  #: so many samples were not recorded
    keep: bool = True  #: every sample is kept; else they are only handed on
    folder: Path | None = None  #: kept on disk there as it comes, memory flat; else in memory
    holes: list[tuple[int, int]] = field(default_factory=list)
    gone: str = ""  #: why it ended before it should have

    def __post_init__(self):
        sfreq, channels = self.recorder.sfreq, self.recorder.channels()
        self.growing = (
            GrowingCapture(self.name, sfreq, channels)
            if self.folder is None
            else LongRecord(self.folder, self.name, sfreq, channels)
        )
        self.samples = 0

    @property
    def seconds(self) -> float:
        return self.samples / self.recorder.sfreq

    def run(self, seconds: float = np.inf, patience_s: float = 10.0) -> Capture:
        """Record so many seconds, or until the recorder is told to stop. An instrument that goes away for good ends it;
        what was recorded until then is kept.

        Raises
        ------
        SagenError
            where nothing at all was recorded.
        """
        self.told(
            Happened(
                0.0,
                "started",
                tr(
                    "{channels} channels at {sfreq:g} Hz",
                    channels=len(self.recorder.channels()),
                    sfreq=self.recorder.sfreq,
                ),
            )
        )
        away = False
        try:
            for block in self.recorder.blocks(seconds, patience_s=patience_s):
                if isinstance(block, Lost):
                    self._lost(block)
                    away = True
                    continue
                if away:
                    self.told(Happened(self.seconds, "back", tr("it records again")))
                    away = False
                self.take(block)
        except InstrumentGone as error:
            self.gone = str(error)
            self.told(Happened(self.seconds, "gone", self.gone))
        except StoreError as error:
            # The disk is full or gone: what was written is whole up to the last block.
            self.gone = str(error)
            self.told(Happened(self.seconds, "gone", self.gone))
        finally:
            if self.folder is not None:
                self.growing.close()
        if not self.samples:
            raise SagenError(self.gone or tr("nothing was recorded"))
        self.told(Happened(self.seconds, "ended", tr("{samples} samples a channel", samples=self.samples)))
        return self.capture()

    def take(self, block: Block) -> None:
        """A block that came: kept, counted and handed on."""
        if self.keep:
            self.growing.append(block.raw)
        self.samples += block.raw.shape[1]
        self.took(block.raw)

    def _lost(self, lost: Lost) -> None:
        self.told(Happened(self.seconds, "lost", lost.said))
        if lost.missing:
            # The mark first: whoever looks meanwhile, and whoever reads after a crash, takes no gap for a flat signal.
            self.holes.append((self.samples, self.samples + lost.missing))
            if self.keep:
                self.growing.skip(lost.missing)
            self.samples += lost.missing
            self.skipped(lost.missing)

    def capture(self) -> Capture:
        """The recording so far, its holes marked."""
        made = self.growing.capture()
        holes = tuple(hole for hole in self.holes if hole[1] <= made.samples)
        notes = tuple(
            tr(
                "{stop:.0f} ms were not recorded from {first:.4f} s on",
                stop=(stop - first) / made.sfreq * 1e3,
                first=first / made.sfreq,
            )
            for first, stop in holes
        )
        return Capture(made.name, made.sfreq, made.channels, notes + ((self.gone,) if self.gone else ()), holes)
