"""The language that people read: gettext's catalogues, and figures as that language writes them.

A message is English with named places, and says of each place how its figure is written: `tr("{volts:.2f} V at the plug", volts=feed)`.
What is kept in files, in the log, on a line to an instrument and in JSON is the same in every language: there `tr` is not
used, and a command that prints JSON speaks English. The language is settled once, when this module is first imported: tables of
words are made then.
"""

from __future__ import annotations

import gettext
import os
import re
from collections.abc import Callable, Iterable
from datetime import datetime
from functools import reduce
from numbers import Real
from pathlib import Path
from string import Formatter

from sagen.model.choice import Choice

#: what can be chosen, as each calls itself; a new one is a row here and a folder of `locale`
LANGUAGES = {"en": "English", "de": "Deutsch", "es": "Español"}
#: those that write a comma before decimals and a point between thousands
DECIMAL_COMMA = frozenset({"de", "es"})
#: those that write nouns with a capital wherever they stand
CAPITAL_NOUNS = frozenset({"de"})
DOMAIN = "sagen"
LOCALE = Path(__file__).parents[1] / "locale"

MONTHS = (
    "January", "February", "March", "April", "May", "June", "July", "August", "September", "October", "November", "December",
)  # fmt: skip

_SWAPPED = str.maketrans(".,", ",.")


#: what a program sets for those that it starts, so that they speak as it does
VARIABLE = "SAGEN_LANGUAGE"


#: the language that a person chose; "" where the system's is taken
CHOICE = Choice("language", LANGUAGES)


def of_system() -> str:
    """The language that the system asks for, by gettext's own variables; English where it asks for one that is not here.

    Returns
    -------
    str
        a key of LANGUAGES. GNU gettext manual, "Locale Environment Variables": LANGUAGE, LC_ALL, LC_MESSAGES, LANG, the first that is set
    """
    for variable in ("LANGUAGE", "LC_ALL", "LC_MESSAGES", "LANG"):
        wanted = os.environ.get(variable, "")
        if wanted:
            names = (name.split(".")[0].split("_")[0].split("@")[0] for name in wanted.split(":"))
            return next((name for name in names if name in LANGUAGES), "en")
    return "en"


class _Figures(Formatter):
    """Formats as `str.format` does, with the marks of a language's figures."""

    def format_field(self, value, format_spec: str) -> str:
        return figure(value, format_spec)


class _Spoken:
    """The language of this process."""

    def __init__(self) -> None:
        self.language = "en"
        self.catalogue: gettext.NullTranslations = gettext.NullTranslations()
        self.comma = False


_SPOKEN, _FIGURES = _Spoken(), _Figures()


def speak(language: str) -> None:
    """Take a language from here on: what was made of words before stays as it is.

    Parameters
    ----------
    language : str
        a key of LANGUAGES, or any name that has a folder in `locale`; English where there is none
    """
    language = language if language.isalpha() else "en"
    _SPOKEN.catalogue = gettext.translation(DOMAIN, LOCALE, [language], fallback=True)
    _SPOKEN.language = language
    _SPOKEN.comma = language in DECIMAL_COMMA


def spoken() -> str:
    """The language that is spoken."""
    return _SPOKEN.language


def tr(message: str, /, **places) -> str:
    """A message in the language that is spoken.

    Parameters
    ----------
    message : str
        in English; places in braces where any are given
    **places
        what stands in them
    """
    told = _SPOKEN.catalogue.gettext(message) if message else message
    return _FIGURES.vformat(told, (), places) if places else told


#: a message with its places, several of them, or plain words
Kept = dict | list | str


def later(message: str, /, **places) -> dict:
    """A message that is kept, to be said in the language of whoever reads it: what `said_now` takes.

    Parameters
    ----------
    message : str
        in English
    **places
        numbers and names, as JSON keeps them, and what `later` kept
    """
    return {"says": message, **places}


#: what may stand in a place of a message that was kept: a name, and how a figure is written
_PLACE = re.compile(r"[a-z_0-9]{1,40}"), re.compile(r"[+,]{0,2}(\.\d)?[a-z%]?")


def said_now(kept: Kept) -> str:
    """What `later` kept, in the language that is spoken; words of older logs as they are, and what no `later` has made as far as it
    is text.

    Parameters
    ----------
    kept : dict, list or str
        may come from a file of anybody's: a message is filled in only where its places are plain. Of a list each, with commas
        between them.
    """
    return _filled(kept, tr, _FIGURES)


