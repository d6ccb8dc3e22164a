"""Sets of instruments by name; extensions add theirs through the same door."""

from __future__ import annotations

from collections.abc import Callable

from sagen.instruments.protocols import Instruments
from sagen.model.errors import SagenError, unknown_name
from sagen.model.extensions import load_extensions
from sagen.model.job import Job
from sagen.model.language import tr

Factory = Callable[[Job], Instruments]

_WIRED: dict[str, Callable[[Job], object]] = {}
_FACTORIES: dict[str, Factory] = {}


def register_instruments(name: str, make: Factory) -> None:
    """Add a set of instruments: `make` gives it for a job."""
    _FACTORIES[name] = make


def all_instruments() -> tuple[str, ...]:
    """The names of all sets, those of extensions among them."""
    load_extensions()
    return tuple(_FACTORIES)


def instruments_called(name: str, job: Job) -> Instruments:
    """The instruments of that name for a job; raises SagenError for a name that is not known."""
    known = all_instruments()
    if name not in known:
        raise SagenError(unknown_name("instruments", name, known))
    return _FACTORIES[name](job)


def register_wired(name: str, make: Callable[[Job], object]) -> None:
    """Say what stands on the wire of a set: `make` gives a `Wired` for a job, which its asker closes."""
    _WIRED[name] = make


def wired_called(name: str, job: Job):
    """What stands on the wire of a set for a job; raises SagenError where it has nothing there."""
    load_extensions()
    if name not in _WIRED:
        raise SagenError(unknown_name(tr("instruments on the wire"), name, _WIRED))
    return _WIRED[name](job)
