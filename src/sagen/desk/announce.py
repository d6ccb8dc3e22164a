"""What a screen reader is told when something changes that nobody moved to: who is suspected now, what was found, what was said."""

from __future__ import annotations

from PySide6 import QtGui  # nothing of it is made ready before there is something to tell
from PySide6.QtWidgets import QWidget


def announce(widget: QWidget, text: str) -> None:
    """Have it read aloud, where somebody listens (AT-SPI on this desktop, through Qt)."""
    if text and QtGui.QAccessible.isActive():
        QtGui.QAccessible.updateAccessibility(QtGui.QAccessibleAnnouncementEvent(widget, text))
