"""Slow work off the interface thread: a request runs, can be stopped, and its answer is delivered
on the interface thread. An answer that comes after its request was stopped is dropped."""

from __future__ import annotations

import logging
import threading
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from PySide6.QtCore import QObject, QRunnable, Qt, QThreadPool, Signal

from sagen.model.errors import SagenError


@dataclass(eq=False)
class Request:
    """One piece of work and who is to be told."""

    work: Callable[[Request], Any]
    done: Callable[[Any], None] | None = None
    failed: Callable[[str], None] | None = None
    progress: Callable[[float], None] | None = None
    _stop: threading.Event = field(default_factory=threading.Event)
    _post: Callable[[str, Any], None] | None = None

    def stop(self) -> None:
        self._stop.set()

    @property
    def stopped(self) -> bool:
        return self._stop.is_set()

    def pause(self, seconds: float) -> bool:
        """Wait within the work; True when it was stopped meanwhile."""
        return self._stop.wait(seconds)

    def tell(self, share: float) -> bool:
        """Report progress (0 to 1) from within the work; False means: stop now."""
        if not self.stopped:
            self._post("progress", share)
        return not self.stopped


class _Runner(QRunnable):
    def __init__(self, request: Request):
        super().__init__()
        self._request = request

    def run(self) -> None:
        request = self._request
        try:
            request._post("done", request.work(request))
        except SagenError as error:
            request._post("failed", str(error))
        except Exception as error:
            # No traceback reaches the user; it goes to the log that a developer can ask for.
            if not request.stopped:
                logging.getLogger("sagen").debug("unexpected", exc_info=True)
            request._post("failed", f"something unexpected went wrong ({type(error).__name__}: {error})")


class Work(QObject):
    """Hands out work to two threads and delivers the answers."""

    busy = Signal(bool)
    _came = Signal(object, str, object)

    def __init__(self, parent: QObject | None = None):
        super().__init__(parent)
        self._pool = QThreadPool(self)
        self._pool.setMaxThreadCount(2)
        self._alive: set[Request] = set()
        self._came.connect(self._deliver, Qt.ConnectionType.QueuedConnection)

    def ask(
        self,
        work: Callable[[Request], Any],
        *,
        done: Callable[[Any], None] | None = None,
        failed: Callable[[str], None] | None = None,
        progress: Callable[[float], None] | None = None,
    ) -> Request:
        """Start work; the callables are called on the interface thread."""
        request = Request(work, done, failed, progress)
        request._post = lambda kind, value: self._came.emit(request, kind, value)
        self._alive.add(request)
        self.busy.emit(True)
        self._pool.start(_Runner(request))
        return request

    @property
    def idle(self) -> bool:
        return not self._alive

    def finish(self, milliseconds: int = 20_000) -> bool:
        """Stop everything and wait for the threads; True when none is left."""
        for request in self._alive:
            request.stop()
        return self._pool.waitForDone(milliseconds)

    def _deliver(self, request: Request, kind: str, value: object) -> None:
        told = getattr(request, kind)
        if kind != "progress":
            self._alive.discard(request)
            self.busy.emit(bool(self._alive))
        if told is not None and not request.stopped:
            told(value)
