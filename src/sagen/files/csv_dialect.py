"""What a recorder's text table looks like: delimiter, decimal mark, preamble, names, units, interval.

Found from the head of the file alone. Every combination of delimiter and decimal mark is tried;
the one under which most lines in a row are nothing but numbers wins.
"""

from __future__ import annotations

import csv
import json
import re
from dataclasses import dataclass
from itertools import pairwise

from sagen.model.errors import CaptureFileError
from sagen.model.language import tr
from sagen.model.units import SAMPLED, TIMES, hertz_of, sampled_unit, seconds_of, unit_of

DELIMITERS = (";", "\t", ",", "|", r"\s+")
MOST_COLUMNS = 64
LONGEST_LINE = 1 << 14
#: so many lines of numbers in a row are the table
ENOUGH_LINES = 60
#: a preamble is over by then
MOST_LINES = 1000

#: what recorders print where a sample was beyond the range, as a sign
OVER_RANGE = {
    "∞": 1, "+∞": 1, "-∞": -1, "−∞": -1, "ol": 1, "+ol": 1, "-ol": -1, "o.l": 1, "-o.l": -1,
    "over": 1, "+over": 1, "-over": -1, "overrange": 1, "over range": 1, "under": -1, "under range": -1,
    "ovr": 1, "+ovr": 1, "-ovr": -1, "clip": 1, "+clip": 1, "-clip": -1, "inf": 1, "+inf": 1, "-inf": -1,
    "infinity": 1, "-infinity": -1, ">": 1, "<": -1, "***": 1, "****": 1, "####": 1, "overload": 1, "-overload": -1,
}  # fmt: skip

_NUMBER = {
    # Each digit has one place only: a cell of ten thousand of them is read once.
    ".": re.compile(r"[+-]?(\d+(\.\d*)?|\.\d+)([eE][+-]?\d+)?"),
    ",": re.compile(r"[+-]?(\d+(,\d*)?|,\d+)([eE][+-]?\d+)?"),
}
#: a time of day, perhaps behind a date
CLOCK = re.compile(r"(?:\d[\d./-]{3,12}[ T])?\d{1,2}:\d{2}:\d{2}(?:[.,]\d{1,12})?")
#: columns of notes beside the samples that are looked for
MOST_BESIDE = 8
_UNIT_WORD = re.compile(r"[\[(]?\s*([A-Za-zµμ%°]{1,8})\s*[\])]?")
_NAME_AND_UNIT = re.compile(
    r"(.*?)\s*(?:[\[(]\s*([A-Za-zµμ%°]{1,8})\s*[\])]|/\s*([A-Za-zµμ]{1,4})|_(ms|us|mv|ma))\s*", re.I
)
_TIME_NAME = re.compile(r"^(time|t|zeit|temps|tiempo|x|x-axis|seconds?|timestamp|tid)\b", re.I)
#: what stands for a unit over a column that only counts
_COUNTS = ("sequence", "samples")
_INDEX_NAME = re.compile(r"^(index|sample|samples|no\.?|nr\.?|point|n|#)$", re.I)
_INTERVAL = re.compile(
    r"(?P<what>interval|period|increment|delta|resolution|\bdt\b|\bstep\b|\brate\b|frequency|\bfs\b|samples?\s*/\s*s|sampling|time\s*base)"
    r"[^0-9+\-.,\n]{0,60}?(?P<hint>[\[(]\s{0,9}[A-Za-zµμ/]{1,20}\s{0,9}[\])])?[^0-9+\-.\n]{0,12}?"
    r"(?P<value>[+-]?\d+(?:[.,]\d+)?(?:[eE][+-]?\d+)?)\s*[;,\t\"]?\s*(?P<unit>[A-Za-zµμ/]*)",
    re.I,
)


@dataclass(frozen=True)
class Dialect:
    """How the table is written and what its head says."""

    delimiter: str
    decimal: str
    encoding: str
    skip: int  #: lines before the first line of numbers
    names: tuple[str, ...]
    units: tuple[str, ...]  #: as written, "" where none is given
    interval_s: float | None  #: stated above the table
    trailing: bool = False  #: every line ends with a delimiter
    left_out: int = 0  #: columns of notes before the first of samples
    clock: bool = False  #: the first column is a time of day

    @property
    def columns(self) -> int:
        return len(self.names)

    @property
    def time_column(self) -> int | None:
        """Which column is time: the one named so, else a first column that is not a channel."""
        if self.clock:
            return 0
        for index, name in enumerate(self.names):
            if _TIME_NAME.match(name) and (not self.units[index] or seconds_of(self.units[index])):
                return index
        first_unit = self.units[0].lower() if self.units else ""
        return 0 if seconds_of(first_unit) and self.columns > 1 else None

    @property
    def index_column(self) -> int | None:
        counts = _INDEX_NAME.match(self.names[0]) or self.units[0].lower() in _COUNTS
        return 0 if self.columns > 1 and counts else None

    def time_scale(self, column: int) -> float:
        """Seconds for one unit of the time column; 1 where the file names none."""
        return seconds_of(self.units[column]) or 1.0

    def value_unit(self, column: int) -> tuple[str, float]:
        """SI unit of a channel column, and the factor that brings the file's numbers to it."""
        return sampled_unit(self.units[column])


