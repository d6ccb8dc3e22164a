"""What can be done from anywhere in the window: the keys, as data."""

from __future__ import annotations

from sagen.desk.actions import Action, Hint
from sagen.model.vocabulary import EntryKind

ACTIONS = (
    Action("Ctrl+J", "job log", lambda shell: shell.show_log()),
    Action("Ctrl+N", "new job", lambda shell: shell.new_job()),
    Action("Ctrl+O", "bring a capture in", lambda shell: shell.choose_files()),
    Action("Ctrl+M", "circuit and meter", lambda shell: shell.show_circuit()),
    Action("Ctrl+I", "live", lambda shell: shell.show_with_job("live")),
    Action("Ctrl+Shift+T", "the engine's modules", lambda shell: shell.show_with_job("module")),
    Action("Ctrl+Space", "probe mode", lambda shell: shell.probe()),
    Action("Ctrl+Shift+B", "a sensor in the hand", lambda shell: shell.show_with_job("tester")),
    Action("Ctrl+P", "printed pages", lambda shell: shell.show_report()),
    Action("Ctrl+G", "plan", lambda shell: shell.show_with_job("plan")),
    Action("Ctrl+B", "machine card", lambda shell: shell.show_with_job("card")),
    Action("Ctrl+U", "taken apart, parts, also seen", lambda shell: shell.show_with_job("work")),
    Action("Ctrl+H", "shelf", lambda shell: shell.show_page("shelf")),
    Action("Ctrl+Shift+V", "paste a photo", lambda shell: shell.paste()),
    Action("Ctrl+Y", "a reading by the card", lambda shell: shell.add_value()),
    Action("Ctrl+D", "do the check on the card", lambda shell: shell.suspects.card.do_it()),
    Action("Ctrl+Shift+D", "show another check", lambda shell: shell.suspects.card.show_another()),
    Action("Ctrl+K", "put a code on the trail", lambda shell: shell.add_entry(EntryKind.CODE)),
    Action("Ctrl+R", "put a repair on the trail", lambda shell: shell.add_entry(EntryKind.REPAIR)),
    Action("Ctrl+E", "proof", lambda shell: shell.show_with_job("proof")),
    Action("Ctrl+Z", "undo", lambda shell: shell.workspace.undo()),
    Action("Ctrl+Shift+Z", "redo", lambda shell: shell.workspace.redo()),
    Action("Ctrl+Shift+R", "the shop's own record weighs in, or not", lambda shell: shell.toggle_record()),
    Action("F2", "correct the chosen entry", lambda shell: shell._with_entry(shell.correct_entry)),
    Action("F6", "next pane", lambda shell: shell.next_pane()),
    Action("Ctrl+L", "light or dark", lambda shell: shell.toggle_look()),
    Action("F1", "these keys", lambda shell: shell.show_keys()),
    Action("Ctrl+Q", "close", lambda shell: shell.close()),
)
#: pages about the open job, as the menu of the header has them
JOB_PAGES = (
    ("live", "Live"), ("module", "Module: codes and values"), ("tester", "Sensor in the hand"),
    ("plan", "Plan"), ("proof", "Proof"), ("work", "Taken apart, parts, also seen"), ("card", "Machine card"),
)  # fmt: skip
TRAIL_HINTS = (Hint("Enter", "open an entry of the trail"), Hint("Del", "withdraw or restore it"))
_KEYS = {action.words: action.keys for action in ACTIONS}


def with_key(tip: str, words: str) -> str:
    """A tip with the key of the action of these words behind it; raises KeyError where there is no such action."""
    return f"{tip} ({_KEYS[words]})"
