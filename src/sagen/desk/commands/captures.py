"""Captures: brought in, laid over one another, searched, kept as known-good, taken again; and checks that ask for one."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from PySide6.QtWidgets import QFileDialog

from sagen.casework.captures import HuntEvents
from sagen.casework.examination import Incoming, build_pyramids
from sagen.casework.hearing import QUESTION, HearCranking, HearTaps, words
from sagen.casework.laid_over import CompareEnds, LayModelUnder, LayOtherBankUnder, LayUnder
from sagen.casework.shelf import KeepAsGood
from sagen.desk.forms.checks import CaptureForm, LookForm
from sagen.desk.forms.entries import RepairForm, TesterForm
from sagen.desk.forms.events import EventsForm
from sagen.desk.forms.job import CylindersForm
from sagen.desk.lenses.tap_guide import TapGuide
from sagen.desk.parts import chosen_files, last_folder
from sagen.instruments.stand_in import recorded
from sagen.kinds.kind import kind_of
from sagen.model.language import titled, tr, worded
from sagen.model.practice import practice_of
from sagen.model.trail import KeptReference, RepairEntry, ScanEntry
from sagen.model.vocabulary import Capability, CheckKind, CodesBack, Scan
from sagen.reason.checks import recorder_settings
from sagen.reason.facts import knowledge
from sagen.reason.several import circuits_of

CAPTURES = tr("Captures (*.csv *.tsv *.txt *.wav *.mat *.mf4 *.h5 *.hdf5 *.npy *.npz);;All files (*)")


def choose(workspace, settings, window) -> None:
    """Bring captures in from files."""
    names = chosen_files(window, settings, tr("Bring captures in"), CAPTURES)
    if names and workspace.core is not None:
        workspace.bring_in([Path(name) for name in names])


def lay_under(workspace, message, name, token, sheet) -> None:
    """Lay another capture under the one on the bench, in every lens; nothing is written."""
    under = KeptReference(name, token, sheet)
    _lay(
        workspace,
        message,
        lambda job, entry: LayUnder(job.id, job, entry, under),
        tr("{name} is laid under it.", name=name),
    )


def lay_model_under(workspace, message) -> None:
    """Lay what the model expects of a sound circuit under the capture on the bench; nothing is written."""
    _lay(workspace, message, lambda job, entry: LayModelUnder(job.id, job, entry))


def lay_other_bank_under(workspace, message) -> None:
    """Lay each bank's sensor of the capture on the bench under its twin of the other bank; nothing is written."""
    _lay(workspace, message, lambda job, entry: LayOtherBankUnder(job.id, job, entry))


def _lay(workspace, message, make, otherwise: str = "") -> None:
    """Lay what the command that `make` makes finds under the capture on the bench; `otherwise` is said where it says nothing."""
    opened, job = workspace.opened, workspace.job
    if opened is None or opened.entry is None or job is None:
        message.say(tr("Open a capture of the trail first: this is laid under it."))
        return

    def laid(answer) -> None:
        workspace.lay_on_bench(answer.opened)
        message.say(" ".join(answer.said) or otherwise)

    workspace.submit(make(job, opened.entry), laid, slot="bench")


def hunt_events(workspace, navigation, window) -> None:
    """Look through the capture on the bench for everything that came and went; a row jumps to its place."""
    opened, job = workspace.opened, workspace.job
    if opened is None or job is None:
        return

    def show(found) -> None:
        if workspace.opened is not opened:
            return
        form = EventsForm(opened.capture.name, found, window)
        if form.exec():
            workspace.add(form.answer(), job=job.id)
        elif form.jump_to is not None:
            navigation.page("capture").view.look_at_span(form.jump_to.start_s, form.jump_to.end_s)

    workspace.submit(HuntEvents(job.id, opened), show, slot="events")


def keep_as_good(workspace, message, source) -> None:
    """Keep the capture on the bench as known-good."""
    opened, job = workspace.opened, workspace.job
    if opened is None or opened.entry is None or job is None:
        return
    workspace.submit(
        KeepAsGood(job.id, job, opened.entry, source),
        lambda kept: message.say(
            tr(
                "{name} is on the shelf as known-good for {card}: offered by itself from now on.",
                name=kept.name,
                card=kept.card,
            )
        ),
    )


def compare_ends(workspace, message, other, pull_up_ohm) -> None:
    """Compare the capture on the bench with one at the other end of the wire; the answer goes on the trail of their job."""
    job, opened = workspace.job, workspace.opened
    if job is None or opened is None or opened.entry is None:
        return
    pair = (opened.entry, other)
    if opened.sheet.conditions.end == "module":
        pair = (other, opened.entry)

    def show(found) -> None:
        workspace.add(found.answer, job=job.id)
        message.say(" ".join(found.said))

    workspace.submit(CompareEnds(job.id, job, *pair, pull_up_ohm), show, slot="ends")


def record_stand_in(workspace, instruments, message, state) -> None:
    """Record with the stand-in, as a file would be brought in."""
    job, name = workspace.job, instruments.stand_in or "stand-in"

    def record(_task) -> Incoming:
        recorder = instruments.stand_in_for(job).recorder(state)
        capture = recorded(recorder, f"{name}-{state}.csv")
        return Incoming(Path(capture.name), capture, recorder.sheet(), pyramids=build_pyramids(capture))

    def show(incoming: Incoming) -> None:
        if workspace.job is not None and workspace.job.id == job.id:
            workspace.show_incoming(incoming)

    workspace.compute(record, show, message.say)


