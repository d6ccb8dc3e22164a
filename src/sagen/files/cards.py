"""Machine cards as TOML files, and their published values as rows of a CSV file."""

from __future__ import annotations

import csv
import io
from dataclasses import dataclass
from pathlib import Path

from pydantic import ValidationError

from sagen.artifacts.atomic import read_small_text, write_whole
from sagen.files.circuits import load_toml
from sagen.model.errors import SagenError, SheetError, unknown_name
from sagen.model.language import tr
from sagen.model.lazy import lazy
from sagen.model.machine_card import CardCircuit, MachineCard, Published
from sagen.model.sheet import first_fault
from sagen.model.text import as_utf8

#: loaded when it is first asked: its import takes longer than most of what is done without it
tomlkit = lazy("tomlkit")

#: columns of a CSV of published values; those in brackets of the message may be left out
COLUMNS = ("circuit", "from", "to", "state", "when", "quantity", "low", "high", "at", "maker")
NEEDED = ("circuit", "from", "quantity")
MOST_LINES = 5000


def read_card(path: str | Path) -> MachineCard:
    """Read a card; raises SheetError naming file, table and key."""
    return MachineCard.from_data(load_toml(path, "machine card"), Path(path).name)


def card_text(card: MachineCard) -> str:
    """The card as the text of its file."""
    return tomlkit.dumps(card.as_data())


def write_card(path: str | Path, card: MachineCard) -> None:
    """Write a card, whole or not at all; raises SagenError when the disk refuses."""
    write_whole(Path(path), as_utf8(card_text(card)).encode())


@dataclass(frozen=True)
class RowsRead:
    """Published values read from a CSV, by circuit, and what was wrong with other lines."""

    rows: tuple[tuple[str, Published], ...]
    refused: tuple[str, ...]


def read_rows(path: str | Path) -> RowsRead:
    """Published values from a CSV with the columns circuit, from, to, state, when, quantity, low, high, at, maker.

    Raises
    ------
    SheetError
        for a file that cannot be read, or has no such columns. A single bad row is told in `refused`.
    """
    path = Path(path)
    text = read_small_text(path, tr("table of rows"))
    head = text.partition("\n")[0]
    divider = max(",;\t", key=head.count)
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=divider)
    try:
        names = [item.strip().lower() for item in next(reader, [])]
        for name in names:
            if name not in COLUMNS:
                raise SheetError(tr("{name}, line 1: {it}", name=path.name, it=unknown_name("column", name, COLUMNS)))
        missing = [item for item in NEEDED if item not in names]
        if missing:
            raise SheetError(tr("{name}, line 1: the column {missing} is missing", name=path.name, missing=missing[0]))
        rows, refused = [], []
        for cells in reader:
            if not any(cell.strip() for cell in cells):
                continue
            if len(rows) + len(refused) >= MOST_LINES:
                raise SheetError(tr("{name}: more than {most_lines} rows", name=path.name, most_lines=MOST_LINES))
            try:
                rows.append(_row(dict(zip(names, (cell.strip() for cell in cells), strict=False)), divider))
            except SagenError as error:
                refused.append(tr("line {line_num}: {error}", line_num=reader.line_num, error=error))
    except csv.Error as error:
        raise SheetError(
            tr("{name}, line {line_num}: {error}", name=path.name, line_num=reader.line_num, error=error)
        ) from None
    return RowsRead(tuple(rows), tuple(refused))


def _row(cells: dict[str, str], divider: str) -> tuple[str, Published]:
    """One row as (circuit, value); raises SheetError."""
    if not cells.get("circuit"):
        raise SheetError(tr("the circuit is not named"))
    between = [cells[name] for name in ("from", "to") if cells.get(name)]
    data: dict = {"between": between, "quantity": cells.get("quantity", "")}
    for key in ("state", "when", "maker"):
        if cells.get(key):
            data[key] = cells[key]
    for key in ("low", "high", "at"):
        text = cells.get(key, "")
        if not text:
            continue
        try:
            data[key] = float(text.replace(",", ".") if divider != "," else text)
        except ValueError:
            raise SheetError(tr("{key}: '{text}' is not a number", key=key, text=text[:30])) from None
    try:
        return cells["circuit"], Published.model_validate(data)
    except ValidationError as error:
        said = first_fault(error, Published)
        raise SheetError(said.removeprefix(": ")) from None


def with_rows(card: MachineCard, read: RowsRead) -> tuple[MachineCard, tuple[str, ...]]:
    """The card with rows added to its circuits, and what could not be placed."""
    refused = list(read.refused)
    by_circuit: dict[str, list[Published]] = {}
    for name, row in read.rows:
        if card.of(name) is None:
            refused.append(unknown_name("circuit", name, [item.name for item in card.circuit]))
            continue
        by_circuit.setdefault(name, []).append(row)
    circuits = []
    for each in card.circuit:
        new = [row for row in by_circuit.get(each.name, ()) if row not in each.published]
        circuits.append(_with(each, new))
    return MachineCard.from_data(
        {
            **card.as_data(),
            "circuit": [
                circuit.model_dump(mode="json", exclude_defaults=True) | {"name": circuit.name} for circuit in circuits
            ],
        }
    ), tuple(refused)


def _with(circuit: CardCircuit, rows: list[Published]) -> CardCircuit:
    return circuit.model_copy(update={"published": (*circuit.published, *rows)})
