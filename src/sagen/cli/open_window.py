"""`sagen` and `sagen open FILE...`: the window."""

from __future__ import annotations


def add(verbs) -> None:
    parser = verbs.add_parser("open", help="open the window and bring these captures in")
    parser.add_argument("files", nargs="*", metavar="FILE")
    parser.set_defaults(run=run, demo=False)


def run(arguments) -> int:
    from sagen.desk.app import run as open_window
    from sagen.store.places import place_of

    place_of(arguments.log)  # a name that is none is told before there is a window
    return open_window(demo=arguments.demo, files=arguments.files, log=arguments.log)
