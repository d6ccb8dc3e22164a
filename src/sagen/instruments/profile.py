"""Profiles: how an instrument of a kind is asked, as a TOML file that is checked before a word is sent."""

from __future__ import annotations

import string
import tomllib
from functools import cache
from importlib.resources import files
from pathlib import Path
from typing import Annotated, Literal

import platformdirs
from pydantic import AfterValidator, BaseModel, ConfigDict, Field, ValidationError, model_validator

from sagen.model.errors import SagenError
from sagen.model.language import tr
from sagen.model.sheet import first_fault

SHIPPED = ("stream", "single", "meter")
#: what may stand in braces in a line that is sent
FIELDS = frozenset({"channel", "rate", "seconds", "state", "point", "volts"})
LARGEST = 1 << 16


def _line(text: str) -> str:
    """A line that may be sent: printable, with nothing in braces but the known names by themselves."""
    if not text.isprintable():
        raise ValueError(tr("holds what cannot be printed"))
    try:
        parts = list(string.Formatter().parse(text))
    except ValueError as error:
        raise ValueError(tr("its braces do not match ({error})", error=error)) from None
    for _, name, form, conversion in parts:
        if name is not None and (name not in FIELDS or form or conversion):
            raise ValueError(
                tr("in braces may stand {fields}, not '{name}'", fields=", ".join(sorted(FIELDS)), name=name)
            )
    return text


Line = Annotated[str, Field(min_length=1, max_length=200), AfterValidator(_line)]


class _Table(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class Ask(_Table):
    """What is asked. Of a recorder channels, rate, scale and block; of a meter volts and ohms."""

    channels: Line | None = None
    rate: Line | None = None
    scale: Line | None = None  #: units a count
    offset: Line | None = None
    unit: Line | None = None
    position: Line | None = None  #: which sample since the start the next block begins with
    ready: Line | None = None  #: single shots: 1 once the shot is taken
    block: Line | None = None
    volts: Line | None = None
    ohms: Line | None = None


class Do(_Table):
    """What is told without an answer."""

    state: Line | None = None
    point: Line | None = None
    rate: Line | None = None  #: samples a second of a recorder, readings a second of a meter
    range: Line | None = None  #: the range of a channel, `{volts}` at its end
    start: Line | None = None
    stop: Line | None = None


class BlockForm(_Table):
    """How samples lie in a block (IEEE 488.2, definite length)."""

    type: Literal["int8", "int16"] = "int16"
    order: Literal["little", "big"] = "little"
    layout: Literal["interleaved", "planar", "channel"] = "interleaved"

    @property
    def dtype(self) -> str:
        """The samples' type as NumPy names it."""
        return "i1" if self.type == "int8" else ("<i2" if self.order == "little" else ">i2")


class Profile(_Table):
    """One kind of instrument."""

    name: Annotated[str, Field(min_length=1, max_length=100)]
    mode: Literal["stream", "single", "meter"]
    identity: Annotated[str, Field(min_length=1, max_length=100)]
    ask: Ask
    do: Do = Do()
    block: BlockForm = BlockForm()
    over_range: float = 9.9e37
    timeout_s: Annotated[float, Field(gt=0, le=60)] = 2.0

    @model_validator(mode="after")
    def _complete(self) -> Profile:
        needed = {
            "meter": ("volts", "ohms"),
            "stream": ("channels", "rate", "block"),
            "single": ("channels", "rate", "block", "ready"),
        }
        for item in needed[self.mode]:
            if getattr(self.ask, item) is None:
                raise ValueError(
                    tr("[ask] {item} is missing: a profile of mode '{mode}' needs it", item=item, mode=self.mode)
                )
        if self.mode != "meter" and self.do.start is None:
            raise ValueError(tr("[do] start is missing"))
        return self


def parse_profile(text: str, where: str) -> Profile:
    """A profile from its text; raises SagenError naming the file and what is wrong."""
    try:
        return Profile.model_validate(tomllib.loads(text))
    except ValidationError as error:
        place = ".".join(str(this_error) for this_error in error.errors()[0]["loc"][:-1])
        raise SagenError(f"{where}: {f'in [{place}], ' if place else ''}{first_fault(error, Profile)}") from None
    except (ValueError, RecursionError) as error:  # numbers of thousands of digits, too
        raise SagenError(tr("{where}: not well-formed TOML: {error}", where=where, error=str(error)[:120])) from None


def read_profile(path: str | Path) -> Profile:
    """A profile of the person's own; raises SagenError."""
    path = Path(path)
    try:
        if not path.is_file() or path.stat().st_size > LARGEST:
            raise SagenError(tr("{name}: is no file, or larger than a profile can be", name=path.name))
        return parse_profile(path.read_text(encoding="utf-8"), path.name)
    except (OSError, UnicodeDecodeError) as error:
        raise SagenError(tr("{name}: cannot be read: {error}", name=path.name, error=error)) from None


@cache
def shipped_profile(name: str) -> Profile:
    """One of the shipped profiles by name."""
    return parse_profile(
        files("sagen.instruments.profiles").joinpath(f"{name}.toml").read_text("utf-8"), f"{name}.toml"
    )


def all_profiles() -> tuple[Profile, ...]:
    """The shipped profiles, and the person's own in `instruments/` of the configuration folder."""
    own = Path(platformdirs.user_config_dir("sagen", appauthor=False)) / "instruments"
    found = [read_profile(path) for path in sorted(own.glob("*.toml"))] if own.is_dir() else []
    return (*found, *(shipped_profile(item) for item in SHIPPED))


def profile_for(identity: str, modes: tuple[str, ...]) -> Profile:
    """The profile whose identity is part of what the instrument calls itself; raises SagenError where none is."""
    for all_profile in all_profiles():
        if all_profile.mode in modes and all_profile.identity.lower() in identity.lower():
            return all_profile
    raise SagenError(
        tr(
            "the instrument calls itself '{identity}', and no profile is for it: docs/INSTRUMENTS.md tells how to "
            "write one",
            identity=identity[:60],
        )
    )
