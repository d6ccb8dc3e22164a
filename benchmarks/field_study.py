"""What the reader makes of `benchmarks.field`: found, clean, and the right cause first, a row a kind.

`python -m benchmarks.field_study --first 0 --seeds 12`; seeds from 1000 on come from shafts that were never looked at
while tuning.
"""

from __future__ import annotations

import argparse
from collections import Counter
from concurrent.futures import ProcessPoolExecutor

from benchmarks.field import KINDS, Told, draw
from sagen.casework.examination import capture_entry
from sagen.kinds import examine
from sagen.reason.case import case_of, circuit_of_sheet
from sagen.reason.weigh import weigh
from sagen.signal.catalogue import usual_name


def verdict(one: Told, *, weighed: bool = True) -> tuple[bool, bool, bool, str]:
    """Whether all that is wanted was found, nothing else was, the cause is right; and in words what was not."""
    done = examine(one.capture, one.sheet)
    rows = [item.as_row() for item in done.findings]
    said = []
    missing = [kind for kind, fields in one.wanted if not any(_fits(row, kind, fields) for row in rows)]
    if one.note and not any(one.note in note for note in (*done.notes, *(item.text for item in done.findings))):
        missing.append(f"note '{one.note}'")
    if one.named and one.named not in {usual_name(item.reading.wheel) for item in done.channels if item.reading.wheel}:
        missing.append(f"the name {one.named}")
    if missing:
        said.append(f"missed {', '.join(missing)}")
    kinds = {kind for kind, _ in one.wanted}
    extra = sorted({row["kind"] for row in rows} - kinds - set(one.allowed))
    twice = [kind for kind in kinds if sum(row["kind"] == kind for row in rows) > 3]
    if extra or twice:
        said.append(f"false {', '.join([*extra, *(f'{kind} many times' for kind in twice)])}")
    right = True
    if weighed:
        suspects, _ = weigh(case_of([capture_entry(done)], circuit_of_sheet(done.sheet, done.findings)))
        right = suspects[0].cause in one.causes
        if not right:
            said.append(f"cause {suspects[0].cause} {suspects[0].probability:.2f}")
    return not missing, not (extra or twice), right, "; ".join(said)


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


def of_kind(task: tuple[str, int, int, bool]) -> tuple[str, list[tuple[int, bool, bool, bool, str]]]:
    kind, first, seeds, weighed = task
    out = []
    for seed in range(first, first + seeds):
        try:
            out.append((seed, *verdict(draw(kind, seed), weighed=weighed)))
        except Exception as error:
            out.append((seed, False, False, False, f"{type(error).__name__}: {error}"))
    return kind, out


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--first", type=int, default=0)
    parser.add_argument("--seeds", type=int, default=8)
    parser.add_argument("--only", default="", help="kinds that contain this text")
    parser.add_argument("--show", action="store_true", help="name the seeds that were not right")
    parser.add_argument("--unweighed", action="store_true", help="leave the suspects out")
    arguments = parser.parse_args()
    tasks = [
        (kind, arguments.first, arguments.seeds, not arguments.unweighed) for kind in KINDS if arguments.only in kind
    ]
    total = Counter()
    with ProcessPoolExecutor(2) as pool:
        for kind, rows in pool.map(of_kind, tasks):
            group = "sound" if kind.startswith("sound") else "faulty"
            for _, found, clean, right, _ in rows:
                total.update(
                    {f"{group} all": 1, f"{group} found": found, f"{group} clean": clean, f"{group} right": right}
                )
            share = [sum(row[k] for row in rows) for k in (1, 2, 3)]
            if arguments.show or min(share) < len(rows):
                said = Counter(row[4] for row in rows if row[4])
                seeds = {text: [row[0] for row in rows if row[4] == text][:4] for text in said}
                rest = " | ".join(f"{text} x{count} {seeds[text]}" for text, count in said.most_common(5))
                print(
                    f"{kind:32s} found {share[0]:3d} clean {share[1]:3d} cause {share[2]:3d} of {len(rows)}  {rest}",
                    flush=True,
                )
    for group in ("sound", "faulty"):
        count = total[f"{group} all"]
        if count:
            print(
                group,
                count,
                *(f"{name} {100 * total[f'{group} {name}'] / count:.1f} %" for name in ("found", "clean", "right")),
            )
    count = total["sound all"] + total["faulty all"]
    print(
        "all",
        count,
        *(
            f"{name} {100 * (total[f'sound {name}'] + total[f'faulty {name}']) / count:.1f} %"
            for name in ("found", "clean", "right")
        ),
    )


if __name__ == "__main__":
    main()
