"""The pages of the bench, one at a time: each is scrolled where it needs more room than there is, so that none makes the window
taller than the screen."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFrame, QScrollArea, QStackedWidget, QWidget


class PageStack(QStackedWidget):
    """A stack that is asked for pages, not for what they are scrolled by."""

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self._areas: dict[QWidget, QScrollArea] = {}

    def addWidget(self, page: QWidget) -> int:
        area = QScrollArea()
        area.setFrameShape(QFrame.Shape.NoFrame)
        area.setWidgetResizable(True)
        area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        area.setWidget(page)
        self._areas[page] = area
        return super().addWidget(area)

    def setCurrentWidget(self, page: QWidget) -> None:
        super().setCurrentWidget(self._areas[page])

    def currentWidget(self) -> QWidget | None:
        area = super().currentWidget()
        return area.widget() if area is not None else None
