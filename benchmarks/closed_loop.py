"""Sagen left to itself: thousands of machines with a drawn fault, every check chosen and answered without a person.

`python -m benchmarks.closed_loop --machines 400`. Ways over the same machines: Sagen's own order, a fixed
flow chart in the order of the trade (the same inference, another order), and changing the sensor first; and
Sagen again on machines with a second fault of another cause ("two"), where naming either is right. Told:
share that ends on the right cause, minutes and wrong parts to get there, and how often what was called 90 %
was so.
"""

from __future__ import annotations

import argparse
from collections import Counter
from dataclasses import dataclass
from multiprocessing import Pool

import numpy as np

from sagen.casework.examination import capture_entry, kept_name
from sagen.kinds import broken, examine
from sagen.machine.faults import possible
from sagen.machine.meter import read
from sagen.machine.record import record
from sagen.model.circuit import CircuitSpec
from sagen.reason.case import capture_piece, cranked_piece
from sagen.reason.checks import ENOUGH, next_checks
from sagen.reason.evidence import Code, Complained, Inspected, MeterReading
from sagen.reason.facts import SOUND, cause_of, knowledge
from sagen.reason.weigh import Case, Replaced, infer, likelihood_model, with_trail

CIRCUITS = {
    "crank hall": CircuitSpec(role="crank", sensor="hall", supply=12.0, pull_up=5.0, wheel="60-2"),
    "crank coil": CircuitSpec(role="crank", sensor="reluctance", wheel="60-2", ohms=(780.0, 960.0)),
    "cam hall": CircuitSpec(role="cam", sensor="hall", supply=5.0, pull_up=5.0, wheel="4"),
    "speed current": CircuitSpec(role="speed", sensor="current", supply=12.0, wheel="48"),
}
#: the order of the trade: look, feed, return, signal at rest, ohms, signal in motion, compare, both ends, take apart
FLOW = (
    "ask the starter", "plug and pins", "feed at the plug", "fuse and relay of the feed", "return at the plug", "return under load",
    "signal with the sensor unplugged", "signal at rest, plugged", "no steel at the tip", "steel at the tip", "ohms of the coil",
    "ohms of the signal wire", "ohms of the return wire", "record signal, feed and return while cranking", "record while the wheel turns", "record at idle",
    "record while moving the harness", "both ends of the signal wire", "unplug the module, measure wire to ground", "seat and flange of the sensor",
    "wheel through the sensor's hole", "timing marks", "warm the sensor",
)  # fmt: skip
MOST_CHECKS = 18
LEAST_GAIN = 0.006


@dataclass(frozen=True)
class Run:
    right: bool
    minutes: float
    wrong_parts: int
    checks: int
    called: float
    cause: str
    truth: str


def second_fault(name: str, seed: int, first: str) -> str | None:
    """For the study of two faults at once: another fault mode of another cause, by the priors."""
    rng = np.random.default_rng([seed, 11, *name.encode()])
    names = [one.slug for one in possible(CIRCUITS[name]) if first != SOUND and one.cause != cause_of(first)]
    return str(rng.choice(names, p=knowledge().weights(names, CIRCUITS[name].role))) if names else None


def draw_machine(name: str, seed: int) -> tuple[CircuitSpec, str, float, list]:
    """A circuit, its fault by the priors, a severity, and the code and complaint that it came in with: a machine
    whose fault sets neither does not come in."""
    rng = np.random.default_rng([seed, *name.encode()])
    spec, facts = CIRCUITS[name], knowledge()
    names = [SOUND, *(one.slug for one in possible(spec))]
    weights = facts.weights(names, spec.role)
    while True:
        fault = str(rng.choice(names, p=weights))
        pieces = [
            make(one)
            for table, make in (
                (facts.complaints, lambda one: Complained("", one)),
                (facts.codes, lambda one: Code("", "P0000", one)),
            )
            if (one := _drawn(table, fault, rng))
        ]
        if len(pieces) == 2:
            return spec, fault, float(rng.uniform(0.15, 1.0)), pieces


def _drawn(table: dict, fault: str, rng) -> str | None:
    """One of a table's rows by its share under a fault, or none."""
    names = list(table)
    shares = np.array([table[one].of(fault) for one in names])
    return str(rng.choice(names, p=shares / shares.sum())) if rng.uniform() < min(shares.sum(), 1.0) else None


