"""What pages and commands may ask for: each by the name under which it declares it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Protocol

from PySide6.QtCore import QSettings
from PySide6.QtWidgets import QWidget

if TYPE_CHECKING:
    from sagen.desk.at_hand import BenchInstruments
    from sagen.desk.lately import Lately
    from sagen.desk.panes.suspects import SuspectsPane
    from sagen.desk.panes.trail import TrailPane
    from sagen.desk.parts import Bench, Header, Message
    from sagen.desk.watched import WatchedFolders
    from sagen.desk.workspace import DeskWorkspace


class Navigation(Protocol):
    """The pages of the bench, and the way to each."""

    def page(self, name: str) -> QWidget:
        """A page, made when it is first asked for."""

    def show_page(self, name: str) -> QWidget:
        """Bring a page up."""

    def show_with_job(self, name: str) -> QWidget | None:
        """A page that is about the open job; without one, it is said."""

    def show_circuit(self, circuit: str | None = None) -> QWidget | None:
        """The circuit drawing of the open job; None without one."""

    def back_to_job(self) -> None:
        """The capture on the bench, else what says how to get one."""


class Commands(Protocol):
    """What can be done, by name."""

    def run(self, name: str, *arguments, **named):
        """Run a command; what it answers. Raises KeyError for one that there is not."""

    def runner(self, name: str, *arguments) -> Callable[..., None]:
        """A callable for a signal: it runs the command and leaves aside what the signal says."""


@dataclass
class Ports:
    """The window's parts, each behind its own name. A page's `wire` and a command's function name those that they need."""

    window: QWidget  #: the parent of dialogs
    settings: QSettings
    workspace: DeskWorkspace
    message: Message = field(init=False)  #: a line across the bench
    header: Header = field(init=False)
    bench: Bench = field(init=False)
    trail: TrailPane = field(init=False)
    suspects: SuspectsPane = field(init=False)
    navigation: Navigation = field(init=False)
    commands: Commands = field(init=False)
    lately: Lately = field(init=False)
    instruments: BenchInstruments = field(init=False)
    watched: WatchedFolders = field(init=False)
