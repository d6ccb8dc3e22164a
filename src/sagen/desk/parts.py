"""What the window is put together from beside its panes: header, bench, message line, list of keys."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable
from datetime import datetime
from pathlib import Path

from PySide6.QtCore import QSettings, Qt
from PySide6.QtWidgets import (
    QFileDialog,
    QHBoxLayout,
    QMenu,
    QProgressBar,
    QPushButton,
    QSizePolicy,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from sagen.desk.announce import announce
from sagen.desk.page_stack import PageStack
from sagen.desk.sizes import HEADER_HEIGHT
from sagen.desk.theme import theme
from sagen.desk.theme.plain import Label, plain_tip
from sagen.desk.window_actions import with_key
from sagen.model.language import lowered, tr
from sagen.model.words import step_words

MOST_TOLD = 300  #: lines that are remembered


class CloseButton(QToolButton):
    """Closes what it stands on. Its sign is a letter: that changes its colour with the look."""

    def __init__(self, name: str):
        super().__init__()
        self.setText("\u00d7")
        self.setAccessibleName(name)
        self.setToolTip(name)


class Message(QWidget):
    """A line across the bench: what went wrong, or what was done. Stays until it is read."""

    def __init__(self, parent=None):
        super().__init__(parent)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        self.text = Label()
        self.text.setObjectName("error")
        self.text.setWordWrap(True)
        self.text.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.close_button = CloseButton(tr("Close the message"))
        row.addWidget(self.text, 1)
        row.addWidget(self.close_button)
        self.close_button.clicked.connect(self.hide)
        self.told: deque[tuple[datetime, str]] = deque(maxlen=MOST_TOLD)  #: what was said since the window is open
        self.hide()

    def say(self, text: str) -> None:
        self.told.append((datetime.now(), str(text)))
        self.text.setText(text)
        announce(self.text, str(text))
        self.show()


class RecordingChip(QWidget):
    """The recording that runs or waits to be kept: whose, how long, with its own Stop. In sight on every page."""

    def __init__(self, parent=None):
        super().__init__(parent)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(4)
        self.open, self.stop = QPushButton(), QToolButton()
        self.open.setObjectName("recording")
        self.open.setToolTip(tr("Show it on the live page of its job"))
        self.open.setMinimumWidth(80)
        self.stop.setText(tr("Stop"))
        self.stop.setToolTip(tr("End the recording; it stays until it is kept or discarded"))
        row.addWidget(self.open)
        row.addWidget(self.stop)
        self.hide()

    def show_recordings(self, recordings) -> None:
        """The latest of those that run or wait."""
        if not recordings:
            self.hide()
            return
        last = recordings[-1]
        minutes, seconds = divmod(int(last.seconds), 60)
        more = tr(" and {recordings} more", recordings=len(recordings) - 1) if len(recordings) > 1 else ""
        what = tr("Recording") if last.running else tr("Recorded, not kept:")
        self.open.setText(f"{what} {minutes}:{seconds:02d}, {last.machine[:24]}{more}".replace("&", "&&"))
        self.stop.setVisible(last.running)
        self.show()


class JobButton(QPushButton):
    """The job's name, cut with an ellipsis where there is no room for it; the whole stands in the tip."""

    ROOM = 52  #: px beside the text: icon and margins

    def __init__(self, text: str, parent=None):
        super().__init__(parent)
        self._whole, self._tip = text, ""
        self.setText(text)

    def setText(self, text: str) -> None:
        self._whole = text
        self._fit()

    def text(self) -> str:
        """The text, uncut."""
        return self._whole

    def setToolTip(self, tip: str) -> None:
        self._tip = tip
        self._fit()

    def resizeEvent(self, event) -> None:
        super().resizeEvent(event)
        self._fit()

    def _fit(self) -> None:
        room = max(self.width() - self.ROOM, 40)
        shown = self.fontMetrics().elidedText(self._whole, Qt.TextElideMode.ElideRight, room)
        super().setText(shown)
        super().setToolTip(plain_tip(f"{self._whole}\n\n{self._tip}".strip()) if shown != self._whole else self._tip)


