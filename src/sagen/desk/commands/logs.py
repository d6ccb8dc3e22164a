"""Whole jobs and logs: moved, shared, cleaned, checked, and who writes in it."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QSettings
from PySide6.QtWidgets import QFileDialog

from sagen.casework.fault_log import save_report as save
from sagen.casework.printing import file_name
from sagen.casework.whole_logs import (
    BackUp,
    CheckLog,
    DeleteJob,
    DropLetters,
    ExportJob,
    ExportLetters,
    ForgetCustomer,
    ImportJob,
    ListLetters,
    other_log,
    restored_log,
)
from sagen.desk.forms.logs import ZIP, AuthorForm, LettersForm, NameForm, OtherLogForm, SureForm
from sagen.desk.parts import last_folder
from sagen.model.language import tr
from sagen.store.entries import Author


def remembered_author(settings: QSettings) -> Author:
    """Who works at this bay, as it was said last."""
    return Author(str(settings.value("log/author", ""))[:80], str(settings.value("log/bay", ""))[:80])


def remember_author(settings: QSettings, workspace, author: Author) -> None:
    """Who works here from now on: at each entry of the open log, and the next time."""
    settings.setValue("log/author", author.author)
    settings.setValue("log/bay", author.bay)
    if workspace.log is not None:
        workspace.log.author = author


# commands -----------------------------------------------------------------------------------------------------


def _zip_to(settings, window, title: str, name: str) -> Path | None:
    chosen, _ = QFileDialog.getSaveFileName(window, title, str(last_folder(settings) / f"{name[:80]}.zip"), ZIP)
    return Path(chosen) if chosen else None


def export_job(workspace, message, settings, window) -> None:
    """The open job as a zip of open formats."""
    job = workspace.job
    if job is None:
        message.say(tr("Open a job first."))
        return
    path = _zip_to(settings, window, tr("Export this job"), file_name(job.machine))
    if path is not None:
        workspace.submit(ExportJob(job.id, path), message.say)


def import_job(workspace, message, settings, window) -> None:
    """A job that another log exported, as a new one."""
    chosen, _ = QFileDialog.getOpenFileName(window, tr("Import a job"), str(last_folder(settings)), ZIP)
    if chosen:
        bring_job_in(workspace, Path(chosen))


def bring_job_in(workspace, path) -> None:
    """A bundle that was chosen, dropped or handed on: its job as a new one."""

    def show(job) -> None:
        workspace.list_jobs()
        workspace.open_job(job.id, open_capture=True)

    workspace.submit(ImportJob(None, path), show)


def delete_job(workspace, message, settings, window) -> None:
    """The open job, for good."""
    job = workspace.job
    if job is None:
        message.say(tr("Open a job first."))
        return
    words = tr(
        "{machine}: {entries} entries with their captures and photos. This cannot be undone. To keep a copy, "
        "export the job first.",
        machine=job.machine,
        entries=len(job.entries),
    )
    if not SureForm(tr("Delete this job for good"), words, tr("Delete it"), window).exec():
        return

    def gone(said: str) -> None:
        if workspace.job is not None and workspace.job.id == job.id:
            workspace.leave_job()
        workspace.list_jobs()
        message.say(said)

    workspace.submit(DeleteJob(job.id), gone)


def forget_customer(workspace, message, settings, window) -> None:
    """A customer's name out of every job."""
    job = workspace.job
    form = NameForm(job.owner if job else "", window)
    if not form.exec():
        return

    def gone(said: str) -> None:
        workspace.list_jobs()
        workspace.reload()
        message.say(said)

    workspace.submit(ForgetCustomer(None, form.name.text().strip()), gone)


def back_up(workspace, message, settings, window) -> None:
    """The whole log as a zip."""
    path = _zip_to(settings, window, tr("Back the log up"), "sagen-log")
    if path is not None:
        workspace.submit(BackUp(None, path), message.say)


def restore(workspace, message, settings, window) -> None:
    """A backup into a new folder, and that log onto the desk."""
    chosen, _ = QFileDialog.getOpenFileName(window, tr("A backup of a log"), str(last_folder(settings)), ZIP)
    folder = chosen and QFileDialog.getExistingDirectory(
        window, tr("An empty folder to restore it into"), str(last_folder(settings))
    )
    if folder:
        workspace.open_log(restored_log(Path(chosen), Path(folder), remembered_author(settings)))


def open_another(workspace, message, settings, window) -> None:
    """Another log onto the desk: of a folder, of a server, or the user's own."""
    form = OtherLogForm(window)
    if form.exec():
        workspace.open_log(other_log(form.where.text().strip(), remembered_author(settings)))


def check_log(workspace, message, settings, window) -> None:
    """Look for damage; what can be put right is."""
    workspace.submit(CheckLog(None), message.say)


def who_writes(workspace, message, settings, window) -> None:
    """Who works here, and at which bay; remembered."""
    form = AuthorForm(remembered_author(settings), window)
    if form.exec():
        remember_author(settings, workspace, form.answer())


def save_report(workspace, message, settings, window) -> None:
    """The program's own log and versions as a zip, without names of persons, machines and files."""
    path = _zip_to(settings, window, tr("Save a report for support"), "sagen-report")
    if path is not None:
        workspace.compute(
            lambda _task: save(path),
            done=lambda _: message.say(tr("Saved: {path}. It holds no job and no capture.", path=path)),
            failed=message.say,
        )


def show_letters(workspace, message, settings, window) -> None:
    """What could not be sent to the server, and never can be: seen, exported or dropped."""

    def show(letters) -> None:
        if not letters:
            message.say(tr("Everything was sent."))
            return
        form = LettersForm(letters, window)
        done = form.exec()
        if form.export_wanted:
            name, _ = QFileDialog.getSaveFileName(
                window,
                tr("Export what could not be sent"),
                str(last_folder(settings) / "not-sent.json"),
                tr("JSON (*.json)"),
            )
            if name:
                workspace.submit(ExportLetters(None, Path(name)), message.say)
        elif done:
            workspace.submit(DropLetters(None, tuple(letter.number for letter in letters)), message.say)

    workspace.submit(ListLetters(None), show)


#: as the menu has them: words, and the command
LOG_COMMANDS: tuple[tuple[str, str], ...] = (
    (tr("Export this job"), "logs.export_job"), (tr("Import a job"), "logs.import_job"), (tr("Delete this job"), "logs.delete_job"),
    (tr("Back the log up"), "logs.back_up"), (tr("Restore a backup"), "logs.restore"), (tr("Open another log"), "logs.open_another"),
    (tr("Check the log"), "logs.check_log"), (tr("Remove a customer's name"), "logs.forget_customer"),
    (tr("Who writes here"), "logs.who_writes"), (tr("What could not be sent"), "logs.show_letters"),
    (tr("Save a report for support"), "logs.save_report"),
)  # fmt: skip
