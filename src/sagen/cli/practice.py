"""`sagen practice --seed N --level 1..5`: a machine with a hidden fault; with --auto Sagen plays it by itself."""

from __future__ import annotations

import argparse
import json
import sys

from sagen.casework.practice import LEVELS, PracticeMachine, score
from sagen.cli import whole
from sagen.model.language import tr, trn, worded
from sagen.model.words import COMPLAINTS, PARTS, ROLES, SENSORS, said_minutes, surely
from sagen.reason.evidence import Code
from sagen.reason.facts import knowledge
from sagen.reason.history import Replaced


def arguments(parser) -> None:
    parser.add_argument(
        "--seed", type=whole, required=True, metavar="N", help=tr("which machine; the same for the same number")
    )
    which = parser.add_mutually_exclusive_group(required=True)
    which.add_argument("--level", type=whole, choices=LEVELS, default=0, help=tr("how hard it is"))
    which.add_argument("--lesson", default="", metavar="NAME", help=tr("a lesson of the course in place of a level"))
    parser.add_argument("--auto", action="store_true", help=tr("Sagen plays, and is scored"))
    parser.add_argument("--json", action="store_true")
    parser.set_defaults(run=run, fail=_failed)


def run(arguments: argparse.Namespace) -> int:
    if arguments.auto:
        row = score(arguments.seed, arguments.level, arguments.lesson).as_row()
        print(json.dumps(row) if arguments.json else _score_words(row))
        return 0
    row = _story(PracticeMachine(arguments.level, arguments.seed, lesson=arguments.lesson))
    if arguments.json:
        print(json.dumps({**_which(arguments), **row}))
    else:
        said = {
            "machine": tr("machine"), "brought by": tr("brought by"), "complaint": tr("complaint"), "code": tr("code"),
            "circuit": tr("circuit"), "changed before": tr("changed before"), "known-good capture": tr("known-good capture"),
        }  # fmt: skip
        print("\n".join(f"{said[key]}: {value}" for key, value in row.items()))
    return 0


def _which(arguments: argparse.Namespace) -> dict:
    lesson = {"lesson": arguments.lesson} if arguments.lesson else {}
    return {"seed": arguments.seed, "level": arguments.level, **lesson}


def _story(machine: PracticeMachine) -> dict:
    """What the customer and the tester say; nothing of what is wrong."""
    code = next(knowledge().codes[item.kind].seen for item in machine.told if isinstance(item, Code))
    before = [PARTS[item.part] for item in machine.told if isinstance(item, Replaced)]
    return {
        "machine": machine.name, "brought by": machine.owner, "complaint": COMPLAINTS[machine.complaint],
        "code": code, "circuit": f"{ROLES[machine.spec.role]}, {SENSORS[machine.spec.sensor]}",
        "changed before": ", ".join(before) if before else tr("nothing that anybody knows of"),
        "known-good capture": tr("on the shelf") if machine.good else tr("none"),
    }  # fmt: skip


def _score_words(row: dict) -> str:
    return tr(
        "{right}: {cause}, claimed at {claimed}, in {minutes} and {parts}. One who knew the fault: {best_minutes}.",
        right=tr("Right") if row["right"] else tr("Wrong"),
        cause=worded(row["cause"]),
        claimed=surely(row["claimed"]),
        minutes=said_minutes(row["minutes"]),
        parts=trn("{count} part", "{count} parts", row["parts"]),
        best_minutes=said_minutes(row["best_minutes"]),
    )


def _failed(arguments: argparse.Namespace, message: str) -> None:
    if arguments.json:
        print(json.dumps({**_which(arguments), "error": message}))
    else:
        print(tr("sagen practice: {message_}", message_=message), file=sys.stderr)
