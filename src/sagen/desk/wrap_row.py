"""A row whose items go on in a further line where there is no room beside one another: nothing is cut on a narrow screen."""

from __future__ import annotations

from PySide6.QtCore import QPoint, QRect, QSize, Qt
from PySide6.QtWidgets import QLabel, QLayout, QLayoutItem, QVBoxLayout, QWidget, QWidgetItem

from sagen.desk.theme.plain import Label


class WrapRow(QLayout):
    """Items from left to right at their own sizes; those added after `push_right` stand at the end of the first line while all
    fit in it."""

    def __init__(self, parent: QWidget | None = None, spacing: int = 5):
        super().__init__(parent)
        self._items: list[QLayoutItem] = []
        self._right: int | None = None
        self.setContentsMargins(0, 0, 0, 0)
        self.setSpacing(spacing)

    def push_right(self) -> None:
        """What is added from now on stands at the right end."""
        self._right = len(self._items)

    def addItem(self, item: QLayoutItem) -> None:
        self._items.append(item)

    def add_named(self, words: str, control: QWidget) -> QWidget:
        """A control under its name, which is its accessible name as well."""
        cell = QWidget()
        inside = QVBoxLayout(cell)
        inside.setContentsMargins(0, 0, 0, 0)
        inside.setSpacing(1)
        label = Label(words, name="small")
        label.setBuddy(control)
        inside.addWidget(label)
        inside.addWidget(control)
        if not control.accessibleName():
            control.setAccessibleName(words)
        self.addWidget(cell)
        return cell

    def count(self) -> int:
        return len(self._items)

    def itemAt(self, index: int) -> QLayoutItem | None:
        return self._items[index] if 0 <= index < len(self._items) else None

    def takeAt(self, index: int) -> QLayoutItem | None:
        return self._items.pop(index) if 0 <= index < len(self._items) else None

    def expandingDirections(self) -> Qt.Orientation:
        return Qt.Orientation(0)

    def hasHeightForWidth(self) -> bool:
        return True

    def heightForWidth(self, width: int) -> int:
        return self._placed(QRect(0, 0, width, 0), move=False)

    def setGeometry(self, rect: QRect) -> None:
        super().setGeometry(rect)
        self._placed(rect, move=True)

    def sizeHint(self) -> QSize:
        sizes = [item.sizeHint() for item in self._shown()]
        wide = sum(size.width() for size in sizes) + self.spacing() * max(len(sizes) - 1, 0)
        return QSize(wide, max((size.height() for size in sizes), default=0))

    def minimumSize(self) -> QSize:
        sizes = [item.minimumSize() for item in self._shown()]
        return QSize(
            max((size.width() for size in sizes), default=0), max((size.height() for size in sizes), default=0)
        )

    def _shown(self) -> list[QLayoutItem]:
        return [item for item in self._items if not (isinstance(item, QWidgetItem) and item.isEmpty())]

    def _lines(self, width: int) -> list[list[QLayoutItem]]:
        lines, used = [[]], 0
        for item in self._shown():
            wide = item.sizeHint().width()
            if lines[-1] and used + wide > width:
                lines.append([])
                used = 0
            lines[-1].append(item)
            used += wide + self.spacing()
        return lines

    def _placed(self, rect: QRect, *, move: bool) -> int:
        """Lay the items out in a rectangle; answers how high they stand together."""
        top, lines = rect.top(), self._lines(rect.width())
        pushed = self._items[self._right :] if self._right is not None and len(lines) == 1 else []
        at_right = [item for item in lines[0] if item in pushed]
        for line in lines:
            high = max((item.sizeHint().height() for item in line), default=0)
            used = sum(item.sizeHint().width() for item in line) + self.spacing() * max(len(line) - 1, 0)
            left, spare = rect.left(), rect.width() - used
            for item in line:
                if at_right and item is at_right[0]:
                    left += max(spare, 0)
                size = item.sizeHint()
                if move:
                    # On one line with what stands under its name, a control stands at the line's foot; words in its middle.
                    down = high - size.height()
                    down = down // 2 if isinstance(item.widget(), QLabel) else down
                    item.setGeometry(QRect(QPoint(left, top + down), size))
                left += size.width() + self.spacing()
            top += high + self.spacing()
        return max(top - rect.top() - self.spacing(), 0)
