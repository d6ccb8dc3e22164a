"""What the reader makes of made-up captures: a confusion table.

`python -m benchmarks.study` looks at the tuning set; `--held-out` at the set that is never looked into
while tuning. A row a kind: captures, share that gave exactly the true finding with the right fields, and
what the others gave.
"""

from __future__ import annotations

import argparse
from collections import Counter

from benchmarks.made_up import KINDS, MadeUp, draw
from sagen.kinds import Examination, examine

HELD_OUT = 6_000_000


def verdict(one: MadeUp, examination: Examination) -> str:
    """right, missed, wrong FIELD, or false: what else was found."""
    found = [item for item in examination.findings if item.kind == one.truth]
    others = {item.kind for item in examination.findings} - {one.truth, *one.allowed}
    if others:
        return f"false: {' '.join(sorted(others))}" + ("" if found or not one.truth else " (missed)")
    if not one.truth:
        return "right"
    if not found:
        return "missed"
    if len(found) > 1:
        return f"{len(found)} times"
    row = found[0].as_row()
    for name, value in one.wanted.items():
        said = row.get(name)
        fits = abs(said - value[0]) <= value[1] if isinstance(value, tuple) else said == value
        if not fits:
            return f"wrong {name}"
    return "right"


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--seeds", type=int, default=40)
    parser.add_argument("--held-out", action="store_true")
    parser.add_argument("--show", action="store_true", help="name the seeds that were not right")
    parser.add_argument("--only", default="", help="kinds that contain this text")
    arguments = parser.parse_args()
    base = HELD_OUT if arguments.held_out else 0
    total = Counter()
    for kind in KINDS:
        if arguments.only not in kind:
            continue
        table = Counter()
        for seed in range(base, base + arguments.seeds):
            one = draw(kind, seed)
            said = verdict(one, examine(one.capture, one.sheet, reference=one.reference))
            table[said] += 1
            sound = "sound" if kind.startswith("sound") else "faulty"
            total.update({sound: 1, f"{sound} right": said == "right", f"{sound} false": said.startswith("false")})
            if arguments.show and said != "right":
                channel = one.sheet.channel[0]
                print("  ", kind, seed, said, channel.wheel, one.sheet.engine.cylinders, f"{one.capture.sfreq:.0f}")
        rest = ", ".join(f"{name} {count}" for name, count in table.items() if name != "right")
        print(f"{kind:24s} {table['right']:4d} of {arguments.seeds} right" + (f"; {rest}" if rest else ""), flush=True)
    for name in ("sound", "faulty"):
        if total[name]:
            print(
                f"{name}: {total[f'{name} right']} of {total[name]} right, {total[f'{name} false']} with a false finding"
            )


if __name__ == "__main__":
    main()
