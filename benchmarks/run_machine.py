"""The simulated machine, and weighing a job: how long each takes."""

from __future__ import annotations

from benchmarks.timing import seconds
from sagen.kinds import broken
from sagen.machine.faults import possible
from sagen.machine.meter import read
from sagen.machine.record import record
from sagen.model.circuit import CircuitSpec
from sagen.reason.checks import next_checks
from sagen.reason.evidence import Code, MeterReading
from sagen.reason.likelihood import LikelihoodModel
from sagen.reason.weigh import Case, infer

SPECS = {
    "crank, switching": CircuitSpec(role="crank", sensor="hall", supply=12.0, pull_up=5.0, wheel="60-2"),
    "crank, coil": CircuitSpec(role="crank", sensor="reluctance", wheel="60-2"),
    "cam beside crank": CircuitSpec(role="cam", sensor="hall", supply=5.0, pull_up=5.0),
    "speed, current": CircuitSpec(role="speed", sensor="current", supply=12.0, wheel="48"),
}


def main() -> None:
    print(
        "| circuit | record 2 s at 50 kHz, ms | meter reading, ms | fault modes | weigh a fresh job, s | weigh again, ms |\n|---|---|---|---|---|---|"
    )
    for name, spec in SPECS.items():
        machine = broken(spec, [], 1)
        state = "rolling" if spec.role == "speed" else "cranking"
        recorded = seconds(lambda machine=machine, state=state: record(machine, state), 5)
        metered = seconds(lambda machine=machine: read(machine, "signal", "key_on"), 20)
        case = Case(spec, (Code("", "P0335", "circuit"), MeterReading("", "signal", "key_on_unplugged", 4.9)))

        def weighed(model, case=case):
            return next_checks(case, infer(case, model=model), model=model)

        fresh = seconds(lambda spec=spec, weighed=weighed: weighed(LikelihoodModel(spec)), 1)
        model = LikelihoodModel(spec)
        weighed(model)
        again = seconds(lambda model=model, weighed=weighed: weighed(model), 5)
        print(
            f"| {name} | {1e3 * recorded:.0f} | {1e3 * metered:.2f} | {len(possible(spec))} | {fresh:.1f} | {1e3 * again:.0f} |",
            flush=True,
        )


if __name__ == "__main__":
    main()
