"""The window itself: pages, panes, light and dark, the list of keys."""

from __future__ import annotations

from PySide6.QtWidgets import QApplication, QWidget

from sagen.desk.actions import Hint, KeysDialog
from sagen.desk.forms.said import SaidDialog
from sagen.desk.help.about import AboutDialog
from sagen.desk.pages import page_names
from sagen.desk.parts import focus_next
from sagen.desk.theme import theme
from sagen.desk.window_actions import ACTIONS, TRAIL_HINTS
from sagen.model.language import tr


def show_said(message, window) -> None:
    """What was said since the window was opened."""
    SaidDialog(message.told, window).exec()


def show_page(navigation, name) -> QWidget:
    return navigation.show_page(name)


def show_with_job(navigation, name) -> QWidget | None:
    return navigation.show_with_job(name)


def show_circuit(navigation) -> QWidget | None:
    return navigation.show_circuit()


def toggle_record(workspace, settings, message) -> None:
    """Whether the shop's own jobs weigh in, or only what ships with the program."""
    on = not workspace.record_counts
    settings.setValue("reason/record", int(on))
    message.say(
        tr("The shop's own proven jobs weigh in.")
        if on
        else tr("The shop's own jobs do not weigh in: as the program ships.")
    )
    workspace.wish(record_counts=on)


def toggle_theme(settings, navigation, header, window) -> None:
    choose_look(settings, navigation, header, window, "dark" if theme.current().name == "light" else "light")


def choose_look(settings, navigation, header, window, name) -> None:
    """Light, dark, or as the desktop has it; remembered."""
    app = QApplication.instance()
    settings.setValue("look", name)
    theme.apply(app, theme.look_of(app, name))
    header.apply_theme()
    navigation.apply_theme()
    for widget in window.findChildren(QWidget):
        widget.update()


def keys_dialog(navigation, window) -> KeysDialog:
    """The list of keys: the window's, then those of each page that has some."""
    groups = [(tr("WINDOW"), ACTIONS), (tr("TRAIL"), TRAIL_HINTS)]
    for name in page_names():
        page = navigation.page(name)
        rows = [*page.shortcuts, *page.hints]
        if rows:
            groups.append((page.title.upper(), rows))
    return KeysDialog(
        [(title, [row for row in rows if isinstance(row, Hint) or row.words]) for title, rows in groups], window
    )


def show_keys(navigation, window) -> None:
    keys_dialog(navigation, window).exec()


def show_about(workspace, window) -> None:
    """Name, version, where the log lies, and licences."""
    log = workspace.log
    AboutDialog(log.database.place.said if log is not None else "", window).exec()


def show_guide(window) -> None:
    window.show_guide()


def next_pane(trail, bench, suspects, window) -> None:
    window.next_side()
    focus_next((trail, bench, suspects), QApplication.focusWidget())


def another_check(suspects) -> None:
    suspects.card.show_another()


def do_shown_check(suspects) -> None:
    suspects.card.do_it()


def undo(workspace) -> None:
    workspace.undo()


def redo(workspace) -> None:
    workspace.redo()


def close(window) -> None:
    window.close()