def in_english(kept: Kept) -> str:
    """What `later` kept, in English, as files and older programs have it."""
    return _filled(kept, str, Formatter())


def _filled(kept: Kept, told: Callable[[str], str], figures: Formatter) -> str:
    if isinstance(kept, list | tuple):
        return ", ".join(_filled(item, told, figures) for item in kept)
    if not isinstance(kept, dict):
        return told(str(kept))
    message = str(kept.get("says", ""))
    places = {
        name: _filled(value, told, figures) if isinstance(value, dict | list | tuple) else value
        for name, value in kept.items()
        if name != "says"
    }
    try:
        plain = all(
            name is None or (_PLACE[0].fullmatch(name) and _PLACE[1].fullmatch(spec or "") and not conversion)
            for _, name, spec, conversion in Formatter().parse(message)
        )
        if not plain:
            return message
        return figures.vformat(told(message), (), places) if places else told(message)
    except (ValueError, KeyError, TypeError, IndexError):
        return message


def one_after_the_other(kept: Iterable[Kept]) -> Kept:
    """Sentences that were kept, with a space between each two.

    Parameters
    ----------
    kept : iterable of Kept
        at least one
    """
    return reduce(lambda first, then: later("{first} {then}", first=first, then=then), kept)


def trn(one: str, many: str, count: int, /, **places) -> str:
    """A message about a count, in the form that the language has for so many.

    Parameters
    ----------
    one, many : str
        in English
    count : int
        stands in the place `{count}`
    **places
        what stands in the others
    """
    return _FIGURES.vformat(_SPOKEN.catalogue.ngettext(one, many, count), (), {"count": count, **places})


def figure(value, spec: str = "") -> str:
    """A value as `format` writes it, with the language's marks where it is a figure.

    Parameters
    ----------
    value : object
    spec : str
        of `format`
    """
    told = format(value, spec)
    return told.translate(_SWAPPED) if _SPOKEN.comma and spec and isinstance(value, Real) else told


#: a figure as somebody typed it: digits, a mark, decimals
_TYPED = re.compile(r"(?<![\d.,])(\d*)([.,])(\d+)(?![\d.,])")


def as_typed(text: str) -> str:
    """Words that hold a figure as it was typed, with the decimal mark of the language that is spoken; its digits stay. A comma before
    three digits may part thousands: it stays as well.

    Parameters
    ----------
    text : str
        such as "0.03 V"
    """

    def marked(found: re.Match) -> str:
        whole, mark, decimals = found.groups()
        if mark == "," and len(decimals) == 3:
            return found.group()
        return f"{whole}{',' if _SPOKEN.comma else '.'}{decimals}"

    return _TYPED.sub(marked, text)


def joined_and(items: Iterable[str]) -> str:
    """Several words with an "and" between each two."""
    return tr(" and ").join(items)


def joined_or(items: Iterable[str]) -> str:
    """Several words with an "or" between each two."""
    return tr(" or ").join(items)


def worded(name: str) -> str:
    """The name of a thing in files as people read it: `signal_wire` as "signal wire"; "" of none.

    Parameters
    ----------
    name : str
        in English, its words parted by underscores
    """
    return tr(name.replace("_", " "))


def said_date(when: datetime, *, clock: bool = False) -> str:
    """A day, and the time of day if asked for, as the language writes them.

    Parameters
    ----------
    when : datetime
    clock : bool
    """
    month = tr(MONTHS[when.month - 1])
    day = tr("{day} {month} {year}", day=when.day, month=month, year=when.year)
    return f"{day}, {when:%H:%M}" if clock else day


def titled(words: str) -> str:
    """Words with a capital first letter, the others as they are.

    Parameters
    ----------
    words : str
        as they stand inside a sentence
    """
    return words[:1].upper() + words[1:]


def lowered(words: str) -> str:
    """Words as they stand inside a sentence: with a small first letter, but in a language whose nouns have a capital.

    Parameters
    ----------
    words : str
        as a title
    """
    return words if _SPOKEN.language in CAPITAL_NOUNS or not words[1:2].islower() else words[:1].lower() + words[1:]


speak(os.environ.get(VARIABLE, "") or CHOICE.chosen() or of_system())
