"""What a shop's own proven jobs add to the shipped priors: Dirichlet counts of what was wrong, beta counts of new parts.

The shipped priors stand for so many jobs and parts of experience (`WORTH`); each proven job adds at most one, each part that
was fitted one. Only what the technician did and proved counts: which part cured the machine, never what the model took
for likely. Within a part's fault modes the shipped proportions stay. Method: conjugate updating, as in any textbook (from memory:
Gelman et al., Bayesian Data Analysis, chapters 2 and 3).
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

import numpy as np

from sagen.model.vocabulary import Origin, Part
from sagen.reason.facts import SOUND, Knowledge, cause_of

#: jobs, and parts of an origin, that the shipped figures are worth; judgement
WORTH = 40.0
#: what a job counts on another model of machine, where both are known
OTHER_MODEL = 0.5


@dataclass(frozen=True)
class Learned:
    """Counts for one kind of circuit.

    Parameters
    ----------
    cured : jobs by the part that cured them; None is a circuit that turned out sound
    parts : fitted and bad ones, by origin
    """

    cured: Mapping[Part | None, float] = field(default_factory=dict)
    parts: Mapping[Origin, tuple[float, float]] = field(default_factory=dict)

    @property
    def jobs(self) -> float:
        return sum(self.cured.values())

    def weights(self, facts: Knowledge, faults: Iterable[str], role: str, *, correlated: bool = False) -> np.ndarray:
        """How common fault modes are in a circuit of a role, adding up to 1: the shipped figures and what was seen.

        Parameters
        ----------
        facts : Knowledge
        faults : iterable of str
            slugs
        role : str
            of the circuit
        correlated : bool
            with a correlation code

        Returns
        -------
        ndarray, shape (faults,)
            means of a Dirichlet posterior: the shipped figures as counts, and the repairs that held

        References
        ----------
        Gelman et al., Bayesian Data Analysis (2013), 3.4: multinomial counts with a Dirichlet prior. From memory.
        """
        faults = list(faults)
        shipped = facts.weights(faults, role, correlated=correlated)
        if not self.cured or not len(shipped):
            return shipped
        seen = np.zeros(len(faults))
        for part, count in self.cured.items():
            causes = facts.parts.get(part, ()) if part is not None else ()
            of = np.array(
                [fault == SOUND if part is None else fault != SOUND and cause_of(fault) in causes for fault in faults]
            )
            share = shipped * of
            if share.sum() > 0:
                seen += count * share / share.sum()
        return (WORTH * shipped + seen) / (WORTH + seen.sum())

    def bad(self, facts: Knowledge, origin: Origin) -> float:
        """The chance that a new part of an origin is bad.

        Parameters
        ----------
        facts : Knowledge
            the shipped chances
        origin : Origin
            of the part

        Returns
        -------
        float
            0 to 1

        References
        ----------
        Gelman et al., Bayesian Data Analysis (2013), 2.4: mean of a Beta posterior. From memory.
        """
        fitted, bad = self.parts.get(origin, (0.0, 0.0))
        return (WORTH * facts.origins[origin] + bad) / (WORTH + fitted)


NOTHING = Learned()
