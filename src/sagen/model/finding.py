"""What a capture or a reading shows."""

from __future__ import annotations

from dataclasses import dataclass, field


@dataclass(frozen=True)
class Span:
    """A stretch of the capture that a finding points at, in seconds from its start."""

    start_s: float
    end_s: float


@dataclass(frozen=True)
class Finding:
    """One finding.

    `fields` holds what DESIGN.md lists for the kind (tooth, angle_deg, level_v, ...); `spans`
    are the places to mark in the picture; `likely` says what it would take to be sure.
    """

    kind: str
    channel: str
    severity: float  #: 0 (barely) to 1 (plain)
    text: str
    fields: dict = field(default_factory=dict)
    spans: tuple[Span, ...] = ()
    sure: str = ""

    def as_row(self) -> dict:
        """The finding as the command line prints it."""
        return {
            "kind": self.kind,
            "channel": self.channel,
            **self.fields,
            "severity": round(self.severity, 3),
            "text": self.text,
        }

    def as_data(self) -> dict:
        """The finding as the store keeps it."""
        return {
            "kind": self.kind,
            "channel": self.channel,
            "severity": self.severity,
            "text": self.text,
            "fields": self.fields,
            "spans": [[one.start_s, one.end_s] for one in self.spans],
            "sure": self.sure,
        }

    @classmethod
    def from_data(cls, data: dict) -> Finding:
        return cls(**{**data, "spans": tuple(Span(*one) for one in data.get("spans", ()))})


@dataclass(frozen=True)
class Reason:
    """One sentence for or against a suspect, and its weight in bits (positive speaks for it)."""

    text: str
    bits: float


@dataclass(frozen=True)
class Suspect:
    """A cause with its present probability, named by its likeliest fault mode."""

    cause: str
    fault: str
    probability: float
    reasons: tuple[Reason, ...] = ()
    advice: str = ""

    def as_row(self) -> dict:
        return {"cause": self.cause, "fault": self.fault, "probability": round(self.probability, 6)}
