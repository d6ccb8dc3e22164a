"""What the program is made of, and under which licences that may be passed on."""

from __future__ import annotations

import re
from importlib import metadata
from typing import NamedTuple

from sagen import __version__
from sagen.model.language import tr


class MadeOf(NamedTuple):
    """One thing that the program is made of."""

    name: str
    version: str
    licence: str


#: what ships with the program and is no package; the text of each licence lies beside its files
WITH_IT = (MadeOf("B612", "", "OFL-1.1"), MadeOf("Lucide", "", "ISC"))


def made_of() -> tuple[MadeOf, ...]:
    """The program, the packages that it needs, and what ships with it, by the licences that they themselves state.

    Returns
    -------
    tuple of MadeOf
        a package that is not installed is left out: it is made of what is there
    """
    own = _stated("sagen")
    found = [MadeOf("Sagen", __version__, own.licence if own else "")]
    for wanted in metadata.requires("sagen") or () if own else ():
        part = _stated(re.split(r"[ ;<>=!~\[(]", wanted)[0])
        found += [part] if part is not None else []
    return (*found, *WITH_IT)


def _stated(name: str) -> MadeOf | None:
    try:
        told = metadata.metadata(name)
    except metadata.PackageNotFoundError:
        return None
    classes = [item.rsplit(" :: ", 1)[-1] for item in told.get_all("Classifier") or () if item.startswith("License ::")]
    licence = told["License-Expression"] or next(iter(classes), "") or (told["License"] or "").strip().split("\n")[0]
    return MadeOf(told["Name"] or name, told["Version"] or "", licence[:80] or tr("not stated"))
