"""What the window said since it was opened, newest first."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime

from PySide6.QtWidgets import QDialog, QPushButton, QVBoxLayout

from sagen.desk.tables import TextTable
from sagen.desk.theme.plain import Label
from sagen.model.language import tr


class SaidDialog(QDialog):
    """Each line with its time; a line that went by too fast is read here."""

    def __init__(self, told: Iterable[tuple[datetime, str]], parent=None):
        super().__init__(parent)
        self.setWindowTitle(tr("What happened today"))
        self.resize(720, 460)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(18, 16, 18, 16)
        layout.addWidget(Label(tr("What happened today"), name="heading"))
        rows = [((f"{at:%H:%M:%S}", words), "", words) for at, words in reversed(list(told))]
        self.table = TextTable((tr("When"), tr("What was said")), tr("What was said, newest first"), stretch=1)
        self.table.show_rows(rows)
        self.table.setVisible(bool(rows))
        layout.addWidget(self.table, 1)
        self.empty = Label(tr("Nothing was said since the window was opened."), name="quiet")
        self.empty.setVisible(not rows)
        layout.addWidget(self.empty, 0 if rows else 1)
        close = QPushButton(tr("Close"))
        close.setDefault(True)
        close.clicked.connect(self.accept)
        layout.addWidget(close)
