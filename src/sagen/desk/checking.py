"""What each kind of check brings up when it is done from its card."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from sagen.model.trail import RepairEntry, ScanEntry
from sagen.model.vocabulary import CheckKind, CodesBack, Scan


def _meter(shell, check, text) -> None:
    page = shell.show_circuit(shell.workspace.circuit)
    if page is not None:
        page.aim(check.point, check.state)


def _capture(shell, check, text) -> None:
    from sagen.desk.forms import CaptureForm
    from sagen.kinds.kind import kind_of
    from sagen.reason.checks import recorder_settings
    from sagen.reason.several import circuits_of

    circuits = circuits_of(shell.workspace.job.records())
    spec = circuits.get(shell.workspace.circuit, next(iter(circuits.values())))
    guide = None
    if not kind_of(spec.sensor).rotating:
        from sagen.desk.lenses.rings import TapGuide

        weighed = shell.workspace.last_weighed
        guide = TapGuide(weighed.taps.now if weighed else None)
    form = CaptureForm(
        check, text, recorder_settings(check, spec), shell, stand_in=bool(shell.workspace.instruments), guide=guide
    )
    if not form.exec():
        return
    if form.by_eye:
        _look(shell, check, text)
    elif form.from_stand_in:
        shell.workspace.record_from_instruments(check.state)
    else:
        shell.choose_files()


def again(shell, record) -> None:
    """Take a recording again: what to set, and where the new one comes from."""
    from sagen.reason.facts import knowledge

    state = record.sheet.conditions.state
    shell.workspace.circuit = record.circuit
    alike = [
        this_check
        for this_check in knowledge().checks
        if this_check.kind == CheckKind.CAPTURE and this_check.state == state
    ]
    check = next(
        iter(alike), next(this_check for this_check in knowledge().checks if this_check.kind == CheckKind.CAPTURE)
    )
    _capture(shell, check, f"The same as {record.name}: same probes, same place, {state.replace('_', ' ')}.")


def _look(shell, check, text) -> None:
    from sagen.desk.forms import LookForm

    form = LookForm(check, text, shell)
    if form.exec():
        shell.workspace.add(replace(form.answer(), circuit=shell.workspace.circuit))


def _swap(shell, check, text) -> None:
    from sagen.desk.forms import RepairForm

    form = RepairForm(RepairEntry(check.part, text="Swapped to try."), parent=shell)
    if form.exec():
        shell.workspace.add(replace(form.answer(), circuit=shell.workspace.circuit))


def _scan(shell, check, text) -> None:
    from sagen.desk.forms import TesterForm

    form = TesterForm(ScanEntry(check.slug, CodesBack.NEVER if check.slug == Scan.CODES_BACK else 0.0), shell)
    form.setWindowTitle(check.name[:1].upper() + check.name[1:])
    if form.exec():
        shell.workspace.add(form.answer())


#: by the kind of check; a new kind is a row
DOING: dict[CheckKind, Callable] = {
    CheckKind.METER: _meter, CheckKind.CAPTURE: _capture, CheckKind.LOOK: _look, CheckKind.SWAP: _swap,
    CheckKind.SCAN: _scan,
}  # fmt: skip
