"""Sagen left to itself: every check chosen and answered without a person, in two worlds.

`python -m benchmarks.closed_loop --world other --machines 60`. World "1" to "5": the levels of `sagen practice`, answered by the
simulated machine (what is measured there is how the parts fit together, not how good they are). World "other":
`other_world.py`, which shares no code and no constants with it; "pressed": the same with a picture board in place of files. Told for each: how often the call is right, how often a wrong one was called
sure, the minutes, and how often what was called so likely was so.
"""

from __future__ import annotations

import argparse
from collections import Counter
from dataclasses import dataclass
from multiprocessing import Pool

import numpy as np

from benchmarks.other_world import STATED, OtherMachine
from sagen.casework.practice import FAMILIES, LEVELS, MOST_CHECKS, PracticeMachine, best_minutes, play
from sagen.model.vocabulary import NOTHING_FOUND, Cause, Part
from sagen.reason.evidence import Evidence, Pressed


class OtherPlayed(OtherMachine):
    """A machine of the other world as `play` wants it."""

    good = False

    def repair(self, part: Part) -> bool:
        return part == Part.SENSOR and self.cause == Cause.SENSOR


#: what an eye tells apart on a screen, the gravest first
TOLD_BY_EYE = (
    "no_signal", "wrong_pattern", "low_not_pulled_down", "high_not_reached", "weak_amplitude", "dropout", "extra_gap",
    "reversed_polarity", "odd_tooth", "runout", "erratic", "noise",
)  # fmt: skip
#: what no sensor of a kind shows
NOT_OF = {
    "hall": ("weak_amplitude", "reversed_polarity"),
    "current": ("low_not_pulled_down", "high_not_reached", "reversed_polarity"),
    "coil": ("low_not_pulled_down", "high_not_reached"),
}
FLAT = ("no_signal:high", "no_signal:low", "no_signal:middle")
PRESSED_RIGHT, ON_BOARD = 0.8, 6  #: of presses; pictures on a board


class PressedPlayed(OtherPlayed):
    """The same machine before a person whose screen exports nothing: of a recording one picture of a board is pressed, in 80 of 100
    the one of what is on the screen, else any other; nobody reads the screen beside that, and feed and return are not on it."""

    def answer(self, check) -> tuple[Evidence, ...]:
        """What the machine answers to a check."""
        return self.press(str(check.state)) if str(check.kind) == "capture" else super().answer(check)

    def press(self, state: str) -> tuple[Evidence, ...]:
        """The picture that is pressed, of a board of six; the starter's speed is not to be had from it."""
        there, _flat = self.shows(state)
        labels = [label for kind in TOLD_BY_EYE for label in sorted(there) if label.split(":")[0] == kind]
        right = labels[0] if labels else NOTHING_FOUND
        drawn = [kind for kind in (*FLAT, *TOLD_BY_EYE[1:]) if kind not in (*NOT_OF[self.kind], right)]
        others = [str(kind) for kind in self.rng.choice(drawn, ON_BOARD - 2, replace=False)]
        others.append(NOTHING_FOUND if right != NOTHING_FOUND else next(kind for kind in drawn if kind not in others))
        pressed = right if self.rng.random() < PRESSED_RIGHT else str(self.rng.choice(others))
        return (Pressed("", (right, *others), (pressed,), state),)


@dataclass(frozen=True)
class Run:
    family: str
    truth: str
    called: str
    p: float
    minutes: float
    checks: int
    swapped: bool
    first: str
    hides: bool = False  #: it has a fault that hardly ever shows
    milliseconds: float = 0.0
    best: float | None = None  #: minutes of the plan that knows the fault

    @property
    def right(self) -> bool:
        return self.swapped or self.called in self.truth.split(" and ")


PLAYED = {"other": OtherPlayed, "pressed": PressedPlayed}


def run(task: tuple[str, str, int, int]) -> Run:
    """One machine from its code to a call."""
    world, family, seed, most = task
    if world in PLAYED:
        machine, best = PLAYED[world](family, seed), None
        truth = machine.cause
    else:
        level = int(world)
        machine = PracticeMachine(level, seed, family=family)
        truth = " and ".join(sorted(machine.causes))
        best = best_minutes(PracticeMachine(level, seed, family=family))
    played = play(machine, most=most)
    return Run(
        family, truth, played.called, played.claimed, played.minutes, len(played.checks), played.swapped,
        next(iter(played.checks), ""), getattr(machine, "hides", False), played.milliseconds, best,
    )  # fmt: skip


