"""WAV: channels are named "1", "2", ...; integers count as -1 to 1, floating point as volts."""

from __future__ import annotations

import warnings
from pathlib import Path

import numpy as np

from sagen.files.arrays import FEWEST_SAMPLES, MOST_CHANNELS, check_values
from sagen.model.capture import Capture, Channel
from sagen.model.errors import CaptureFileError

LARGEST_HZ = 2**31 - 1


def recognise(head: bytes) -> bool:
    return head[:4] in (b"RIFF", b"RIFX", b"RF64") and head[8:12] == b"WAVE"


def read(path: Path) -> Capture:
    from scipy.io import wavfile

    notes: list[str] = []
    try:
        with warnings.catch_warnings(record=True) as heard:
            warnings.simplefilter("always")
            # Read, not mapped: a stick that is pulled must not take the program down with it.
            rate, data = wavfile.read(path)
        if any("end" in str(one.message).lower() or "eof" in str(one.message).lower() for one in heard):
            notes.append("the file ends before its header says; what is there was read")
    except Exception as error:  # the reader's own errors have no common root (struct.error, EOFError, ...)
        raise CaptureFileError(
            f"not a sound WAV file: {str(error).splitlines()[0] if str(error) else 'cut short'}"
        ) from None
    table = data[:, None] if data.ndim == 1 else data
    if not 1 <= rate <= LARGEST_HZ:
        raise CaptureFileError(f"a sample rate of {rate} Hz makes no sense")
    if table.shape[1] > MOST_CHANNELS:
        raise CaptureFileError(f"{table.shape[1]} channels; a capture has at most {MOST_CHANNELS}")
    if len(table) < FEWEST_SAMPLES:
        raise CaptureFileError(f"only {len(table)} samples; a capture needs at least {FEWEST_SAMPLES}")
    channels = tuple(_channel(str(index + 1), table[:, index]) for index in range(table.shape[1]))
    return Capture(path.name, float(rate), channels, tuple(notes))


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
    check_values(raw, lambda at: f"channel {name}, sample {at + 1}")
    return Channel(name, raw, "V")


def write(path: Path, capture: Capture) -> None:
    """Write volts as 32-bit floating point; the rate must be a whole number of hertz."""
    from scipy.io import wavfile

    rate = round(capture.sfreq)
    if not 1 <= rate <= LARGEST_HZ or abs(rate / capture.sfreq - 1) > 1e-6:
        raise CaptureFileError(
            f"WAV keeps whole sample rates only, not {capture.sfreq:.9g} Hz; write CSV or MDF4 instead"
        )
    table = np.empty((capture.samples, len(capture.channels)), np.float32)
    for index, one in enumerate(capture.channels):
        table[:, index] = one.values()
    wavfile.write(path, rate, table)
