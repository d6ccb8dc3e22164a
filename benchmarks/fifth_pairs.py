"""Pairs of captures by the fifth hand: whatever differs between two days on one engine differs, and sometimes a fault.

Rate, bits, rails, speed, length, column names and the order of the columns are drawn anew for either capture. What the
pictures mean is common practice, no published source; all sizes are drawn.

    python -m benchmarks.fifth_pairs [FIRST_SEED] [SEEDS] [KIND ...]
"""

from __future__ import annotations

import sys
from dataclasses import dataclass, field

import numpy as np

from benchmarks import pairs
from benchmarks.fifth_hand import Bench, magnetic, output, shaken, switched, usual, wave, wheel
from benchmarks.fourth_hand import gathered, row, sheet
from benchmarks.pairs import Drawn
from sagen.model.capture import Capture, Channel

KINDS, kind = gathered()


@dataclass
class Engine:
    """What both days have in common."""

    rng: np.random.Generator
    cam_kind: str = "hall"
    name: str = ""
    teeth: list = field(default_factory=list)

    def __post_init__(self):
        if not self.name:
            self.name, shape = usual(self.rng)
            self.teeth = wheel(*shape)
        rng = self.rng
        count = int(rng.integers(2, 5))
        edges = np.sort(rng.permutation(8)[:count]) / 8 + rng.uniform(0, 0.02, count)
        self.vanes = [(float(x), float(rng.uniform(0.03, 0.05)), 1.0) for x in edges]
        self.studs = [(x, 0.018, 1.0) for x, _, _ in self.vanes]
        self.rest = rng.uniform(0, 1)
        self.rise = rng.uniform(4e-6, 1.2e-5)
        self.polarity = bool(rng.random() < 0.5)

    def day(self, *, state="cranking", late=0.0, vanes=None, sway=0.0, rpm=0.0, seconds=0.0, cam=None, crank=None,
            shorter=1.0, teeth=None):  # fmt: skip
        """One recording and its sheet."""
        rng = self.rng
        bench = Bench(rng, state=state, seconds=seconds or rng.uniform(3, 5), rpm=rpm)
        slack = late / 720 + (sway * shaken(bench, 2.0) / 720 if sway else 0.0)
        turns = bench.turns / 2 - slack + self.rest
        # The crank's and the cam's zero belong together: whole cycles are all that a new day may shift.
        turns = turns - (bench.turns[0] - bench.turns[0] % 1.0) / 2
        names = [("CH1", "CH2"), ("Crank", "Cam"), ("B", "A"), ("1", "2")][int(rng.integers(4))]
        bench.put(
            names[0],
            output(
                bench, switched(magnetic(bench.turns, teeth or self.teeth)), **({"rise": self.rise} | (crank or {}))
            ),
        )
        if self.cam_kind == "hall":
            on = switched(magnetic(turns, vanes or self.vanes, sharp=0.05))
            bench.put(names[1], output(bench, on ^ self.polarity, **({"rise": self.rise} | (cam or {}))))
        else:
            height = {"per_rpm": 0.02} | (cam or {})
            bench.put(names[1], wave(bench, magnetic(turns, vanes or self.studs, sharp=0.45), **height))
        if rng.random() < 0.3:
            bench.columns = dict(reversed(bench.columns.items()))
        capture = Capture(
            "fifth.csv", bench.rate, tuple(Channel(k, v.astype(np.float32)) for k, v in bench.columns.items())
        )
        cut = round(len(bench.t) * shorter)
        if shorter < 1:
            capture = Capture(
                capture.name, capture.sfreq, tuple(Channel(c.column, c.raw[:cut]) for c in capture.channels)
            )
        rows = (
            row(names[0], wheel=self.name, pull_up=5.0),
            row(names[1], "cam", self.cam_kind, **({"pull_up": 5.0} if self.cam_kind == "hall" else {})),
        )
        return capture, sheet(*rows, state=state)


def pair(good, here, right=(), cause="", unfit=False, most=1.0):
    return Drawn(good[0], here[0], good[1], here[1], tuple(right), cause, unfit, most)


@kind
def sound(rng):
    engine = Engine(rng)
    state = str(rng.choice(["cranking", "running"]))
    return pair(engine.day(state=state), engine.day(state=state))


@kind
def sound_studs(rng):
    engine = Engine(rng, "reluctance")
    return pair(engine.day(), engine.day())


@kind
def sound_other_battery(rng):
    engine = Engine(rng)
    return pair(engine.day(rpm=230), engine.day(rpm=140))


@kind
def late_by_a_tooth(rng):
    engine = Engine(rng)
    return pair(engine.day(), engine.day(late=rng.choice([-1, 1]) * rng.uniform(8, 28)), ["timing_offset"], "timing")


