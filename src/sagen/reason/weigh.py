"""Suspects by Bayes' rule: priors times likelihoods over fault modes, grouped by cause."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from sagen.model.finding import Finding, Reason, Suspect
from sagen.reason.facts import Check, FaultMode, Knowledge, knowledge

#: a reason weaker than this many bits is not worth a sentence
LEAST_BITS = 0.3
#: an examination may miss what is there, or see what is not; no picture is surer than this
SURE = 0.995
#: from this probability on, the leading suspect is to be proved rather than the others separated
CLEAR_LEAD = 0.85


@dataclass(frozen=True)
class Evidence:
    """What one capture showed (a set of pictures), or one trouble code's kind."""

    pictures: frozenset[str] | None = None
    code: str | None = None
    name: str = ""


@dataclass(frozen=True)
class NextCheck:
    """A check with what it would separate."""

    check: Check
    gain_bits: float
    separates: tuple[str, ...]
    proves: str = ""  #: the leading fault mode, where this check proves or clears it

    def as_row(self) -> dict:
        return {
            "check": self.check.name,
            "point": self.check.point,
            "state": self.check.state,
            "minutes": self.check.minutes,
            "gain_bits": round(self.gain_bits, 4),
            "text": self.check.text,
        }


def capture_evidence(findings: Iterable[Finding], name: str = "") -> Evidence:
    """The pictures that a capture's findings amount to; findings that no picture covers are left out."""
    pictures = set()
    known = knowledge().pictures
    for one in findings:
        picture = f"no_signal_{one.fields.get('held')}" if one.kind == "no_signal" else one.kind
        if picture in known:
            pictures.add(picture)
    return Evidence(frozenset(pictures), name=name)


def code_evidence(code: str) -> Evidence | None:
    """The kind of failure that a generic position-sensor code names; None for codes it does not know.

    SAE J2012 gives each sensor five codes in a row: circuit, range or performance, low, high,
    intermittent (numbers from memory of the standard).
    """
    match = re.fullmatch(r"P0?(33[5-9]|38[5-9]|34[0-9]|36[5-9]|39[0-4])", code.strip().upper())
    if not match:
        return None
    kinds = ("circuit", "range", "low", "high", "intermittent")
    return Evidence(code=kinds[int(match[1]) % 5], name=code.strip().upper())


def likelihoods(evidence: Evidence, facts: Knowledge) -> np.ndarray:
    """Probability of the evidence under each fault mode, shape (faults,)."""
    if evidence.code:
        kind = facts.codes[evidence.code]
        return np.array([kind.likelihood(mode.cause) for mode in facts.faults])
    out = np.ones(len(facts.faults))
    for name in facts.pictures:
        out *= _picture_likelihood(name, name in (evidence.pictures or ()), facts)
    return out


def _picture_likelihood(name: str, seen: bool, facts: Knowledge) -> np.ndarray:
    background = facts.pictures[name].background
    share = np.array([max(mode.shows.get(name, 0.0), background) for mode in facts.faults])
    share = np.minimum(share, SURE)
    return share if seen else 1 - share


def weigh(evidence: Iterable[Evidence], *, most_reasons: int = 8) -> tuple[Suspect, ...]:
    """Posterior over causes, likeliest first, each with its reasons.

    Fault modes exclude one another (a single fault); pieces of evidence are independent given the
    fault mode. A cause's probability is the sum over its fault modes.
    """
    facts = knowledge()
    evidence = list(evidence)
    posterior = fault_posterior(evidence, facts)
    causes: dict[str, list[int]] = {}
    for index, mode in enumerate(facts.faults):
        causes.setdefault(mode.cause, []).append(index)
    suspects = []
    for cause, members in causes.items():
        top = max(members, key=lambda index: posterior[index])
        reasons = _reasons(facts.faults[top], top, evidence, facts)
        total = float(posterior[members].sum())
        suspects.append(Suspect(cause, facts.faults[top].name, total, reasons[:most_reasons], facts.faults[top].do))
    return tuple(sorted(suspects, key=lambda one: -one.probability))


def fault_posterior(evidence: Iterable[Evidence], facts: Knowledge | None = None) -> np.ndarray:
    """Posterior probability of each fault mode, shape (faults,), adding up to 1."""
    facts = facts or knowledge()
    log = np.log(np.array([mode.prior for mode in facts.faults]))
    for one in evidence:
        log += np.log(likelihoods(one, facts))
    weight = np.exp(log - log.max())
    return weight / weight.sum()


def _reasons(mode: FaultMode, index: int, evidence: list[Evidence], facts: Knowledge) -> tuple[Reason, ...]:
    """Why this fault mode gained or lost, each weighed against the average of all the others."""
    prior = np.array([one.prior for one in facts.faults])
    others = np.arange(len(prior)) != index
    reasons = []

    def add(text: str, likelihood: np.ndarray) -> None:
        against = float((prior * likelihood)[others].sum() / prior[others].sum())
        bits = float(np.log2(likelihood[index] / against))
        if abs(bits) >= LEAST_BITS:
            reasons.append(Reason(text, bits))

    for one in evidence:
        if one.code:
            add(f"{one.name}: {facts.codes[one.code].seen}", likelihoods(one, facts))
            continue
        for name, picture in facts.pictures.items():
            seen = name in (one.pictures or ())
            text = mode.says.get(name, picture.seen) if seen else picture.unseen
            add(text, _picture_likelihood(name, seen, facts))
    return tuple(sorted(reasons, key=lambda one: -abs(one.bits)))


def next_checks(
    evidence: Iterable[Evidence], *, gear: Iterable[str] = ("meter", "scope", "eyes")
) -> tuple[NextCheck, ...]:
    """Checks, best first: by what they separate per minute while several suspects stand; once one
    leads clearly, those that can prove or clear it come before the rest.

    The gain is the mutual information between the check's outcome and the fault mode, in bits.
    """
    facts = knowledge()
    posterior = fault_posterior(evidence, facts)
    leader = int(np.argmax(posterior))
    able = {*gear, "eyes"}
    ranked = []
    for check in facts.checks:
        if check.gear not in able:
            continue
        gain, separates = _gain(check, posterior, facts)
        ranked.append(NextCheck(check, gain, separates, _proves(check, facts.faults[leader].name)))
    clear = posterior[leader] >= CLEAR_LEAD and facts.faults[leader].cause != "none"
    return tuple(sorted(ranked, key=lambda one: (not (clear and one.proves), -one.gain_bits / one.check.minutes)))


def _proves(check: Check, fault: str) -> str:
    """The fault mode, if one outcome of the check all but singles it out; else an empty string."""
    for outcome, table in check.outcome.items():
        if check.likelihood(outcome, fault) >= 0.8 and table["other"] <= 0.05:
            return fault
    return ""


def _gain(check: Check, posterior: np.ndarray, facts: Knowledge) -> tuple[float, tuple[str, ...]]:
    table = np.array([[check.likelihood(one, mode.name) for mode in facts.faults] for one in (*check.outcome, None)])
    joint = table * posterior
    outcome = joint.sum(axis=1, keepdims=True)
    with np.errstate(divide="ignore", invalid="ignore"):
        terms = joint * np.log2(table / outcome)
    gain = float(np.nansum(np.where(joint > 0, terms, 0.0)))
    # Whom an unexpected outcome would single out, likeliest first.
    unexpected = joint[:-1].max(axis=0)
    order = np.argsort(-unexpected)
    names = [facts.faults[i].name for i in order if table[:-1, i].max() >= 0.5 and posterior[i] > 0.005]
    return max(gain, 0.0), tuple(names[:4])
