"""What is asked about a whole job or the whole log."""

from __future__ import annotations

from datetime import datetime

from PySide6.QtWidgets import QFileDialog, QLineEdit, QPushButton, QWidget

from sagen.casework.whole_logs import letter_text
from sagen.casework.words import entry_text
from sagen.desk.forms.base import Form
from sagen.desk.theme.plain import Label
from sagen.model.errors import ChangedMeanwhile, StoreError
from sagen.model.language import said_date, titled, tr
from sagen.store.entries import Author
from sagen.store.outbox import DeadLetter
from sagen.store.places import place_of

ZIP = tr("Zip (*.zip)")


# forms -----------------------------------------------------------------------------------------------------


class AuthorForm(Form):
    """Who works here, and at which bay."""

    def __init__(self, hand: Author, parent: QWidget | None = None):
        super().__init__(tr("Who writes here"), tr("Write as this"), parent)
        words = tr(
            "Both stand at each entry from now on, so that others on the same log see whose it is. Either may be empty."
        )
        self.fields.addRow(Label(words, name="quiet", wrap=True))
        self.author, self.bay = self.add(tr("Name"), QLineEdit(hand.author)), self.add(tr("Bay"), QLineEdit(hand.bay))
        self.bay.setPlaceholderText(tr("as bay 2"))
        for item in (self.author, self.bay):
            item.setMaxLength(80)

    def answer(self) -> Author:
        return Author(self.author.text().strip(), self.bay.text().strip())


class OtherLogForm(Form):
    """Which log to work on."""

    def __init__(self, parent: QWidget | None = None):
        super().__init__(tr("Open another log"), tr("Open it"), parent)
        self.setMinimumWidth(560)
        self.where = self.add(tr("Where"), QLineEdit())
        self.where.setPlaceholderText(tr("a folder, or postgresql://name@server/database"))
        choose = QPushButton(tr("Choose a folder"))
        choose.clicked.connect(self._choose)
        self.fields.addRow("", choose)
        words = tr(
            "A log on a PostgreSQL server is shared by all bays that open it. Its password belongs into "
            "~/.pgpass; one that is typed here is used and not kept. Empty: your own log."
        )
        self.fields.addRow(Label(words, name="quiet", wrap=True))

    def _choose(self) -> None:
        name = QFileDialog.getExistingDirectory(self, tr("The folder of a log"))
        if name:
            self.where.setText(name)

    def problem(self) -> str:
        try:
            place_of(self.where.text().strip() or None)
        except StoreError as error:
            return titled(str(error)) + "."
        return ""


class SureForm(Form):
    """Something that cannot be undone: said first, and done by the second button only."""

    def __init__(self, title: str, words: str, accept: str, parent: QWidget | None = None):
        super().__init__(title, accept, parent)
        self.fields.addRow(Label(words, wrap=True))
        # Enter does nothing that cannot be taken back.
        self.ok.setDefault(False)
        self.ok.setAutoDefault(False)


class NameForm(Form):
    """A customer's name that is to be removed from every job."""

    def __init__(self, name: str, parent: QWidget | None = None):
        super().__init__(tr("Remove a customer's name"), tr("Remove it everywhere"), parent)
        self.name = self.add(tr("Name"), QLineEdit(name))
        words = tr(
            "As customer of any job, and wherever it was written into one. The jobs stay, without the name. This "
            "cannot be undone; backups made before, photos and files elsewhere may still hold it."
        )
        self.fields.addRow(Label(words, name="quiet", wrap=True))

    def problem(self) -> str:
        return "" if len(self.name.text().strip()) > 1 else tr("Write the whole name.")


class LettersForm(Form):
    """Changes that can never be sent to the server: what each was, and why not. Nothing is dropped by closing it."""

    def __init__(self, letters: list[DeadLetter], parent: QWidget | None = None):
        super().__init__(tr("What could not be sent"), tr("Drop these"), parent)
        self.setMinimumWidth(620)
        words = tr(
            "These changes were written here while the server was away, and it cannot take them any more. They wait "
            "until they are dropped."
        )
        self.fields.addRow(Label(words, name="quiet", wrap=True))
        for letter in letters[:12]:
            when = said_date(datetime.fromtimestamp(letter.since), clock=True)
            self.fields.addRow(Label(when, name="quiet"), Label(f"{letter_text(letter)}: {letter.why}.", wrap=True))
        if len(letters) > 12:
            self.fields.addRow(Label(tr("and {letters} more", letters=len(letters) - 12), name="quiet"))
        self.export_wanted = False
        export = QPushButton(tr("Export them"))
        export.clicked.connect(self._export)
        self.buttons.insertWidget(1, export)
        self.ok.setDefault(False)
        self.ok.setAutoDefault(False)

    def _export(self) -> None:
        self.export_wanted = True
        self.reject()


class OvertakenForm(Form):
    """An entry that two changed at once: what stands, and what was about to take its place."""

    def __init__(self, error: ChangedMeanwhile, parent: QWidget | None = None):
        super().__init__(tr("Changed while you were writing"), tr("Put yours over it"), parent)
        self.fields.addRow(Label(tr("This entry was changed {who} while you were writing.", who=error.who), wrap=True))
        self.fields.addRow(Label(tr("Theirs"), name="quiet"), Label(entry_text(error.theirs.record), wrap=True))
        self.fields.addRow(Label(tr("Yours"), name="quiet"), Label(entry_text(error.yours), wrap=True))
        self.fields.addRow(Label(tr("Cancel leaves theirs as it is."), name="quiet", wrap=True))
