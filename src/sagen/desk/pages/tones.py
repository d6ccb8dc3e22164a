"""Tones on or off, and how loud: remembered; why it stays silent is told."""

from __future__ import annotations

from PySide6.QtCore import QSettings, Qt, Signal
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QSlider, QWidget

from sagen.desk.ear import Ear, remembered_volume
from sagen.model.language import tr


class Tones(QWidget):
    """A button and a slider over an ear."""

    silent = Signal(str)  #: why nothing can be heard

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.ear = Ear(self)
        self.ear.silent.connect(self.silent)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(5)
        self.button, self.volume = QPushButton(tr("Tones")), QSlider(Qt.Orientation.Horizontal)
        self.button.setCheckable(True)
        self.button.setChecked(True)
        self.button.setToolTip(tr("A tone when the signal is lost, another when it is back (Alt+V)"))
        self.volume.setRange(0, 100)
        self.volume.setFixedWidth(46)
        self.volume.setAccessibleName(tr("Volume of the tones"))
        self.volume.setToolTip(tr("Volume of the tones"))
        row.addWidget(self.button)
        row.addWidget(self.volume)

    def remember(self, settings: QSettings) -> None:
        """Take up what was set the last time, and remember what is set from now on."""
        self._settings = settings
        self.recall()
        self.ear.volume, self.ear.muted = self.volume.value() / 100, not self.button.isChecked()

        def mute(on: bool) -> None:
            self.ear.muted = not on
            settings.setValue("live/tones", "on" if on else "off")
            if on and self.ear.why:
                self.silent.emit(self.ear.why)

        def louder(value: int) -> None:
            self.ear.volume = value / 100
            settings.setValue("live/volume", value)

        self.button.toggled.connect(mute)
        self.volume.valueChanged.connect(louder)

    def recall(self) -> None:
        """As it was set, here or on the page of settings."""
        self.volume.setValue(remembered_volume(self._settings))
        self.button.setChecked(str(self._settings.value("live/tones", "on")) == "on")
