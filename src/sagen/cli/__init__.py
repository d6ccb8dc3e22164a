"""The same core without a screen: one file a verb.

A verb's module has `arguments(parser)`, which says what it takes and what is run, and `run(arguments)`, which answers the exit
status.
"""

from __future__ import annotations

import argparse
import gc
import gettext
import json
import math
import os
import sys
from collections.abc import Sequence
from contextlib import redirect_stderr, redirect_stdout
from importlib import import_module
from unicodedata import category

from sagen import __version__
from sagen.model.language import DOMAIN, LOCALE, speak, spoken, tr
from sagen.model.quantities import use_kept

#: what is done by each command, in the order of the help; a command's module is loaded when it is the one
VERBS = {
    "open": tr("open the window and bring these captures in"),
    "demo": tr("open the window on made-up demo jobs"),
    "examine": tr("read captures and say what they show"),
    "compare": tr("a capture beside known-good ones, edge by edge and level by level"),
    "simulate": tr("what a recorder or a meter would see on the simulated machine"),
    "reason": tr("weigh jobs: suspects and the next best check"),
    "meter": tr("judge one meter reading against its limits"),
    "picture": tr("a photo or screenshot of a screen as a capture"),
    "listen": tr("how fast an engine cranks, and how evenly, by its sound"),
    "practice": tr("a machine with a hidden fault; with --auto Sagen plays it"),
    "strikes": tr("judge the captures of one knock job together"),
    "convert": tr("read a capture of any known format and write it as CSV, WAV or MDF4"),
    "report": tr("print the finding of a capture, or a page of a job, as HTML or PDF"),
    "stand-in": tr("serve a simulated recorder and meter on 127.0.0.1, in SCPI"),
    "record": tr("record from an instrument"),
    "read": tr("take one reading with a meter"),
    "module": tr("codes and live values of an engine's module, ISO 15765-4"),
    "log": tr("list, show, move, back up and check the job log"),
    "study": tr("examine an archive of captures, to Parquet"),
}


#: what an argument is that several commands have, or whose command says no more of it: by its name, else by what stands for it
USUAL = {
    "--json": tr("objects for programs, one a line, in English"), "--output": tr("the file to write; its ending says the format"),
    "--sheet": tr("its sheet, where that lies elsewhere or has another name"), "--severity": tr("how far the fault has gone"),
    "--fault": tr("a fault of the simulated machine, by name; may be given several times"), "--seed": tr("the same number draws the same"),
    "--seconds": tr("how long"), "--state": tr("what the machine does meanwhile, such as cranking"), "--from": tr("where the instrument answers"),
    "--point": tr("where the probe is, such as signal"), "--profile": tr("how an instrument is spoken to that is not known by itself"),
    "--interface": tr("of the CAN bus, as python-can names it"), "--channel": tr("of the CAN bus"),
    "--tolerance": tr("of the nominal value, to either side"), "--accuracy": tr("of the meter, as its maker states it"),
    "--meter": tr("a meter's reading at this point in place of a recording"), "what": tr("what to do"),
    "FILE": tr("a capture"), "FILE.wav": tr("a sound"), "CAPTURE": tr("a capture"), "CIRCUIT.toml": tr("the engine and the circuit of a job"),
    "JOB.toml": tr("a job: what was said, measured and done"), "IMAGE": tr("a photo or screenshot"),
}  # fmt: skip


def main(argv: Sequence[str] | None = None) -> int:
    """Entry point of `sagen`. Exit status: 0 all read, 1 some could not be, 2 wrong usage."""
    # What is imported stays: looking through it for garbage again and again took a tenth of the start.
    gc.set_threshold(50_000, 20, 100)
    with redirect_stdout(Printable(sys.stdout)), redirect_stderr(Printable(sys.stderr)):
        try:
            argv = _flags_last(sys.argv[1:] if argv is None else list(argv))
            if "--json" in argv:
                speak("en")  # what programs read is the same in every language and unit
                use_kept()
            _argparse_speaks()
            arguments = _parser(argv).parse_args(argv)
            try:
                return arguments.run(arguments)
            except (BrokenPipeError, KeyboardInterrupt):
                raise
            except Exception as error:
                arguments.fail(arguments, in_a_sentence(error))
                return 1
        except BrokenPipeError:
            # The reader of our output went away; there is nobody left to tell.
            sys.stderr.close()
            return 0
        except KeyboardInterrupt:
            return 130


