"""Suspects by Bayes' rule: one posterior over fault modes, single and in pairs with a bad new part."""

from __future__ import annotations

import threading
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from sagen.model.circuit import CircuitSpec
from sagen.model.finding import Reason, Suspect
from sagen.model.vocabulary import CHOSEN_GEAR, Cause, Gear, Origin, Part, Strategy
from sagen.reason import words
from sagen.reason.evidence import Evidence, MeterReading
from sagen.reason.facts import SOUND, Knowledge, cause_of, knowledge, title_of
from sagen.reason.likelihood import LikelihoodModel

#: a reason weaker than this many bits is not worth a sentence
LEAST_BITS = 0.35
#: what repeats an earlier piece counts by these powers: the same machine, asked the same question again
REPEATS = (1.0, 0.35, 0.2, 0.1)
#: what else stands in a code's or a complaint's row says much the same
TOLD_TOGETHER = (1.0, 0.6, 0.4, 0.3)
PERSISTS = 0.35  #: how much a complaint that outlasted an earlier repair speaks against a sound circuit


@dataclass(frozen=True)
class Replaced:
    """A part was changed: before the job (`earlier`) or in it. Its old faults are gone; the new one may be bad."""

    part: Part
    origin: Origin = Origin.UNKNOWN
    earlier: bool = False


@dataclass
class Case:
    """A circuit and its trail, oldest first, ready to be weighed."""

    spec: CircuitSpec = field(default_factory=CircuitSpec)
    trail: tuple[Evidence | Replaced, ...] = ()
    gear: tuple[Gear, ...] = CHOSEN_GEAR
    strategy: Strategy = Strategy.MOST
    referenced: bool = False  #: whether a known-good capture of this circuit is at hand


@dataclass(frozen=True)
class Posterior:
    """Hypotheses (tuples of fault modes; one or two) and their probabilities, adding up to 1."""

    faults: tuple[tuple[str, ...], ...]
    p: np.ndarray
    used: tuple[Evidence, ...] = ()
    odd: tuple[str, ...] = ()  #: readings that no fault explains, said in words

    def likely(self, least: float) -> Posterior:
        """Without the hypotheses that are less probable than `least`; the rest adds up to 1 again."""
        kept = np.flatnonzero(self.p >= min(least, float(self.p.max())))
        faults = tuple(self.faults[k] for k in kept)
        return Posterior(faults, self.p[kept] / self.p[kept].sum(), self.used, self.odd)

    def by_cause(self) -> dict[Cause, float]:
        """Probability of each cause; a pair counts half for either of its causes."""
        out: dict[str, float] = {}
        for faults, p in zip(self.faults, self.p, strict=True):
            for one in faults:
                out[cause_of(one)] = out.get(cause_of(one), 0.0) + float(p) / len(faults)
        return out

    def by_fault(self) -> dict[str, float]:
        out: dict[str, float] = {}
        for faults, p in zip(self.faults, self.p, strict=True):
            for one in faults:
                out[one] = out.get(one, 0.0) + float(p) / len(faults)
        return out


_MODELS: dict[str, LikelihoodModel] = {}
_MODELS_LOCK = threading.Lock()
MOST_MODELS = 12


def likelihood_model(spec: CircuitSpec) -> LikelihoodModel:
    """The likelihood model of a kind of circuit, made once: drawing its machines takes a moment."""
    key = spec.model_dump_json(exclude={"bank", "position"})
    with _MODELS_LOCK:
        if key not in _MODELS:
            if len(_MODELS) >= MOST_MODELS:
                _MODELS.clear()
            _MODELS[key] = LikelihoodModel(spec)
        return _MODELS[key]


def normalised(log: np.ndarray) -> np.ndarray:
    """Probabilities from logarithms of weights."""
    weight = np.exp(log - log.max())
    return weight / weight.sum()


def infer(case: Case, *, model: LikelihoodModel | None = None, facts: Knowledge | None = None) -> Posterior:
    """The exact posterior over single faults and, once a part was changed, pairs with a bad new one.

    Pieces of evidence are independent given the faults; what repeats an earlier piece counts less.
    """
    facts = facts or knowledge()
    model = model or likelihood_model(case.spec)
    hypotheses: list[tuple[str, ...]] = [(one,) for one in model.faults]
    correlated = any(one.about_timing for one in case.trail if isinstance(one, Evidence))
    log = np.log(facts.weights(model.faults, case.spec.role, correlated=correlated))
    told: dict[tuple, int] = {}
    used, odd = [], []
    for piece in case.trail:
        if isinstance(piece, Replaced):
            hypotheses, log = _after_change(piece, hypotheses, normalised(log), model, facts)
            told = {key: times for key, times in told.items() if key[0] in ("code", "complaint")}
            continue
        values = [piece.likelihood(one, model, facts) for one in hypotheses]
        if any(one is None for one in values):
            continue
        times = told.get(piece.key, 0)
        told[piece.key] = times + 1
        powers = TOLD_TOGETHER if piece.key[0] in ("code", "complaint") else REPEATS
        likelihood = np.log(np.maximum(np.array(values), 1e-12))
        log = log + powers[min(times, len(powers) - 1)] * likelihood
        used.append(piece)
        if isinstance(piece, MeterReading) and _unexplained(piece, values, model):
            odd.append(words.unexplained(piece, model, facts))
    return Posterior(tuple(hypotheses), normalised(log), tuple(used), tuple(odd))


