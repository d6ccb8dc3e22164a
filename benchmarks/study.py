"""What the reader makes of made-up captures: a confusion table.

`python -m benchmarks.study` looks at the tuning set; `--held-out` at the set that is never looked into
while tuning. Each row: kind, captures, share with exactly the true findings, share with a wrong tooth.
"""

from __future__ import annotations

import argparse
from collections import Counter

from benchmarks.made_up import KINDS, MadeUp, draw
from sagen.model.capture import Capture, Channel
from sagen.model.sheet import Sheet
from sagen.signal.examine import Examination, examine

HELD_OUT = 1_000_000


def examined(one: MadeUp, *, declared: bool = True) -> Examination:
    """Examine a drawn capture, with or without its wheel on the sheet."""
    channel = {"column": "A", "role": "crank", "sensor": "hall", "pull_up": one.pull_up}
    if declared:
        channel["wheel"] = f"{one.slots}-{one.missing}"
    sheet = Sheet.from_data(
        {"engine": {"cylinders": one.cylinders}, "conditions": {"state": one.state}, "channel": [channel]}
    )
    return examine(Capture("drawn", one.sfreq, (Channel("A", one.samples),)), sheet)


def verdict(one: MadeUp, examination: Examination) -> str:
    """right, missed, wrong tooth, or false: what else was found."""
    found = Counter(item.kind for item in examination.findings)
    others = {kind for kind in found if kind != one.truth}
    if others:
        return f"false: {' '.join(sorted(others))}"
    if one.truth and not found:
        return "missed"
    first = examination.findings[0] if examination.findings else None
    if one.tooth is not None and (found["extra_gap"] != 1 or first.fields["tooth"] != one.tooth):
        return "wrong tooth"
    if one.held is not None and first.fields["held"] != one.held:
        return "wrong level"
    return "right"


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--seeds", type=int, default=60)
    parser.add_argument("--held-out", action="store_true")
    parser.add_argument("--undeclared", action="store_true")
    parser.add_argument("--show", action="store_true", help="name the seeds that were not right")
    arguments = parser.parse_args()
    base = HELD_OUT if arguments.held_out else 0
    total = Counter()
    for kind in KINDS:
        table = Counter()
        for seed in range(base, base + arguments.seeds):
            one = draw(kind, seed)
            said = verdict(one, examined(one, declared=not arguments.undeclared))
            table[said] += 1
            if arguments.show and said != "right":
                print("  ", kind, seed, said, f"{one.slots}-{one.missing}", one.cylinders, f"{one.sfreq:.0f}")
        total.update({"captures": arguments.seeds, "right": table["right"]})
        rest = ", ".join(f"{name} {count}" for name, count in table.items() if name != "right")
        print(f"{kind:18s} {table['right']:4d} of {arguments.seeds} right" + (f"; {rest}" if rest else ""))
    print(f"{'all':18s} {total['right']:4d} of {total['captures']} right")


if __name__ == "__main__":
    main()
