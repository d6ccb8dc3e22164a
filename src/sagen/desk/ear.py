"""The ear: tones for whoever has both hands in the engine. Silent where nothing can play, and it says why."""

from __future__ import annotations

import atexit
import io
import shutil
import wave
from pathlib import Path

import numpy as np
from PySide6.QtCore import QObject, QProcess, QSettings, Signal

from sagen.artifacts.folders import make_passing
from sagen.model.language import tr

RATE = 22_050
#: players of a sound system by name, and what they take before a file
PLAYERS = (("pw-play", ()), ("paplay", ()), ("aplay", ("-q",)))
#: tones by what they say: frequencies in Hz one after the other, s of each
TONES = {
    "lost": ((330.0, 220.0), 0.16), "back": ((660.0, 880.0), 0.10), "tick": ((520.0,), 0.07), "go": ((1040.0,), 0.30),
    "inside": ((784.0, 988.0), 0.09), "outside": ((262.0, 262.0), 0.14),
}  # fmt: skip


def remembered_volume(settings: QSettings) -> int:
    """The volume of the tones in %, as it was set last."""
    try:
        return max(0, min(int(settings.value("live/volume", 60)), 100))
    except (TypeError, ValueError):
        return 60


def tone(name: str, volume: float) -> bytes:
    """A tone as a WAV file; `volume` 0 to 1."""
    pitches, each = TONES[name]
    times = np.arange(int(RATE * each)) / RATE
    edge = np.minimum(1.0, np.minimum(times, each - times) / 0.008)  # without a click at either end
    samples = np.concatenate([np.sin(2 * np.pi * pitch * times) * edge for pitch in pitches])
    held = io.BytesIO()
    with wave.open(held, "wb") as file:
        file.setnchannels(1)
        file.setsampwidth(2)
        file.setframerate(RATE)
        file.writeframes(np.round(samples * volume * 30_000).astype("<i2").tobytes())
    return held.getvalue()


class Ear(QObject):
    """Plays tones through what the machine has; never holds anything up."""

    silent = Signal(str)  #: why nothing is heard

    def __init__(self, parent: QObject | None = None):
        super().__init__(parent)
        self.volume, self.muted, self.why = 0.6, False, ""
        self.played: list[str] = []  #: the last tones that were asked for
        self._folder: Path | None = None
        found = next(((shutil.which(name), extra) for name, extra in PLAYERS if shutil.which(name)), None)
        self._player = found
        if found is None:
            names = ", ".join(name for name, _ in PLAYERS)
            self.why = tr(
                "No tones: none of {names} is installed (Debian: pipewire-bin, pulseaudio-utils, alsa-utils).",
                names=names,
            )
        self._going: QProcess | None = None

    def say(self, name: str) -> None:
        """Play a tone, unless muted or one is still playing."""
        self.played = [*self.played, name][-50:]
        if self.muted or self._player is None or self.volume <= 0:
            return
        if self._going is not None and self._going.state() != QProcess.ProcessState.NotRunning:
            return
        if self._folder is None:
            self._folder = make_passing("tones")
            atexit.register(self._folder.discard)
        path = self._folder.path / f"{name}-{round(100 * self.volume)}.wav"
        if not path.exists():
            path.write_bytes(tone(name, self.volume))
        program, extra = self._player
        self._going = QProcess(self)
        self._going.finished.connect(lambda code, _: self._ended(code))
        self._going.start(program, [*extra, str(path)])

    def _ended(self, code: int) -> None:
        if code and self._going is not None:
            said = bytes(self._going.readAllStandardError().data()).decode("utf-8", "replace").strip().splitlines()
            name = Path(self._player[0]).name
            self.why = tr("No tones: {name} says '{said}'.", name=name, said=(said or ["nothing"])[-1][:80])
            self._player = None
            self.silent.emit(self.why)

    def close(self) -> None:
        """Play no more, and leave nothing behind."""
        if self._going is not None:
            self._going.kill()
            self._going.waitForFinished(300)
        if self._folder is not None:
            shutil.rmtree(self._folder, ignore_errors=True)
            self._folder = None