def decode(head: bytes) -> tuple[str, str]:
    """Text of the head and the encoding it is in; raises CaptureFileError for what is not text."""
    if head.startswith((b"\xff\xfe", b"\xfe\xff")):
        return head.decode("utf-16", errors="replace"), "utf-16"
    if b"\x00" in head:
        raise CaptureFileError(tr("the file is not text"))
    if head.startswith(b"\xef\xbb\xbf"):
        return head.decode("utf-8-sig", errors="replace"), "utf-8-sig"
    try:
        return head.decode("utf-8"), "utf-8"
    except UnicodeDecodeError as error:
        # A multi-byte letter may be cut in two at the end of the head.
        if error.start >= len(head) - 3:
            return head[: error.start].decode("utf-8"), "utf-8"
        return head.decode("cp1252", errors="replace"), "cp1252"


FORMULA = ("=", "+", "-", "@")  #: what a spreadsheet takes for the beginning of a formula


def lines_of(text: str) -> list[str]:
    """Lines as files have them: ended by a line feed, a carriage return, or both. Form feeds and what else Unicode calls a
    line's end stay within theirs, as in every reader of tables."""
    lines = re.split(r"\r\n|\n|\r", text)
    return lines[:-1] if lines and not lines[-1] else lines


def find_dialect(head: bytes, *, whole: bool) -> Dialect:
    """The dialect of a text table.

    Parameters
    ----------
    head : bytes
        the first part of the file
    whole : bool
        whether `head` is the whole file; if not, its last line may be cut and is left aside

    Raises
    ------
    CaptureFileError
        when no block of numbers is found.
    """
    text, encoding = decode(head)
    lines = lines_of(text)
    if not whole and len(lines) > 1:
        lines = lines[:-1]
    lines = lines[:MOST_LINES]
    if any(len(line) > LONGEST_LINE for line in lines):
        long = next(i for i, line in enumerate(lines, 1) if len(line) > LONGEST_LINE)
        raise CaptureFileError(
            tr("the line is longer than {longest_line} characters; no table looks so", longest_line=LONGEST_LINE),
            line=long,
        )
    quoted = sum('"' in line for line in lines) > len(lines) // 2
    found = _found(lines, quoted, 0)
    # Some recorders write what they have to say of a capture in columns beside its samples.
    left_out = _blank_in_front(lines, found) if found is not None else 0
    if left_out:
        found = _found(lines, quoted, left_out)
    while found is None and left_out < MOST_BESIDE:
        left_out += 1
        found = _found(lines, quoted, left_out)
    if found is None:
        raise CaptureFileError(tr("no table of numbers was found in the file"))
    delimiter, decimal, start, width, _ = found
    if width > MOST_COLUMNS:
        raise CaptureFileError(
            tr("{width} columns; a capture has at most {most_columns}", width=width, most_columns=MOST_COLUMNS),
            line=start + 1,
        )
    first = split(lines[start], delimiter)
    clock = bool(CLOCK.fullmatch(first[left_out]))
    if left_out:
        notes = [" ".join(item for item in split(line, delimiter)[:left_out] if item) for line in lines]
        seen = [
            split(line, delimiter)[left_out].replace(",", ".")
            for line in lines[start : start + found[4]]
            if line.strip()
        ]
        steps = [float(later) - float(item) for item, later in pairwise(seen) if item and later] if not clock else [1.0]
        climbs = width > 1 and bool(steps) and min(steps) > 0
        names = (
            ("Time", *_default_names(width - 1, [""] * width)) if climbs else tuple(_default_names(width, [""] * width))
        )
        units = ("s" if climbs and not clock else "", *[""] * (width - 1))
        interval = _stated_interval([*lines[:start], *notes])
    else:
        names, units = _header(lines, start, delimiter, width)
        interval = _stated_interval(lines[:start])
    trailing = len(first) == left_out + width + 1
    return Dialect(delimiter, decimal, encoding, start, names, units, interval, trailing, left_out, clock)


def _blank_in_front(lines: list[str], found: tuple[str, str, int, int, int]) -> int:
    """How many columns before the first of samples are blank in the whole table: notes stand in them above."""
    delimiter, _, start, _, length = found
    rows = [split(line, delimiter) for line in lines[start : start + length] if line.strip()]
    count = 0
    while all(len(row) > count + 2 and not row[count] for row in rows) and count < MOST_BESIDE:
        count += 1
    return count


def _found(lines: list[str], quoted: bool, left_out: int) -> tuple[str, str, int, int, int] | None:
    """Delimiter, decimal mark, first line, width and length of the best table, the first columns left out; None where there
    is none."""
    best, found = (0, 0), None
    for delimiter in DELIMITERS:
        for decimal in (".", ","):
            if delimiter == decimal and not quoted:
                continue
            start, length, width = _longest_block(lines, delimiter, decimal, left_out)
            # Long blocks first, then wide ones; a single column counts only when nothing splits it.
            score = (min(length, 20) if width > 1 else min(length, 20) * 0.5, width)
            if length >= 2 and score > best:
                best, found = score, (delimiter, decimal, start, width, length)
    return found


