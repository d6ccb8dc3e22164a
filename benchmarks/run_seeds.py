"""How far an answer hangs on the seed of the draws: the end states of the closed loop in the other world, each weighed with several seeds.

`python -m benchmarks.run_seeds --machines 6 --first 7000`. Told: the total variation between the causes' probabilities of any two
seeds (half the sum of the differences), how often the leading cause is another one, and the milliseconds of a weighing that has
nothing made for it yet.
"""

from __future__ import annotations

import argparse
import time
from itertools import combinations
from multiprocessing import Pool

import numpy as np

from benchmarks.closed_loop import OtherPlayed
from benchmarks.other_world import STATED
from sagen.casework.practice import play
from sagen.model.vocabulary import Cause
from sagen.reason.weights import infer
from sagen.reason.world import World

SEEDS = (20_11, 311, 4_207)


def state(task: tuple[str, int]) -> tuple[str, int, list[dict[Cause, float]], list[float]]:
    """The causes' probabilities at the end of one machine's job, by seed."""
    family, seed = task
    case = play(OtherPlayed(family, seed)).case
    found, took = [], []
    for draws in SEEDS:
        world = World(case.spec, seed=draws)
        began = time.perf_counter()
        found.append(infer(case, world=world).by_cause())
        took.append(1e3 * (time.perf_counter() - began))
    return family, seed, found, took


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--machines", type=int, default=6, help="of each family")
    parser.add_argument("--first", type=int, default=7000, help="seed of the first machine")
    arguments = parser.parse_args()
    tasks = [(family, arguments.first + k) for family in STATED for k in range(arguments.machines)]
    with Pool(2) as pool:
        states = pool.map(state, tasks, chunksize=2)
    worst, flips, took = [], 0, []
    for family, seed, found, each in states:
        apart = max(
            0.5 * sum(abs(one.get(cause, 0.0) - other.get(cause, 0.0)) for cause in Cause)
            for one, other in combinations(found, 2)
        )
        leads = {max(item, key=item.get) for item in found}
        flips += len(leads) > 1
        worst.append(apart)
        took += each
        if apart > 0.05:
            print(f"{family} {seed}: {apart:.3f}, led by {', '.join(sorted(leads))}")
    print(
        f"{len(states)} states, {len(SEEDS)} seeds: total variation {np.mean(worst):.3f} in the mean, {np.max(worst):.3f} at"
        f" worst, {np.mean(np.array(worst) > 0.05):.2f} above .05; the leader is another one in {flips}; a fresh weighing"
        f" {np.median(took):.0f} ms, {np.max(took):.0f} at worst"
    )


if __name__ == "__main__":
    main()