def _percent(some: list, rows: list) -> str:
    return f"{100 * len(some) / max(len(rows), 1):.1f} %"


def tell(runs: list[Run]) -> None:
    """The figures of a study, as RESULTS.md holds them."""
    called = [this_run for this_run in runs if not this_run.swapped]
    sure = [item for item in called if item.p >= 0.95]
    print(
        f"{len(runs)} machines: right {_percent([this_run for this_run in runs if this_run.right], runs)}, of them cured by a swap {sum(this_run.swapped for this_run in runs)}; "
    )
    stopped = [this_run for this_run in runs if this_run.hides and this_run.called == "none"]
    print(
        f"stopped at 'nothing shows' with a fault that hardly ever shows {len(stopped)} of {sum(this_run.hides for this_run in runs)} (counted as wrong); "
    )
    print(f"wrong at .9 or more {_percent([item for item in called if not item.right and item.p >= 0.9], runs)}; ")
    print(f"of {len(sure)} called at .95 or more right {_percent([item for item in sure if item.right], sure)}; ")
    print(
        f"minutes {np.mean([this_run.minutes for this_run in runs]):.1f} (90 %: {np.quantile([this_run.minutes for this_run in runs], 0.9):.0f}), checks {np.mean([this_run.checks for this_run in runs]):.1f}, a weighing with its next checks {np.median([this_run.milliseconds for this_run in runs]):.0f} ms\n"
    )
    planned = [this_run for this_run in runs if this_run.best is not None]
    if planned:
        print(f"the plan that knows the fault: {np.mean([item.best for item in planned]):.1f} minutes\n")
    print("| family | machines | right | minutes |\n|---|---|---|---|")
    for family in dict.fromkeys(this_run.family for this_run in runs):
        rows = [this_run for this_run in runs if this_run.family == family]
        print(
            f"| {family} | {len(rows)} | {_percent([row for row in rows if row.right], rows)} | {np.mean([row.minutes for row in rows]):.0f} |"
        )
    print("\n| cause | machines | right | taken for |\n|---|---|---|---|")
    for cause in sorted({this_run.truth for this_run in runs}):
        rows = [this_run for this_run in runs if this_run.truth == cause]
        wrong = Counter(row.called for row in rows if not row.right).most_common(3)
        print(
            f"| {cause} | {len(rows)} | {_percent([row for row in rows if row.right], rows)} | {', '.join(f'{name} {n}' for name, n in wrong)} |"
        )
    print("\n| called | cases | mean | were so |\n|---|---|---|---|")
    for low, high in ((0.0, 0.5), (0.5, 0.7), (0.7, 0.85), (0.85, 0.95), (0.95, 1.01)):
        rows = [item for item in called if low <= item.p < high]
        if rows:
            print(
                f"| {100 * low:.0f} to {100 * min(high, 1):.0f} % | {len(rows)} | {100 * np.mean([row.p for row in rows]):.1f} % | {_percent([row for row in rows if row.right], rows)} |"
            )
    print(
        "\nfirst checks: "
        + ", ".join(f"{name} {n}" for name, n in Counter(this_run.first for this_run in runs).most_common(8))
    )


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--world", choices=[*PLAYED, *map(str, LEVELS)], default="other")
    parser.add_argument("--machines", type=int, default=60, help="of each family")
    parser.add_argument("--only", default="")
    parser.add_argument("--first", type=int, default=5000, help="seed of the first machine")
    parser.add_argument("--most", type=int, default=MOST_CHECKS, help="checks of a machine")
    arguments = parser.parse_args()
    known = STATED if arguments.world in PLAYED else FAMILIES
    families = [name for name in known if arguments.only in name]
    tasks = [
        (arguments.world, family, arguments.first + k, arguments.most)
        for family in families
        for k in range(arguments.machines)
    ]
    with Pool(2) as pool:
        tell(pool.map(run, tasks, chunksize=4))


if __name__ == "__main__":
    main()