def split(line: str, delimiter: str) -> list[str]:
    """Fields of one line, stripped of blanks and quotes."""
    if delimiter == r"\s+":
        return line.split()
    if '"' in line:
        return [item.strip() for item in next(csv.reader([line], delimiter=delimiter), [])]
    return [word.strip() for word in line.split(delimiter)]


def _is_cell(cell: str, decimal: str) -> bool:
    number = _NUMBER[decimal].fullmatch(cell)
    return not cell or bool(number or CLOCK.fullmatch(cell)) or cell.lower() in OVER_RANGE or cell.lower() == "nan"


def _longest_block(lines: list[str], delimiter: str, decimal: str, left_out: int) -> tuple[int, int, int]:
    """Longest run of lines that are all numbers with one width, the first columns left out: its first line, length, width."""
    blocks: list[tuple[int, int, int]] = []
    start, length, width = 0, 0, 0
    for index, line in enumerate(lines):
        cells = split(line, delimiter)[left_out:]
        if cells and cells[-1] == "" and len(cells) > 1:
            cells = cells[:-1]  # many recorders end each line with a delimiter
        number = _NUMBER[decimal]
        numeric = any(number.fullmatch(cell) for cell in cells) and all(_is_cell(cell, decimal) for cell in cells)
        if numeric and len(cells) == width:
            length += 1
            if length >= ENOUGH_LINES:
                break
        elif numeric or line.strip():
            blocks.append((start, length, width))
            start, length, width = index, int(numeric), len(cells) if numeric else 0
    blocks.append((start, length, width))
    best = max(blocks, key=lambda block: block[1])
    # An earlier block of the same width belongs to the table: what parts the two is a broken line.
    first = next(block for block in blocks if block[2] == best[2] and block[1] >= min(3, best[1]))
    return first[0], best[1], best[2]


def _header(lines: list[str], start: int, delimiter: str, width: int) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """Names and units from the rows right above the table."""
    above = [split(line, delimiter) for line in lines[max(0, start - 4) : start] if line.strip()]
    above = [row[:width] for row in above if len([item for item in row if item]) and width <= len(row) <= width + 1]
    units = [""] * width
    names: list[str] = []
    for row in reversed(above):
        known = [item.strip("[]() ").lower() for item in row if item]
        unit_like = all(_is_unit(item) or item in _COUNTS for item in known)
        if unit_like and not any(units) and not names:
            units = [(_UNIT_WORD.fullmatch(item) or [item, item])[1] for item in row]
        elif not names:
            names = list(row)
    if not names:
        names = _default_names(width, units)
    for index, name in enumerate(names):
        match = _NAME_AND_UNIT.fullmatch(name)
        if name.startswith("'") and name[1:].startswith(FORMULA):
            name = names[index] = name[1:]
            match = _NAME_AND_UNIT.fullmatch(name)
        if match and (match[1] or match[2]):
            unit = match[2] or match[3] or match[4]
            known = _is_unit(unit) or match[2]
            if known:
                names[index], units[index] = match[1].strip(), units[index] or unit
    return tuple(spelled_out(name) for name in _unique(names)), tuple(units)


def spelled_out(name: str) -> str:
    """A name that was written as a JSON string, because nothing else of a table's head would come back as it was."""
    if len(name) > 1 and name[0] == name[-1] == '"':
        try:
            return str(json.loads(name))
        except ValueError:
            pass
    return name


def _is_unit(word: str) -> bool:
    return unit_of(word, (*SAMPLED, *TIMES), any_case=True) is not None


def _default_names(width: int, units: list[str]) -> list[str]:
    timed = seconds_of(units[0]) is not None
    return [("Time" if timed and i == 0 else f"CH{i + (0 if timed else 1)}") for i in range(width)]


def _unique(names: list[str]) -> list[str]:
    seen: dict[str, int] = {}
    out = []
    for index, name in enumerate(names):
        name = name or tr("column {index}", index=index + 1)
        seen[name] = seen.get(name, 0) + 1
        out.append(name if seen[name] == 1 else f"{name} ({seen[name]})")
    return out


def _stated_interval(preamble: list[str]) -> float | None:
    """Sampling interval in seconds from a line such as `Sample interval: 20 us` or `Rate;50 kHz`."""
    for line in preamble:
        match = _INTERVAL.search(line)
        if not match:
            continue
        value = float(match["value"].replace(",", "."))
        if value <= 0:
            continue
        unit = (match["unit"] or (match["hint"] or "").strip("[]() ")).lower()
        what = match["what"].lower()
        is_rate = hertz_of(unit) or "rate" in what or "frequency" in what or what == "fs" or "/" in what
        if what == "sampling":
            is_rate = hertz_of(unit)
        if is_rate:
            return 1.0 / (value * (hertz_of(unit) or 1.0))
        if seconds_of(unit) or not unit:
            return value * (seconds_of(unit) or 1.0)
    return None
