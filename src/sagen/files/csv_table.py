"""Reader and writer for text tables of any recorder (CSV, TSV, semicolons, decimal commas)."""

from __future__ import annotations

import csv
import json
import re
from pathlib import Path

import numpy as np

from sagen.files.arrays import FEWEST_SAMPLES, Holes, check_values, climbs, even_grid, picture_note
from sagen.files.csv_dialect import FORMULA, OVER_RANGE, Dialect, decode, find_dialect, split
from sagen.model.capture import Capture, Channel
from sagen.model.errors import CaptureFileError
from sagen.model.language import later, tr
from sagen.model.lazy import lazy

#: loaded when it is first asked: its import takes longer than most of what is done without it
pd = lazy("pandas")

PROBE_BYTES = 1 << 16
SMALL = 4 << 20  #: bytes of a file that is read in one go


def recognise(head: bytes) -> bool:
    """Whether the content is text."""
    try:
        text, _ = decode(head)
    except CaptureFileError:
        return False
    odd = sum(ord(item) < 9 or 13 < ord(item) < 32 for item in text[:4096])
    return odd <= len(text[:4096]) // 100


def read(path: Path) -> Capture:
    """Read a text table; raises CaptureFileError naming the line where it breaks."""
    with path.open("rb") as stream:
        head = stream.read(PROBE_BYTES)
        whole = not stream.read(1)
    dialect = find_dialect(head, whole=whole)
    notes: list[dict] = []
    with np.errstate(over="ignore"):  # what is too large for its type is told by the line that it stands in
        columns, over = _columns(path, dialect, notes)
    return _as_capture(path.name, dialect, columns, over, notes)


def _columns(path: Path, dialect: Dialect, notes: list[dict]) -> tuple[list[np.ndarray], list[int]]:
    """The table as one array a column (time float64, the rest float32), and over-range counts."""
    small = _small_table(path, dialect)
    if small is not None:
        return small, [0] * dialect.columns
    if doubts_of(dialect.names):
        return _with_blanks(path, dialect, notes), [0] * dialect.columns
    timed = dialect.time_column if dialect.time_column is not None else dialect.index_column
    types: dict[int, object] = {i: np.float64 if i == timed else np.float32 for i in range(dialect.columns)}
    if dialect.clock:
        types[0] = str
    try:
        frame = _parse(path, dialect, types)
        columns = [
            _clock_seconds(frame[i], dialect) if dialect.clock and i == 0 else frame[i].to_numpy()
            for i in range(dialect.columns)
        ]
        if all(np.isfinite(values).all() for values in columns):
            return columns, [0] * dialect.columns
    except (ValueError, pd.errors.ParserError, OverflowError):
        pass
    # Marks, blanks or a broken line: the slow way finds out which, and where.
    try:
        frame = _parse(path, dialect, str)
    except (ValueError, pd.errors.ParserError) as error:
        raise _table_error(error) from None
    columns, over = [], []
    for i in range(dialect.columns):
        if dialect.clock and i == 0:
            columns.append(_clock_seconds(frame[i], dialect))
            over.append(0)
            continue
        values, count = _marked_numbers(frame[i], dialect, last=i == dialect.columns - 1, notes=notes)
        columns.append(values if i == timed else values.astype(np.float32))
        over.append(count)
    shortest = min(len(column) for column in columns)
    return [column[:shortest] for column in columns], over


#: what the column is called that holds the uncertainty of the one before it
SIGMA = " sigma"


def doubts_of(names: tuple[str, ...]) -> dict[int, int]:
    """By the column of a channel, the column of its uncertainty, as a picture of a screen that was read has it."""
    return {
        names.index(name.removesuffix(SIGMA)): at
        for at, name in enumerate(names)
        if name.endswith(SIGMA) and name.removesuffix(SIGMA) in names[:at]
    }


