"""What can be done with a whole job or the whole log: moved, shared, cleaned, and who writes in it."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QFileDialog, QLineEdit, QPushButton, QWidget

from sagen.desk.forms import Form
from sagen.desk.theme.plain import Label
from sagen.model.errors import ChangedMeanwhile
from sagen.store.entries import Author

if TYPE_CHECKING:
    from PySide6.QtCore import QSettings

    from sagen.desk.shell import MainWindow

ZIP = "Zip (*.zip)"


def remembered_author(settings: QSettings) -> Author:
    """Who works at this bay, as it was said last."""
    return Author(str(settings.value("log/author", ""))[:80], str(settings.value("log/bay", ""))[:80])


# forms -----------------------------------------------------------------------------------------------------


class AuthorForm(Form):
    """Who works here, and at which bay."""

    def __init__(self, hand: Author, parent: QWidget | None = None):
        super().__init__("Who writes here", "Write as this", parent)
        words = (
            "Both stand at each entry from now on, so that others on the same log see whose it is. Either may be empty."
        )
        self.fields.addRow(Label(words, name="quiet", wrap=True))
        self.author, self.bay = self.add("Name", QLineEdit(hand.author)), self.add("Bay", QLineEdit(hand.bay))
        self.bay.setPlaceholderText("as bay 2")
        for item in (self.author, self.bay):
            item.setMaxLength(80)

    def answer(self) -> Author:
        return Author(self.author.text().strip(), self.bay.text().strip())


class OtherLogForm(Form):
    """Which log to work on."""

    def __init__(self, parent: QWidget | None = None):
        super().__init__("Open another log", "Open it", parent)
        self.setMinimumWidth(520)
        self.where = self.add("Where", QLineEdit())
        self.where.setPlaceholderText("a folder, or postgresql://name@server/database")
        choose = QPushButton("Choose a folder")
        choose.clicked.connect(self._choose)
        self.fields.addRow("", choose)
        words = (
            "A log on a PostgreSQL server is shared by all bays that open it. Its password belongs into ~/.pgpass; one that is "
            "typed here is used and not kept. Empty: your own log."
        )
        self.fields.addRow(Label(words, name="quiet", wrap=True))

    def _choose(self) -> None:
        name = QFileDialog.getExistingDirectory(self, "The folder of a log")
        if name:
            self.where.setText(name)

    def problem(self) -> str:
        from sagen.model.errors import StoreError
        from sagen.store.places import place_of

        try:
            place_of(self.where.text().strip() or None)
        except StoreError as error:
            return str(error)[:1].upper() + str(error)[1:] + "."
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
        super().__init__("Remove a customer's name", "Remove it everywhere", parent)
        self.name = self.add("Name", QLineEdit(name))
        words = (
            "As customer of any job, and wherever it was written into one. The jobs stay, without the name. This cannot be "
            "undone; backups made before, photos and files elsewhere may still hold it."
        )
        self.fields.addRow(Label(words, name="quiet", wrap=True))

    def problem(self) -> str:
        return "" if len(self.name.text().strip()) > 1 else "Write the whole name."


class OvertakenForm(Form):
    """An entry that two changed at once: what stands, and what was about to take its place."""

    def __init__(self, error: ChangedMeanwhile, parent: QWidget | None = None):
        super().__init__("Changed while you were writing", "Put yours over it", parent)
        from sagen.casework.words import entry_text

        self.fields.addRow(Label(f"This entry was changed {error.who} while you were writing.", wrap=True))
        self.fields.addRow(Label("Theirs", name="quiet"), Label(entry_text(error.theirs.record), wrap=True))
        self.fields.addRow(Label("Yours", name="quiet"), Label(entry_text(error.yours), wrap=True))
        self.fields.addRow(Label("Cancel leaves theirs as it is.", name="quiet", wrap=True))


# deeds -----------------------------------------------------------------------------------------------------


def _zip_to(shell: MainWindow, title: str, name: str) -> Path | None:
    chosen, _ = QFileDialog.getSaveFileName(shell, title, str(shell.folder() / f"{name[:80]}.zip"), ZIP)
    return Path(chosen) if chosen else None


def export_job(shell: MainWindow) -> None:
    """The open job as a zip of open formats."""
    from sagen.casework.printing import file_name
    from sagen.casework.whole_logs import ExportJob

    job = shell.workspace.job
    if job is None:
        shell.message.say("Open a job first.")
        return
    path = _zip_to(shell, "Export this job", file_name(job.machine))
    if path is not None:
        shell.workspace.ask(ExportJob(job.id, path), shell.message.say)


def import_job(shell: MainWindow) -> None:
    """A job that another log exported, as a new one."""
    from sagen.casework.whole_logs import ImportJob

    chosen, _ = QFileDialog.getOpenFileName(shell, "Import a job", str(shell.folder()), ZIP)

    def came(job) -> None:
        shell.workspace.list_jobs()
        shell.workspace.open_job(job.id, open_capture=True)

    if chosen:
        shell.workspace.ask(ImportJob(None, Path(chosen)), came)


def delete_job(shell: MainWindow) -> None:
    """The open job, for good."""
    from sagen.casework.whole_logs import DeleteJob

    job = shell.workspace.job
    if job is None:
        shell.message.say("Open a job first.")
        return
    words = (
        f"{job.machine}: {len(job.entries)} entries with their captures and photos. This cannot be undone. To keep a copy, "
        "export the job first."
    )
    if not SureForm("Delete this job for good", words, "Delete it", shell).exec():
        return

    def gone(said: str) -> None:
        if shell.workspace.job is not None and shell.workspace.job.id == job.id:
            shell.workspace.leave_job()
        shell.workspace.list_jobs()
        shell.message.say(said)

    shell.workspace.ask(DeleteJob(job.id), gone)


def forget_customer(shell: MainWindow) -> None:
    """A customer's name out of every job."""
    from sagen.casework.whole_logs import ForgetCustomer

    job = shell.workspace.job
    form = NameForm(job.owner if job else "", shell)
    if not form.exec():
        return

    def gone(said: str) -> None:
        shell.workspace.list_jobs()
        shell.workspace.reload()
        shell.message.say(said)

    shell.workspace.ask(ForgetCustomer(None, form.name.text().strip()), gone)


