"""What can be done from anywhere in the window: the keys, as data."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from sagen.desk.actions import Action, Hint, spelled
from sagen.model.language import titled, tr, worded
from sagen.model.vocabulary import EntryKind, Leg

#: by command and its arguments the key that runs it
KEYS_OF: dict[tuple, str] = {}


def _command(keys: str, words: str, name: str, *arguments) -> Action:
    """A key that runs a command of the window's registry."""
    KEYS_OF[name, *arguments] = keys
    return Action(keys, words, lambda commands: commands.run(name, *arguments))


ACTIONS = (
    _command("Ctrl+J", tr("job log"), "jobs.show_log"),
    _command("Ctrl+Shift+J", tr("the job before this one"), "jobs.show_before"),
    _command("Ctrl+N", tr("new job"), "jobs.new"),
    _command("Ctrl+O", tr("bring a capture in"), "captures.choose"),
    _command("Ctrl+M", tr("circuit and meter"), "view.show_circuit"),
    _command("Ctrl+I", tr("live"), "view.show_with_job", "live"),
    _command("Ctrl+Shift+T", tr("the engine's modules"), "view.show_with_job", "module"),
    _command("Ctrl+Space", tr("probe mode"), "instruments.probe"),
    _command("Ctrl+Shift+P", tr("picture board"), "view.show_with_job", "board"),
    _command("Ctrl+Shift+B", tr("a sensor in the hand"), "view.show_with_job", "tester"),
    _command("Ctrl+P", tr("printed pages"), "jobs.show_report"),
    _command("Ctrl+G", tr("plan"), "view.show_with_job", "plan"),
    _command("Ctrl+B", tr("machine card"), "view.show_with_job", "card"),
    _command("Ctrl+U", tr("taken apart, parts, also seen"), "view.show_with_job", "work"),
    _command("Ctrl+H", tr("shelf"), "view.show_page", "shelf"),
    _command("Ctrl+Shift+V", tr("paste a photo"), "photos.paste"),
    _command("Ctrl+Y", tr("a reading by the card"), "entries.add_value"),
    _command("Ctrl+D", tr("do the check on the card"), "view.do_shown_check"),
    _command("Ctrl+Shift+D", tr("show another check"), "view.another_check"),
    _command("Ctrl+K", tr("put a code on the trail"), "entries.add", EntryKind.CODE),
    _command("Ctrl+R", tr("put a repair on the trail"), "entries.add", EntryKind.REPAIR),
    _command("Ctrl+E", tr("proof"), "view.show_with_job", "proof"),
    _command("Ctrl+Z", tr("undo"), "view.undo"),
    _command("Ctrl+Shift+Z", tr("redo"), "view.redo"),
    _command("Ctrl+Shift+R", tr("the shop's own record weighs in, or not"), "view.toggle_record"),
    _command("F2", tr("correct the chosen entry"), "entries.correct_chosen"),
    _command("F4", tr("what happened today"), "view.show_said"),
    _command("F6", tr("next pane"), "view.next_pane"),
    _command("Ctrl+L", tr("light or dark"), "view.toggle_theme"),
    _command("Ctrl+,", tr("settings"), "view.show_page", "settings"),
    _command("F1", tr("the guide to this page"), "view.show_guide"),
    _command("Shift+F1", tr("these keys"), "view.show_keys"),
    _command("Ctrl+Q", tr("close"), "view.close"),
)
#: what a folder can be watched for: its name in the settings, and in words
WATCHED = {"captures": tr("captures"), "photos": tr("photos")}
#: by stage of a job's way what can be done there: words, and the command with its arguments
WAY = {
    Leg.CAME_IN: (
        (tr("A complaint or another entry"), "entries.add", EntryKind.COMPLAINT), (tr("A trouble code"), "entries.add", EntryKind.CODE),
        (tr("Machine card"), "view.show_with_job", "card"), (tr("Module: codes and values"), "view.show_with_job", "module"),
    ),
    Leg.MEASURED: (
        (tr("Circuit and meter"), "view.show_circuit"), (tr("Bring a capture in"), "captures.choose"),
        (tr("Live"), "view.show_with_job", "live"), (tr("Probe mode"), "instruments.probe"),
        (tr("Picture board: which looks like yours?"), "view.show_with_job", "board"),
        (tr("How it cranks, by its sound"), "captures.hear"), (tr("How hard the taps were, by their sound"), "captures.hear_taps"), (tr("A reading by the card"), "entries.add_value"), (tr("Sensor in the hand"), "view.show_with_job", "tester"),
    ),
    Leg.FOUND: (
        (tr("Plan"), "view.show_with_job", "plan"), (tr("The check on the card"), "view.do_shown_check"),
        (tr("Known-good ones on the shelf"), "view.show_page", "shelf"),
    ),
    Leg.DONE: (
        (tr("A repair"), "entries.add", EntryKind.REPAIR), (tr("Taken apart, parts, also seen"), "view.show_with_job", "work"),
    ),
    Leg.PROVEN: ((tr("Proof"), "view.show_with_job", "proof"),),
    Leg.PAPERS: ((tr("Printed pages"), "jobs.show_report"),),
}  # fmt: skip
TRAIL_HINTS = (Hint(tr("Enter"), tr("open an entry of the trail")), Hint("Del", tr("withdraw or restore it")))
_KEYS = {action.words: action.keys for action in ACTIONS}


def with_key(tip: str, words: str) -> str:
    """A tip with the key of the action of these words behind it; raises KeyError where there is no such action."""
    return f"{tip} ({spelled(_KEYS[words])})"


def more_rows(run: Callable, of_log: Iterable[tuple[str, str]], added: Iterable[str]) -> tuple[tuple, ...]:
    """The rows of the menu More: words and what they run, or a menu of its own; pages that extensions added come last."""
    practice = (
        (tr("Lessons and machines to practise on"), "practice.begin"), (tr("What it was, and how it went"), "practice.debrief"),
        (tr("A case of this job, for others to practise on"), "practice.hand_over"),
    )  # fmt: skip
    return (
        *(
            (f"{words}\t{spelled(KEYS_OF[command])}", run(*command))
            for words, command in (
                (tr("Settings"), ("view.show_page", "settings")),
                (tr("Guide"), ("view.show_guide",)),
                (tr("What happened today"), ("view.show_said",)),
            )
        ),
        *(
            (tr("Watch a folder for {what}", what=words), run("instruments.watch", what))
            for what, words in WATCHED.items()
        ),
        (tr("Instruments"), run("instruments.choose")),
        (tr("Practice"), tuple((words, run(command)) for words, command in practice)),
        (tr("Job and log"), tuple((words, run(command)) for words, command in of_log)),
        *((titled(worded(name)), run("view.show_page", name)) for name in added),
    )
