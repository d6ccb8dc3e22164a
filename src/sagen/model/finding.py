"""What a capture or a reading shows."""

from __future__ import annotations

from dataclasses import dataclass, field

from sagen.model import finding_words
from sagen.model.vocabulary import Cause, FindingKind


@dataclass(frozen=True)
class Span:
    """A stretch of the capture that a finding points at, in seconds from its start."""

    start_s: float
    end_s: float


@dataclass(frozen=True)
class Finding:
    """One finding.

    `fields` holds what DESIGN.md lists for the kind (tooth, angle_deg, level_v, ...), `facts` what its sentence says
    beside that; `spans` are the places to mark in the picture. The sentences are made of them in `finding_words.py`;
    only what an older log kept as a sentence stays one (`said`, `said_sure`).
    """

    kind: FindingKind
    channel: str
    severity: float  #: 0 (barely) to 1 (plain)
    fields: dict = field(default_factory=dict)
    facts: dict = field(default_factory=dict)
    spans: tuple[Span, ...] = ()
    said: str = ""
    said_sure: str = ""

    @property
    def text(self) -> str:
        """What was found, as a technician would say it."""
        return self.said or finding_words.sentence(self)

    @property
    def sure(self) -> str:
        """What it would take to be sure."""
        return self.said_sure or finding_words.to_be_sure(self)

    def as_row(self) -> dict:
        """The finding as the command line prints it."""
        return {
            "kind": str(self.kind),
            "channel": self.channel,
            **self.fields,
            "severity": round(self.severity, 3),
            "text": self.text,
        }


@dataclass(frozen=True)
class Cadence:
    """How the starter turns the engine: speed of the crankshaft in rpm, and the share of it by which it swings once
    in two turns (one cylinder that does not compress as the others do comes round once a cycle; None after less than
    two cycles)."""

    rpm: float
    uneven: float | None


@dataclass(frozen=True)
class Reason:
    """One sentence for or against a suspect, and its weight in bits (positive speaks for it)."""

    text: str
    bits: float
    #: the record of the trail that it comes from; None where it comes from several
    record: object = field(default=None, repr=False, compare=False)

    @property
    def observed(self) -> str:
        """What was seen or read, without what was to be expected."""
        return self.text.partition(";")[0].rstrip(".") + "."


@dataclass(frozen=True)
class Estimate:
    """How large a fault is: a quantity (its unit ends its name), with the ends between which it lies in four of five
    such machines."""

    quantity: str
    value: float
    low: float
    high: float

    def as_row(self) -> dict:
        return {"quantity": self.quantity} | {
            name: float(f"{getattr(self, name):.4g}") for name in ("value", "low", "high")
        }


@dataclass(frozen=True)
class Suspect:
    """A cause with its present probability, named by its likeliest fault mode: its slug, and its title in words."""

    cause: Cause
    fault: str
    probability: float
    reasons: tuple[Reason, ...] = ()
    advice: str = ""
    title: str = ""
    estimate: Estimate | None = None
    circuit: str = ""  #: where the job has several

    def as_row(self) -> dict:
        row = {"cause": str(self.cause), "fault": self.title or self.fault, "probability": round(self.probability, 6)}
        row |= {"circuit": self.circuit} if self.circuit else {}
        return row | ({"estimate": self.estimate.as_row()} if self.estimate else {})
