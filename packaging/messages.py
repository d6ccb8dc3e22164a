"""What is said, and in which languages: `./run messages`.

Gathers every message of the program, its templates and its tables of words into `src/sagen/locale/sagen.pot`, brings each language's
`sagen.po` up to it, and compiles those that the program reads. What nobody has translated yet stands in English.
"""

from __future__ import annotations

import sys
import tomllib
from collections.abc import Iterator
from pathlib import Path

from babel.messages.catalog import Catalog
from babel.messages.extract import extract_from_dir
from babel.messages.mofile import write_mo
from babel.messages.pofile import read_po, write_po

from sagen.casework.compared import FITS
from sagen.machine.faults import all_faults
from sagen.model.language import DOMAIN, LANGUAGES, LOCALE, MONTHS
from sagen.model.vocabulary import Cause, Leg, Place, Point, State

SOURCE = Path(__file__).parents[1] / "src" / "sagen"
METHODS = [("**.py", "python"), ("**.html", "jinja2")]
KEYWORDS = {"tr": None, "later": None, "trn": (1, 2)}
#: what argparse says to a person (Python 3.11 to 3.13); `sagen.cli` has it look here
ARGPARSE = (
    "usage: ", "positional arguments", "options", "show this help message and exit", "show program's version number and exit",
    "%(prog)s: error: %(message)s\n", "argument %(argument_name)s: %(message)s", "invalid choice: %(value)r (choose from %(choices)s)",
    "unknown parser %(parser_name)r (choices: %(choices)s)", "the following arguments are required: %s", "one of the arguments %s is required",
    "unrecognized arguments: %s", "not allowed with argument %s", "ignored explicit argument %r", "expected one argument",
    "expected at most one argument", "expected at least one argument", ("expected %s argument", "expected %s arguments"),
    "ambiguous option: %(option)s could match %(matches)s",
)  # fmt: skip
#: what of a row of a table is words
WORDS = {"name", "text", "expect", "why", "do", "seen", "title", "looks"}


def gathered() -> Catalog:
    """Every message, with where it is said."""
    catalogue = Catalog(project="Sagen", charset="utf-8", fuzzy=False)
    found = extract_from_dir(
        SOURCE, METHODS, keywords=KEYWORDS, comment_tags=("for translators:",), strip_comment_tags=True
    )
    for name, line, message, comments, _ in found:
        catalogue.add(message, None, [(name, line)], auto_comments=comments)
    for where, words in of_tables():
        catalogue.add(words, None, [(where, 0)])
    for words in ARGPARSE:
        catalogue.add(words, None, [("argparse", 0)])
    return catalogue


def of_tables() -> Iterator[tuple[str, str]]:
    """What is said by tables rather than by code: the file, and the words."""
    for path in (
        *sorted((SOURCE / "reason" / "knowledge").glob("*.toml")),
        SOURCE / "casework/course.toml",
        SOURCE / "codes/codes.toml",
    ):
        yield from ((path.name, item) for item in _words_of(tomllib.loads(path.read_text("utf-8"))))
    for fault in all_faults().values():
        yield "machine/faults", fault.title
        yield from (("machine/faults", _worded(end)) for end in fault.ends)
    yield from (("model/language.py", month) for month in MONTHS)
    yield from (("desk/panes/trail.py", tag) for tag in ("finding", "sound", "inside", "outside", "too close"))
    yield from (("signal/matching.py", fit) for fit in FITS)
    for kind in (Point, State, Place, Cause, Leg):
        yield from (("model/vocabulary.py", _worded(item)) for item in kind)


def _words_of(table: dict) -> Iterator[str]:
    for key, value in table.items():
        if key == "caution" and isinstance(value, dict):
            yield from value.values()
        elif key == "outcome" and isinstance(value, dict):
            yield from map(_worded, value)
        elif isinstance(value, dict):
            yield from _words_of(value)
        elif isinstance(value, list):
            for row in value:
                if isinstance(row, dict):
                    yield from _words_of(row)
        elif key in WORDS and isinstance(value, str):
            yield value


def _worded(name: str) -> str:
    return str(name).replace("_", " ")


def main() -> int:
    template = gathered()
    LOCALE.mkdir(exist_ok=True)
    with (LOCALE / f"{DOMAIN}.pot").open("wb") as out:
        write_po(out, template, omit_header=False, sort_output=True, no_location=False, width=120, include_lineno=False)
    for language in LANGUAGES:
        if language == "en":
            continue
        folder = LOCALE / language / "LC_MESSAGES"
        folder.mkdir(parents=True, exist_ok=True)
        path = folder / f"{DOMAIN}.po"
        catalogue = (
            read_po(path.open("rb"), locale=language) if path.exists() else Catalog(locale=language, project="Sagen")
        )
        catalogue.update(template, no_fuzzy_matching=True)
        catalogue.obsolete.clear()
        with path.open("wb") as out:
            write_po(out, catalogue, sort_output=True, no_location=True, width=120)
        with path.with_suffix(".mo").open("wb") as out:
            write_mo(out, catalogue)
        missing = sum(
            1 for item in catalogue if item.id and not (all(item.string) if item.pluralizable else item.string)
        )
        print(f"{LANGUAGES[language]}: {len(catalogue)} messages, {missing} not translated")
    return 0


if __name__ == "__main__":
    sys.exit(main())
