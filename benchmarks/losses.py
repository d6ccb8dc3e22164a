"""Why machines of the other world are lost: by what it answered, by a badly chosen check, by a wrong weight or by a check that is missing.

`python -m benchmarks.losses --machines 40 --first 5000`. Each machine is played as `closed_loop` plays it. Of one that is lost the
same checks are answered again without slips, misjudged looks or spoiled recordings, and what comes and goes comes: where the truth leads then, the
answers lost it. Where it does not, and one more check that was offered leads to it once it is answered so, or all of them together do, the checks were
badly chosen, or too few. Where not even these do and one of the checks shows the fault, it is weighed wrongly; where none shows it, one is missing.
"""

from __future__ import annotations

import argparse
from collections import Counter
from multiprocessing import Pool
from unittest import mock

import numpy as np

from benchmarks import other_world
from benchmarks.closed_loop import OtherPlayed
from benchmarks.other_world import FAULTS, STATED, THEMES
from sagen.casework.practice import MOST_CHECKS, Played, leading, play, still_there, taken_again
from sagen.model.vocabulary import CheckKind, Part
from sagen.reason.checks import next_checks
from sagen.reason.evidence import Evidence
from sagen.reason.facts import CheckFacts, knowledge
from sagen.reason.history import Case, with_trail
from sagen.reason.weights import infer

ANSWERED, MOSTLY = 5, 3  #: how often it is answered again, and how often the truth has to lead
HIDDEN, ANSWER, CHOICE, WEIGHT, MISSING = (
    "it hardly ever shows", "the world's answers", "a badly chosen check, or too few", "a wrong weight", "a missing check",
)  # fmt: skip


class Honest(OtherPlayed):
    """The same machine, of which nothing is misread and what comes and goes comes."""

    def __init__(self, family: str, seed: int, again: int):
        super().__init__(family, seed)
        self.comes = 1.0
        self.rng = np.random.default_rng([seed, again])

    def answer(self, check: CheckFacts) -> tuple[Evidence, ...]:
        """What the machine answers to a check."""
        with mock.patch.multiple(other_world, SLIPS=0.0, MISJUDGED=0.0, MISSED=0.0, SPOILED=0.0):
            return super().answer(check)


def _case(machine: OtherPlayed, checks: list[CheckFacts]) -> Case:
    """The machine once these checks were answered."""
    case, asked = Case(machine.spec, tuple(machine.told)), set()
    for check in checks:
        if check.kind == CheckKind.SWAP:
            case = still_there(case, Part.SENSOR)
            continue
        told = machine.answer(check)
        case = with_trail(case, taken_again(told) if check.slug in asked else told)
        asked.add(check.slug)
    return case


def _leads(family: str, seed: int, checks: list[CheckFacts]) -> bool:
    """Whether the truth leads by honest answers."""
    led = 0
    for again in range(ANSWERED):
        machine = Honest(family, seed, again)
        led += leading(infer(_case(machine, checks)))[0] == machine.cause
        if led >= MOSTLY or led + ANSWERED - 1 - again < MOSTLY:
            break
    return led >= MOSTLY


def why(machine: OtherPlayed, played: Played) -> str:
    """What a machine was lost by.

    Parameters
    ----------
    machine : OtherPlayed
    played : Played
        as it went
    """
    family, seed, facts = machine.family, machine.seed, knowledge()
    if machine.hides:
        return HIDDEN
    asked = [facts.check(slug) for slug in played.checks]
    if _leads(family, seed, asked):
        return ANSWER
    case = played.case
    offered = [item.check for item in next_checks(case, infer(case)) if item.check.kind != CheckKind.SWAP]
    if any(_leads(family, seed, [*asked, check]) for check in offered) or _leads(family, seed, [*asked, *offered]):
        return CHOICE
    return WEIGHT if any(_shows(machine.fault, check) for check in (*asked, *offered)) else MISSING


def _shows(fault: str, check: CheckFacts) -> bool:
    """Whether a check shows a fault: a recording its shape, a meter what has none, a look what it is for."""
    shape = FAULTS[fault][3]
    if check.kind == CheckKind.CAPTURE:
        return bool(shape)
    if check.kind == CheckKind.METER:
        return not shape
    return any(fault in row for row in THEMES.get(check.slug, {}).values())


def _lost(task: tuple[str, int, int]) -> tuple[str, str, str, float, str] | None:
    family, seed, most = task
    machine = OtherPlayed(family, seed)
    played = play(machine, most=most)
    if played.swapped or played.called == machine.cause:
        return None
    return why(machine, played), f"{family} {seed}", machine.fault, played.claimed, played.called


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--machines", type=int, default=40, help="of each family")
    parser.add_argument("--first", type=int, default=5000, help="seed of the first machine")
    parser.add_argument("--most", type=int, default=MOST_CHECKS, help="checks of a machine")
    arguments = parser.parse_args()
    tasks = [(family, arguments.first + k, arguments.most) for family in STATED for k in range(arguments.machines)]
    with Pool(2) as pool:
        found = pool.map(_lost, tasks, chunksize=2)
    lost = [item for item in found if item is not None]
    print(f"{len(tasks)} machines, {len(lost)} lost\n\n| lost by | machines | share of all |\n|---|---|---|")
    for reason in (HIDDEN, ANSWER, CHOICE, WEIGHT, MISSING):
        count = sum(item[0] == reason for item in lost)
        print(f"| {reason} | {count} | {100 * count / len(tasks):.1f} % |")
    print("\n| lost by | fault | called |\n|---|---|---|")
    for (reason, fault, called), n in Counter((item[0], item[2], item[4]) for item in lost).most_common():
        print(f"| {reason} | {fault} | {called} {n} |")
    print("\n" + "\n".join(f"{where}: {fault}, {called} {p:.2f}: {reason}" for reason, where, fault, p, called in lost))


if __name__ == "__main__":
    main()