def _with_blanks(path: Path, dialect: Dialect, notes: list[dict]) -> list[np.ndarray]:
    """A table in which what could not be read is blank: those rows are no samples."""
    try:
        frame = _parse(path, dialect, str)
    except (ValueError, pd.errors.ParserError) as error:
        raise _table_error(error) from None
    columns = []
    for i in range(dialect.columns):
        cells, values = _numbers(frame[i], dialect)
        wrong = np.flatnonzero(np.isnan(values) & ~cells.str.lower().isin(BLANK).to_numpy())
        if len(wrong):
            row = int(wrong[0])
            raise CaptureFileError(
                tr("'{row}' is not a number", row=str(frame[i].iloc[row]).strip()[:40]), line=_line_of(dialect, row)
            )
        columns.append(values)
    there = np.isfinite(columns).all(axis=0)
    if there.sum() < FEWEST_SAMPLES:
        raise CaptureFileError(
            tr(
                "only {sum} samples could be read; a capture needs at least {fewest_samples}",
                sum=int(there.sum()),
                fewest_samples=FEWEST_SAMPLES,
            )
        )
    if not there.all():
        notes.append(
            later("{there:.0f} % of the rows are blank: nothing is measured there", there=100 * float(np.mean(~there)))
        )
    return [column[there] for column in columns]


def _small_table(path: Path, dialect: Dialect) -> list[np.ndarray] | None:
    """A short table of plain numbers, read without the library that long ones need, whose loading takes longer than the
    reading; None for any other."""
    if path.stat().st_size > SMALL or dialect.trailing or dialect.left_out or dialect.clock:
        return None
    try:
        text = path.read_text(encoding=dialect.encoding)
        if dialect.decimal == ",":
            text = text.replace(",", ".")
        lines = text.split("\n")[dialect.skip :]
        delimiter = None if dialect.delimiter == r"\s+" else dialect.delimiter
        table = np.loadtxt(lines, delimiter=delimiter, comments=None, ndmin=2)
    except (ValueError, UnicodeError):
        return None
    if table.shape[1] != dialect.columns or not np.isfinite(table).all():
        return None
    timed = dialect.time_column if dialect.time_column is not None else dialect.index_column
    return [item if i == timed else item.astype(np.float32) for i, item in enumerate(table.T.copy())]


def _parse(path: Path, dialect: Dialect, types: object):
    with path.open(encoding=dialect.encoding, newline=None) as stream:
        # The library counts a quoted line break as no line; the preamble is left behind by our own count.
        preamble = [stream.readline() for _ in range(dialect.skip)]
        quoted = any('"' in line for line in preamble)
        return _table(stream if quoted else path, dialect, types, 0 if quoted else dialect.skip)


def _clock_seconds(column, dialect: Dialect) -> np.ndarray:
    """Times of day as s since the first, over midnight, too; raises CaptureFileError with the line of one that is none."""
    text = column.astype(str).str.strip().str.replace(",", ".", regex=False).str.extract(r"([\d:.]+)$", expand=False)
    times = pd.to_timedelta(text, errors="coerce").dt.total_seconds().to_numpy(np.float64)
    wrong = np.flatnonzero(~np.isfinite(times))
    if len(wrong) and wrong[0] < len(times) - 1:
        row = int(wrong[0])
        raise CaptureFileError(tr("'{row}' is no time of day", row=column.iloc[row][:40]), line=_line_of(dialect, row))
    times = times[: len(times) - len(wrong)]
    days = np.concatenate([[0], np.cumsum(np.diff(times) < -43_200.0)])
    return times - times[0] + 86_400.0 * days


