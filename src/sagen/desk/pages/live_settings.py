"""The settings of the live page: time base, a channel with its range and role, what is waited for, and the words of a mark."""

from __future__ import annotations

from PySide6.QtCore import QSettings, Signal
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QLineEdit, QPushButton, QWidget

from sagen.casework.live import Live, live_trigger, with_role
from sagen.desk.theme.plain import Label
from sagen.desk.wrap_row import WrapRow
from sagen.model.errors import SagenError
from sagen.model.language import titled, tr
from sagen.model.sheet import Sheet
from sagen.model.vocabulary import ROTATING_ROLES, Role
from sagen.model.words import ROLES
from sagen.signal.trigger import TriggerKind

#: time bases, s
SPANS = (0.005, 0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1.0, 2.0, 5.0, 10.0, 30.0, 60.0, 120.0, 300.0, 600.0)
RANGES = (0.5, 1.0, 2.0, 5.0, 10.0, 20.0, 50.0, 100.0)
#: what a channel can be said to be, live
RAILS = (Role.SUPPLY, Role.GROUND)
ROLES_HERE = (Role.OTHER, *ROTATING_ROLES, *RAILS)
#: trigger kinds: words, what its figure is, the figure at first
TRIGGERS = {
    TriggerKind.RISE: (tr("rises past"), "V", "2.5"), TriggerKind.FALL: (tr("falls past"), "V", "2.5"),
    TriggerKind.MISSING: (tr("pulse missing"), tr("tooth times"), "4"), TriggerKind.DIP: (tr("rail below"), "V", "9"),
    TriggerKind.RPM: (tr("rpm above"), tr("rpm"), "1000"),
}  # fmt: skip


def span_words(span: float) -> str:
    """A time base as it is said."""
    return (
        tr("{span:g} ms", span=1e3 * span)
        if span < 1
        else tr("{span:g} s", span=span)
        if span < 60
        else tr("{span:g} min", span=span / 60)
    )


