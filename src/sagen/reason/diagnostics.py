"""What speaks against believing an answer: few particles behind it, halves that disagree, one piece that it hangs on, readings that
nothing explains."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np

from sagen.reason import words
from sagen.reason.evidence import Captured, Evidence, MeterReading, Pressed, ReadElsewhere
from sagen.reason.facts import Knowledge, cause_of
from sagen.reason.posterior import Posterior
from sagen.reason.scales import LEAST, SLIP, log_mean, log_mean_cut, normalised
from sagen.reason.world import World


def effective_sample_size(log: np.ndarray) -> np.ndarray:
    """Effective number of particles of each history.

    Parameters
    ----------
    log : ndarray, shape (histories, particles)
        logarithms of weights

    Returns
    -------
    ndarray, shape (histories,)
        1 to particles

    References
    ----------
    Kish, Survey Sampling (1965); Kong, Liu and Wong, J. Am. Stat. Assoc. 89 (1994). From memory.
    """
    weight = np.exp(log - log.max(axis=1, keepdims=True))
    return weight.sum(axis=1) ** 2 / (weight**2).sum(axis=1)


#: what hangs on one reading, look or recording is not said surer than this: in a world outside our own model such calls
#: were right nine times in ten (benchmarks/RESULTS.md)
UNCONFIRMED = 0.89
#: what survives by so much more than `survives` in checks.toml does not hang on the piece; between, by degrees
NEARLY = 0.3


def shrink_unconfirmed(posterior: Posterior, survives: float, doubted: np.ndarray, facts: Knowledge) -> np.ndarray:
    """Probabilities of a call that hangs on one piece: drawn towards what they would be without it.

    Parameters
    ----------
    posterior : Posterior
    survives : float
        least probability of the leading cause with any one piece left out
    doubted : ndarray, shape (hypotheses,)
        probabilities without that piece
    facts : Knowledge

    Returns
    -------
    ndarray, shape (hypotheses,)

    References
    ----------
    Shrinkage towards a less certain answer: Efron and Morris, J. Am. Stat. Assoc. 70 (1975); how far is judgement. From memory.
    """
    lead = max(posterior.by_cause().values())
    # What is left without a piece is known to a tenth or so: a step there would have the answer hang on the draws.
    hangs = float(np.clip(1.0 - (survives - facts.stakes.survives) / NEARLY, 0.0, 1.0))
    if hangs == 0.0 or lead <= UNCONFIRMED:
        return posterior.p
    share = hangs * (lead - UNCONFIRMED) / (lead - min(survives, UNCONFIRMED - 0.01))
    return (1 - share) * posterior.p + share * doubted


def split_half_shrinkage(prior: np.ndarray, evidence: np.ndarray, halves: list[np.ndarray]) -> np.ndarray:
    """Probabilities from all draws, drawn towards the mean of both halves where those are less sure of the leading.

    Parameters
    ----------
    prior, evidence : ndarray, shape (histories,)
        log prior and log marginal likelihood, from all draws
    halves : list of ndarray, shape (histories,)
        log marginal likelihood from either half of the draws

    Returns
    -------
    ndarray, shape (histories,)
        probabilities

    References
    ----------
    Efron, The Jackknife, the Bootstrap and Other Resampling Plans (1982): halves of a sample. From memory.
    """
    p = normalised(prior + evidence)
    mean = np.mean([normalised(prior + half) for half in halves], axis=0)
    return mean if mean.max() < p.max() else p


def leave_one_out(
    posterior: Posterior,
    used: Sequence[Evidence],
    ends: list[tuple[np.ndarray, np.ndarray]],
    joint: np.ndarray,
    without: Callable[[Evidence], np.ndarray],
) -> tuple[float, np.ndarray, Evidence | None]:
    """The least probability of the leading cause when any one reading, look or recording is left out, and the
    probabilities of all hypotheses then, and which piece it is.

    Parameters
    ----------
    posterior : Posterior
    used : sequence of Evidence
        the pieces, in the order of the rows of log-likelihoods
    ends : list of (ndarray of shape (particles,), ndarray of shape (pieces, particles))
        of each history the logarithms of its particles' weights, and their log-likelihoods
    joint : ndarray, shape (hypotheses,)
        logarithms of prior and evidence together
    without : callable
        the same with a piece left out, weighed anew; -inf of a hypothesis that was not thought of then

    Returns
    -------
    survives, probabilities, piece : float, ndarray of shape (hypotheses,), Evidence or None

    References
    ----------
    Gelfand, Dey and Chang, Bayesian Statistics 4 (1992): what is foreseen without a piece. From memory.
    """
    causes = posterior.by_cause()
    lead = max(causes, key=causes.get)
    share = np.array([sum(cause_of(fault) == lead for fault in faults) / len(faults) for faults in posterior.faults])
    log = np.log(np.maximum(posterior.p, 1e-300))
    # Particles stand for the whole evidence; without a piece each counts by so much more as it spoke against it.
    taken = [number for number, piece in enumerate(used) if _single(piece)]
    if not taken:
        return causes[lead], posterior.p, None
    whole = [log_mean_cut(gain) for gain, _ in ends]
    without_it = np.array([log_mean(gain - logs[taken]) for gain, logs in ends]).T - whole  # (taken, hypotheses)

    def left(piece: Evidence, p: np.ndarray) -> tuple[float, np.ndarray, Evidence]:
        return float(share @ p), p, piece

    def given_back(piece: Evidence, back: np.ndarray) -> np.ndarray:
        return normalised(log + np.minimum(back - back.min(), _most_back(piece)))

    def weighed(piece: Evidence) -> tuple[float, np.ndarray, Evidence]:
        less = without(piece)
        if _most_back(piece) == MOST_BACK:
            return left(piece, normalised(less))
        back, thought_of = less - joint, np.isfinite(less)
        return left(piece, given_back(piece, np.where(thought_of, back, back[thought_of].min())))

    found = [left(used[number], given_back(used[number], back)) for number, back in zip(taken, without_it, strict=True)]
    found.sort(key=lambda item: item[0])
    if causes[lead] > UNCONFIRMED:
        # Few of the particles that the whole chose tell what is left without a piece: where the call depends on it, it is weighed; and
        # without the next one, too, where the call may hang on that no less.
        for place, (least, probabilities, piece) in enumerate(found[:2]):
            if least < found[0][0] + NO_LESS and _hardly_known(piece, least, probabilities, used, ends):
                found[place] = weighed(piece)
    survives, doubted, hangs_on = min(found, key=lambda item: item[0])
    if survives >= causes[lead]:
        return causes[lead], posterior.p, None
    return survives, doubted, hangs_on


def _hardly_known(piece: Evidence, survives: float, doubted: np.ndarray, used, ends) -> bool:
    """Whether what is left without a reading or recording hangs on few of the draws, and a call may hang on that."""
    if not isinstance(piece, MeterReading | Captured) or not HANGS_AT_LEAST < survives < SURVIVES_FOR_SURE:
        return False
    number = next(number for number, item in enumerate(used) if item is piece)
    rivals = np.flatnonzero(doubted > RIVAL_AT_LEAST)
    left = [effective_sample_size((ends[k][0] - ends[k][1][number])[None])[0] for k in rivals]
    return min(left) < FEW_LEFT or (survives < SURVIVES_AT_LEAST and isinstance(piece, Captured))


def _single(piece: Evidence) -> bool:
    """Whether a piece may be a slip: what was seen and is certain is a fact, what was taken twice is no single piece, and what came with
    the machine is not taken again."""
    several = getattr(piece, "more", ()) or getattr(piece, "times", 1) > 1
    return not (piece.told or getattr(piece, "certain", False) or several)


def _most_back(piece: Evidence) -> float:
    return MOST_BACK_OF_PICTURE if isinstance(piece, Captured | ReadElsewhere | Pressed) else MOST_BACK


#: nats that leaving out one piece may give back: of a recording the finding is in doubt, not that it was taken
MOST_BACK, MOST_BACK_OF_PICTURE = 12.0, 4.5
#: where less or more survives by what the draws of the whole tell, that is near enough: for a recording, of which little is given back,
#: and where few effective draws of a rival are left without the piece
HANGS_AT_LEAST, SURVIVES_AT_LEAST, SURVIVES_FOR_SURE = 0.4, 0.93, 0.985
RIVAL_AT_LEAST, FEW_LEFT = 0.003, 30.0
NO_LESS = 0.1  #: what survives by so little more may be the least, as far as the draws of the whole tell


def unexplained_readings(used, logs: np.ndarray, world: World) -> tuple[str, ...]:
    """Readings that no fault explains, said in words.

    Parameters
    ----------
    used : list of Evidence
    logs : ndarray, shape (pieces, histories, particles)
        log-likelihoods
    world : World

    References
    ----------
    Box, J. R. Stat. Soc. A 143 (1980): a reading that no model foresees. From memory.
    """
    out = []
    for piece, log in zip(used, logs, strict=True):
        if isinstance(piece, MeterReading) and np.exp(log).mean(axis=1).max() < UNEXPLAINED * SLIP * LEAST:
            out.append(words.unexplained(piece, world))
    return tuple(out)


UNEXPLAINED = 4.0  #: times the floor of a reading's likelihood
