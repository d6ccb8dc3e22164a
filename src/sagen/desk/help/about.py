"""What this is: name, version, where it keeps things, and the licences of what it is made of."""

from __future__ import annotations

from PySide6.QtWidgets import QDialog, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from sagen import __version__
from sagen.casework.about import made_of
from sagen.desk.tables import TextTable
from sagen.desk.theme.plain import Label
from sagen.model.language import tr


class AboutDialog(QDialog):
    """Read, not filled in."""

    def __init__(self, log: str, parent: QWidget | None = None):
        super().__init__(parent)
        self.setWindowTitle(tr("About Sagen"))
        self.setMinimumSize(560, 420)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(18, 16, 18, 16)
        layout.addWidget(Label(f"Sagen {__version__}", name="heading"))
        layout.addWidget(Label(tr("From a sensor code to a proven repair."), wrap=True))
        if log:
            layout.addWidget(Label(tr("This log lies in {where}.", where=log), name="quiet", wrap=True))
        self.table = TextTable(
            (tr("Made of"), tr("Version"), tr("Licence")), tr("Licences of what it is made of"), stretch=(0, 2)
        )
        self.table.show_rows([(part, "", part) for part in made_of()])
        layout.addWidget(self.table, 1)
        layout.addWidget(
            Label(
                tr("The text of each licence is installed with its package; those of font and icons lie beside them."),
                name="small",
                wrap=True,
            )
        )
        row = QHBoxLayout()
        row.addStretch(1)
        close = QPushButton(tr("Close"))
        close.setDefault(True)
        close.clicked.connect(self.accept)
        row.addWidget(close)
        layout.addLayout(row)
        self.table.setFocus()
