"""A capture on the bench with everything that is drawn of it, worked out away from the interface."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from sagen.kinds import Examination
from sagen.model.capture import Capture
from sagen.model.job import Entry
from sagen.model.sheet import Sheet
from sagen.report.beside import BesideScene, beside_scene
from sagen.report.rings import RingScene, ring_scene
from sagen.report.scene import Strip
from sagen.report.strip_scene import strip_scene
from sagen.report.turn_drawing import TurnDrawing, draw_turns
from sagen.signal.pyramid import Pyramid
from sagen.signal.tapped import knock_band


@dataclass(frozen=True)
class OpenCapture:
    """An examined capture of a job, and its scene."""

    job_id: int | None
    entry: Entry | None
    examination: Examination
    strip: Strip
    drawings: Mapping[str, TurnDrawing] = field(default_factory=dict)  #: by column
    pyramids: Mapping[str, Pyramid] = field(default_factory=dict)
    rings: RingScene | None = None  #: where knock sensors were struck
    beside: Mapping[str, BesideScene] = field(default_factory=dict)  #: by column, where there is a known-good one

    @property
    def capture(self) -> Capture:
        return self.examination.capture

    @property
    def sheet(self) -> Sheet:
        return self.examination.sheet

    @property
    def entry_id(self) -> int | None:
        return self.entry.id if self.entry else None


def opened_capture(
    job_id: int | None,
    entry: Entry | None,
    done: Examination,
    pyramids: Mapping[str, Pyramid],
    among: Sequence[Examination] = (),
) -> OpenCapture:
    """Work out all that is drawn of a capture, so that the interface thread only has to paint. `among`: further known-good ones
    of its kind, whose spread is drawn."""
    good = done.good
    columns = [channel.sheet.column for channel in done.channels if channel.reading is not None]
    drawings = {column: draw_turns(done, column, good) for column in columns}
    for this_channel in done.channels:
        if this_channel.reading is not None:
            this_channel.reading.speed_range()
    strip = strip_scene(done, pyramids, drawings=drawings)
    bore = done.sheet.engine.bore_mm
    rings = ring_scene(done.capture, done.tapped, knock_band(bore) if bore else None) if done.tapped else None
    scenes = {
        column: scene
        for column, drawing in drawings.items()
        if good is not None and (scene := beside_scene(done, good, column, drawing, among)) is not None
    }
    return OpenCapture(job_id, entry, done, strip, drawings, pyramids, rings, scenes)
