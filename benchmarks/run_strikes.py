"""Knock captures: what reading them costs, and how often taps drawn by another hand are read and blamed rightly."""

from __future__ import annotations

import sys
import time

import numpy as np
from tests.struck import Struck, sheet_of

from benchmarks.timing import seconds
from sagen.kinds import examine
from sagen.kinds.piezo.verdict import judge_taps
from sagen.signal.pairs import height_ratio

KINDS = ("sound", "a quarter nearer", "weak", "1.56", "dead", "detuned", "loaded")


def drawn(rng: np.random.Generator, kind: str, place: int = 0) -> tuple[Struck, set, int]:
    """A capture under nuisance as it comes, what is to be found in it, and which sensor is the bad one."""
    bad = int(rng.integers(2))
    hertz = rng.uniform(5_200, 9_000) * np.exp(rng.normal(0, 0.004, 2))
    gains = np.exp(rng.normal(0, 0.03, 2))
    wanted: set = set()
    if kind == "a quarter nearer":
        gains[bad] *= rng.choice([0.8, 1.25])
    elif kind == "weak":
        gains[bad] *= rng.uniform(0.3, 0.6)
        wanted = {"weak_strike"}
    elif kind == "1.56":
        gains = np.ones(2)
        gains[bad] /= 1.56
        wanted = {"weak_strike"}
    elif kind == "dead":
        gains[bad] = rng.choice([0.0, 0.01])
        wanted = {"no_signal"}
    elif kind == "detuned":
        hertz[bad] *= rng.uniform(0.76, 0.93)
        wanted = {"ring_mismatch"}
    made = Struck(
        int(rng.integers(1 << 30)), tuple(gains), tuple(hertz), float(rng.choice([1e5, 1.25e5, 2e5, 2.5e5, 5e5])),
        float(rng.choice([1.5, 3.0])), None, float(rng.uniform(0.4, 2.0)), 0.4, float(rng.choice([0.003, 0.01, 0.03])),
        float(rng.choice([0.0, 0.0, 0.05, 0.3])), float(rng.choice([0.0, 0.3])), float(rng.choice([0.0, 5.0, 20.0])),
        int(rng.choice([0, 8, 8, 12, 16])), 5.0, float(rng.choice([0.0, 0.0, 0.35])), None, 0.0,
        float(rng.uniform(0.01, 0.04)), float(rng.uniform(2e-5, 8e-5)),
    )  # fmt: skip
    return made, wanted, bad


def single(many: int) -> None:
    print("| one capture | right | strikes found / struck | ratio within 3 % | ring within 1 % |")
    print("|---|---|---|---|---|")
    rng = np.random.default_rng(int(time.time()) % 100_000 if "--fresh" in sys.argv else 11)
    for kind in KINDS[:-1]:
        right, found, struck, near, rings, ratios, read = 0, 0, 0, 0, 0, 0, 0
        for _ in range(many):
            made, wanted, bad = drawn(rng, kind)
            done = examine(made.capture(), sheet_of(2, connection="unplugged"))
            got = {(finding.channel, str(finding.kind)) for finding in done.findings}
            right += got == {(f"CH{bad + 1}", item) for item in wanted}
            strikes = done.tapped.strikes
            found, struck = found + len(strikes), struck + len(made.at)
            told = height_ratio(strikes, 1, 0)
            if told.known and kind != "dead":
                ratios += 1
                near += abs(told.value / (made.gains[1] / made.gains[0]) - 1) < 0.03
            for ring, hertz in zip(done.tapped.rings, made.hertz, strict=True):
                if ring.known:
                    read += 1
                    rings += abs(ring.value / hertz - 1) < 0.01
        shares = f"{near}/{ratios}" if ratios else "-"
        print(f"| {kind} | {right}/{many} | {found} / {struck} | {shares} | {rings}/{read} |")
        sys.stdout.flush()


def together(many: int) -> None:
    print("| front open, rear under 22 kilohm, front plugged | the right sensor and nothing else |")
    print("|---|---|")
    rng = np.random.default_rng(int(time.time()) % 99_991 if "--fresh" in sys.argv else 12)
    for kind in KINDS:
        right = 0
        for _ in range(many):
            first, wanted, bad = drawn(rng, "sound" if kind == "loaded" else kind)
            if kind == "a quarter nearer":
                first.gains = (1.0, 1.0)
            captures = []
            for number, (place, connection) in enumerate(
                (("front", "unplugged"), ("rear", "loaded"), ("front", "plugged"))
            ):
                way = np.exp(rng.uniform(0.0, 0.22) * np.array([1, -1]) * (0.5 if place == "front" else -0.5))
                loads = {"unplugged": None, "loaded": (22e3, 22e3), "plugged": [470e3, 470e3]}[connection]
                if kind == "loaded" and connection == "plugged":
                    loads[bad] = rng.uniform(2e3, 9e3)
                made = Struck(
                    **{
                        **first.__dict__,
                        "seed": first.seed + number,
                        "gains": tuple(np.array(first.gains) * way),
                        "loads": loads and tuple(loads),
                    }
                )
                sheet = sheet_of(
                    2, place=place, connection=connection, loads=tuple(loads) if connection == "loaded" else None
                )
                captures.append(examine(made.capture(), sheet).tapped)
            verdict = judge_taps(captures)
            got = {(blame.sensor, str(blame.kind)) for blame in verdict.blames} if verdict else {("none", "")}
            right += got == {(bad, item) for item in (wanted or ({"loaded_down"} if kind == "loaded" else set()))}
        print(f"| {kind} | {right}/{many} |")
        sys.stdout.flush()


def cost() -> None:
    print("| strikes in 4 channels x 10 s at 500 kS/s | passes (np.max over the same float32 samples) | ms |")
    print("|---|---|---|")
    for every in (0.37, 1.0):
        taps = tuple(np.arange(0.15, 9.9, every))
        made = Struck(1, (1.0, 0.9, 0.8, 1.1), (6_800.0, 6_850.0, 6_900.0, 6_820.0), 5e5, 10.0, taps)
        capture, sheet = made.capture(), sheet_of(4, connection="unplugged")
        # One after the other: four channels do not stay in the cache, as one that is read again and again does.
        unit = seconds(lambda c=capture: [np.max(channel.raw) for channel in c.channels], 9)
        took = seconds(lambda c=capture, s=sheet: examine(c, s), 7)
        print(f"| {len(taps)} | {took / unit:.1f} | {1e3 * took:.0f} |")


def main(many: int = 60) -> None:
    cost()
    print()
    single(many)
    print()
    together(many // 2)


if __name__ == "__main__":
    main(next((int(item) for item in sys.argv[1:] if item.isdigit()), 60))