def _unexplained(piece: MeterReading, values: Sequence[float], model: LikelihoodModel) -> bool:
    from sagen.reason.likelihood import OHM_DECADES, SLIP, VOLTS_RANGE

    return max(values) < 3.0 * SLIP / (OHM_DECADES if piece.ohms else VOLTS_RANGE)


def _after_change(change: Replaced, hypotheses, p: np.ndarray, model: LikelihoodModel, facts: Knowledge):
    """Beliefs after a part was changed: its faults left with it, and the new one is bad with its origin's chance."""
    causes, bad = facts.parts[Part(change.part)], facts.origins[Origin(change.origin)]
    modes = [one for one in model.faults if cause_of(one) in causes]
    kept: dict[tuple[str, ...], float] = {}
    for faults, share in zip(hypotheses, p, strict=True):
        left = tuple(one for one in faults if cause_of(one) not in causes and one != SOUND) or (SOUND,)
        gone = change.earlier and left == (SOUND,) and faults != (SOUND,)
        # Of machines whose fault left with the part none would have come in with the complaint still there.
        kept[left] = kept.get(left, 0.0) + (0.0 if gone else float(share))
        if gone:
            kept.setdefault(("",), 0.0)
            kept[("",)] += float(share)
    cured = kept.pop(("",), 0.0)
    usual = facts.weights(modes, model.spec.role)
    top = [modes[k] for k in np.argsort(-usual)[:3]]
    out: dict[tuple[str, ...], float] = {}
    for faults, share in kept.items():
        if faults == (SOUND,):
            out[faults] = share * (1 - bad) * (PERSISTS if change.earlier else 1.0)
            for one, part in zip(modes, usual, strict=True):
                out[(one,)] = out.get((one,), 0.0) + (share + cured) * bad * float(part)
        else:
            out[faults] = share * (1 - bad if modes else 1.0)
            for one in top if len(faults) == 1 else ():
                out[(*faults, one)] = share * bad / len(top)
    names = list(out)
    return names, np.log(np.maximum(np.array([out[one] for one in names]), 1e-15))


def suspects(
    case: Case,
    posterior: Posterior,
    *,
    model: LikelihoodModel | None = None,
    facts: Knowledge | None = None,
    most_reasons: int = 8,
) -> tuple[Suspect, ...]:
    """Causes, likeliest first, each named by its likeliest fault mode and with its evidence for and against."""
    facts = facts or knowledge()
    model = model or likelihood_model(case.spec)
    by_fault, by_cause = posterior.by_fault(), posterior.by_cause()
    rows = []
    for cause, p in by_cause.items():
        top = max((one for one in by_fault if cause_of(one) == cause), key=by_fault.get)
        reasons = _reasons(top, posterior, model, facts)[:most_reasons]
        rows.append(Suspect(cause, top, p, reasons, facts.priors[top].do, title_of(top)))
    return tuple(sorted(rows, key=lambda one: -one.probability))


def _reasons(fault: str, posterior: Posterior, model: LikelihoodModel, facts: Knowledge) -> tuple[Reason, ...]:
    """Each piece's weight: its likelihood under the fault against that under all others, in bits."""
    found: dict[str, Reason] = {}
    others = [one for one in model.faults if one != fault]
    weight = facts.weights(others, model.spec.role)
    for piece in posterior.used:
        here = piece.likelihood((fault,), model, facts)
        there = np.array([piece.likelihood((one,), model, facts) or 0.0 for one in others])
        bits = float(np.log2(max(here, 1e-9) / max(float(weight @ there), 1e-9)))
        if abs(bits) >= LEAST_BITS:
            text = words.reason(piece, fault, model, facts)
            found[text] = Reason(text, bits)
    return tuple(sorted(found.values(), key=lambda one: -abs(one.bits)))


def weigh(case: Case) -> tuple[tuple[Suspect, ...], Posterior]:
    """Suspects and the posterior behind them."""
    posterior = infer(case)
    return suspects(case, posterior), posterior


def with_trail(case: Case, more: Iterable[Evidence | Replaced]) -> Case:
    """The case with entries added at its end."""
    return replace(case, trail=(*case.trail, *more))
