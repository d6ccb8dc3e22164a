"""Packages that take long to import, imported when they are first used."""

from __future__ import annotations

from importlib import import_module


class LazyModule:
    """Stands for a module until something of it is asked for. Any thread may ask first: the import itself is locked by
    Python, which `importlib.util.LazyLoader` (and what builds on it) is not before Python 3.12.3 (gh-114763, from memory):
    there two threads that ask at once run the module twice.
    """

    def __init__(self, name: str):
        self.__name = name

    def __getattr__(self, attribute: str):
        return getattr(import_module(self.__name), attribute)


def lazy(name: str) -> LazyModule:
    """A module by name, imported when something of it is first asked for; that raises ModuleNotFoundError where it is none."""
    return LazyModule(name)
