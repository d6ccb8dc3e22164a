"""What went wrong unforeseen: a rotating log file in the user's state folder, and one sentence for the person."""

from __future__ import annotations

import faulthandler
import logging
import platform
import re
import sys
import threading
import zipfile
from collections.abc import Callable
from importlib import metadata
from logging.handlers import RotatingFileHandler
from pathlib import Path

import platformdirs

from sagen.model.errors import SagenError, one_line
from sagen.model.language import tr

#: what a report for support names of the machine
PACKAGES = ("PySide6-Essentials", "numpy", "scipy", "SQLAlchemy", "pandas", "PyVISA-py", "python-can")
#: what may tell of a person or a job: quoted words, paths, mail addresses
PRIVATE = re.compile(r"""(['"\u2018\u201c]).*?(['"\u2019\u201d])|(?<![\w<])(?:~|/)[^\s:,;()]+|\S+@\S+""")
LARGEST = 1 << 20  #: bytes of one file
KEPT = 3  #: files


def log_file() -> Path:
    """Where the log lies."""
    return Path(platformdirs.user_state_dir("sagen", appauthor=False)) / "sagen.log"


def sentence(error: BaseException) -> str:
    """What to tell the person; of something unforeseen, too, no traceback, only that it was logged."""
    if isinstance(error, SagenError):
        return str(error)
    return one_line(tr("something unexpected went wrong ({name}: {error})", name=type(error).__name__, error=error))


def note(error: BaseException) -> str:
    """Log what is unforeseen, and answer the sentence for the person."""
    if not isinstance(error, SagenError):
        logging.getLogger("sagen").error("unexpected", exc_info=error)
    return sentence(error)


def start(tell: Callable[[str], None] | None = None) -> None:
    """Write the log from here on, and catch what nobody else does; `tell` gets the sentence for the person.

    A state folder that cannot be written leaves the program without a log, not without a start.
    """
    logger = logging.getLogger("sagen")
    logger.setLevel(logging.INFO)
    logger.propagate = False
    if not any(isinstance(this_handler, RotatingFileHandler) for this_handler in logger.handlers):
        try:
            path = log_file()
            path.parent.mkdir(parents=True, exist_ok=True)
            handler = RotatingFileHandler(path, maxBytes=LARGEST, backupCount=KEPT, encoding="utf-8", delay=True)
            handler.setFormatter(logging.Formatter("%(asctime)s %(levelname)s %(threadName)s %(message)s"))
            logger.addHandler(handler)
        except OSError:
            logger.addHandler(logging.NullHandler())

    _watch_crashes()

    def caught(kind, error, trace) -> None:
        if issubclass(kind, KeyboardInterrupt):
            sys.__excepthook__(kind, error, trace)
            return
        told = note(error if error is not None else kind())
        if tell is not None:
            tell(told)
        else:
            print(f"sagen: {told}", file=sys.stderr)

    sys.excepthook = caught
    threading.excepthook = lambda what: caught(what.exc_type, what.exc_value, what.exc_traceback)


_CRASHES: list = []


def _watch_crashes() -> None:
    """Where the interpreter itself goes down, every thread's place goes to a file beside the log."""
    if _CRASHES:
        return
    try:
        path = log_file().with_name("crash.log")
        path.parent.mkdir(parents=True, exist_ok=True)
        _CRASHES.append(path.open("a", encoding="utf-8"))
        faulthandler.enable(_CRASHES[0])
    except (OSError, ValueError):
        return


def without_names(text: str) -> str:
    """Lines of the log without what may name a person, a machine or a file: quoted words, paths, addresses. Places in
    Sagen's own source stay."""
    lines = []
    for line in text.splitlines():
        place = re.match(r'  File "(.*?)", line (\d+), in (\w+|<\w+>)', line)
        if place:
            within = place[1].partition("/sagen/")[2] or Path(place[1]).name
            lines.append(f"  {within}, line {place[2]}, in {place[3]}")
        elif not line.startswith("    "):  # a line of source tells nothing that its place does not
            lines.append(PRIVATE.sub("\u2026", line))
    return "\n".join(lines) + "\n"


def save_report(path: Path) -> None:
    """A zip for support: the log without names, and versions; no job, no capture. Raises SagenError."""
    versions = [f"Python {platform.python_version()}", f"{platform.system()} {platform.release()} {platform.machine()}"]
    for name in PACKAGES:
        try:
            versions.append(f"{name} {metadata.version(name)}")
        except metadata.PackageNotFoundError:
            versions.append(f"{name} is not there")
    try:
        with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as zipped:
            zipped.writestr("versions.txt", "\n".join(versions) + "\n")
            for this_path in sorted(log_file().parent.glob("*.log*")):
                zipped.writestr(this_path.name, without_names(this_path.read_text(encoding="utf-8", errors="replace")))
    except OSError as error:
        raise SagenError(
            tr("{path} cannot be written: {strerror}", path=path.name, strerror=error.strerror or error)
        ) from None
