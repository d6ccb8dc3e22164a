"""The pages of the bench: made when they are first asked for, wired to just what they say they need, and brought up."""

from __future__ import annotations

import inspect
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject
from PySide6.QtWidgets import QStackedWidget

from sagen.desk.actions import bind
from sagen.desk.pages import Page, make_page
from sagen.model.language import tr
from sagen.model.lazy import lazy

if TYPE_CHECKING:
    from sagen.desk.ports import Ports

trail = lazy("sagen.model.trail")  # no job is open when the window comes up


class BenchNavigation(QObject):
    """Which page is up, and the way to the others."""

    def __init__(self, stack: QStackedWidget, ports: Ports, parent: QObject | None = None):
        super().__init__(parent)
        self.stack, self._ports = stack, ports
        self.pages: dict[str, Page] = {}

    def page(self, name: str) -> Page:
        """A page of the bench, made when it is first asked for."""
        if name not in self.pages:
            page = make_page(name)
            self.pages[name] = page
            self.stack.addWidget(page)
            bind(page, page.shortcuts, page)
            wire(page, self._ports)
        return self.pages[name]

    def made(self, name: str) -> Page | None:
        """A page if it was made already."""
        return self.pages.get(name)

    def is_up(self, name: str) -> bool:
        """Whether a page is in sight."""
        return self.pages.get(name) is not None and self.stack.currentWidget() is self.pages[name]

    def show_page(self, name: str) -> Page:
        page = self.page(name)
        self.stack.setCurrentWidget(page)
        page.on_shown()
        return page

    def show_with_job(self, name: str) -> Page | None:
        """A page that is about the open job; without one, it is said."""
        if self._ports.workspace.job is None:
            self._ports.message.say(tr("Open a job first."))
            return None
        page = self.show_page(name)
        if name == "card":
            page.show_job(self._ports.workspace.job)
        return page

    def back_to_job(self) -> None:
        """The capture on the bench, else what says how to get one."""
        if self._ports.workspace.opened is not None:
            self.show_page("capture")
        else:
            job = self._ports.workspace.job
            self._ports.bench.show_empty(len(job.of(trail.CaptureEntry)) if job else 0)

    def show_circuit(self, circuit: str | None = None) -> Page | None:
        """The circuit drawing with a meter entry, of a circuit by name or the one shown last; None without a job."""
        job = self._ports.workspace.job
        if job is None:
            return None
        page = self.show_page("circuit")
        page.show_job(job, circuit)
        return page

    def commit(self) -> None:
        """What is being entered on the page in sight is kept."""
        for page in self.pages.values():
            page.commit()

    def apply_theme(self) -> None:
        for page in self.pages.values():
            page.apply_theme()

    def close_down(self) -> None:
        for page in self.pages.values():
            page.close_down()


def wire(page: Page, ports: Ports) -> None:
    """Give a page the ports that its `wire` names, and no others.

    Raises
    ------
    AttributeError
        for a port that there is not.
    """
    wanted = inspect.signature(page.wire).parameters
    page.wire(**{name: getattr(ports, name) for name in wanted})
