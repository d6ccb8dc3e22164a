"""Pairs of captures: a known-good one and one under test, at another speed, battery, recorder and length.

Drawn by the means of the fourth hand; the faults show in the comparison alone. What the pictures mean is common practice,
no published source; all sizes are drawn.

    python -m benchmarks.pairs [FIRST_SEED] [SEEDS] [KIND ...]
"""

from __future__ import annotations

import sys
from dataclasses import dataclass

import numpy as np

from benchmarks.fourth_hand import (
    SFREQ,
    captured,
    coil,
    cranked,
    drawn_and_judged,
    followed,
    gathered,
    inside,
    row,
    run,
    sheet,
    toothed,
    weighed,
)
from sagen.kinds import examine
from sagen.model.capture import Capture
from sagen.model.sheet import Sheet

VANES = [(0.08, 0.10), (0.30, 0.05), (0.52, 0.13), (0.80, 0.07)]  #: middle and width, turns of the cam


@dataclass(frozen=True)
class Drawn:
    good: Capture
    here: Capture
    good_sheet: dict
    sheet: dict
    right: tuple[str, ...] = ()
    cause: str = ""
    unfit: bool = False
    most_timing: float = 1.0  #: how likely timing may be called


KINDS, kind = gathered()


def line(turns, teeth, rng, low=0.15, high=5.0, tau=5e-6, noise=0.012):
    return followed(np.where(inside(turns, teeth), low, high), tau) + rng.normal(0, noise, len(turns))


def crank_and_cam(rng, turns, *, late=0.0, vanes=VANES, slots=(60, 2), gone=None, swap=False, **cam):
    """A crank at `turns` and a cam at half of it, `late` degrees of the crank behind."""
    teeth = toothed(*slots) if gone is None else toothed(slots[0], gone=gone)
    return {"A": line(turns, teeth, rng), "B": line(turns / 2 - late / 720, vanes, rng, **cam)}


ROWS = (row("A", wheel="60-2", pull_up=5.0), row("B", "cam", pull_up=5.0))


def pair(rng, *, state="cranking", rows=ROWS, right=(), cause="", unfit=False, most=1.0, good=None, rpm=None, **here):
    shaft = (lambda r=None: cranked(rng, 4.0, r)) if state == "cranking" else (lambda r=None: run(rng, 4.0, r))
    first = crank_and_cam(rng, shaft(), **(good or {}))
    second = crank_and_cam(rng, shaft(rpm), **here)
    made = sheet(*rows, state=state)
    return Drawn(captured(**first), captured(**second), made, made, right, cause, unfit, most)


@kind
def sound_cranking(rng):
    return pair(rng)


@kind
def sound_running(rng):
    return pair(rng, state="running")


@kind
def sound_noisier(rng):
    return pair(rng, noise=0.05)


@kind
def cam_late(rng):
    return pair(rng, right=("timing_offset",), cause="timing", late=rng.choice([-1, 1]) * rng.uniform(8, 24))


@kind
def chain_stretched(rng):
    return pair(rng, state="running", right=("timing_offset",), cause="timing", late=rng.uniform(2.8, 5.0))


@kind
def vane_bent(rng):
    k = int(rng.integers(len(VANES)))
    bent = [(m + (rng.choice([-1, 1]) * rng.uniform(4, 8) / 720 if i == k else 0), w) for i, (m, w) in enumerate(VANES)]
    return pair(rng, right=("odd_tooth",), cause="reluctor", vanes=bent)


@kind
def other_cam_wheel(rng):
    return pair(
        rng, right=("wrong_pattern",), cause="reluctor", vanes=[(0.1, 0.06), (0.35, 0.12), (0.62, 0.05), (0.9, 0.11)]
    )


@kind
def cam_upside_down(rng):
    return pair(rng, right=("wrong_pattern",), cause="reluctor", vanes=[(1 - m, w) for m, w in VANES][::-1])


@kind
def low_higher(rng):
    return pair(rng, right=("low_not_pulled_down",), low=rng.uniform(0.5, 0.65))


@kind
def high_lower(rng):
    return pair(rng, right=("high_not_reached",), high=rng.uniform(4.1, 4.25))


@kind
def edge_slower(rng):
    return pair(rng, right=("high_not_reached",), tau=60e-6)


@kind
def coil_weaker(rng):
    turns = [cranked(rng, 2.4, 200), cranked(rng, 2.4, 210)]
    made = sheet(row("A", sensor="reluctance", wheel="60-2"))
    volts = [
        coil(t, toothed(60, 2), rng, per_rpm=0.02 * share, noise=0.004)
        for t, share in zip(turns, (1.0, 0.6), strict=True)
    ]
    return Drawn(captured(A=volts[0]), captured(A=volts[1]), made, made, ("weak_amplitude",))


