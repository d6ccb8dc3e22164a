"""What can be done from anywhere in the window: the keys, as data."""

from __future__ import annotations

from sagen.desk.actions import Action, Hint
from sagen.model.vocabulary import EntryKind

ACTIONS = (
    Action("Ctrl+J", "job log", lambda shell: shell.show_log()),
    Action("Ctrl+N", "new job", lambda shell: shell.new_job()),
    Action("Ctrl+O", "bring a capture in", lambda shell: shell.choose_files()),
    Action("Ctrl+M", "circuit and meter", lambda shell: shell.show_circuit()),
    Action("Ctrl+P", "printed finding", lambda shell: shell.show_report()),
    Action("Ctrl+D", "do the check on the card", lambda shell: shell.suspects.card.do_it()),
    Action("Ctrl+Shift+D", "show another check", lambda shell: shell.suspects.card.show_another()),
    Action("Ctrl+K", "put a code on the trail", lambda shell: shell.add_entry(EntryKind.CODE)),
    Action("Ctrl+R", "put a repair on the trail", lambda shell: shell.add_entry(EntryKind.REPAIR)),
    Action("Ctrl+E", "put a proof on the trail", lambda shell: shell.add_entry(EntryKind.PROOF)),
    Action("Ctrl+Z", "undo", lambda shell: shell.workspace.undo()),
    Action("Ctrl+Shift+Z", "redo", lambda shell: shell.workspace.redo()),
    Action("F2", "correct the chosen entry", lambda shell: shell._with_entry(shell.correct_entry)),
    Action("F6", "next pane", lambda shell: shell.next_pane()),
    Action("Ctrl+L", "light or dark", lambda shell: shell.toggle_look()),
    Action("F1", "these keys", lambda shell: shell.show_keys()),
    Action("Ctrl+Q", "close", lambda shell: shell.close()),
)
TRAIL_HINTS = (Hint("Enter", "open an entry of the trail"), Hint("Del", "withdraw or restore it"))
_KEYS = {one.words: one.keys for one in ACTIONS}


def with_key(tip: str, words: str) -> str:
    """A tip with the key of the action of these words behind it; raises KeyError where there is no such action."""
    return f"{tip} ({_KEYS[words]})"
