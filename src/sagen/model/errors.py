"""One class per way to fail, all under one root, so that every front can tell the user what and where."""

from __future__ import annotations

from sagen.model.language import tr
from sagen.model.lazy import lazy

difflib = lazy("difflib")

LONGEST = 190  #: characters of a sentence that says what is wrong


class SagenError(Exception):
    """Anything the user should be told in one sentence. `str(error)` is that sentence: one line, printable, and not long,
    whatever of a file or a library went into it."""

    def __str__(self) -> str:
        return one_line(super().__str__())


def one_line(text: str, longest: int = LONGEST) -> str:
    """Text on one line without what is not printable, its middle left out where it is too long."""
    if not text.isprintable():
        text = "".join(item if item.isprintable() else " " for item in text)
    text = " ".join(text.split())
    if len(text) <= longest:
        return text
    begin = longest * 2 // 3
    return f"{text[:begin].rstrip()} \u2026 {text[begin + 3 - longest :].lstrip()}"


class CaptureFileError(SagenError):
    """A capture file that cannot be read. Carries where in the file, when that is known."""

    def __init__(self, message: str, *, line: int | None = None):
        self.line = line
        super().__init__(tr("line {line}: {message_}", line=line, message_=message) if line else message)


class SheetError(SagenError):
    """A sheet that is not well formed, or that does not fit its capture."""


class StoreError(SagenError):
    """The job log cannot be opened or written."""


class ChangedMeanwhile(StoreError):
    """An entry was changed elsewhere while somebody wrote here: `who` changed it, `theirs` is the entry as it is now, `yours`
    the record that was to take its place, or None where it was to be withdrawn or put back."""

    def __init__(self, who: str, theirs: object, yours: object):
        self.who, self.theirs, self.yours = who, theirs, yours
        super().__init__(tr("changed {who} while you were writing: what they wrote stands, yours is not lost", who=who))


class KnowledgeError(SagenError):
    """A data file that ships with the program, or the user's own, is wrong. Says which file and row."""


def unknown_name(what: str, name: str, known: object) -> str:
    """The sentence for an unknown name, with the nearest known one.

    >>> unknown_name("key", "pullup", ["pull_up", "wheel"])
    "unknown key 'pullup'; did you mean 'pull_up'?"
    """
    names = [str(item) for item in known]
    near = difflib.get_close_matches(str(name), names, n=1, cutoff=0.5)
    hint = tr("did you mean '{near}'?", near=near[0]) if near else tr("known are: {names}", names=", ".join(names))
    return tr("unknown {what} '{name}'; {hint}", what=what, name=name, hint=hint)