@kind
def coil_crossed(rng):
    turns = [cranked(rng, 2.4), cranked(rng, 2.4)]
    made = sheet(row("A", sensor="reluctance", wheel="60-2"))
    same = rng.uniform(0.012, 0.03)  # one coil, its wires changed over: another height would be a difference of its own
    volts = [side * coil(t, toothed(60, 2), rng, same, noise=0.004) for t, side in zip(turns, (1.0, -1.0), strict=True)]
    return Drawn(captured(A=volts[0]), captured(A=volts[1]), made, made, ("reversed_polarity",), "wiring")


@kind
def several_gaps_late(rng):
    rows = (row("A", wheel="60: 29-30, 59-60", pull_up=5.0), row("B", "cam", pull_up=5.0))
    gone = (29, 30, 59, 60)
    late = rng.choice([-1, 1]) * rng.uniform(8, 20)
    return pair(rng, rows=rows, right=("timing_offset",), cause="timing", good={"gone": gone}, gone=gone, late=late)


@kind
def several_gaps_sound(rng):
    rows = (row("A", wheel="60: 29-30, 59-60", pull_up=5.0), row("B", "cam", pull_up=5.0))
    return pair(rng, rows=rows, good={"gone": (29, 30, 59, 60)}, gone=(29, 30, 59, 60))


@kind
def names_and_order_differ(rng):
    made = pair(rng, right=("timing_offset",), cause="timing", late=14.0)
    b, a = made.here.channel("A"), made.here.channel("B")
    renamed = captured(X=a.values(), Y=b.values())
    return Drawn(
        made.good,
        renamed,
        made.good_sheet,
        sheet(row("X", "cam", pull_up=5.0), row("Y", wheel="60-2", pull_up=5.0)),
        made.right,
        made.cause,
    )


@kind
def phaser_holds_elsewhere(rng):
    return pair(rng, state="running", rpm=rng.uniform(1800, 2400), late=rng.uniform(10, 25), most=0.4)


@kind
def unfit_state(rng):
    one, other = pair(rng), pair(rng, state="running")
    return Drawn(other.good, one.here, other.sheet, one.sheet, unfit=True)


@kind
def unfit_wheel(rng):
    made = pair(rng)
    other = captured(A=line(cranked(rng, 4.0), toothed(36, 1), rng))
    return Drawn(other, made.here, sheet(row("A", wheel="36-1", pull_up=5.0)), made.sheet, unfit=True)


@kind
def unfit_short(rng):
    made = pair(rng)
    cut = round(0.25 * SFREQ)
    short = captured(**{item.column: item.values()[:cut] for item in made.good.channels})
    return Drawn(short, made.here, made.good_sheet, made.sheet, unfit=True)


@kind
def unfit_same(rng):
    made = pair(rng)
    return Drawn(made.here, made.here, made.sheet, made.sheet, unfit=True)


@kind
def unfit_faulty(rng):
    made = pair(rng, good={"gone": (21, 59, 60)})
    return Drawn(made.good, made.here, made.good_sheet, made.sheet, unfit=True)


def judged(job: tuple[str, int], known: dict | None = None) -> dict:
    """One pair drawn, compared and weighed."""

    name, seed = job
    drawn = (known or KINDS)[name](np.random.default_rng([seed, sum(map(ord, name))]))
    good = (drawn.good, Sheet.from_data(drawn.good_sheet, where=name))
    done = examine(drawn.here, Sheet.from_data(drawn.sheet, where=name), reference=good)
    found = {str(item.kind) for item in done.findings}
    told, leader = weighed(done, good)
    timing = sum(item.probability for item in told if str(item.cause) == "timing")
    right = set(drawn.right)
    return {
        "kind": name, "seed": seed, "found": bool(right & found) if right else None,
        "clean": not (found - right), "unfit": done.fit.startswith("unfit") if drawn.unfit else None,
        "cause": str(leader.cause) == drawn.cause if drawn.cause else None,
        "held": timing <= drawn.most_timing, "fit": done.fit, "saw": sorted(found),
        "leader": f"{leader.cause} {leader.probability:.2f}",
        "offset": [channel.comparison.cam.offset for channel in done.channels if channel.comparison and channel.comparison.cam],
    }  # fmt: skip


def main(words: list[str], known=KINDS, judge=judged) -> None:
    kinds, rows = drawn_and_judged(words, known, judge)
    for name in kinds:
        own = [item for item in rows if item["kind"] == name]
        bad = [
            item for item in own
            if item["found"] is False or not item["clean"] or item["unfit"] is False or item["cause"] is False or not item["held"]
        ]  # fmt: skip
        if bad:
            print(f"{name}: {len(bad)} of {len(own)}")
            for item in bad[:3]:
                print(
                    f"   seed {item['seed']}: {item['fit']}, saw {item['saw']}, leads {item['leader']}, offset {item['offset']}"
                )
    for what in ("found", "cause", "clean", "unfit", "held"):
        told = [item[what] for item in rows if item[what] is not None]
        if told:
            print(f"{what} {np.mean(told):.3f} of {len(told)}")


if __name__ == "__main__":
    main(sys.argv[1:])
