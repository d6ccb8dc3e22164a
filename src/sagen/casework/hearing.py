"""The sound of cranking, from a file: what it says, and the answer to the question that a technician asks the starter."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from sagen.casework.command import Command, go_on
from sagen.files import read_capture
from sagen.model.language import tr
from sagen.reason.facts import knowledge
from sagen.signal.cranking_sound import Heard, listen

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


def heard_in(path: str | Path, cylinders: int) -> CrankingHeard:
    """Hear a file of sound; raises SagenError for what cannot be read, and for what is no cranking."""
    capture = read_capture(path)
    count = min(capture.samples, int(MOST_S * capture.sfreq))
    sound = np.mean([channel.values(0, count) for channel in capture.channels], axis=0)
    heard = listen(sound, capture.sfreq, cylinders)
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