# checks -----------------------------------------------------------------------------------------------------


def do_check(workspace, commands, best) -> None:
    """Bring up what the check on the card needs."""
    workspace.circuit = best.circuit
    commands.run(DOING[best.check.kind], best.check, best.text)


def take_reading(workspace, navigation, check, text) -> None:
    page = navigation.show_circuit(workspace.circuit)
    if page is not None:
        page.aim(check.point, check.state)


def take_recording(workspace, commands, instruments, window, check, text) -> None:
    """What to set on the recorder, and where its capture comes from."""
    circuits = circuits_of(workspace.job.records())
    spec = circuits.get(workspace.circuit, next(iter(circuits.values())))
    guide = None
    if not kind_of(spec.sensor).has(Capability.TURNS):
        weighed = workspace.last_weighed
        guide = TapGuide(weighed.taps.now if weighed else None)
    form = CaptureForm(
        check, text, recorder_settings(check, spec), window, stand_in=bool(instruments.stand_in), guide=guide
    )
    if not form.exec():
        return
    if form.by_eye:
        commands.run("captures.inspect", check, text)
    elif form.from_stand_in:
        commands.run("captures.record_stand_in", check.state)
    else:
        commands.run("captures.choose")


def record_again(workspace, commands, record) -> None:
    """Take a recording again under the same conditions."""
    state = record.sheet.conditions.state
    workspace.circuit = record.circuit
    all_of_them = [check for check in knowledge().checks if check.kind == CheckKind.CAPTURE]
    check = next((check for check in all_of_them if check.state == state), all_of_them[0])
    words = tr("The same as {name}: same probes, same place, {state}.", name=record.name, state=worded(state))
    commands.run("captures.take_recording", check, words)


def inspect(workspace, commands, window, check, text) -> None:
    if practice_of(workspace.job.records()):
        commands.run("practice.seen", check.slug)  # the machine of a practice job answers itself
        return
    form = LookForm(check, text, window)
    if form.exec():
        workspace.add(replace(form.answer(), circuit=workspace.circuit))


SOUNDS = tr("Sound (*.wav)")


def hear(workspace, message, settings, window) -> None:
    """How the engine cranks, by a recording of its sound: the starter's question is answered by what is heard."""
    job = workspace.job
    if job is None:
        message.say(tr("Open a job first."))
        return
    cylinders = job.cylinders
    if not cylinders:  # the strokes are counted by that
        form = CylindersForm(window)
        cylinders = form.answer() if form.exec() else None
    if not cylinders:
        return
    name, _ = QFileDialog.getOpenFileName(window, tr("The sound of cranking"), str(last_folder(settings)), SOUNDS)
    if not name:
        return

    def ask(heard) -> None:
        if workspace.job is None or workspace.job.id != job.id:
            return
        form = LookForm(knowledge().check(QUESTION), words(heard.heard), window)
        form.outcome.setCurrentIndex(form.outcome.findData(heard.outcome))
        if form.exec():
            workspace.add(replace(form.answer(), seen=heard.short, circuit=workspace.circuit))

    workspace.submit(HearCranking(job.id, name, cylinders), ask, failed=message.say)


def hear_taps(workspace, message, settings, window) -> None:
    """How hard the taps of the capture on the bench were, by a recording of their sound; its entry is corrected by that."""
    opened = workspace.opened
    if opened is None or opened.entry is None or opened.entry.record.strikes is None:
        message.say(tr("Open a capture of taps first: its sound tells how hard each was struck."))
        return
    name, _ = QFileDialog.getOpenFileName(window, tr("The sound of the taps"), str(last_folder(settings)), SOUNDS)
    if not name:
        return

    def keep(answer) -> None:
        record, said = answer
        workspace.correct(opened.entry, record, job=opened.job_id)
        message.say(said)

    workspace.submit(HearTaps(opened.job_id, opened.entry.record, name), keep, failed=message.say)


def swap(workspace, window, check, text) -> None:
    form = RepairForm(parent=window, likely=RepairEntry(check.part, text=tr("Swapped to try.")))
    if form.exec():
        workspace.add(replace(form.answer(), circuit=workspace.circuit))


def scan(workspace, commands, window, check, text) -> None:
    if practice_of(workspace.job.records()):
        commands.run("practice.seen", check.slug)
        return
    form = TesterForm(ScanEntry(check.slug, CodesBack.NEVER if check.slug == Scan.CODES_BACK else 0.0), window)
    form.setWindowTitle(titled(check.name))
    if form.exec():
        workspace.add(form.answer())


#: by the kind of check, the command that does it; a new kind is a row
DOING: dict[CheckKind, str] = {
    CheckKind.METER: "captures.take_reading", CheckKind.CAPTURE: "captures.take_recording",
    CheckKind.LOOK: "captures.inspect", CheckKind.SWAP: "captures.swap", CheckKind.SCAN: "captures.scan",
}  # fmt: skip
