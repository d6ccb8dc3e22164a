"""Python's garbage is collected on the interface thread alone: what is collected elsewhere could take widgets with it,
and a widget that goes on a worker's thread takes the program along."""

from __future__ import annotations

import gc
from collections.abc import Callable

from PySide6.QtCore import QObject, QTimer

EVERY_MS = 400
YOUNG = 2_000  #: new objects that are worth looking through
WHOLE_EVERY = 75  #: rounds between two full collections, made only while nothing is being worked on


class Collector(QObject):
    """Collects now and then for as long as it lives; `idle` says whether a full collection disturbs nobody."""

    _alive = 0  #: how many there are: a window that goes late must not have Python collect beside the next one

    def __init__(self, idle: Callable[[], bool], parent: QObject | None = None):
        super().__init__(parent)
        self._idle, self._rounds = idle, 0
        Collector._alive += 1
        gc.disable()
        self._timer = QTimer(self, interval=EVERY_MS)
        self._timer.timeout.connect(self._collect)
        self._timer.start()
        self.destroyed.connect(_one_gone)

    def _collect(self) -> None:
        self._rounds += 1
        if self._rounds >= WHOLE_EVERY and self._idle():
            self._rounds = 0
            gc.collect()
            if not gc.get_freeze_count():
                # Modules and widgets stay to the end: later full rounds need not look through them.
                gc.freeze()
        elif gc.get_count()[0] > YOUNG:
            gc.collect(1)


def _one_gone() -> None:
    Collector._alive -= 1
    if not Collector._alive:
        gc.enable()
