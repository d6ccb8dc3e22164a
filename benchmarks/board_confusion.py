"""How often pictures of a board are taken for one another: `python -m benchmarks.board_confusion`, printed as `reason/knowledge/board.toml` holds it.

Pictures are drawn of many machines, with every fault mode that shows and at several severities, and compared in what an eye sees: where the
line is low and high, how close its teeth stand, how regular they are, how rough it is. Each difference counts in steps that an eye just tells
apart. `RIGHT` of all presses are right, as practice has it; whom the others go to falls with the steps that it is away (Shepard, Psychometrika
22, 1957: generalisation falls exponentially with distance. From memory).
"""

from __future__ import annotations

from multiprocessing import Pool
from typing import NamedTuple

import numpy as np

from sagen.casework.board import USUAL_SEVERITY, BoardPicture, draw_picture
from sagen.machine.faults import possible
from sagen.model.circuit import CircuitSpec
from sagen.model.vocabulary import SensorKind, State
from sagen.reason.facts import SOUND

RIGHT = 0.8  #: of presses; judgement, no published source
#: what an eye just tells apart, in the order of `looks`. Judgement, no published source
STEPS = np.array([0.1, 0.1, 0.1, 0.05, 0.2, 0.15, 0.2, 0.25, 0.6, 0.08])
GAP = 1.4  #: usual distances; what is longer is a gap to an eye
#: steps between what switches and what does not, in each thing that only one of them has; how many are "some"; and how far apart pictures are
#: taken to be that never met
UNLIKE, SOME, FARTHEST = 4.0, 3.0, 8.0
SEVERITIES = (0.35, USUAL_SEVERITY, 1.0)
MACHINES = 3
CIRCUITS = {
    SensorKind.HALL: (("crank", "60-2"), ("crank", "36-1"), ("cam", "4"), ("speed", "48")),
    SensorKind.RELUCTANCE: (("crank", "60-2"), ("crank", "36-1"), ("cam", "3"), ("speed", "48")),
    SensorKind.CURRENT: (("speed", "48"), ("speed", "43")),
}


def looks(picture: BoardPicture, sound: BoardPicture) -> np.ndarray:
    """What an eye sees of a picture beside the sound one: bottom and top, how unlike the tops of its teeth are, roughness (shares of the
    sound height); how many teeth and how many gaps, the longest and the shortest distance, how much steeper it rises than it falls
    (octaves); how uneven the distances are; shape (10,), NaN where nothing switches."""
    low, high = np.quantile(sound.volts, [0.05, 0.95])
    height = max(float(high - low), 1e-3)
    bottom, top = np.quantile(picture.volts, [0.05, 0.95])
    rough = float(np.median(np.abs(np.diff(picture.volts, 2)))) / height
    seen = np.full(len(STEPS), np.nan)
    seen[:2], seen[3] = ((bottom - low) / height, (top - high) / height), rough
    if top - bottom <= 0.15 * height:
        return seen
    middle, band = 0.5 * (top + bottom), 0.1 * (top - bottom)
    side = np.where(picture.volts > middle + band, 1, np.where(picture.volts < middle - band, -1, 0))
    told = np.flatnonzero(side)
    rises = told[1:][np.diff(side[told]) == 2]
    if len(rises) < 4:
        return seen
    apart = np.diff(rises) / np.median(np.diff(rises))
    seconds, even = float(picture.time_s[-1]), apart[apart < GAP]
    tops = np.maximum.reduceat(picture.volts, rises)[:-1]
    slope = np.diff(picture.volts)
    steep = np.quantile(slope, 0.995) / max(-np.quantile(slope, 0.005), 1e-9)
    seen[2] = np.subtract(*np.quantile(tops, [0.9, 0.1])) / height
    seen[4:] = (
        np.log2(len(rises) / seconds), np.log2(1 + np.sum(apart >= GAP)), np.log2(apart.max()), np.log2(max(apart.min(), 0.05)),
        np.log2(np.clip(steep, 0.1, 10.0)), float(np.std(even)),
    )  # fmt: skip
    return seen


