"""A capture's findings as one short text, so that they can be counted."""

from __future__ import annotations

from collections.abc import Iterable

from sagen.model.finding import Finding

#: findings that say the capture is unfit, not what the machine has
ABOUT_CAPTURE = frozenset({"undersampled", "clipped", "too_short"})


#: findings that compare a cam with its crank
ABOUT_TIMING = frozenset({"timing_offset", "timing_scatter"})


def finding_label(kind: str, fields: dict) -> str:
    """A finding as the table counts it: its kind, for a flat line with where it is held."""
    return f"{kind}:{fields['held']}" if kind == "no_signal" and "held" in fields else kind


def finding_set(findings: Iterable[Finding]) -> str:
    """The set of findings, sorted and joined by "+"; "" for none."""
    return "+".join(sorted({finding_label(one.kind, one.fields) for one in findings if one.kind not in ABOUT_CAPTURE}))
