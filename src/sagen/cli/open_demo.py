"""`sagen demo`: the window on made-up demo jobs."""

from __future__ import annotations

from sagen.cli.open_window import run


def add(verbs) -> None:
    parser = verbs.add_parser("demo", help="open the window on made-up demo jobs")
    parser.set_defaults(run=run, demo=True)
