"""The wheel catalogue: names of wheels, shipped as text."""

from __future__ import annotations

from functools import cache
from importlib.resources import files

from sagen.model.errors import SheetError
from sagen.model.language import tr
from sagen.model.wheel import Wheel


def parse_catalogue(text: str, *, where: str) -> dict[str, Wheel]:
    """Wheels by name; raises SheetError with file and line.

    Parameters
    ----------
    text : str
        TOML with one table a wheel
    where : str
        the file that an error names
    """
    found: dict[str, Wheel] = {}
    for number, line in enumerate(text.splitlines(), start=1):
        line = line.split("#", 1)[0].strip()
        if not line:
            continue
        name, mark, form = line.partition("=")
        if not mark or not name.strip():
            raise SheetError(
                tr(
                    "{where}, line {number}: '{line}' is not of the form NAME = FORM",
                    where=where,
                    number=number,
                    line=line,
                )
            )
        try:
            found[name.strip()] = Wheel.parse(form.strip())
        except SheetError as error:
            raise SheetError(tr("{where}, line {number}: {error}", where=where, number=number, error=error)) from None
    return found


@cache
def shipped() -> dict[str, Wheel]:
    """The wheels that ship with the program, by name."""
    text = files("sagen.signal").joinpath("wheels.txt").read_text(encoding="utf-8")
    return parse_catalogue(text, where="wheels.txt")


def usual_name(wheel: Wheel) -> str:
    """What a wheel is called: its name in the catalogue, else its form.

    Parameters
    ----------
    wheel : Wheel
        slots and missing teeth
    """
    return next((name for name, item in shipped().items() if item == wheel and item.others), str(wheel))