def steps_of(pictures: list[Seen]) -> np.ndarray:
    """What an eye just tells apart where sound machines differ among themselves: who knows that does not go by it; shape (10,)."""
    by_circuit: dict[tuple, list[np.ndarray]] = {}
    for item in pictures:
        if item.fault == SOUND:
            by_circuit.setdefault(item.circuit, []).append(item.looks)
    return np.hypot(STEPS, np.sqrt(np.mean([np.var(rows, axis=0, ddof=1) for rows in by_circuit.values()], axis=0)))


def steps_apart(one: np.ndarray, other: np.ndarray, step: np.ndarray) -> float:
    """How many steps an eye tells two pictures apart by; many steps are told apart hardly better than some (Weber and Fechner)."""
    differ = np.abs(one - other) / step
    differ[np.isnan(one) ^ np.isnan(other)] = UNLIKE
    return float(SOME * np.log1p(np.sqrt(np.nansum(differ**2)) / SOME))


class Seen(NamedTuple):
    """One picture as an eye sees it."""

    circuit: tuple[SensorKind, str, str]
    seed: int
    fault: str
    label: str
    looks: np.ndarray


def drawn(task: tuple[SensorKind, str, str, int]) -> list[Seen]:
    """The pictures of one machine."""
    sensor, role, wheel, seed = task
    spec = CircuitSpec(role=role, sensor=sensor, wheel=wheel)
    sound = draw_picture(spec, SOUND, 0.0, State.CRANKING, seed)
    circuit = (sensor, role, wheel)
    out = [Seen(circuit, seed, SOUND, sound.label, looks(sound, sound))]
    for mode in possible(spec):
        for severity in SEVERITIES:
            picture = draw_picture(spec, mode.slug, severity, State.CRANKING, seed)
            out.append(Seen(circuit, seed, mode.slug, picture.label, looks(picture, sound)))
    return out


def apart_of(pictures: list[Seen], labels: list[str]) -> np.ndarray:
    """How many steps farther from what is on the screen the pictures of each kind on a board are than one of its own kind, the median over
    screens and boards of other machines with the same circuit; shape (on the screen, on the board)."""
    told: dict[tuple[str, str], list[float]] = {}
    boards: dict[tuple, dict[str, list[np.ndarray]]] = {}
    for item in pictures:
        boards.setdefault((item.circuit, item.seed), {}).setdefault(item.label, []).append(item.looks)
    rng, step = np.random.default_rng(1), steps_of(pictures)
    for item in pictures:
        for (circuit, seed), board in boards.items():
            if circuit != item.circuit or seed == item.seed or item.label not in board:
                continue
            steps = {
                name: steps_apart(item.looks, shown[rng.integers(len(shown))], step) for name, shown in board.items()
            }
            for name, away in steps.items():
                told.setdefault((item.label, name), []).append(max(away - steps[item.label], 0.0))
    apart = np.full((len(labels), len(labels)), FARTHEST)
    for at, label in enumerate(labels):
        for beside, other in enumerate(labels):
            if (label, other) in told:
                apart[at, beside] = np.median(told[label, other])
    np.fill_diagonal(apart, 0.0)
    return apart


def shares(apart: np.ndarray) -> np.ndarray:
    """How often each kind of picture is pressed for each that is on the screen, rows whose sum is 1: `RIGHT` of the presses go to its own
    kind, the others to what looks most like it."""
    own = np.eye(len(apart), dtype=bool)
    pull = np.where(own, 0.0, np.exp(-apart))
    return np.where(own, RIGHT, (1.0 - RIGHT) * pull / pull.sum(axis=1, keepdims=True))


def main() -> None:
    tasks = [
        (sensor, role, wheel, seed)
        for sensor, circuits in CIRCUITS.items()
        for role, wheel in circuits
        for seed in range(MACHINES)
    ]
    with Pool(2) as pool:
        found = pool.map(drawn, tasks, chunksize=1)
    show(found)


def show(found: list[list[Seen]]) -> None:
    """Print the tables."""
    for sensor in CIRCUITS:
        pictures = [item for rows in found for item in rows if item.circuit[0] == sensor]
        labels = sorted({item.label for item in pictures})
        table = shares(apart_of(pictures, labels))
        print(f"\n[pressed.{sensor}]")
        for label, row in zip(labels, table, strict=True):
            cells = ", ".join(
                f'"{name}" = {share:.3f}' for name, share in zip(labels, row, strict=True) if share >= 0.002
            )
            print(f'"{label}" = {{ {cells} }}')


if __name__ == "__main__":
    main()
