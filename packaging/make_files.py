"""What a Linux desktop wants beside the program, made from the program itself: the manual page and the shells' completions from
the parser, icons in all sizes from the drawing.

    python packaging/make_files.py STAGE
"""

from __future__ import annotations

import argparse
import gzip
import os
import sys
from pathlib import Path

import shtab
from PySide6.QtCore import QSize
from PySide6.QtGui import QGuiApplication, QImage, QPainter
from PySide6.QtSvg import QSvgRenderer

from sagen import __version__
from sagen.cli import VERBS, whole_parser

HERE = Path(__file__).parent
SIZES = (16, 22, 24, 32, 48, 64, 128, 256, 512)
ICON = HERE.parent / "src/sagen/desk/theme/icons/sagen.svg"


def roff(text: str) -> str:
    """Text as a manual page has it: no line of it is a request."""
    plain = text.replace("\\", "\\e").replace("-", "\\-")
    return "\n".join(f"\\&{line}" if line[:1] in ".'" else line for line in plain.splitlines())


def actions_of(parser: argparse.ArgumentParser) -> list[argparse.Action]:
    """Arguments and options, without help and commands."""
    return [item for item in parser._actions if not isinstance(item, argparse._HelpAction | argparse._SubParsersAction)]


def verbs_of(parser: argparse.ArgumentParser) -> dict[str, argparse.ArgumentParser]:
    return next(item for item in parser._actions if isinstance(item, argparse._SubParsersAction)).choices


def called(action: argparse.Action) -> str:
    """An argument as it is written on the command line."""
    value = action.metavar or action.dest.upper()
    value = " ".join(value) if isinstance(value, tuple) else value
    if not action.option_strings:
        return value
    return ", ".join(action.option_strings) + ("" if action.nargs == 0 else f" {value}")


def manual(parser: argparse.ArgumentParser) -> str:
    """The manual page, section 1."""
    out = [
        f'.TH SAGEN 1 "" "sagen {__version__}" "User Commands"', ".SH NAME", "sagen \\- from a sensor code to a proven repair",
        ".SH SYNOPSIS", ".B sagen", "[\\-\\-log URL] [COMMAND] ...", ".SH DESCRIPTION", roff(parser.description or ""),
        ".SH OPTIONS",
    ]  # fmt: skip

    def told(rows: list[argparse.Action]) -> None:
        for item in rows:
            out.extend([".TP", f".B {roff(called(item))}", roff((item.help or "").replace("%%", "%") or "\\&")])

    told(actions_of(parser))
    out.append(".SH COMMANDS")
    for name, verb in verbs_of(parser).items():
        out.extend([f".SS {roff(name)}", roff(VERBS[name])])
        told(actions_of(verb))
    out += [
        ".SH FILES", ".TP", ".I ~/.local/share/sagen", "the job log", ".TP", ".I ~/.config/sagen",
        "own wheels, checks, costs and the meter's accuracy", ".SH EXIT STATUS",
        "0: all was read. 1: some could not be. 2: wrong usage.",
    ]  # fmt: skip
    return "\n".join(out) + "\n"


def fish(parser: argparse.ArgumentParser) -> str:
    """Completions for fish, which shtab does not write."""

    def quoted(text: str) -> str:
        return "'" + text.replace("\\", "\\\\").replace("'", "\\'").replace("%%", "%") + "'"

    out = ["# Completions of sagen, made from its parser."]
    for name, text in VERBS.items():
        out.append(f"complete -c sagen -n __fish_use_subcommand -a {name} -d {quoted(text)}")

    def option(item: argparse.Action, condition: str) -> None:
        if not item.option_strings:
            return
        words = [f"-l {word[2:]}" if word.startswith("--") else f"-s {word[1:]}" for word in item.option_strings]
        more = (
            ""
            if item.nargs == 0
            else " -x -a " + quoted(" ".join(map(str, item.choices)))
            if item.choices
            else ("" if item.nargs == 0 else " -r")
        )
        out.append(f"complete -c sagen -n {quoted(condition)} {' '.join(words)}{more} -d {quoted(item.help or '')}")

    for item in actions_of(parser):
        option(item, "__fish_use_subcommand")
    for name, verb in verbs_of(parser).items():
        for item in actions_of(verb):
            option(item, f"__fish_seen_subcommand_from {name}")
    return "\n".join(out) + "\n"


def icons(stage: Path) -> None:
    """The icon in every size that menus and docks ask for, and as it was drawn."""
    QGuiApplication.instance() or QGuiApplication(["icons"])
    drawing = QSvgRenderer(str(ICON))
    for size in SIZES:
        image = QImage(QSize(size, size), QImage.Format.Format_ARGB32)
        image.fill(0)
        painter = QPainter(image)
        drawing.render(painter)
        painter.end()
        folder = stage / f"usr/share/icons/hicolor/{size}x{size}/apps"
        folder.mkdir(parents=True, exist_ok=True)
        image.save(str(folder / "sagen.png"))
    put(stage / "usr/share/icons/hicolor/scalable/apps/sagen.svg", ICON.read_bytes())


def put(path: Path, data: bytes) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(data)


def main(stage: Path) -> None:
    share, parser = stage / "usr/share", whole_parser()
    put(share / "man/man1/sagen.1.gz", gzip.compress(manual(parser).encode(), mtime=0))
    put(share / "bash-completion/completions/sagen", shtab.complete(parser, shell="bash").encode())
    put(share / "zsh/vendor-completions/_sagen", shtab.complete(parser, shell="zsh").encode())
    put(share / "fish/vendor_completions.d/sagen.fish", fish(parser).encode())
    for name, where in (
        ("sagen.desktop", "applications"), ("sagen.metainfo.xml", "metainfo"), ("sagen-mime.xml", "mime/packages"),
    ):  # fmt: skip
        put(share / where / name, (HERE / "desktop" / name).read_bytes())
    icons(stage)


if __name__ == "__main__":
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    main(Path(sys.argv[1]))
