"""`sagen` and `sagen open FILE...`: the window."""

from __future__ import annotations

from importlib import import_module

from sagen.store.places import place_of


def arguments(parser) -> None:
    parser.add_argument("files", nargs="*", metavar="FILE")
    parser.set_defaults(run=run, demo=False)


def run(arguments) -> int:
    place_of(arguments.log)  # a name that is none is told before there is a window
    return import_module("sagen.desk.app").run(demo=arguments.demo, files=arguments.files, log=arguments.log)