def _table(source, dialect: Dialect, types: object, skip: int):
    left, width = dialect.left_out, dialect.columns + dialect.trailing
    if left and isinstance(types, dict):
        types = {left + i: item for i, item in types.items()}
    frame = pd.read_csv(
        source,
        sep=dialect.delimiter,
        decimal=dialect.decimal,
        encoding=dialect.encoding,
        skiprows=skip,
        header=None,
        # One name more where each line ends with a delimiter: that column is empty. Longer lines are errors.
        names=range(left + width),
        usecols=range(left, left + width) if left else None,
        index_col=None,
        dtype=types,
        skip_blank_lines=True,
        keep_default_na=types is not str,
        na_filter=False,
        skipinitialspace=True,
        engine="c",
    )
    return frame.rename(columns={left + i: i for i in range(width)}) if left else frame


def _table_error(error: Exception) -> CaptureFileError:
    said = re.search(r"Expected (\d+) fields in line (\d+), saw (\d+)", str(error))
    if said:
        return CaptureFileError(
            tr("{said} values where {said_2} are expected", said=said[3], said_2=said[1]), line=int(said[2])
        )
    return CaptureFileError(tr("the table cannot be read: {error}", error=str(error).splitlines()[0]))


BLANK = ("", "nan")  #: cells that hold nothing, in lower case


def _numbers(column, dialect: Dialect):
    """A column's cells as text with decimal points, and as float64; NaN for what is no number."""
    text = column.astype(str).str.strip()
    if dialect.decimal == ",":
        text = text.str.replace(",", ".", regex=False)
    return text, pd.to_numeric(text, errors="coerce").to_numpy(np.float64, copy=True)


def _marked_numbers(column, dialect: Dialect, *, last: bool, notes: list[dict]) -> tuple[np.ndarray, int]:
    """One column of text as float64: over-range marks become the column's extreme, blanks hold the
    value before them. Raises CaptureFileError with the line of the first cell that is neither."""
    text, values = _numbers(column, dialect)
    odd = np.flatnonzero(~np.isfinite(values))
    cells = text.iloc[odd].str.lower()
    if len(odd) and odd[-1] == len(values) - 1 and cells.iloc[-1] in BLANK:
        # The recorder was cut off within its last line.
        values, odd, cells = values[:-1], odd[:-1], cells.iloc[:-1]
        note = later("the last line was incomplete and is left out")
        if note not in notes:
            notes.append(note)
    signs = cells.map(lambda item: OVER_RANGE.get(item, 0)).to_numpy(np.int8)
    blank = cells.isin(BLANK).to_numpy()
    wrong = np.flatnonzero((signs == 0) & ~blank)
    if len(wrong):
        row = int(odd[wrong[0]])
        raise CaptureFileError(tr("'{row}' is not a number", row=column.iloc[row][:40]), line=_line_of(dialect, row))
    if blank.sum() > 0.01 * len(values):
        row = int(odd[np.flatnonzero(blank)[0]])
        raise CaptureFileError(tr("values are missing from here on, too many to go by"), line=_line_of(dialect, row))
    sound = np.isfinite(values)
    if not sound.any():
        raise CaptureFileError(tr("a column holds no number at all"), line=dialect.skip + 1)
    values[odd[signs > 0]] = values[sound].max()
    values[odd[signs < 0]] = values[sound].min()
    if blank.any():
        held = np.where(np.isfinite(values), np.arange(len(values)), 0)
        values = values[np.maximum.accumulate(held)]
        notes.append(later("{sum} missing values hold the value before them", sum=int(blank.sum())))
    return values, int(np.count_nonzero(signs))


def _line_of(dialect: Dialect, row: int) -> int:
    return dialect.skip + row + 1


