"""The thresholds of the rules: `limits.toml`, checked when it is loaded."""

from __future__ import annotations

import tomllib
from functools import cache
from importlib.resources import files
from types import SimpleNamespace

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from sagen.model.errors import KnowledgeError
from sagen.model.sheet import first_fault

SOURCES = ("common practice", "statistics", "geometry", "drawn captures", "judgement")


class Limit(BaseModel):
    """One threshold: its value, unit, why it is there and where it is from."""

    model_config = ConfigDict(extra="forbid", frozen=True, strict=True, allow_inf_nan=False)

    value: float | int
    unit: str = Field(min_length=1)
    reason: str = Field(min_length=8)
    source: str


def parse_limits(text: str, where: str) -> dict[str, dict[str, Limit]]:
    """Limits by rule and name; raises KnowledgeError with file, table and what is wrong.

    Parameters
    ----------
    text : str
        TOML, a table a rule with a row a limit
    where : str
        the file that an error names
    """
    try:
        data = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise KnowledgeError(f"{where}: {error}") from None
    found: dict[str, dict[str, Limit]] = {}
    for rule, table in data.items():
        found[rule] = {}
        for name, row in table.items():
            try:
                one = Limit.model_validate(row)
            except ValidationError as error:
                raise KnowledgeError(f"{where}, [{rule}] {name}: {first_fault(error, Limit)}") from None
            if one.source not in SOURCES:
                raise KnowledgeError(f"{where}, [{rule}] {name}: source '{one.source}' is not one of {SOURCES}")
            found[rule][name] = one
    return found


@cache
def all_limits() -> dict[str, dict[str, Limit]]:
    """The shipped limits."""
    text = files("sagen.signal").joinpath("limits.toml").read_text(encoding="utf-8")
    return parse_limits(text, "limits.toml")


def limits(rule: str) -> SimpleNamespace:
    """The values of one rule's limits, by name; raises KnowledgeError where it has none.

    Parameters
    ----------
    rule : str
        slug of a rule in `limits.toml`

    Returns
    -------
    SimpleNamespace
        floats; each unit stands in the file
    """
    table = all_limits().get(rule)
    if table is None:
        raise KnowledgeError(f"limits.toml: there is no table [{rule}]")
    return SimpleNamespace(**{name: item.value for name, item in table.items()})
