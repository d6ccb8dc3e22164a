"""The Rings lens: strikes laid over each other from their onset, sensors side by side; beside it their spectrum, the
heights by place, and what a load does. Below it what has been tapped, and what is still missing."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPen, QPixmap, QPolygonF, QWheelEvent
from PySide6.QtWidgets import QWidget

from sagen.casework.taps import JobTaps, before_and_after
from sagen.desk.lenses.panel import Panel, sensor_colour, sensor_pen
from sagen.desk.lenses.tap_charts import paint_before_after, paint_heights, paint_loads
from sagen.desk.lenses.tap_guide import paint_guide
from sagen.desk.theme import theme
from sagen.model.language import tr
from sagen.report.rings import RingScene

SPANS_MS = (0.4, 0.8, 1.5, 3.0, 6.8)
ALL, MEAN = "all", "mean"


class RingsView(QWidget):
    """Draws the strikes of one capture, and what the whole job says of its sensors."""

    measured = Signal()
    chosen = Signal(object)  #: which strikes are shown: "all", "mean" or a number from 0

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.scene: RingScene | None = None
        self.taps = JobTaps()
        self.shown: str | int = ALL
        self.span_ms = 3.0
        self.pointer_ms: float | None = None
        self.cursors: dict[str, float] = {}
        self._next = "A"
        self._ground: tuple[tuple, QPixmap] | None = None
        self._beside: tuple[tuple, QPixmap] | None = None  #: all but the waves, which change more often
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumSize(420, 260)
        self.setAccessibleName(tr("Rings: strikes laid over each other from their onset, sensors side by side"))

    # what is shown ------------------------------------------------------------------------

    def show_scene(self, scene: RingScene | None) -> None:
        self.scene, self.cursors, self.pointer_ms, self._ground = scene, {}, None, None
        self.shown = ALL if scene is None or len(scene.strikes) < 13 else MEAN
        self.update()

    def show_taps(self, taps: JobTaps) -> None:
        self.taps, self._ground = taps, None
        self.update()

    def show_strikes(self, which: str | int) -> None:
        self.shown, self._ground = which, None
        self.update()
        self.chosen.emit(which)

    def apply_theme(self) -> None:
        self._ground = None
        self.update()

    @property
    def strike(self) -> int | None:
        return self.shown if isinstance(self.shown, int) else None

    # geometry -----------------------------------------------------------------------------

    def _areas(self) -> tuple[QRectF, QRectF, list[QRectF]]:
        """Where the waves, the list of what was tapped, and the three pictures beside them go."""
        wide, tall = self.width(), self.height()
        side = float(np.clip(0.36 * wide, 190, 460))
        below = float(np.clip(0.30 * tall, 96, 190))
        waves = QRectF(50, 24, wide - side - 62 - 12, tall - below - 24 - 34)
        guide = QRectF(6, tall - below + 4, wide - side - 18, below - 8)
        each = tall / 3
        beside = [QRectF(wide - side + 46, each * at + 24, side - 56, each - 24 - 30) for at in range(3)]
        return waves, guide, beside

    def _waves_panel(self, rect: QRectF) -> Panel:
        reach = 1.0
        if self.scene is not None and self.scene.waves.size:
            every, mean = self.scene.tallest
            own = every if self.strike is None else float(np.abs(self.scene.waves[:, self.strike]).max())
            reach = 1.08 * (mean if self.shown == MEAN else own) or 1.0
        return Panel(
            rect,
            -0.04 * self.span_ms,
            self.span_ms,
            -reach,
            reach,
            tr("Strikes from their onset, {shown_words}", shown_words=self._shown_words()),
        )

    def _shown_words(self) -> str:
        if self.scene is None:
            return ""
        if self.shown == ALL:
            return tr("all {strikes}", strikes=len(self.scene.strikes))
        if self.shown == MEAN:
            return tr("mean of {strikes}, as if struck alike, with its band", strikes=len(self.scene.strikes))
        return tr(
            "number {shown} at {shown_2:.3f} s", shown=self.shown + 1, shown_2=self.scene.strikes.time_s[self.shown]
        )

    # painting -----------------------------------------------------------------------------

    def paintEvent(self, _event) -> None:
        painter, colours = QPainter(self), theme.current()
        if self.scene is None or not len(self.scene.strikes):
            painter.fillRect(self.rect(), QColor(colours.raised))
            painter.setPen(QColor(colours.quiet))
            painter.drawText(
                self.rect().adjusted(40, 0, -40, 0), Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap,
                tr("No strike stands above the noise.\nTap light and short on solid metal, six times or more, and " "check leads and scale."),
            )  # fmt: skip
            return
        own = (self.size().toTuple(), colours.name, id(self.scene), id(self.taps))
        if self._beside is None or self._beside[0] != own:
            self._beside = (own, self._layer(QColor(colours.raised), self._paint_beside))
        key = (*own, self.shown, self.span_ms)
        if self._ground is None or self._ground[0] != key:
            self._ground = (key, self._layer(QColor(0, 0, 0, 0), self._paint_waves))
        painter.drawPixmap(0, 0, self._beside[1])
        painter.drawPixmap(0, 0, self._ground[1])
        self._paint_cursors(painter)

    def _layer(self, ground: QColor, paint) -> QPixmap:
        """A picture of the widget's size."""
        ratio = self.devicePixelRatioF()
        picture = QPixmap(self.size() * ratio)
        picture.setDevicePixelRatio(ratio)
        picture.fill(ground)
        inside = QPainter(picture)
        paint(inside)
        inside.end()
        return picture

    def _paint_beside(self, painter: QPainter) -> None:
        _, guide, beside = self._areas()
        verdict = self.taps.shown
        self._paint_spectrum(painter, beside[0])
        paint_heights(painter, beside[1], self.scene, verdict)
        if before_and_after(self.taps)[1]:
            paint_before_after(painter, beside[2], self.taps)
        else:
            paint_loads(painter, beside[2], verdict)
        paint_guide(painter, guide, verdict)

    def _paint_waves(self, painter: QPainter) -> None:
        scene, colours, panel = self.scene, theme.current(), self._waves_panel(self._areas()[0])
        panel.frame(painter, unit_x="ms", unit_y=scene.unit)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, self.shown != ALL)
        painter.setClipRect(panel.rect)
        for sensor in range(len(scene.columns)):
            if self.shown == MEAN:
                mean, low, high = scene.mean_and_band(sensor)
                self._paint_band(painter, panel, sensor, low, high)
                panel.line(painter, scene.times_ms, mean, sensor_pen(sensor, 1.8))
                continue
            if self.shown == ALL:
                panel.cloud(painter, scene.times_ms, scene.waves[sensor], sensor_colour(sensor))
            else:
                panel.line(painter, scene.times_ms, scene.waves[sensor, self.shown], sensor_pen(sensor, 1.8))
        painter.setClipping(False)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        painter.setFont(theme.font(9))
        y = panel.rect.top() + 6
        for sensor, name in enumerate(scene.names):
            words = self._legend(sensor, name)
            wide = painter.fontMetrics().horizontalAdvance(words) + 40
            x = panel.rect.right() - wide - 4
            ground = QColor(colours.raised)
            ground.setAlpha(215)
            painter.fillRect(QRectF(x, y - 1, wide, 17), ground)
            painter.setPen(sensor_pen(sensor, 2.5))
            painter.drawLine(QPointF(x + 4, y + 7.5), QPointF(x + 28, y + 7.5))
            painter.setPen(QColor(colours.ink))
            painter.drawText(
                QRectF(x + 34, y, wide, 15), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, words
            )
            y += 18

    def _legend(self, sensor: int, name: str) -> str:
        """A sensor's name with what it answered: of the strike shown, else the middle of all."""
        answers = self.scene.strikes.answers
        rows = slice(self.strike, self.strike + 1) if self.strike is not None else slice(None)
        good = answers.good[rows, sensor]
        if not good.any():
            cut = answers.saturated[rows, sensor].any()
            return tr("{name}: {cut}", name=name, cut=tr("cut off by the range") if cut else tr("no answer"))
        height = float(np.median(answers.height[rows, sensor][good]))
        hertz = answers.ring_hz[rows, sensor][good]
        ring = tr(", {hertz:,.0f} Hz", hertz=np.nanmedian(hertz)) if np.isfinite(hertz).any() else ""
        return tr("{name}: {height:.3g} {unit}{ring}", name=name, height=height, unit=self.scene.unit, ring=ring)

    def _paint_band(self, painter: QPainter, panel: Panel, sensor: int, low: np.ndarray, high: np.ndarray) -> None:
        times = self.scene.times_ms
        inside = np.flatnonzero((times >= panel.x0) & (times <= panel.x1))
        every = max(1, len(inside) // max(int(2 * panel.rect.width()), 1))
        inside = inside[::every]
        xs = panel.x(times[inside])
        over = [QPointF(float(x), float(y)) for x, y in zip(xs, panel.y(high[inside]), strict=True)]
        under = [QPointF(float(x), float(y)) for x, y in zip(xs, panel.y(low[inside]), strict=True)]
        colour = sensor_colour(sensor)
        colour.setAlpha(60)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(colour)
        painter.drawPolygon(QPolygonF(over + under[::-1]))
        painter.setBrush(Qt.BrushStyle.NoBrush)

    def _paint_spectrum(self, painter: QPainter, rect: QRectF) -> None:
        scene, colours = self.scene, theme.current()
        panel = Panel(rect, 0.5, 20.0, 0.0, 1.05, tr("Spectrum of the rings"))
        panel.frame(painter, unit_x="kHz", y_ticks=2)
        if scene.band is not None:
            low, _, high = (item / 1000 for item in scene.band)
            ground = QColor(colours.accent)
            ground.setAlpha(45)
            painter.fillRect(QRectF(panel.x(low), rect.top(), panel.x(high) - panel.x(low), rect.height()), ground)
            painter.setFont(theme.font(8))
            painter.setPen(QColor(colours.quiet))
            room = QRectF(panel.x(high) + 4, rect.top() + 2, rect.right() - panel.x(high) - 6, 28)
            if room.width() > 120:
                painter.drawText(room, Qt.TextFlag.TextWordWrap, tr("where this bore knocks, estimated"))
        painter.setClipRect(rect)
        for sensor in range(len(scene.columns)):
            panel.line(painter, scene.hertz / 1000, scene.spectra[sensor], sensor_pen(sensor, 1.6))
        painter.setClipping(False)

    def _paint_cursors(self, painter: QPainter) -> None:
        panel, colours = self._waves_panel(self._areas()[0]), theme.current()
        lines = [(name, at, QColor(colours.accent)) for name, at in self.cursors.items()]
        lines += [("", self.pointer_ms, QColor(colours.quiet))] if self.pointer_ms is not None else []
        painter.setFont(theme.font(9, bold=True))
        for name, at, colour in lines:
            if not panel.x0 <= at <= panel.x1:
                continue
            x = panel.x(at)
            painter.setPen(QPen(colour, 1.5 if name else 1.0))
            painter.drawLine(QPointF(x, panel.rect.top()), QPointF(x, panel.rect.bottom()))
            if name:
                painter.fillRect(QRectF(x - 8, panel.rect.top(), 16, 15), colour)
                painter.setPen(QColor(colours.on_accent))
                painter.drawText(QRectF(x - 8, panel.rect.top(), 16, 15), Qt.AlignmentFlag.AlignCenter, name)

    # hands --------------------------------------------------------------------------------

    def figures(self) -> str:
        """One line: between the cursors, else under them or the pointer."""
        if self.scene is None or not len(self.scene.strikes):
            return ""

        def told(at: float) -> str:
            values = self.scene.values_at(at, self.strike)
            return "  ".join(
                [
                    tr("{at:.4f} ms", at=at),
                    *(
                        tr("{it} {value:+.3f} {unit}", it=name.split(",")[0], value=value, unit=self.scene.unit)
                        for name, value in zip(self.scene.names, values, strict=True)
                    ),
                ]
            )

        if len(self.cursors) == 2:
            first, second = self.cursors["A"], self.cursors["B"]
            apart = second - first
            turns = tr("  1/dt {apart:,.0f} Hz", apart=1000 / abs(apart)) if apart else ""
            return tr(
                "B − A {apart:.4f} ms{turns}   A {first}   B {second}",
                apart=apart,
                turns=turns,
                first=told(first),
                second=told(second),
            )
        if self.cursors:
            return "   ".join(f"{name} {told(at)}" for name, at in self.cursors.items())
        return told(self.pointer_ms) if self.pointer_ms is not None else ""

    def zoom(self, closer: bool) -> None:
        """More of the ring, or its first milliseconds closer."""
        spans = list(SPANS_MS)
        at = int(np.argmin([abs(span - self.span_ms) for span in spans])) + (-1 if closer else 1)
        self.span_ms = spans[int(np.clip(at, 0, len(spans) - 1))]
        self.update()

    def fit(self) -> None:
        self.span_ms = SPANS_MS[-1]
        self.update()

    def step(self, by: int) -> None:
        """The next or previous strike alone."""
        many = len(self.scene.strikes) if self.scene else 0
        if many:
            now = self.strike if self.strike is not None else (-1 if by > 0 else many)
            self.show_strikes(int(np.clip(now + by, 0, many - 1)))

    def set_cursor(self, name: str, time_ms: float) -> None:
        self.cursors[name] = time_ms
        self._next = "B" if name == "A" else "A"
        self.update()
        self.measured.emit()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key = event.key()
        if key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            self.step(-1 if key == Qt.Key.Key_Left else 1)
        elif key in (Qt.Key.Key_Up, Qt.Key.Key_Plus, Qt.Key.Key_Equal):
            self.zoom(True)
        elif key in (Qt.Key.Key_Down, Qt.Key.Key_Minus):
            self.zoom(False)
        elif key == Qt.Key.Key_Home:
            self.fit()
        elif key in (Qt.Key.Key_A, Qt.Key.Key_B) and self.pointer_ms is not None:
            self.set_cursor("A" if key == Qt.Key.Key_A else "B", self.pointer_ms)
        elif key == Qt.Key.Key_M:
            self.show_strikes(MEAN if self.shown != MEAN else ALL)
        elif key == Qt.Key.Key_Escape and self.cursors:
            self.cursors = {}
            self.update()
            self.measured.emit()
        else:
            super().keyPressEvent(event)

    def wheelEvent(self, event: QWheelEvent) -> None:
        self.zoom(event.angleDelta().y() > 0)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        panel = self._waves_panel(self._areas()[0])
        inside = panel.rect.contains(event.position())
        self.pointer_ms = panel.x_back(event.position().x()) if inside else None
        self.update()
        self.measured.emit()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        panel = self._waves_panel(self._areas()[0])
        if panel.rect.contains(event.position()):
            self.set_cursor(self._next, panel.x_back(event.position().x()))

    def leaveEvent(self, _event) -> None:
        self.pointer_ms = None
        self.update()
        self.measured.emit()
