"""What is heard beside the engine, from a file: how it cranks, which answers the question that a technician asks the starter; and how hard
the taps of a knock capture were."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from sagen.casework.command import Command, go_on
from sagen.files import read_capture
from sagen.model.errors import SagenError
from sagen.model.language import tr
from sagen.model.trail import CaptureEntry
from sagen.reason.facts import knowledge
from sagen.signal.cranking_sound import Heard, listen
from sagen.signal.strikes import StrikeSet
from sagen.signal.tap_sound import hear_taps, strengths_of

MOST_S = 120.0  #: of a file: nobody cranks longer
QUESTION = "ask_the_starter"


@dataclass(frozen=True)
class CrankingHeard:
    """What was heard, in words, and the outcome of the question that it answers; "" for an even cadence at the usual speed."""

    heard: Heard
    outcome: str

    @property
    def short(self) -> str:
        """For the trail."""
        told = tr("heard: {rpm:.0f} rpm", rpm=self.heard.rpm)
        return (
            told
            if self.heard.even
            else tr("{told}, hardly a compression at place {heard}", told=told, heard=places(self.heard))
        )


@dataclass(frozen=True)
class HearCranking(Command):
    """Hear how an engine cranks."""

    path: str
    cylinders: int

    @property
    def doing(self) -> str:
        return tr("Hearing {name}", name=Path(self.path).name)

    def perform(self, log=None, progress=go_on) -> CrankingHeard:
        return heard_in(self.path, self.cylinders)


def _sound_of(path: str | Path) -> tuple[np.ndarray, float]:
    """The mean of a file's channels, shape (n,), and its rate in Hz."""
    capture = read_capture(path)
    count = min(capture.samples, int(MOST_S * capture.sfreq))
    return np.mean([channel.values(0, count) for channel in capture.channels], axis=0), capture.sfreq


def with_sound(strikes: StrikeSet, path: str | Path) -> StrikeSet:
    """The strikes of a capture with how hard each was, by a file of their sound; raises SagenError naming the file where it cannot be
    read, holds no taps, or others than the capture does."""
    try:
        return replace(strikes, strength=strengths_of(strikes, hear_taps(*_sound_of(path))))
    except SagenError as error:
        raise SagenError(f"{Path(path).name}: {error}" if Path(path).name not in str(error) else str(error)) from None


@dataclass(frozen=True)
class HearTaps(Command):
    """Hear how hard the taps of a kept capture were; answers its record with that, and what is said."""

    record: CaptureEntry
    path: str

    @property
    def doing(self) -> str:
        return tr("Hearing {name}", name=Path(self.path).name)

    def perform(self, log=None, progress=go_on) -> tuple[CaptureEntry, str]:
        if self.record.strikes is None:
            raise SagenError(tr("{name} holds no taps", name=self.record.name))
        strikes = with_sound(StrikeSet.of(self.record.strikes), self.path)
        told = strikes.strength[np.isfinite(strikes.strength)]
        said = tr(
            "Heard: {heard} of {strikes} strikes, the hardest {times:.1f} times the lightest. Heights are compared as if struck alike.",
            heard=len(told),
            strikes=len(strikes),
            times=float(np.exp(np.ptp(told))),
        )
        return replace(self.record, strikes=strikes.as_data()), said


def heard_in(path: str | Path, cylinders: int) -> CrankingHeard:
    """Hear a file of sound; raises SagenError for what cannot be read, and for what is no cranking."""
    heard = listen(*_sound_of(path), cylinders)
    # Slower than any sound starter of the model turns an engine, with what is not known of the speed.
    slowest = float(knowledge().world["crank_rpm"].at(0.0))
    return CrankingHeard(heard, "uneven" if not heard.even else "slow" if heard.rpm_high < slowest else "")


def places(heard: Heard) -> str:
    """Where it hardly compresses."""
    return ", ".join(str(place) for place in heard.weak)


def words(heard: Heard) -> str:
    """What was heard, in a sentence or two."""
    told = tr(
        "It cranks at {rpm:.0f} rpm ({rpm_low:.0f} to {rpm_high:.0f}), over {strokes} compressions.",
        rpm=heard.rpm,
        rpm_low=heard.rpm_low,
        rpm_high=heard.rpm_high,
        strokes=heard.strokes,
    )
    if heard.even:
        return tr("{told} They sound alike.", told=told)
    return tr(
        "{told} In every cycle the compression at place {heard} of the firing order, counted from the first one "
        "heard, is hardly there: measure compression before a sensor is blamed.",
        told=told,
        heard=places(heard),
    )