class LiveSettings(QWidget):
    """The row over the strip. It sets the trigger of the session by itself; what a channel is, it has others state."""

    spanned = Signal(float)
    ranged = Signal(str, float)  #: column, volts; 0: fits
    described = Signal(object)  #: the sheet that the channels now have
    marked = Signal(str)
    said = Signal(str)

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.live: Live | None = None
        self.ranges: dict[str, float] = {}
        self._stated: Sheet | None = None
        self._settings: QSettings | None = None
        row = WrapRow(self)
        self.span, self.channel, self.range, self.role = QComboBox(), QComboBox(), QComboBox(), QComboBox()
        self.kind, self.level, self.unit = QComboBox(), QLineEdit(), Label("V", name="small")
        for span in SPANS:
            self.span.addItem(span_words(span), span)
        self.span.setCurrentIndex(SPANS.index(1.0))
        self.range.addItem(tr("fits"), 0.0)
        for volts in RANGES:
            self.range.addItem(tr("{volts:g} V", volts=volts), volts)
        for role in ROLES_HERE:
            self.role.addItem(titled(ROLES[role]) if role != Role.OTHER else tr("Not stated"), role)
        self.kind.addItem(tr("runs freely"), None)
        for kind, (words, _, _) in TRIGGERS.items():
            self.kind.addItem(words, kind)
        self.words = QLineEdit()
        self.words.setPlaceholderText(tr("as moved plug"))
        self.words.setAccessibleName(tr("Words of a mark"))
        self.words.setFixedWidth(140)
        self.words.setMaxLength(60)
        self.level.setFixedWidth(64)
        self.level.setAccessibleName(tr("Figure of the trigger"))
        mark = QPushButton(tr("Mark"))
        mark.setToolTip(tr("Set a mark now: what events go with is tested against it (Alt+M)"))
        for name, box, letters in (
            (tr("Time base"), self.span, 6), (tr("Channel"), self.channel, 4), (tr("It is"), self.role, 9), (tr("Range"), self.range, 4),
            (tr("Trigger"), self.kind, 11),
        ):  # fmt: skip
            box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
            box.setMinimumContentsLength(letters)
            row.add_named(name, box)
        row.addWidget(self.level)
        row.addWidget(self.unit)
        #: beside the figures, where there is room for it
        self.marks = QWidget()
        beside = QHBoxLayout(self.marks)
        beside.setContentsMargins(0, 0, 0, 0)
        beside.addWidget(self.words)
        beside.addWidget(mark)
        self.sound = QPushButton(tr("Its sound"))
        self.sound.setToolTip(tr("How the engine cranks, by a recording of its sound: before any probe goes on"))
        row.push_right()
        row.addWidget(self.sound)
        # Nothing is to be said of a channel before there is one.
        self._of_channel = [box.parentWidget() for box in (self.channel, self.range, self.role, self.kind)]
        self.span.currentIndexChanged.connect(lambda _: self._spanned())
        self.role.activated.connect(lambda _: self._role_chosen())
        self.range.currentIndexChanged.connect(lambda _: self._ranged())
        self.kind.currentIndexChanged.connect(lambda _: self._kind_chosen())
        self.channel.currentIndexChanged.connect(lambda _: self._channel_chosen())
        self.level.editingFinished.connect(self._triggered)
        self.words.returnPressed.connect(self.mark)
        mark.clicked.connect(self.mark)
        self.role.setAccessibleName(tr("What the channel is"))
        self.show_live(None)
        self._kind_chosen()

    def remember(self, settings: QSettings) -> None:
        """Take up what was set the last time, and remember what is set from now on."""
        try:
            span = float(settings.value("live/span", 1.0))
        except (TypeError, ValueError):
            span = 1.0
        self.span.setCurrentIndex(max(0, self.span.findData(span)))
        self._settings = settings

    def show_live(self, live: Live | None, stated: Sheet | None = None) -> None:
        """The channels of a session, and what was stated of them when it began; None: of none."""
        self.live, self._stated = live, stated
        for cell in (*self._of_channel, self.marks):
            cell.setVisible(live is not None)
        self.sound.setVisible(live is None)
        self.channel.clear()
        if live is None:
            return
        for channel in live.channels:
            self.channel.addItem(channel.column, channel.column)
        self._remembered_roles()
        self._channel_chosen()

    def longer(self, steps: int) -> None:
        """A longer time base, or a shorter one."""
        self.span.setCurrentIndex(max(0, min(self.span.currentIndex() + steps, self.span.count() - 1)))

    def mark(self) -> None:
        """A mark now, by its words."""
        self.marked.emit(self.words.text().strip() or "mark")

    def _spanned(self) -> None:
        self.spanned.emit(self.span.currentData())
        if self._settings is not None:
            self._settings.setValue("live/span", self.span.currentData())

    def _channel_chosen(self) -> None:
        column = self.channel.currentText()
        if self.live is not None:
            stated = self.live.sheet.of(column) if self.live.sheet else None
            self.role.setCurrentIndex(max(0, self.role.findData(stated.role if stated else Role.OTHER)))
        self.range.setCurrentIndex(max(0, self.range.findData(self.ranges.get(column, 0.0))))
        self._triggered()

    def _role_chosen(self) -> None:
        """The channel is what was chosen; remembered for the next recording with as many channels."""
        live, column = self.live, self.channel.currentText()
        if live is None or not column:
            return
        try:
            sheet = with_role(live.sheet, column, Role(self.role.currentData()), self._stated)
        except SagenError as error:
            self.said.emit(str(error))
            return
        self.described.emit(sheet)
        roles = [str(known.role) if (known := sheet.of(channel.column)) else "" for channel in live.channels]
        if self._settings is not None:
            self._settings.setValue("live/roles", ",".join(roles))

    def _remembered_roles(self) -> None:
        """Rails as they were stated the last time, where nothing else says what a channel is."""
        live, told = self.live, ""
        if self._settings is not None:
            told = str(self._settings.value("live/roles", ""))
        roles = told.split(",")
        if live.sheet is None or len(roles) != len(live.channels):
            return
        sheet = live.sheet
        for channel, role in zip(live.channels, roles, strict=True):
            if role in RAILS and sheet.of(channel.column) is None:
                sheet = with_role(sheet, channel.column, Role(role))
        if sheet is not live.sheet:
            self.described.emit(sheet)

    def _ranged(self) -> None:
        self.ranges[self.channel.currentText()] = self.range.currentData()
        self.ranged.emit(self.channel.currentText(), self.range.currentData())

    def _kind_chosen(self) -> None:
        kind = self.kind.currentData()
        for item in (self.level, self.unit):
            item.setVisible(kind is not None and self.live is not None)
        if kind is not None:
            self.unit.setText(TRIGGERS[kind][1])
            self.level.setText(TRIGGERS[kind][2])
        self._triggered()

    def _triggered(self) -> None:
        """Set the trigger as chosen; a figure that makes no sense is said and changes nothing."""
        kind, live, at = self.kind.currentData(), self.live, self.channel.currentIndex()
        if live is None or at < 0:
            return
        if kind is None:
            live.set_trigger(0, None)
            return
        try:
            figure = float(self.level.text().replace(",", "."))
            if not 0 < abs(figure) < 1e6:
                raise ValueError
        except ValueError:
            self.said.emit(tr("'{text}' is no figure for a trigger.", text=self.level.text()[:20]))
            return
        try:
            live.set_trigger(at, live_trigger(live, at, kind, figure))
        except SagenError as error:
            self.said.emit(str(error))
