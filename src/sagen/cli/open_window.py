"""`sagen` and `sagen open FILE...`: the window."""

from __future__ import annotations


def add(verbs) -> None:
    parser = verbs.add_parser("open", help="open the window and bring these captures in")
    parser.add_argument("files", nargs="*", metavar="FILE")
    parser.set_defaults(run=run, demo=False)


def run(arguments) -> int:
    from sagen.desk.app import run as open_window
    from sagen.store.opening import place

    log = place(arguments.log) if arguments.log else None
    return open_window(demo=arguments.demo, files=arguments.files, log=log)
