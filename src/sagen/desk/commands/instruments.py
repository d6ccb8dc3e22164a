"""Instruments: where they answer, probe mode, folders that are watched, recordings."""

from __future__ import annotations

from PySide6.QtWidgets import QFileDialog

from sagen.desk.at_hand import InstrumentsForm
from sagen.desk.parts import last_folder
from sagen.desk.probe import ProbeWindow
from sagen.desk.window_actions import WATCHED
from sagen.model.language import tr


def choose(instruments, window) -> None:
    """State where instruments answer; remembered."""
    form = InstrumentsForm(instruments.addresses, window, stand_in=bool(instruments.stand_in))
    if form.exec():
        instruments.addresses = form.answer()


def probe(workspace, instruments, settings, message, window) -> ProbeWindow | None:
    """The whole window for one step at a time, hands full."""
    if workspace.job is None:
        message.say(tr("Open a job first."))
        return None
    window.probing = ProbeWindow(workspace, instruments, settings, window)
    window.probing.begin()
    return window.probing


def watch(watched, settings, window, what) -> None:
    """Choose a folder whose new photos go on the trail, or whose new captures come to the bench, by themselves; none chosen:
    none is watched."""
    name = QFileDialog.getExistingDirectory(
        window, tr("Watch a folder for {what}", what=WATCHED[what]), str(last_folder(settings))
    )
    watched.watch(what, name)


def stop_recording(workspace) -> None:
    """End the recording that runs, whichever job it is of."""
    running = [recording for recording in workspace.recordings if recording.running]
    if running:
        workspace.held.stop(running[-1])


def show_recording(workspace, navigation) -> None:
    """The live page, with the job that a recording is of."""
    if not workspace.recordings:
        return
    recording = workspace.recordings[-1]
    if workspace.job is not None and workspace.job.id == recording.job:
        navigation.show_page("live")
    else:
        workspace.open_job(recording.job, then=lambda: navigation.show_page("live"))
