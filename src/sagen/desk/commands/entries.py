"""Entries of the trail: put on it, opened, corrected, withdrawn."""

from __future__ import annotations

from dataclasses import replace

from sagen.casework.patterns import card_of
from sagen.casework.repairing import likely_repair
from sagen.desk.forms.entries import FORMS
from sagen.desk.forms.logs import OvertakenForm
from sagen.desk.forms.work import WORK_FORMS, ValueForm
from sagen.model.language import tr
from sagen.model.trail import CaptureEntry, CardEntry, PhotoEntry, RepairEntry
from sagen.model.vocabulary import EntryKind

ALL_FORMS = {**FORMS, **WORK_FORMS}
#: kinds that have a way of their own: the command that asks for one
ELSEWHERE = {
    EntryKind.DECISION: "jobs.decide", EntryKind.VALUE: "entries.add_value", EntryKind.PHOTO: "photos.choose",
    EntryKind.CARD: "view.show_with_job:card", EntryKind.READING: "view.show_circuit",
}  # fmt: skip


def add(workspace, commands, window, kind) -> None:
    """A new entry of a kind."""
    if workspace.job is None:
        return
    if kind in ELSEWHERE:
        name, _, page = ELSEWHERE[kind].partition(":")
        commands.run(name, *([page] if page else []))
        return
    begins = {"likely": _likely(workspace)} if kind == EntryKind.REPAIR else {}
    form = ALL_FORMS[kind](parent=window, **begins)
    if form.exec():
        workspace.add(form.answer())


def _likely(workspace) -> RepairEntry | None:
    """What a repair of the open job would most likely be, by what it was weighed to."""
    job, weighed = workspace.job, workspace.last_weighed
    return likely_repair(job.records(), weighed.diagnosis) if weighed and weighed.job_id == job.id else None


def open_entry(workspace, navigation, commands, entry) -> None:
    """Put what an entry is about on the bench."""
    if isinstance(entry.record, PhotoEntry):
        commands.run("photos.show", entry)
    elif isinstance(entry.record, CardEntry):
        navigation.show_page("card").show_card(entry.record.machine)
    elif isinstance(entry.record, CaptureEntry):
        shown = workspace.opened
        if shown is not None and shown.entry_id == entry.id:
            navigation.show_page("capture")
        else:
            workspace.open_entry(entry)


def correct(workspace, navigation, commands, message, window, entry) -> None:
    """Another record in an entry's place."""
    kind = entry.kind
    if kind == EntryKind.CAPTURE:
        message.say(tr("A capture is corrected by bringing it in again; withdraw this one afterwards."))
    elif kind in (EntryKind.DAMAGED, EntryKind.NEWER):
        message.say(tr("This entry can be seen and withdrawn (Del), but not changed here."))
    elif kind == EntryKind.DECISION:
        commands.run("jobs.decide", entry)
    elif kind == EntryKind.CARD:
        navigation.show_page("card").show_card(entry.record.machine)
    elif kind == EntryKind.PHOTO:
        commands.run("photos.show", entry)
    elif kind not in ALL_FORMS:
        message.say(tr("Enter it again as it should be, and withdraw this one (Del)."))
    else:
        form = ALL_FORMS[kind](entry.record, parent=window)
        if form.exec():
            workspace.correct(entry, replace(form.answer(), circuit=entry.record.circuit))


def correct_chosen(trail, commands) -> None:
    """Correct the entry that is chosen in the trail."""
    entry = trail.chosen()
    if entry is not None:
        commands.run("entries.correct", entry)


def withdraw(workspace, entry) -> None:
    """Take an entry out of the evidence, or put it back."""
    workspace.withdraw(entry, not entry.withdrawn)


def withdraw_chosen(trail, workspace) -> None:
    """The same for the entry that is chosen in the trail."""
    entry = trail.chosen()
    if entry is not None:
        withdraw(workspace, entry)


def overtaken(workspace, message, window, error, entry) -> None:
    """Somebody else changed what was being changed here: theirs stands, unless the person puts theirs over it."""
    if error.yours is None or entry is None:
        message.say(tr("The entry was {it}: it is shown as it is now.", it=str(error).partition(":")[0]))
        return
    form = OvertakenForm(error, window)
    if form.exec():
        workspace.correct(error.theirs, replace(error.yours, circuit=entry.record.circuit))


def add_value(workspace, message, window, like=None) -> None:
    """A reading of what the job's card publishes."""
    job = workspace.job
    card = card_of(job) if job else None
    if card is None or not any(circuit.published for circuit in card.circuit):
        message.say(tr("This job has no card that publishes anything: fill one in, or load it (Ctrl+B)."))
        return
    form = ValueForm(None, window, card=card)
    if like is not None:
        wanted = (like.circuit, like.between, like.quantity, like.state, like.when)
        at = next(
            (
                k
                for k, (name, row) in enumerate(form.rows)
                if (name, row.between, row.quantity, row.state, row.when) == wanted
            ),
            0,
        )
        form.row.setCurrentIndex(at)
        form.value.setFocus()
    if form.exec():
        workspace.add(form.answer())