@kind
def late_by_a_tooth_studs(rng):
    engine = Engine(rng, "reluctance")
    return pair(engine.day(), engine.day(late=rng.choice([-1, 1]) * rng.uniform(9, 28)), ["timing_offset"], "timing")


@kind
def stretched(rng):
    engine = Engine(rng)
    return pair(
        engine.day(state="running", rpm=800),
        engine.day(state="running", rpm=830, late=rng.uniform(2.8, 5)),
        ["timing_offset"],
        "timing",
    )


@kind
def one_vane_bent(rng):
    engine = Engine(rng)
    vanes = list(engine.vanes)
    k = int(rng.integers(len(vanes)))
    x, w, h = vanes[k]
    vanes[k] = (x + rng.choice([-1, 1]) * rng.uniform(5, 9) / 720, w, h)
    return pair(engine.day(), engine.day(vanes=vanes), ["odd_tooth"], "reluctor")


@kind
def one_vane_wider(rng):
    engine = Engine(rng)
    vanes = list(engine.vanes)
    k = int(rng.integers(len(vanes)))
    x, w, h = vanes[k]
    vanes[k] = (x, w * rng.uniform(1.25, 1.4), h)
    return pair(engine.day(), engine.day(vanes=vanes), ["odd_tooth", "wrong_pattern"])


@kind
def other_wheel_on_the_cam(rng):
    engine, other = Engine(rng), Engine(rng)
    return pair(engine.day(), engine.day(vanes=other.vanes), ["wrong_pattern"], "reluctor")


@kind
def cam_turned_half(rng):
    """A cam wheel fitted half a cycle, or a quarter, round."""
    engine = Engine(rng)
    return pair(engine.day(), engine.day(late=float(rng.choice([180, -180, 90]))), ["timing_offset", "wrong_pattern"])


@kind
def low_is_higher(rng):
    engine = Engine(rng)
    which = str(rng.choice(["crank", "cam"]))
    return pair(engine.day(), engine.day(**{which: {"low": rng.uniform(0.5, 0.65)}}), ["low_not_pulled_down"])


@kind
def high_is_lower(rng):
    engine = Engine(rng)
    which = str(rng.choice(["crank", "cam"]))
    return pair(engine.day(), engine.day(**{which: {"high": rng.uniform(4.05, 4.3)}}), ["high_not_reached"])


@kind
def slope_is_slower(rng):
    engine = Engine(rng)
    engine.rate = 100e3
    return pair(
        engine.day(crank={"rise": 8e-6}), engine.day(crank={"rise": rng.uniform(1.2e-4, 2e-4)}), ["high_not_reached"]
    )


@kind
def studs_weaker(rng):
    engine = Engine(rng, "reluctance")
    return pair(
        engine.day(rpm=200), engine.day(rpm=215, cam={"per_rpm": 0.02 * rng.uniform(0.5, 0.6)}), ["weak_amplitude"]
    )


@kind
def studs_crossed(rng):
    engine = Engine(rng, "reluctance")
    return pair(engine.day(), engine.day(cam={"cross": True}), ["reversed_polarity"], "wiring")


@kind
def chain_slack(rng):
    engine = Engine(rng)
    return pair(engine.day(), engine.day(sway=rng.uniform(4, 7)), ["timing_scatter", "timing_offset"], "timing")


@kind
def phaser_elsewhere(rng):
    engine = Engine(rng)
    return pair(
        engine.day(state="running", rpm=800),
        engine.day(state="running", rpm=rng.uniform(1800, 2600), late=-rng.uniform(10, 25)), most=0.4,
    )  # fmt: skip


@kind
def tooth_gone_beside(rng):
    """A fault that needs no comparison: it is told all the same, and nothing else is."""
    engine = Engine(rng)
    teeth = list(engine.teeth)
    del teeth[int(rng.integers(6, len(teeth) - 5))]
    return pair(engine.day(), engine.day(teeth=teeth), ["extra_gap"], "reluctor")


@kind
def unfit_other_state(rng):
    engine = Engine(rng)
    return pair(engine.day(state="running"), engine.day(state="cranking"), unfit=True)


@kind
def unfit_other_engine(rng):
    one, other = Engine(rng), Engine(rng)
    while other.name == one.name:
        other = Engine(rng)
    return pair(other.day(), one.day(), unfit=True)


@kind
def unfit_too_short(rng):
    engine = Engine(rng)
    return pair(engine.day(shorter=0.06), engine.day(), unfit=True)


@kind
def unfit_faulty(rng):
    engine = Engine(rng)
    teeth = list(engine.teeth)
    del teeth[int(rng.integers(6, len(teeth) - 5))]
    return pair(engine.day(teeth=teeth), engine.day(), unfit=True)


def judged(job):
    """As the other pairs'."""
    return pairs.judged(job, KINDS)


if __name__ == "__main__":
    pairs.main(sys.argv[1:], KINDS, judged)
