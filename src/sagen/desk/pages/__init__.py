"""Pages of the bench. A page says its name, its keys and how it is wired in its own file; `register_page` adds one."""

from __future__ import annotations

from collections.abc import Callable
from importlib import import_module
from typing import TYPE_CHECKING, ClassVar

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QWidget

from sagen.desk.actions import Action, Hint
from sagen.model.extensions import load_extensions

if TYPE_CHECKING:
    from sagen.desk.ports import Navigation
    from sagen.desk.workspace import DeskWorkspace


class Page(QWidget):
    """Base of all pages."""

    name: ClassVar[str]
    title: ClassVar[str] = ""
    shortcuts: ClassVar[tuple[Action, ...]] = ()  #: run with the page; keys work while it is in sight
    hints: ClassVar[tuple[Hint, ...]] = ()

    def wire(self) -> None:
        """Take the parts of the window that the page needs; called once, when it is made. A page names them as parameters, as
        `desk.ports.Ports` calls them, and is given no others."""

    def apply_theme(self) -> None:
        """Take on the icons and colours of the present look."""

    def on_shown(self) -> None:
        """Come into sight."""

    def commit(self) -> None:
        """Keep what is being entered: the page goes out of sight, or the window is about to close."""

    def hideEvent(self, event) -> None:
        super().hideEvent(event)
        if not event.spontaneous():
            self.commit()

    def close_down(self) -> None:
        """Let go of what is held: the window closes."""


class JobPage(Page):
    """Base of pages about the open job: shown anew with every change of it, `left` for the way back to the bench, and keys to
    the widget `first` when it comes into sight."""

    left = Signal()
    first: QWidget

    def wire(self, workspace: DeskWorkspace, navigation: Navigation) -> None:
        self.workspace = workspace
        self.left.connect(navigation.back_to_job)
        workspace.job_changed.connect(lambda _: self.show_job())

    def on_shown(self) -> None:
        self.show_job()
        self.first.setFocus()

    def show_job(self) -> None:
        """What the page shows of the job that is open."""
        raise TypeError(f"{type(self).__name__} shows nothing of a job")


Maker = Callable[[], Page]

#: the shipped pages, by name: module and class, imported when they are first asked for
_SHIPPED = {
    "board": ("sagen.desk.pages.board_page", "BoardPage"),
    "capture": ("sagen.desk.pages.capture_page", "CapturePage"),
    "card": ("sagen.desk.pages.card_page", "CardPage"),
    "circuit": ("sagen.desk.pages.circuit_page", "CircuitPage"),
    "debrief": ("sagen.desk.pages.debrief_page", "DebriefPage"),
    "incoming": ("sagen.desk.pages.import_page", "ImportPage"),
    "live": ("sagen.desk.pages.live_page", "LivePage"),
    "log": ("sagen.desk.pages.log_page", "LogPage"),
    "module": ("sagen.desk.pages.module_page", "ModulePage"),
    "photo": ("sagen.desk.pages.photo_page", "PhotoPage"),
    "picture": ("sagen.desk.pages.picture_page", "PicturePage"),
    "plan": ("sagen.desk.pages.plan_page", "PlanPage"),
    "practice": ("sagen.desk.pages.practice_page", "PracticePage"),
    "proof": ("sagen.desk.pages.proof_page", "ProofPage"),
    "report": ("sagen.desk.pages.report_page", "ReportPage"),
    "settings": ("sagen.desk.pages.settings_page", "SettingsPage"),
    "shelf": ("sagen.desk.pages.shelf_page", "ShelfPage"),
    "tester": ("sagen.desk.pages.tester_page", "TesterPage"),
    "work": ("sagen.desk.pages.work_page", "WorkPage"),
}
_ADDED: dict[str, Maker] = {}


def register_page(name: str, make: Maker) -> None:
    """Add a page; `make` gives it."""
    _ADDED[name] = make


def page_names() -> tuple[str, ...]:
    """The names of all pages, those of extensions among them."""
    load_extensions()
    return (*_SHIPPED, *_ADDED)


def added_pages() -> tuple[str, ...]:
    """The names of pages that extensions brought: the shell offers them in its menu."""
    load_extensions()
    return tuple(_ADDED)


def make_page(name: str) -> Page:
    """A page by name; raises KeyError for one that is not there."""
    if name not in _SHIPPED:
        load_extensions()
        return _ADDED[name]()
    module, cls = _SHIPPED[name]
    return getattr(import_module(module), cls)()