class Printable:
    """A text stream that lets nothing through that would move a terminal's cursor, colour its letters or turn its direction,
    nor what is no text at all (names of files that are not UTF-8): such a character is written as its JSON escape, which is
    right in JSON and plain to the eye elsewhere."""

    def __init__(self, stream):
        self._stream = stream

    def write(self, text: str) -> int:
        self._stream.write(text if text.isascii() and text.isprintable() else _escaped(text))
        return len(text)

    def writelines(self, lines) -> None:
        for line in lines:
            self.write(line)

    def __getattr__(self, name):
        return getattr(self._stream, name)


def _escaped(text: str) -> str:
    return "".join(
        item if item.isprintable() or item in "\n\t" or category(item) == "Zs" else json.dumps(item)[1:-1]
        for item in text
    )


def whole_parser() -> argparse.ArgumentParser:
    """The parser with every command's arguments, for what is made of it: manual page and completions."""
    return _parser((), whole=True)


def _parser(argv: Sequence[str], *, whole: bool = False) -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(
        prog="sagen", description=tr("From a sensor code to a proven repair. Without a command: the window.")
    )
    parser.add_argument("--version", action="version", version=tr("sagen {version}", version=__version__))
    parser.set_defaults(run=open_window, fail=say_what_failed, demo=False, files=[])
    parser.add_argument("--log", metavar="URL", help=tr("the job log: a folder, sqlite:///..., postgresql://..."))
    verbs = parser.add_subparsers(metavar="COMMAND")
    chosen = _verb(argv)
    for name, told in VERBS.items():
        verb = verbs.add_parser(name, help=told)
        if whole or name == chosen:
            import_module(f"sagen.cli.{_MODULES.get(name, name)}").arguments(verb)
            for item in verb._actions:  # argparse has no other way to them
                item.help = item.help or USUAL[(item.option_strings or [item.metavar or item.dest])[-1]]
    return parser


def open_window(arguments: argparse.Namespace) -> int:
    """The window, which is loaded when it is asked for."""
    return import_module("sagen.cli.open_window").run(arguments)


def _flags_last(argv: list[str]) -> list[str]:
    """The words of `sagen log` with their flags behind them: argparse takes no optional word behind a flag."""
    if _verb(argv) != "log":
        return argv
    at = argv.index("log", argv.index("--log") + 2 if "--log" in argv[:1] else 0) + 1
    flags = [word for word in argv[at:] if word in ("--json", "--repair", "--toml")]
    return [*argv[:at], *(word for word in argv[at:] if word not in flags), *flags]


def _argparse_speaks() -> None:
    """What argparse says by itself it takes from the catalogue as well, in the language of the program and of what it starts."""
    os.environ["LANGUAGE"] = spoken()
    gettext.bindtextdomain(DOMAIN, str(LOCALE))
    gettext.textdomain(DOMAIN)


def _verb(argv: Sequence[str]) -> str:
    """The command of an argument list: its first word that is no option nor what stands behind --log."""
    words = iter(argv)
    for word in words:
        if word == "--log":
            next(words, "")
        elif not word.startswith("-"):
            return word
    return ""


_MODULES = {"open": "open_window", "demo": "open_demo", "stand-in": "stand_in"}


def in_a_sentence(error: Exception) -> str:
    """What went wrong; of something unforeseen, too, no traceback reaches the user, only a log that asks for it."""
    fault_log = import_module("sagen.casework.fault_log")
    fault_log.start()
    return fault_log.note(error)


def say_what_failed(arguments: argparse.Namespace, message: str) -> None:
    """What is wrong, of a verb that reads one file; `examine` and `reason` go on with the next one instead."""
    print(f"{getattr(arguments, 'file', 'sagen')}: {message}", file=sys.stderr)


def number(text: str) -> float:
    """An argument that is a number."""
    try:
        value = float(text)
    except ValueError:
        value = math.nan
    if not math.isfinite(value):
        raise argparse.ArgumentTypeError(tr("{text} is not a number", text=text))
    return value


def share(text: str) -> float:
    """An argument from 0 to 1."""
    value = number(text)
    if not 0 <= value <= 1:
        raise argparse.ArgumentTypeError(tr("{text} is not from 0 to 1", text=text))
    return value


def positive(text: str) -> float:
    """An argument above 0."""
    value = number(text)
    if not 0 < value < 1e10:
        raise argparse.ArgumentTypeError(tr("{text} is not a number above 0", text=text))
    return value


def whole(text: str) -> int:
    """An argument that is a whole number."""
    try:
        return int(text)
    except ValueError:
        raise argparse.ArgumentTypeError(tr("{text} is not a whole number", text=text)) from None


def port_number(text: str) -> int:
    """An argument that is a port; 0: any free one."""
    value = whole(text)
    if not 0 <= value <= 65535:
        raise argparse.ArgumentTypeError(tr("{text} is not a port, from 0 to 65535", text=text))
    return value
