"""The live strip: the stream as it comes, or around what a trigger caught, with expected bands and marks."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QRectF, Qt, QTimer
from PySide6.QtGui import QColor, QPainter, QPen
from PySide6.QtWidgets import QWidget

from sagen.casework.live import Live, Verdict
from sagen.desk.lenses.strip_painter import LEFT, Frame, StripPainter, View
from sagen.desk.theme import theme
from sagen.model.language import tr
from sagen.model.vocabulary import Role
from sagen.model.words import CHANNELS
from sagen.report.scene import MARGIN, Lane, Strip
from sagen.signal.live_buffer import Growing

FRAME_MS = 33
PRE = 0.3  #: share of the picture before a trigger


class LiveStrip(QWidget):
    """Draws a live session thirty times a second; `hold` lets the picture stand while the recording goes on."""

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.live: Live | None = None
        self.span, self.held, self.frames = 1.0, None, 0
        self.ranges: dict[str, float] = {}  #: V of a channel by column; the others fit themselves
        self.message = tr("Nothing is recorded yet. Start (Space).")
        self._painter, self._verdict = StripPainter(), None
        self._fitted: dict[int, tuple[float, float]] = {}
        self._timer = QTimer(self, interval=FRAME_MS, timerType=Qt.TimerType.PreciseTimer)
        self._timer.timeout.connect(self.update)
        self.setMinimumSize(320, 232)  # three channels with their names
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(tr("Live strip: channels as they come"))

    def show_live(self, live: Live | None) -> None:
        self.live, self._verdict, self.held, self._fitted = live, None, None, {}
        self.set_going(live is not None)

    def set_going(self, on: bool) -> None:
        """Draw anew at every tick, or only when asked."""
        if on:
            self._timer.start()
        else:
            self._timer.stop()
            self.update()

    def show_verdict(self, verdict: Verdict) -> None:
        """Take bands and channel names from what the last seconds show."""
        self._verdict = verdict

    def hold(self, on: bool) -> None:
        self.held = self.view() if on and self.live is not None else None
        self.update()

    def view(self) -> View:
        """What is shown now, s."""
        if self.held is not None:
            return self.held
        start, end = self.live.shown_from(self.span, PRE)
        return View(start / self.live.sfreq, end / self.live.sfreq)

    def strip(self) -> Strip:
        """The session as the strip's painter takes it."""
        live, done = self.live, self._verdict.done if self._verdict else None
        lanes = []
        for at, channel in enumerate(live.channels):
            said = (
                next(
                    (this_channel for this_channel in done.channels if this_channel.sheet.column == channel.column),
                    None,
                )
                if done
                else None
            )
            stated = live.sheet.of(channel.column) if live.sheet else None
            role = said.sheet.role if said else stated.role if stated else Role.OTHER
            bands = said.reading.bands(True) if said and said.reading else ()
            low, high = self._range(at, channel, bands)
            name = CHANNELS[role] if role != Role.OTHER else channel.column
            lanes.append(
                Lane(
                    name, role, channel.unit, Growing(live.rings[at]), channel.scale, channel.offset, low, high,
                    bands, column=channel.column if name != channel.column else "",
                )
            )  # fmt: skip
        holes = live.recording.holes if live.recording is not None else ()
        return Strip(
            live.sfreq, live.samples, tuple(lanes), holes=tuple((a / live.sfreq, b / live.sfreq) for a, b in holes)
        )

    def _range(self, at: int, channel, bands) -> tuple[float, float]:
        """A channel's range: the chosen one, else what it holds, which grows at once and shrinks never while it runs."""
        chosen = self.ranges.get(channel.column)
        if chosen:
            return (-chosen if self._fitted.get(at, (0.0, 0.0))[0] < -0.1 * chosen else -0.05 * chosen), 1.05 * chosen
        low, high = self._fitted.get(at, (np.inf, -np.inf))
        if self.frames % 10 == 0 or not np.isfinite(low):
            view = self.view()
            seen = np.concatenate(self.live.view(at, view.start * self.live.sfreq, view.end * self.live.sfreq, 64))
            seen = seen[np.isfinite(seen)] * channel.scale + channel.offset
            if len(seen):
                low, high = min(low, float(seen.min())), max(high, float(seen.max()))
                self._fitted[at] = low, high
        if not np.isfinite(low):
            return 0.0, 1.0
        low, high = min(low, 0.0, *(band[0] for band in bands)), max(high, *(band[1] for band in bands), low + 1e-6)
        margin = MARGIN * (high - low) or 0.5
        return low - margin, high + margin

    def paintEvent(self, _event) -> None:
        self.frames += 1
        if self.live is None or not self.live.samples:
            painter = QPainter(self)
            painter.fillRect(self.rect(), QColor(theme.current().raised))
            painter.setPen(QColor(theme.current().quiet))
            where = self.rect().adjusted(30, 0, -30, 0)
            painter.drawText(where, Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, self.message)
            return
        view = self.view()
        frame = Frame(self.strip(), view, self.size())
        self._painter.paint(self, frame, None)
        self._paint_marks(frame, view)

    def _paint_marks(self, frame: Frame, view: View) -> None:
        painter, colours, rect = QPainter(self), theme.current(), frame.plot_rect()
        painter.setFont(theme.font(9, bold=True))
        painter.setPen(QPen(QColor(colours.mark), 1.5))
        for words, times in list(self.live.marks.items()):
            for at in times:
                if view.start <= at <= view.end:
                    x = frame.x_of(at)
                    painter.drawLine(int(x), int(rect.top() - 8), int(x), int(rect.bottom()))
                    painter.drawText(QRectF(x + 4, rect.top() - 20, 160, 16), Qt.AlignmentFlag.AlignLeft, words[:24])
        if self.live.trigger is not None and self.live.fired:
            x = frame.x_of(self.live.fired[-1] / self.live.sfreq)
            if LEFT <= x <= rect.right():
                painter.setPen(QPen(QColor(colours.mark), 1, Qt.PenStyle.DotLine))
                painter.drawLine(int(x), int(rect.top()), int(x), int(rect.bottom()))
