"""`sagen demo`: the window on made-up demo jobs."""

from __future__ import annotations

from sagen.cli.open_window import run


def arguments(parser) -> None:
    parser.set_defaults(run=run, demo=True)
