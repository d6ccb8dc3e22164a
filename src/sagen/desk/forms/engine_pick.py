"""An engine from above, on which the sensors that a job is about are pressed."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen
from PySide6.QtWidgets import QGridLayout, QPushButton, QWidget

from sagen.casework.new_job import OF_BANK, OF_ENGINE, Spot, spots
from sagen.desk.theme import theme
from sagen.desk.theme.plain import Label
from sagen.model.language import tr
from sagen.model.vocabulary import Role

#: px between the edge of the picture and the block, and of the row of cylinders above each bank's spots
EDGE, CYLINDERS = 8, 30


class EnginePick(QWidget):
    """The block with its front at the left, each bank with its cylinders and the spots of its sensors; behind it the flywheel with the
    crank's and, at the gearbox, that of the speed. What was pressed is told through `pressed`."""

    def __init__(self, changed: Callable[[], None], parent: QWidget | None = None):
        super().__init__(parent)
        self.setAccessibleName(tr("The engine from above: press the sensors that it is about"))
        self.changed = changed
        self.grid = QGridLayout(self)
        self.grid.setContentsMargins(EDGE, EDGE, EDGE, EDGE)
        self.grid.setHorizontalSpacing(6)
        self.grid.setVerticalSpacing(0)
        for column in range(1, len(OF_BANK) + 1):
            self.grid.setColumnStretch(column, 1)
        self.buttons: dict[Spot, QPushButton] = {}
        self.banks, self.cylinders = 0, None
        self.touched = False  #: whether a person pressed any, and not a code alone
        self.show_engine(1, None)

    def show_engine(self, banks: int, cylinders: int | None) -> None:
        """Draw it with so many banks; how many cylinders is drawn only where it is known."""
        self.cylinders = cylinders
        if banks != self.banks:
            self.banks, kept = banks, self.pressed()
            while self.grid.count():
                self.grid.takeAt(0).widget().deleteLater()
            self.buttons = {spot: self._button(spot) for spot in spots(banks)}
            for bank in range(banks):
                row = 2 * (banks - 1 - bank)  # bank 1 is drawn below bank 2
                words = tr("bank {bank}", bank=bank + 1) if banks > 1 else tr("front")
                self.grid.addWidget(Label(words, name="quiet"), row + 1, 0)
            for spot, button in self.buttons.items():
                if spot in OF_ENGINE:
                    self.grid.addWidget(button, 0, len(OF_BANK) + 1 + (spot.role == Role.SPEED), 2 * banks, 1)
                else:
                    column = [role_and_place[0] for role_and_place in OF_BANK].index(spot.role)
                    column += [place for role, place in OF_BANK if role == spot.role].index(spot.position)
                    self.grid.addWidget(button, 2 * (banks - (spot.bank or 1)) + 1, column + 1)
            self.show_pressed(kept)
        for row in range(0, 2 * banks, 2):
            self.grid.setRowMinimumHeight(row, CYLINDERS if cylinders else 4)
        self.update()

    def _button(self, spot: Spot) -> QPushButton:
        button = QPushButton(spot.words)
        button.setObjectName("tight")
        button.setCheckable(True)
        beside = tr("bank {bank}", bank=spot.bank) if spot.bank else ""
        button.setAccessibleName(", ".join(item for item in (spot.words, beside) if item))
        button.clicked.connect(lambda _=False: self._pressed())
        return button

    def _pressed(self) -> None:
        self.touched = True
        self.changed()

    def pressed(self) -> tuple[Spot, ...]:
        """The spots that are pressed, front first."""
        return tuple(spot for spot, button in self.buttons.items() if button.isChecked())

    def show_pressed(self, chosen: Iterable[Spot]) -> None:
        """Press these and no others; of an engine with one bank a spot has none."""
        wanted = {
            spot._replace(bank=(spot.bank or 1) if self.banks > 1 else None) for spot in chosen if spot not in OF_ENGINE
        }
        wanted |= {spot for spot in chosen if spot in OF_ENGINE}
        for spot, button in self.buttons.items():
            button.setChecked(spot in wanted)

    def paintEvent(self, _event) -> None:
        colours, painter = theme.current(), QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), QColor(colours.raised))
        crank = self.buttons[Spot(Role.CRANK)].geometry()
        block = QRectF(EDGE / 2, EDGE / 2, crank.left() - EDGE, self.height() - EDGE)
        painter.setPen(QPen(QColor(colours.line), 1.6))
        painter.setBrush(QColor(colours.pane))
        painter.drawRoundedRect(block, 8, 8)
        # The flywheel at the block's rear, behind which the crank's sensor mostly sits.
        painter.drawRoundedRect(QRectF(block.right() + 1, block.top() + 6, 5, block.height() - 12), 2, 2)
        each = -(-self.cylinders // self.banks) if self.cylinders else 0
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(QColor(colours.quiet), 1.2))
        painter.setFont(theme.font(8.5))
        for bank in range(self.banks if each else 0):
            top = self.grid.cellRect(2 * (self.banks - 1 - bank), 0).top()
            for place in range(each):
                number = place * self.banks + bank + 1 if self.banks > 1 else place + 1
                if number > self.cylinders:
                    break
                at = QPointF(block.left() + (place + 0.5) * block.width() / each, top + CYLINDERS / 2)
                painter.drawEllipse(at, 11, 11)
                painter.drawText(QRectF(at.x() - 11, at.y() - 9, 22, 18), Qt.AlignmentFlag.AlignCenter, str(number))