def back_up(shell: MainWindow) -> None:
    """The whole log as a zip."""
    from sagen.casework.whole_logs import BackUp

    path = _zip_to(shell, "Back the log up", "sagen-log")
    if path is not None:
        shell.workspace.ask(BackUp(None, path), shell.message.say)


def restore(shell: MainWindow) -> None:
    """A backup into a new folder, and that log onto the desk."""
    from sagen.casework.whole_logs import restored_log

    chosen, _ = QFileDialog.getOpenFileName(shell, "A backup of a log", str(shell.folder()), ZIP)
    folder = chosen and QFileDialog.getExistingDirectory(
        shell, "An empty folder to restore it into", str(shell.folder())
    )
    if folder:
        shell.workspace.open_log(restored_log(Path(chosen), Path(folder)))


def open_another(shell: MainWindow) -> None:
    """Another log onto the desk: of a folder, of a server, or the user's own."""
    from sagen.casework.whole_logs import other_log

    form = OtherLogForm(shell)
    if form.exec():
        shell.workspace.open_log(other_log(form.where.text().strip()))


def check_log(shell: MainWindow) -> None:
    """Look for damage; what can be put right is."""
    from sagen.casework.whole_logs import CheckLog

    shell.workspace.ask(CheckLog(None), shell.message.say)


def who_writes(shell: MainWindow) -> None:
    """Who works here, and at which bay; remembered."""
    form = AuthorForm(remembered_author(shell.settings), shell)
    if form.exec():
        hand = form.answer()
        shell.settings.setValue("log/author", hand.author)
        shell.settings.setValue("log/bay", hand.bay)
        shell.workspace.log.author = hand


def save_report(shell: MainWindow) -> None:
    """The program's own log and versions as a zip, without names of persons, machines and files."""
    from sagen.casework.fault_log import save_report as save

    path = _zip_to(shell, "Save a report for support", "sagen-report")
    if path is not None:
        shell.workspace.work.ask(
            lambda _task: save(path),
            done=lambda _: shell.message.say(f"Saved: {path}. It holds no job and no capture."),
            failed=shell.message.say,
        )


#: as the menu has them
LOG_COMMANDS: tuple[tuple[str, Callable[[MainWindow], None]], ...] = (
    ("Export this job", export_job), ("Import a job", import_job), ("Delete this job", delete_job),
    ("Back the log up", back_up), ("Restore a backup", restore), ("Open another log", open_another),
    ("Check the log", check_log), ("Remove a customer's name", forget_customer), ("Who writes here", who_writes),
    ("Save a report for support", save_report),
)  # fmt: skip
