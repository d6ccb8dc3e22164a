"""Packages that take long to import, imported when they are first used."""

from __future__ import annotations

import sys
from importlib import import_module
from threading import RLock

#: a package is hidden from the rest of the program while another is imported, and not asked for meanwhile
_HIDING, _HIDDEN = RLock(), set()


class LazyModule:
    """Stands for a module until something of it is asked for. Any thread may ask first: the import itself is locked by
    Python, which `importlib.util.LazyLoader` (and what builds on it) is not before Python 3.12.3 (gh-114763, from memory):
    there two threads that ask at once run the module twice.
    """

    def __init__(self, name: str, without: str):
        self.__name, self.__without = name, without
        _HIDDEN.add(without)

    def __getattr__(self, attribute: str):
        if self.__name not in sys.modules and (self.__without or self.__name in _HIDDEN):
            self.__load()
        return getattr(import_module(self.__name), attribute)

    def __load(self) -> None:
        with _HIDING:
            hide = self.__without and self.__without not in sys.modules
            if hide:
                sys.modules[self.__without] = None  # what is so marked is not found, as Python has it
            try:
                import_module(self.__name)
            finally:
                if hide:
                    del sys.modules[self.__without]


def lazy(name: str, *, without: str = "") -> LazyModule:
    """A module by name, imported when something of it is first asked for; that raises ModuleNotFoundError where it is none.

    Parameters
    ----------
    name : str
    without : str
        a package that the module uses where it is there, and brings in for nothing here; it can be used all the same
    """
    return LazyModule(name, without)
