"""What went wrong unforeseen: a rotating log file in the user's state folder, and one sentence for the person."""

from __future__ import annotations

import logging
import sys
import threading
from collections.abc import Callable
from logging.handlers import RotatingFileHandler
from pathlib import Path

from sagen.model.errors import SagenError

LARGEST = 1 << 20  #: bytes of one file
KEPT = 3  #: files


def log_file() -> Path:
    """Where the log lies."""
    import platformdirs

    return Path(platformdirs.user_state_dir("sagen", appauthor=False)) / "sagen.log"


def sentence(error: BaseException) -> str:
    """What to tell the person; of something unforeseen, too, no traceback, only that it was logged."""
    if isinstance(error, SagenError):
        return str(error)
    first = (str(error) or type(error).__name__).splitlines()[0][:160]
    return f"something unexpected went wrong ({type(error).__name__}: {first})"


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
    if not any(isinstance(one, RotatingFileHandler) for one in logger.handlers):
        try:
            path = log_file()
            path.parent.mkdir(parents=True, exist_ok=True)
            handler = RotatingFileHandler(path, maxBytes=LARGEST, backupCount=KEPT, encoding="utf-8", delay=True)
            handler.setFormatter(logging.Formatter("%(asctime)s %(levelname)s %(threadName)s %(message)s"))
            logger.addHandler(handler)
        except OSError:
            logger.addHandler(logging.NullHandler())

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