class Header(QWidget):
    """The job's name, what is being worked on, and what can be done from anywhere."""

    def __init__(self, parent=None):
        super().__init__(parent)
        self.setObjectName("bar")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(HEADER_HEIGHT)
        row = QHBoxLayout(self)
        row.setContentsMargins(6, 2, 6, 2)
        row.setSpacing(6)
        self.job_button = JobButton("Sagen")
        self.job_button.setObjectName("job")
        self.job_button.setToolTip(with_key(tr("Open the job log"), tr("job log")))
        self.job_button.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        row.addWidget(self.job_button, 1)
        self.progress_text = Label()
        self.progress_text.setObjectName("quiet")
        # What comes and goes never makes the window wider.
        self.progress_text.setMinimumWidth(1)
        self.progress = QProgressBar()
        self.progress.setFixedWidth(110)
        self.progress.setTextVisible(False)
        self.stop = QToolButton()
        self.stop.setText(tr("Stop"))
        for item in (self.progress_text, self.progress, self.stop):
            row.addWidget(item)
            item.hide()
        self.recording = RecordingChip()
        row.addWidget(self.recording)
        self.capture_button = QPushButton(tr(" Capture"))
        self.capture_button.setToolTip(
            with_key(tr("Bring a file in, or drop one on the window"), tr("bring a capture in"))
        )
        self.meter_button = QPushButton(tr(" Meter"))
        self.meter_button.setToolTip(
            with_key(tr("The circuit, its probe points and a reading"), tr("circuit and meter"))
        )
        self.report_button = QPushButton(tr(" Print"))
        self.report_button.setToolTip(with_key(tr("The finding, and the pages of the whole job"), tr("printed pages")))
        self.undo_button, self.redo_button, self.look_button = QToolButton(), QToolButton(), QToolButton()
        #: on a narrow screen the panes beside the bench are folded behind these
        self.side_buttons: dict[str, QToolButton] = {}
        for side, words in (("trail", tr("Trail")), ("suspects", tr("Next check"))):
            button = QToolButton()
            button.setText(words)
            button.setCheckable(True)
            button.setToolTip(with_key(tr("Show or fold: {words}", words=lowered(words)), tr("next pane")))
            button.hide()
            self.side_buttons[side] = button
        self.more_button = QToolButton()
        self.more_button.setText(tr("More"))
        self.more_button.setToolTip(tr("Instruments, watched folders, practice, the log"))
        self.more_button.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self.more_button.hide()
        self.look_button.setAccessibleName(tr("Light or dark"))
        self.look_button.setToolTip(with_key(tr("Light or dark"), tr("light or dark")))
        for each in (
            *self.side_buttons.values(),
            self.capture_button,
            self.meter_button,
            self.report_button,
            self.more_button,
            self.undo_button,
            self.redo_button,
            self.look_button,
        ):
            row.addWidget(each)

        self._words = {button: button.text() for button in (self.capture_button, self.meter_button, self.report_button)}
        for button, words in self._words.items():
            button.setAccessibleName(words.strip())

    #: px that the job's name takes at least, before buttons give up their words for it
    LEAST_NAME = 150

    def resizeEvent(self, event) -> None:
        super().resizeEvent(event)
        self.make_room()

    def make_room(self) -> None:
        """Buttons that have an icon stand without their words where the job's name would else be cut to nothing."""
        for button, words in self._words.items():
            button.setText(words)
        if self.layout().sizeHint().width() - self.job_button.sizeHint().width() + self.LEAST_NAME > self.width():
            for button in self._words:
                button.setText("")

    def offer(self, pages: tuple[tuple[str, Callable | tuple], ...]) -> None:
        """Put pages, by title and what brings them up, behind a button of their own; a tuple of such is a menu within."""
        menu = QMenu(self.more_button)
        for title, show in pages:
            if isinstance(show, tuple):
                within = menu.addMenu(title)
                for words, run in show:
                    within.addAction(words).triggered.connect(run)
            else:
                menu.addAction(title).triggered.connect(show)
        self.more_button.setMenu(menu)
        self.more_button.setVisible(bool(pages))

    def apply_theme(self) -> None:
        """Icons in the ink of the present look."""
        self.capture_button.setIcon(theme.icon("file-plus"))
        self.meter_button.setIcon(theme.icon("gauge"))
        self.report_button.setIcon(theme.icon("printer"))
        self.undo_button.setIcon(theme.icon("undo-2"))
        self.redo_button.setIcon(theme.icon("redo-2"))
        self.job_button.setIcon(theme.icon("list"))
        self.look_button.setIcon(theme.icon("moon" if theme.current().name == "light" else "sun"))

    def show_work(self, what: str, share: float) -> None:
        """Say what is being done; a share of 1 means that nothing is."""
        busy = share < 1.0
        for item in (self.progress_text, self.progress, self.stop):
            item.setVisible(busy)
        self.progress_text.setText(what)
        self.progress.setRange(0, 100 if share > 0 else 0)
        self.progress.setValue(int(100 * share))

    def show_steps(self, undo: str | None, redo: str | None) -> None:
        """What undo and redo would do."""
        for button, text, word, action in (
            (self.undo_button, undo, tr("Undo"), tr("undo")), (self.redo_button, redo, tr("Redo"), tr("redo")),
        ):  # fmt: skip
            button.setEnabled(text is not None)
            button.setToolTip(
                with_key(f"{word}: {step_words(text)}", action) if text else tr("Nothing to {word}", word=lowered(word))
            )
            button.setAccessibleName(word)