def answer(
    check, spec: CircuitSpec, fault: str, severity: float, seed: int, rng, mended: bool, second: str | None = None,
    good: bool = False,
):  # fmt: skip
    """What the machine answers to a check, as evidence; a swap tells whether the machine is mended."""
    active = [] if fault == SOUND or mended else [(fault, severity)]
    active += [(second, severity)] if second else []
    if check.kind == "meter":
        reading = read(broken(spec, active, seed), check.point, check.state)
        value = reading.value * (1 + rng.normal(0, 0.004)) + rng.normal(
            0, 0.004 if reading.quantity == "volts" else 0.05
        )
        return [MeterReading("", check.point, check.state, float(value), reading.quantity == "ohms")]
    if check.kind == "capture":
        capture, sheet = record(broken(spec, active, seed), check.state, seconds=2.4, sfreq=20_000.0)
        pattern = record(broken(spec, [], 9_999), check.state, seconds=2.4, sfreq=20_000.0) if good else None
        entry = capture_entry(examine(capture, sheet, reference=pattern), kept_name(pattern))
        return [one for one in (capture_piece(entry, spec), cranked_piece(entry.cadence)) if one is not None]
    shown = [SOUND if mended else fault, *([second] if second else [])]
    for name, row in check.outcome.items():
        if rng.uniform() < max(row.get(one, row["other"]) for one in shown):
            return [Inspected("", check.slug, name)]
    return [Inspected("", check.slug, "")]


def run(task: tuple[str, int, str]) -> Run:
    name, seed, way = task
    spec, fault, severity, came = draw_machine(name, seed)
    rng = np.random.default_rng([seed, 77])
    second = second_fault(name, seed, fault) if way == "two" else None
    # Of every other machine's circuit a known-good capture is on the shelf.
    good = seed % 2 == 0
    case = Case(spec, tuple(came), referenced=good)
    minutes, wrong, mended, count = 0.0, 0, False, 0
    if way == "swap":
        minutes += 20.0
        mended = cause_of(fault) == "sensor"
        wrong += not mended
        if mended:
            return Run(True, minutes, 0, 1, 1.0, "sensor", "sensor")
        case = with_trail(case, [Replaced("sensor", "original")])
    flow = list(FLOW)
    model = likelihood_model(spec)
    for _ in range(MOST_CHECKS):
        posterior = infer(case, model=model)
        causes = posterior.by_cause()
        if max(causes.values()) >= ENOUGH:
            break
        ranked = [one for one in next_checks(case, posterior, model=model) if one.check.kind != "swap"]
        if way == "flow":
            ranked = [one for step in flow for one in ranked if one.check.name == step] or ranked
        elif not ranked or not ranked[0].pays or ranked[0].gain_bits < LEAST_GAIN:
            break
        if not ranked:
            break
        check = ranked[0].check
        flow = [one for one in flow if one != check.name]
        minutes += check.total_minutes
        count += 1
        case = with_trail(case, answer(check, spec, fault, severity, seed, rng, mended, second, good))
    causes = infer(case, model=model).by_cause()
    cause = max(causes, key=causes.get)
    right = cause in (cause_of(fault), cause_of(second) if second else cause_of(fault))
    return Run(right, minutes, wrong + (not right and cause != "none"), count, causes[cause], cause, cause_of(fault))


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--machines", type=int, default=200, help="of each circuit")
    parser.add_argument("--only", default="")
    parser.add_argument("--ways", nargs="*", default=["sagen", "two", "flow", "swap"])
    parser.add_argument("--first", type=int, default=5000, help="seed of the first machine")
    arguments = parser.parse_args()
    names = [one for one in CIRCUITS if arguments.only in one]
    print(
        "| circuit | way | right | minutes, mean | minutes, 90 % | checks | wrong parts |\n|---|---|---|---|---|---|---|"
    )
    called = []
    for name in names:
        for way in arguments.ways:
            with Pool(2) as pool:
                runs = pool.map(run, [(name, arguments.first + k, way) for k in range(arguments.machines)], chunksize=8)
            minutes = np.array([one.minutes for one in runs])
            right = np.mean([one.right for one in runs])
            wrong = np.mean([one.wrong_parts for one in runs])
            print(
                f"| {name} | {way} | {100 * right:.1f} % | {minutes.mean():.0f} | {np.quantile(minutes, 0.9):.0f} | {np.mean([one.checks for one in runs]):.1f} | {wrong:.2f} |",
                flush=True,
            )
            if way == "sagen":
                called += runs
                mixed = Counter((one.truth, one.cause) for one in runs if not one.right)
                print("  confused: " + ", ".join(f"{a} for {b} {n}" for (a, b), n in mixed.most_common(6)))
    print("\n| called | cases | were so |\n|---|---|---|")
    for low, high in ((0.0, 0.5), (0.5, 0.8), (0.8, 0.93), (0.93, 0.97), (0.97, 1.01)):
        inside = [one for one in called if low <= one.called < high]
        if inside:
            print(
                f"| {100 * low:.0f} to {100 * min(high, 1):.0f} % (mean {100 * np.mean([one.called for one in inside]):.1f}) | {len(inside)} | {100 * np.mean([one.right for one in inside]):.1f} % |"
            )


if __name__ == "__main__":
    main()
