"""A capture's findings as one short text, so that they can be counted."""

from __future__ import annotations

from collections.abc import Iterable

from sagen.model.finding import Finding
from sagen.model.vocabulary import ABOUT_CAPTURE, FindingKind


def finding_label(kind: str, fields: dict) -> str:
    """A finding as the table counts it: its kind, for a flat line with where it is held."""
    return f"{kind}:{fields['held']}" if kind == FindingKind.NO_SIGNAL and "held" in fields else str(kind)


def finding_set(findings: Iterable[Finding]) -> str:
    """The set of findings, sorted and joined by "+"; "" for none."""
    return "+".join(sorted({finding_label(one.kind, one.fields) for one in findings if one.kind not in ABOUT_CAPTURE}))
