"""Photos: from files and the clipboard, shown."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QBuffer, QByteArray, QIODevice
from PySide6.QtWidgets import QApplication

from sagen.desk.parts import chosen_files
from sagen.model.language import tr


def choose(workspace, navigation, settings, window) -> None:
    """Photos from files."""
    for name in chosen_files(window, settings, tr("Photos"), tr("Photos (*.jpg *.jpeg *.png)")):
        workspace.keep_photo(Path(name), then=lambda entry: show(navigation, entry))


def paste(workspace, navigation, message) -> None:
    """A picture from the clipboard becomes a photo of the trail."""
    image = QApplication.clipboard().image()
    if image.isNull():
        message.say(tr("There is no picture to paste."))
        return
    held = QByteArray()
    buffer = QBuffer(held)
    buffer.open(QIODevice.OpenModeFlag.WriteOnly)
    image.save(buffer, "PNG")
    workspace.keep_photo(data=bytes(held.data()), then=lambda entry: show(navigation, entry))


def show(navigation, entry) -> None:
    """A photo of the trail, on the bench."""
    navigation.show_page("photo").show_entry(entry)


def show_kept(navigation, token, title) -> None:
    """A photo of the shelf, on the bench."""
    navigation.show_page("photo").show_photo(token, title)
