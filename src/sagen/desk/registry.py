"""Commands of the window by name. A command is a function of a module that is loaded when it is first run; it names the ports
that it needs as a page does."""

from __future__ import annotations

import inspect
from collections.abc import Callable
from importlib import import_module
from typing import TYPE_CHECKING

from sagen.model.language import tr

if TYPE_CHECKING:
    from sagen.desk.ports import Ports

#: where commands live: `captures.choose` is the function `choose` of the module `sagen.desk.commands.captures`
ROOM = "sagen.desk.commands"


class CommandRegistry:
    """Runs commands. `add` puts one in from elsewhere."""

    def __init__(self, ports: Ports):
        self._ports = ports
        self._added: dict[str, Callable] = {}

    def add(self, name: str, function: Callable) -> None:
        """A command of an extension's, or one in place of ours."""
        self._added[name] = function

    def run(self, name: str, *arguments, **named):
        """Run a command; what it answers.

        Parameters
        ----------
        name : str
            module and function, as `captures.choose`
        arguments
            what comes behind its ports

        Raises
        ------
        KeyError
            for a command that there is not.
        """
        function = self._added.get(name) or _function(name)
        wanted = inspect.signature(function).parameters
        given = {
            port: getattr(self._ports, port) for port in wanted if hasattr(self._ports, port) and port not in named
        }
        free = [parameter for parameter in wanted if parameter not in given]
        return function(**given, **dict(zip(free, arguments, strict=False)), **named)

    def runner(self, name: str, *arguments) -> Callable[..., None]:
        """A callable for a signal: it runs the command and leaves aside what the signal says."""
        return lambda *_: self.run(name, *arguments)


def _function(name: str) -> Callable:
    module, _, function = name.partition(".")
    try:
        return getattr(import_module(f"{ROOM}.{module}"), function)
    except (ModuleNotFoundError, AttributeError) as error:
        raise KeyError(tr("there is no command {name}", name=name)) from error
