"""Jobs: new ones, their pages on paper, what to fit while it is open."""

from __future__ import annotations

from sagen.casework.printing import Print, PrintJob
from sagen.casework.shelf import ListShelf
from sagen.casework.weigh_job import Weighed
from sagen.desk.forms.decision import DecisionForm
from sagen.desk.forms.job import JobForm
from sagen.desk.pages.report_page import page_images
from sagen.model.language import tr
from sagen.model.vocabulary import Role


def show_log(workspace, navigation) -> None:
    """The list of jobs."""
    if workspace.log is not None:
        workspace.list_jobs(navigation.page("log").search.text())
        navigation.show_page("log")


def show_before(workspace, lately, message) -> None:
    """The job that was on the desk before this one; once more: this one again."""
    if workspace.log is None:
        return
    others = lately.others()
    if others:
        workspace.open_job(others[0], open_capture=True)
    else:
        message.say(tr("No other job was on the desk yet."))


def new(workspace, window) -> None:
    """A new job."""
    if workspace.log is None:
        return
    form = JobForm(window)
    workspace.submit(ListShelf(None), lambda shelf: form.show_cards(card for _, card in shelf.cards), slot="cards")
    if form.exec():
        workspace.add_job(form.name(), form.owner.text(), form.cylinders.currentData(), form.records())


def decide(workspace, window, old=None) -> None:
    """Weigh what to fit while it is open, with what this shop's own jobs say of such parts."""
    if workspace.job is None:
        return
    fitted = workspace.record.fitted(Role.KNOCK) if workspace.record is not None else {}
    weighed = workspace.last_weighed
    form = DecisionForm(weighed.taps if weighed else None, fitted, window, old.record if old else None)
    if not form.exec():
        return
    if old is None:
        workspace.add(form.answer())
    else:
        workspace.correct(old, form.answer())


def show_report(workspace, navigation, settings, message, window, page=None) -> None:
    """Make a page, off the interface thread: the finding of the capture on the bench, or one of the whole job's; which, where
    not said: as it was last, if it can be made."""
    opened, job = workspace.opened, workspace.job
    if job is None:
        return
    page = page or str(settings.value("report/page", "capture"))
    if page == "capture" and opened is None:
        page = "technician"
    settings.setValue("report/page", page)
    ratio = window.devicePixelRatioF()

    def show(printed, images) -> None:
        if workspace.job is not None and printed.job_id == workspace.job.id:
            navigation.show_page("report").show_report(printed.html, printed.pdf, images, printed.name, page)

    def drawn(printed) -> None:
        workspace.compute(
            lambda _task: page_images(printed.pdf, 1.6 * max(1.0, ratio)),
            lambda images: show(printed, images),
            message.say,
        )

    weighed = workspace.last_weighed or Weighed()
    shop = str(settings.value("report/workshop", ""))
    command = Print(job.id, job, opened, weighed) if page == "capture" else PrintJob(job.id, job, weighed, page, shop)
    workspace.submit(command, drawn, slot="paper")
