"""Circuit files: the `[engine]` and `[circuit]` of a job, with values of the model under `[circuit.values]`."""

from __future__ import annotations

import tomllib
from pathlib import Path

from pydantic import ValidationError

from sagen.artifacts.atomic import read_small_text, write_whole
from sagen.files.wheels import catalogue
from sagen.model.circuit import CircuitSpec
from sagen.model.errors import CaptureFileError, SheetError
from sagen.model.language import tr
from sagen.model.lazy import lazy
from sagen.model.sheet import EngineSheet, first_fault
from sagen.model.text import as_utf8

#: loaded when it is first asked: its import takes longer than most of what is done without it
tomlkit = lazy("tomlkit")


def load_toml(path: str | Path, what: str) -> dict:
    """Parse a small TOML file of the user's; raises SheetError with what is wrong and where."""
    text = read_small_text(path, what)
    try:
        return tomllib.loads(text)
    except (ValueError, RecursionError) as error:  # numbers of thousands of digits, too
        raise SheetError(
            tr("{name}: not well-formed TOML: {error}", name=Path(path).name, error=str(error)[:120])
        ) from None


def circuit_of(data: object, *, where: str) -> CircuitSpec:
    """Check a `[circuit]` table; raises SheetError."""
    if not isinstance(data, dict):
        raise SheetError(tr("{where}: [circuit] is missing or not a table", where=where))
    wheel = data.get("wheel")
    if isinstance(wheel, str) and wheel in catalogue():
        data = {**data, "wheel": str(catalogue()[wheel])}
    try:
        return CircuitSpec.model_validate(data)
    except ValidationError as error:
        raise SheetError(
            tr("{where}: in [circuit], {error}", where=where, error=first_fault(error, CircuitSpec))
        ) from None


def engine_of(data: object, *, where: str) -> EngineSheet:
    if data is None:
        return EngineSheet()
    if not isinstance(data, dict):
        raise SheetError(tr("{where}: [engine] is not a table", where=where))
    try:
        return EngineSheet.model_validate(data)
    except ValidationError as error:
        raise SheetError(
            tr("{where}: in [engine], {error}", where=where, error=first_fault(error, EngineSheet))
        ) from None


def read_circuit(path: str | Path) -> tuple[EngineSheet, CircuitSpec]:
    """Read a circuit file; a whole job file serves too, its trail is left aside. Raises SheetError."""
    data, where = load_toml(path, "circuit"), Path(path).name
    return engine_of(data.get("engine"), where=where), circuit_of(data.get("circuit"), where=where)


def write_circuit(path: str | Path, spec: CircuitSpec, cylinders: int | None = None) -> None:
    """Keep a circuit as TOML, so that the next machine of its kind starts from it; raises SheetError."""
    table = spec.model_dump(mode="json", exclude_none=True, exclude_defaults=False)
    table = {key: value for key, value in table.items() if value not in ({}, None)}
    document = ({"engine": {"cylinders": cylinders}} if cylinders else {}) | {"circuit": table}
    try:
        write_whole(Path(path), as_utf8(tomlkit.dumps(document)).encode())
    except CaptureFileError as error:
        raise SheetError(str(error)) from None
