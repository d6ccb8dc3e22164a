"""The small charts beside the rings: heights by place, heights under a load, and before and after a repair."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

from sagen.casework.taps import JobTaps, before_and_after
from sagen.desk.lenses.panel import Panel, sensor_pen, short
from sagen.desk.theme import theme
from sagen.desk.theme.roles import sensor_colour
from sagen.kinds.piezo.verdict import TapVerdict
from sagen.kinds.piezo.words import load_words
from sagen.model.language import tr
from sagen.model.words import struck_at
from sagen.report.rings import RingScene
from sagen.signal.tap_fit import height_under


def paint_heights(painter: QPainter, rect: QRectF, scene: RingScene, verdict: TapVerdict | None) -> None:
    """Every answer of the job as a point by place, with what the fit of sensor and place expects there."""
    if verdict is None:
        _paint_strike_heights(painter, rect, scene)
        return
    fit = verdict.fit
    top = 1.15 * max((point.height for point in fit.points), default=1.0)
    panel = Panel(rect, 0.0, float(len(fit.places)), 0.0, top, tr("Height by place, and as fitted"))
    ticks = [
        (at + 0.5, short(struck_at(place) or tr("not stated"), rect.width() / max(len(fit.places), 1)))
        for at, place in enumerate(fit.places)
    ]
    panel.frame(painter, unit_y="V", y_ticks=3, x_ticks=ticks)
    many = len(fit.sensors)
    rng = np.random.default_rng(3)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, True)
    for this_point in fit.points:
        x = panel.x(this_point.place + (this_point.sensor + 1) / (many + 1) + 0.05 * rng.uniform(-1, 1))
        y, colour = float(panel.y(this_point.height)), sensor_colour(this_point.sensor)
        colour.setAlpha(200 if this_point.weight > 0.5 else 70)
        painter.setPen(QPen(colour, 1.4))
        painter.setBrush(colour if fit.loads[this_point.load].plugged else Qt.BrushStyle.NoBrush)
        _paint_shape(painter, QPointF(float(x), y), this_point.sensor, 3.2)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    for sensor in range(many):
        for place in range(len(fit.places)):
            told = [fit.effect[sensor, load] for load in range(len(fit.loads)) if fit.strikes[sensor, load, place]]
            if told:
                level = float(np.exp(fit.strength + np.mean(told) + fit.path[place, sensor]))
                x = panel.x(place + (sensor + 1) / (many + 1))
                painter.setPen(QPen(sensor_colour(sensor), 2.5))
                y = float(panel.y(level))
                painter.drawLine(QPointF(x - 11, y), QPointF(x + 11, y))
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)


def _paint_strike_heights(painter: QPainter, rect: QRectF, scene: RingScene) -> None:
    """Before the job is weighed: the heights of this capture alone, strike by strike."""
    heights = scene.strikes.answers.height
    panel = Panel(rect, 0.0, len(heights) + 1.0, 0.0, 1.1 * float(np.nanmax(heights)), tr("Height by strike"))
    panel.frame(painter, unit_y=scene.unit, y_ticks=3)
    for sensor in range(len(scene.columns)):
        painter.setPen(QPen(sensor_colour(sensor), 1.4))
        for at, height in enumerate(heights[:, sensor]):
            _paint_shape(painter, QPointF(float(panel.x(at + 1.0)), float(panel.y(height))), sensor, 3.2)


def _paint_shape(painter: QPainter, at: QPointF, sensor: int, size: float) -> None:
    """A point whose shape tells the sensor as its colour does."""
    if sensor % 4 == 0:
        painter.drawEllipse(at, size, size)
    elif sensor % 4 == 1:
        painter.drawRect(QRectF(at.x() - size, at.y() - size, 2 * size, 2 * size))
    elif sensor % 4 == 2:
        painter.drawPolygon(QPolygonF([at + QPointF(0, -size), at + QPointF(size, size), at + QPointF(-size, size)]))
    else:
        painter.drawLine(at + QPointF(-size, -size), at + QPointF(size, size))
        painter.drawLine(at + QPointF(-size, size), at + QPointF(size, -size))


def paint_loads(painter: QPainter, rect: QRectF, verdict: TapVerdict | None) -> None:
    """Height against load with the fitted curve; 20 to 50 kilohm marked."""
    colours = theme.current()
    tops = [this_source.open_v.value for this_source in verdict.sources if this_source is not None] if verdict else []
    panel = Panel(rect, 2e3, 2e6, 0.0, 1.2 * max(tops, default=1.0), tr("Height against load"), log_x=True)
    ticks = [(3e3, "3 k"), (1e4, "10 k"), (3e4, "30 k"), (1e5, "100 k"), (1e6, tr("open"))]
    ticks = ticks if rect.width() > 170 else [ticks[1], ticks[3], ticks[4]]
    panel.frame(painter, unit_y="V" if tops else "", y_ticks=3, x_ticks=ticks)
    ground = QColor(colours.accent)
    ground.setAlpha(45)
    painter.fillRect(QRectF(panel.x(2e4), rect.top(), panel.x(5e4) - panel.x(2e4), rect.height()), ground)
    painter.setFont(theme.font(8))
    painter.setPen(QColor(colours.quiet))
    if not tops:
        painter.drawText(
            rect.adjusted(8, 4, -8, -4), Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap,
            tr("Tap open and under a load: then what is inside the sensor shows here. 20 to 50 kilohm stand for the " "module."),
        )  # fmt: skip
        return
    loads = np.geomspace(2e3, 2e6, 160)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, True)
    for sensor, source in enumerate(verdict.sources):
        if source is None:
            continue
        panel.line(painter, loads, height_under(source, loads), sensor_pen(sensor, 1.8))
        for at, load in enumerate(verdict.fit.loads):
            if not verdict.fit.struck(sensor, at):
                continue
            ohm = min(load.ohm, 1e6) if load.known else verdict.module_ohm[sensor]
            if ohm is None or not 2e3 <= ohm <= 1e6:
                continue
            height = float(np.exp(verdict.fit.strength + verdict.fit.effect[sensor, at]))
            painter.setPen(QPen(sensor_colour(sensor), 1.6))
            painter.setBrush(sensor_colour(sensor) if load.plugged else Qt.BrushStyle.NoBrush)
            _paint_shape(painter, QPointF(float(panel.x(ohm)), float(panel.y(height))), sensor, 3.6)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)


def paint_before_after(painter: QPainter, rect: QRectF, taps: JobTaps) -> None:
    """The same taps before and after the repair, side by side."""
    connection, rows = before_and_after(taps)
    colours = theme.current()
    panel = Panel(
        rect,
        0.0,
        float(len(rows)),
        0.0,
        1.2,
        tr("Before and after the repair, {connection}", connection=load_words(connection)),
    )
    ticks = [(at + 0.5, short(row.name, rect.width() / len(rows))) for at, row in enumerate(rows)]
    panel.frame(painter, y_ticks=3, x_ticks=ticks)
    painter.setFont(theme.font(8))
    for at, this_row in enumerate(rows):
        for place, height, filled in ((0.28, this_row.before, False), (0.72, this_row.after, True)):
            if height is None:
                continue
            colour = sensor_colour(at)
            wide = 0.3 * rect.width() / len(rows)
            x, y = panel.x(at + place) - wide / 2, float(panel.y(height))
            painter.setPen(QPen(colour, 1.5))
            painter.setBrush(colour if filled else Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(x, y, wide, rect.bottom() - y))
            painter.setPen(QColor(colours.ink))
            words = tr("{height:.0f} %", height=100 * height)
            painter.drawText(QRectF(x - 16, y - 15, wide + 32, 14), Qt.AlignmentFlag.AlignHCenter, words)
    painter.setBrush(Qt.BrushStyle.NoBrush)
