"""Figures as a person types them, or a file holds them: with a comma, with spaces, over range, or as nonsense."""

from __future__ import annotations

import math

from sagen.model.language import tr

#: how meters show more than their range, in lower case
OVER_RANGE_WORDS = ("ol", "o.l", "o.l.", "0l", "over", tr("over range"), "overrange")
SHOWN = 30  #: letters of a nonsense figure that a message repeats


def typed_figure(text: str, what: str = "") -> float:
    """A figure.

    Parameters
    ----------
    text : str
        "12,5", "1 200", "4.7"
    what : str
        what it is of, for the message

    Raises
    ------
    ValueError
        in words for what is none, or is not finite.
    """
    plain = text.strip().replace(" ", "").replace("\u00a0", "").replace("\u202f", "").replace(",", ".")
    try:
        value = float(plain)
    except ValueError:
        value = math.nan
    if not math.isfinite(value):
        told = tr("'{text}' is not a number", text=text.strip()[:SHOWN])
        raise ValueError(f"{what}: {told}" if what else told)
    return value


def typed_whole(text: str, what: str = "") -> int:
    """A whole figure; raises ValueError in words for what is none."""
    value = typed_figure(text, what)
    if value != int(value):
        told = tr("'{text}' is not a whole number", text=text.strip()[:SHOWN])
        raise ValueError(f"{what}: {told}" if what else told)
    return int(value)


def is_over_range(text: str) -> bool:
    """Whether this is how a meter shows more than its range."""
    return text.strip().lower() in OVER_RANGE_WORDS


def typed_reading(text: str, what: str = "") -> float:
    """What a meter shows; infinite for over range. Raises ValueError as `typed_figure` does."""
    return math.inf if is_over_range(text) else typed_figure(text, what)
