"""The head that pages have: title, what stands beside it, buttons, and the way back."""

from __future__ import annotations

from PySide6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from sagen.desk.theme.plain import Label
from sagen.model.language import tr


def headed(page: QWidget, title: str, *buttons: QWidget, beside: QWidget | None = None) -> QVBoxLayout:
    """The layout of a page that has a signal `left`, with its head in place."""
    layout = QVBoxLayout(page)
    layout.setContentsMargins(0, 0, 0, 0)
    layout.setSpacing(6)
    head = QHBoxLayout()
    head.addWidget(Label(title, name="heading"), 0 if beside is not None else 1)
    if beside is not None:
        head.addWidget(beside, 1)
    back = QPushButton(tr("Back"))
    back.clicked.connect(page.left)
    for button in (*buttons, back):
        head.addWidget(button)
    layout.addLayout(head)
    return layout
