"""A capture file against one known-good capture or several, without a log."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from sagen.casework.examination import build_pyramids, read_pair
from sagen.casework.open_capture import opened_capture
from sagen.casework.patterns import beyond_envelope, compared_words
from sagen.files import read_capture, read_sheet
from sagen.kinds import Examination, Pair, examine
from sagen.model.errors import SagenError
from sagen.model.language import tr
from sagen.model.sheet import Sheet
from sagen.report.printed import FindingPage

#: how fit a known-good capture is, the best first
FITS = ("same state", "other rpm")


@dataclass(frozen=True)
class ComparedFile:
    """A capture beside known-good ones: examined against the one that fits best, and against the envelope of all that fit."""

    examination: Examination
    fits: tuple[tuple[str, str], ...]  #: every known-good capture by name, and how fit it is
    envelope: tuple[str, ...] = ()  #: what is beyond the envelope, in words; () of one known-good capture
    among: tuple[Examination, ...] = ()  #: the other known-good captures that fit

    def as_row(self) -> dict:
        """All of it as the command line prints it."""
        done = self.examination
        row = done.as_row()
        return {
            "capture": row["capture"], "good": [{"with": name, "fit": fit} for name, fit in self.fits],
            "channels": [
                {"column": item["column"], "role": item["role"], "comparison": item.get("comparison")} for item in row["channels"]
            ],
            "findings": row["findings"], "envelope": list(self.envelope), "notes": list(done.notes),
        }  # fmt: skip

    def edge_rows(self) -> list[tuple]:
        """The table of edges: column, edge, good, here, difference and its standard uncertainty, crank degrees."""
        return [
            (channel.sheet.column, edge.edge, edge.good_deg, edge.here_deg, edge.difference, edge.u)
            for channel in self.examination.channels
            if channel.comparison is not None and channel.comparison.cam is not None
            for edge in channel.comparison.cam.edges
        ]

    def page(self) -> FindingPage:
        """The printed page."""
        done = self.examination
        opened = opened_capture(None, None, done, build_pyramids(done.capture), self.among)
        remarks = (*(f"{name}: {fit}." for name, fit in self.fits), *self.envelope)
        return FindingPage(done, opened.strip, (), (), beside=opened.beside, remarks=remarks)


def compared_files(path: str | Path, good: Sequence[str | Path], sheet_file: str | Path | None = None) -> ComparedFile:
    """Compare a capture with known-good ones; each is read under the sheet beside it, else under the capture's own.

    Raises
    ------
    SagenError
        for a file that cannot be read, or that has none of the channels.
    """
    capture, sheet, _ = read_pair(path, sheet_file)
    read = [examine(*_good(item, sheet)) for item in good]
    tried = [examine(capture, sheet, reference=item) for item in read]
    fits = tuple((Path(name).name, done.fit) for name, done in zip(good, tried, strict=True))
    best = min(tried, key=lambda done: FITS.index(done.fit) if done.fit in FITS else len(FITS))
    fitting = tuple(done.good for done in tried if done.fit in FITS)
    told = tuple(compared_words(item) for item in beyond_envelope(best, fitting)) if len(fitting) > 1 else ()
    return ComparedFile(best, fits, told, tuple(item for item in fitting if item is not best.good))


def _good(path: str | Path, sheet: Sheet | None) -> Pair:
    try:
        capture, own = read_capture(path), read_sheet(path)
    except SagenError as error:
        raise SagenError(tr("known-good capture {name}: {error}", name=Path(path).name, error=error)) from None
    if own is None:
        columns = {item.column for item in capture.channels}
        if sheet is not None and not columns >= {item.column for item in sheet.channel}:
            raise SagenError(
                tr("{name}: it has other channels and no sheet beside it: write one", name=Path(path).name)
            )
        own = sheet or Sheet()
    return capture, own
