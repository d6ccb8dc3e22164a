"""WAV: channels are named "1", "2", ...; integers count as -1 to 1, floating point as volts."""

from __future__ import annotations

import struct
import warnings
from itertools import pairwise
from pathlib import Path

import numpy as np

from sagen.files.arrays import FEWEST_SAMPLES, MOST_CHANNELS, check_values
from sagen.model.capture import Capture, Channel
from sagen.model.errors import CaptureFileError
from sagen.model.language import later, tr
from sagen.model.lazy import lazy

#: loaded when it is first asked: its import takes longer than most of what is done without it
scipy = lazy("scipy")

LARGEST_HZ = 2**31 - 1
MOST_CHUNKS, MOST_MARKS = 1000, 10_000


def recognise(head: bytes) -> bool:
    return head[:4] in (b"RIFF", b"RIFX", b"RF64") and head[8:12] == b"WAVE"


def read(path: Path) -> Capture:
    notes: list[dict] = []
    try:
        with warnings.catch_warnings(record=True) as heard:
            warnings.simplefilter("always")
            # Read, not mapped: a stick that is pulled must not take the program down with it.
            rate, data = scipy.io.wavfile.read(path)
        if any("end" in str(item.message).lower() or "eof" in str(item.message).lower() for item in heard):
            notes.append(later("the file ends before its header says; what is there was read"))
    except Exception as error:  # the reader's own errors have no common root (struct.error, EOFError, ...)
        raise CaptureFileError(
            tr("not a sound WAV file: {error}", error=str(error).splitlines()[0] if str(error) else tr("cut short"))
        ) from None
    table = data[:, None] if data.ndim == 1 else data
    if not 1 <= rate <= LARGEST_HZ:
        raise CaptureFileError(tr("a sample rate of {rate} Hz makes no sense", rate=rate))
    if table.shape[1] > MOST_CHANNELS:
        raise CaptureFileError(
            tr(
                "{shape} channels; a capture has at most {most_channels}",
                shape=table.shape[1],
                most_channels=MOST_CHANNELS,
            )
        )
    if len(table) < FEWEST_SAMPLES:
        raise CaptureFileError(
            tr(
                "only {table} samples; a capture needs at least {fewest_samples}",
                table=len(table),
                fewest_samples=FEWEST_SAMPLES,
            )
        )
    channels = tuple(_channel(str(index + 1), table[:, index]) for index in range(table.shape[1]))
    return Capture(path.name, float(rate), channels, tuple(notes), _holes(path, len(table)))


def _channel(name: str, samples: np.ndarray) -> Channel:
    kind = samples.dtype
    if kind == np.uint8:
        return Channel(name, np.ascontiguousarray(samples, np.int16), "V", 1 / 128, -1.0)
    if kind == np.int16:
        return Channel(name, np.ascontiguousarray(samples, np.int16), "V", 1 / 32768)
    if kind.kind == "i":
        return Channel(name, np.ascontiguousarray(samples, np.float32), "V", 1 / 2 ** (8 * kind.itemsize - 1))
    with np.errstate(over="ignore"):
        raw = np.ascontiguousarray(samples, np.float32)
    check_values(raw, lambda at: tr("channel {name}, sample {at}", name=name, at=at + 1))
    return Channel(name, raw, "V")


def write(path: Path, capture: Capture) -> None:
    """Write volts as 32-bit floating point; the rate must be a whole number of hertz."""
    rate = round(capture.sfreq)
    if not 1 <= rate <= LARGEST_HZ or abs(rate / capture.sfreq - 1) > 1e-6:
        raise CaptureFileError(
            tr("WAV keeps whole sample rates only, not {sfreq:.9g} Hz; write CSV or MDF4 instead", sfreq=capture.sfreq)
        )
    table = np.empty((capture.samples, len(capture.channels)), np.float32)
    for index, channel in enumerate(capture.channels):
        table[:, index] = channel.values()
    scipy.io.wavfile.write(path, rate, table)
    if capture.holes:
        _mark(path, capture.holes)


# stretches that were not recorded -----------------------------------------------------------------------------

#: what their labels say
NOT_RECORDED = tr("not recorded")


def _mark(path: Path, holes: tuple[tuple[int, int], ...]) -> None:
    """Mark stretches as regions: a cue point each with a labelled length (chunks "cue " and "LIST adtl ltxt" of Multimedia
    Programming Interface and Data Specifications 1.0, IBM and Microsoft 1991, chapter 3, from memory)."""
    label = NOT_RECORDED.encode() + b"\0"
    label += b"\0" * (len(label) % 2)
    cue = struct.pack("<I", len(holes))
    texts = b"adtl"
    for number, (first, stop) in enumerate(holes, 1):
        cue += struct.pack("<II4sIII", number, first, b"data", 0, 0, first)
        body = struct.pack("<II4sHHHH", number, stop - first, b"rgn ", 0, 0, 0, 0) + label
        texts += b"ltxt" + struct.pack("<I", len(body)) + body
    with path.open("r+b") as stream:
        stream.seek(0, 2)
        if stream.tell() % 2:
            stream.write(b"\0")
        for name, body in ((b"cue ", cue), (b"LIST", texts)):
            stream.write(name + struct.pack("<I", len(body)) + body)
        length = stream.tell() - 8
        stream.seek(4)
        stream.write(struct.pack("<I", length))


def _holes(path: Path, samples: int) -> tuple[tuple[int, int], ...]:
    """Stretches marked as not recorded; none where the marks make no sense."""
    places, lengths = {}, {}
    with path.open("rb") as stream:
        if stream.read(4) != b"RIFF":
            return ()
        size = path.stat().st_size
        stream.seek(12)
        for _ in range(MOST_CHUNKS):
            head = stream.read(8)
            if len(head) < 8:
                break
            name, length = struct.unpack("<4sI", head)
            end = stream.tell() + length + length % 2
            if name == b"cue " and length <= MOST_MARKS * 24 + 4:
                body = stream.read(length)
                for at in range(4, len(body) - 23, 24):
                    number, _, _, _, _, first = struct.unpack_from("<II4sIII", body, at)
                    places[number] = first
            elif name == b"LIST" and length <= MOST_MARKS * 64 and stream.read(4) == b"adtl":
                lengths |= _labelled(stream.read(length - 4))
            if end >= size:
                break
            stream.seek(end)
    found = sorted((places[number], places[number] + count) for number, count in lengths.items() if number in places)
    sound = all(0 <= first < stop <= samples for first, stop in found) and all(a[1] <= b[0] for a, b in pairwise(found))
    return tuple(found) if sound else ()


def _labelled(body: bytes) -> dict[int, int]:
    """Lengths of the regions that are labelled as not recorded, by their number."""
    out, at = {}, 0
    while at + 8 <= len(body):
        name, length = struct.unpack_from("<4sI", body, at)
        text = body[at + 28 : at + 8 + length].split(b"\0")[0]
        if name == b"ltxt" and length >= 20 and text == NOT_RECORDED.encode():
            number, count = struct.unpack_from("<II", body, at + 8)
            out[number] = count
        at += 8 + length + length % 2
    return out