def _as_capture(name: str, dialect: Dialect, columns: list[np.ndarray], over: list[int], notes: list[dict]) -> Capture:
    time = dialect.time_column
    index = dialect.index_column
    if time is None and index is None and dialect.interval_s is None:
        time = _time_like(columns)
    if len(columns[0]) < FEWEST_SAMPLES:
        raise CaptureFileError(
            tr(
                "only {columns} samples; a capture needs at least {fewest_samples}",
                columns=len(columns[0]),
                fewest_samples=FEWEST_SAMPLES,
            )
        )
    holes: Holes = ()
    if time is not None and not (dialect.interval_s and _only_counts(columns[time])):
        sfreq, columns, holes = _sampling(dialect, columns, time, notes)
    elif dialect.interval_s:
        sfreq = 1.0 / dialect.interval_s
    else:
        raise CaptureFileError(
            tr(
                "the file says neither the time of its samples nor the interval between them; add a time column or a "
                "line such as 'interval: 20 us' above the table"
            )
        )
    if not 0.1 <= sfreq <= 1e10:
        raise CaptureFileError(
            tr("a sample rate of {sfreq:.3g} Hz makes no sense; is the time column right?", sfreq=sfreq)
        )
    channels, doubts = [], doubts_of(dialect.names)
    for i, values in enumerate(columns):
        if i in (time, index) or i in doubts.values():
            continue
        check_values(values, lambda row: tr("line {dialect}", dialect=_line_of(dialect, row)))
        unit, scale = dialect.value_unit(i)
        channels.append(
            Channel(dialect.names[i], np.ascontiguousarray(values, np.float32), unit, scale, over_range=over[i])
        )
    if not channels:
        raise CaptureFileError(tr("the file holds only one column: there is a time, but no signal"))
    for channel, doubt in doubts.items():
        unit, scale = dialect.value_unit(channel)
        known = 2 * scale * float(np.median(np.abs(columns[doubt])))
        notes.append(picture_note(dialect.names[channel], known, unit))
    return Capture(name, float(sfreq), tuple(channels), tuple(notes), holes)


def _time_like(columns: list[np.ndarray]) -> int | None:
    """A first column that climbs by even steps is time, even if nothing names it."""
    if len(columns) < 2:
        return None
    return 0 if climbs(columns[0]) else None


def _only_counts(times: np.ndarray) -> bool:
    steps = np.diff(times[:1000])
    return bool((steps == 1).all())


def _sampling(
    dialect: Dialect, columns: list[np.ndarray], time: int, notes: list[dict]
) -> tuple[float, list[np.ndarray], Holes]:
    """Sample rate from a time column; uneven samples are laid on an even grid."""
    times = columns[time].astype(np.float64) * dialect.time_scale(time)
    return even_grid(times, columns, notes, where=lambda row: later("line {dialect}", dialect=_line_of(dialect, row)))


def column_name(name: str) -> str:
    """A channel's name as it stands in a table's head: on one line, no formula to a spreadsheet, and read back as it was."""
    if not name or name != " ".join(name.split()) or not name.isprintable() or name.startswith('"'):
        return json.dumps(name)
    return f"'{name}" if name.startswith(FORMULA) else name


def write(path: Path, capture: Capture) -> None:
    """Write a capture as comma-separated values with time in seconds."""
    digits = max(6, int(np.ceil(np.log10(capture.sfreq))) + 2)
    names = ["Time (s)", *(f"{column_name(channel.column)} ({channel.unit})" for channel in capture.channels)]
    line = ",".join([f"%.{digits}f"] + ["%.6g"] * len(capture.channels)) + "\n"
    with path.open("w", encoding="utf-8", newline="\n") as stream:
        csv.writer(stream, lineterminator="\n").writerow(names)
        for start in range(0, capture.samples, 1 << 16):
            stop = min(start + (1 << 16), capture.samples)
            block = [np.arange(start, stop) / capture.sfreq]
            block += [channel.values(start, stop) for channel in capture.channels]
            if capture.holes:
                # What was not recorded is not written: the times tell.
                block = [item[capture.recorded[start:stop]] for item in block]
            rows = np.column_stack(block)
            # One format for all rows at once: numpy.savetxt goes row by row and takes three times as long.
            stream.write(line * len(rows) % tuple(rows.ravel().tolist()))


__all__ = ["read", "recognise", "split", "write"]
