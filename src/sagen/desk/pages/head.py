"""The head that pages have: title, what stands beside it, buttons, and the way back."""

from __future__ import annotations

from PySide6.QtWidgets import QPushButton, QVBoxLayout, QWidget

from sagen.desk.theme.plain import Label
from sagen.desk.wrap_row import WrapRow
from sagen.model.language import tr


def headed(page: QWidget, title: str, *buttons: QWidget, beside: QWidget | None = None) -> QVBoxLayout:
    """The layout of a page that has a signal `left`, with its head in place."""
    layout = QVBoxLayout(page)
    layout.setContentsMargins(0, 0, 0, 0)
    layout.setSpacing(6)
    head = WrapRow()
    head.addWidget(Label(title, name="heading"))
    if beside is not None:
        head.addWidget(beside)
    head.push_right()
    back = QPushButton(tr("Back"))
    back.clicked.connect(page.left)
    for button in (*buttons, back):
        head.addWidget(button)
    layout.addLayout(head)
    return layout