class Card(QWidget):
    """A raised surface with lines of text and keys below each other, in `lines`."""

    def __init__(self, parent=None):
        super().__init__(parent)
        self.setObjectName("card")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.lines = QVBoxLayout(self)
        self.lines.setContentsMargins(10, 8, 10, 8)
        self.lines.setSpacing(4)


class Bench(QWidget):
    """The middle pane: a message line over a stack of pages, the empty one first."""

    def __init__(self, parent=None):
        super().__init__(parent)
        self.setObjectName("pane")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(10, 8, 10, 8)
        self.message = Message()
        layout.addWidget(self.message)
        self.stack = PageStack()
        self.start = QWidget()
        self.start_text = Label(tr("Opening the job log"))
        self.start_text.setObjectName("quiet")
        self.start_text.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.start_button = QPushButton(tr("Bring a capture in"))
        self.start_button.setObjectName("first")
        self.start_button.hide()
        inside = QVBoxLayout(self.start)
        inside.addStretch(1)
        inside.addWidget(self.start_text)
        inside.addSpacing(12)
        inside.addWidget(self.start_button, 0, Qt.AlignmentFlag.AlignHCenter)
        inside.addStretch(2)
        self.stack.addWidget(self.start)
        layout.addWidget(self.stack, 1)

    def show_empty(self, captures: int = 0) -> None:
        """No capture on the bench: say how to get one."""
        self.start_text.setText(
            tr("Open a capture of the trail to see it here,\nor drop a recorder's file anywhere on this window.")
            if captures
            else tr(
                "Nothing on the bench yet.\n\nDo a check from the right, enter a meter reading,\nor drop a "
                "recorder's file anywhere on this window."
            )
        )
        self.start_button.show()
        self.stack.setCurrentWidget(self.start)


def focus_next(panes: tuple[QWidget, ...], focus: QWidget | None) -> None:
    """Move the keyboard to the next pane that can take it."""
    at = next((i for i, pane in enumerate(panes) if focus is not None and pane.isAncestorOf(focus)), -1)
    for step in range(1, len(panes) + 1):
        for widget in panes[(at + step) % len(panes)].findChildren(QWidget):
            if widget.isVisible() and widget.isEnabled() and widget.focusPolicy() & Qt.FocusPolicy.TabFocus:
                widget.setFocus(Qt.FocusReason.TabFocusReason)
                return


def last_folder(settings: QSettings) -> Path:
    """Where files were last chosen."""
    return Path(str(settings.value("files/folder", str(Path.home()))))


def chosen_files(window: QWidget, settings: QSettings, title: str, kinds: str) -> list[str]:
    """Files that a person chooses; their folder is remembered."""
    names, _ = QFileDialog.getOpenFileNames(window, title, str(last_folder(settings)), kinds)
    if names:
        settings.setValue("files/folder", str(Path(names[0]).parent))
    return names
