"""What the reader makes of captures that other hands drew: found, clean, and the right cause first, a row a kind.

`python -m benchmarks.study` looks at the tuning set; `--held-out` at seeds that are never looked into while tuning. Two
hands draw: `made up` (`benchmarks.made_up`, speeds by formula) and `field` (`benchmarks.field`, shafts turned by torques,
real recorders' habits, sound circuits under nasty conditions). Neither knows the reader.
"""

from __future__ import annotations

import argparse
from collections import Counter
from concurrent.futures import ProcessPoolExecutor

from benchmarks import field, made_up
from benchmarks.field import Told
from sagen.casework.examination import capture_entry
from sagen.kinds import examine
from sagen.reason.case import case_of, circuit_of_sheet
from sagen.reason.weights import weigh
from sagen.signal.catalogue import usual_name

#: by hand: its kinds, how one is drawn, and where the held-out seeds begin
HANDS = {
    "made up": (made_up.KINDS, lambda kind, seed: _as_told(made_up.draw(kind, seed)), 6_000_000),
    "field": (field.KINDS, field.draw, 5_000),
}
MANY = 3  #: findings of one kind beyond which they are too many rows


def _as_told(item: made_up.MadeUp) -> Told:
    """A made-up capture as the study takes it; whom it makes suspect is not asked of these."""
    wanted = ((item.truth, item.wanted),) if item.truth else ()
    return Told(item.capture, item.sheet, wanted, item.allowed, (), reference=item.reference)


def verdict(told: Told, *, weighed: bool = True) -> tuple[bool, bool, bool, str]:
    """Whether all that is wanted was found, nothing else was, the cause is right; and in words what was not."""
    done = examine(told.capture, told.sheet, reference=told.reference)
    rows = [item.as_row() for item in done.findings]
    said = []
    missing = [kind for kind, fields in told.wanted if not any(_fits(row, kind, fields) for row in rows)]
    if told.note and not any(told.note in note for note in (*done.notes, *(item.text for item in done.findings))):
        missing.append(f"note '{told.note}'")
    wheels = {usual_name(item.reading.wheel) for item in done.channels if item.reading and item.reading.wheel}
    if told.named and told.named not in wheels:
        missing.append(f"the name {told.named}")
    if missing:
        said.append(f"missed {', '.join(missing)}")
    kinds = {kind for kind, _ in told.wanted}
    extra = sorted({row["kind"] for row in rows} - kinds - set(told.allowed))
    extra += [f"{kind} many times" for kind in kinds if sum(row["kind"] == kind for row in rows) > MANY]
    if extra:
        said.append(f"false {', '.join(extra)}")
    right = True
    if weighed and told.causes:
        suspects, _ = weigh(case_of([capture_entry(done)], circuit_of_sheet(done.sheet, done.findings)))
        right = suspects[0].cause in told.causes
        if not right:
            said.append(f"cause {suspects[0].cause} {suspects[0].probability:.2f}")
    return not missing, not extra, right, "; ".join(said)


def _fits(row: dict, kind: str, fields: dict) -> bool:
    if row["kind"] != kind:
        return False
    for name, value in fields.items():
        said = row.get(name)
        if isinstance(value, tuple):
            if said is None or abs(said - value[0]) > value[1]:
                return False
        elif said not in value if isinstance(value, set) else said != value:
            return False
    return True


Row = tuple[int, bool, bool, bool, str]


def of_kind(task: tuple[str, str, int, int, bool]) -> tuple[str, list[Row]]:
    hand, kind, first, seeds, weighed = task
    out: list[Row] = []
    for seed in range(first, first + seeds):
        try:
            out.append((seed, *verdict(HANDS[hand][1](kind, seed), weighed=weighed)))
        except Exception as error:
            out.append((seed, False, False, False, f"{type(error).__name__}: {error}"))
    return kind, out


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--hand", choices=HANDS, default="field")
    parser.add_argument(
        "--first", type=int, default=None, help="first seed, in place of the tuning set's or the held-out"
    )
    parser.add_argument("--seeds", type=int, default=8)
    parser.add_argument("--held-out", action="store_true")
    parser.add_argument("--only", default="", help="kinds that contain this text")
    parser.add_argument("--show", action="store_true", help="kinds in which all was right as well")
    parser.add_argument("--unweighed", action="store_true", help="leave the suspects out")
    asked = parser.parse_args()
    kinds, _, held_out = HANDS[asked.hand]
    first = asked.first if asked.first is not None else held_out if asked.held_out else 0
    tasks = [(asked.hand, kind, first, asked.seeds, not asked.unweighed) for kind in kinds if asked.only in kind]
    total = Counter()
    with ProcessPoolExecutor(2) as pool:
        for kind, rows in pool.map(of_kind, tasks):
            group = "sound" if kind.startswith("sound") else "faulty"
            share = [sum(row[k] for row in rows) for k in (1, 2, 3)]
            for name, count in zip(("all", "found", "clean", "right"), (len(rows), *share), strict=True):
                total[group, name] += count
                total["all", name] += count
            if asked.show or min(share) < len(rows):
                said = Counter(row[4] for row in rows if row[4])
                told = " | ".join(
                    f"{text} x{count} {[row[0] for row in rows if row[4] == text][:4]}"
                    for text, count in said.most_common(5)
                )
                print(
                    f"{kind:32s} found {share[0]:3d} clean {share[1]:3d} cause {share[2]:3d} of {len(rows)}  {told}",
                    flush=True,
                )
    for group in ("sound", "faulty", "all"):
        if count := total[group, "all"]:
            parts = (f"{name} {100 * total[group, name] / count:.1f} %" for name in ("found", "clean", "right"))
            print(f"{group}: {count} captures, {', '.join(parts)}")


if __name__ == "__main__":
    main()
