"""How the desk looks: light and dark of equal standing, one typeface, one set of icons."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache
from pathlib import Path

from PySide6.QtCore import QByteArray, QSize
from PySide6.QtGui import QColor, QFont, QFontDatabase, QFontMetricsF, QIcon, QPainter, QPalette, QPixmap
from PySide6.QtSvg import QSvgRenderer
from PySide6.QtWidgets import QApplication

HERE = Path(__file__).parent
FONTS = HERE.parents[1] / "report" / "fonts"
FAMILY = "B612"
TOUCH = 40  #: px, the least height of anything that is pressed


@dataclass(frozen=True)
class Colours:
    """One look. Data colours are of the Okabe-Ito set (Okabe & Ito 2008), which is safe for colour-blind eyes."""

    name: str
    ground: str  #: behind the panes
    pane: str
    raised: str  #: cards, buttons
    line: str
    ink: str
    quiet: str  #: secondary text, at least 4.5:1 on pane and raised
    accent: str
    on_accent: str
    sound: str
    mark: str  #: findings


LIGHT = Colours(
    name="light",
    ground="#dfe3e0",
    pane="#f3f4f0",
    raised="#ffffff",
    line="#bcc4c1",
    ink="#18211f",
    quiet="#51605c",
    accent="#0b5563",
    on_accent="#ffffff",
    sound="#00664b",
    mark="#b84800",
)  # fmt: skip
DARK = Colours(
    name="dark",
    ground="#0c1112",
    pane="#151c1e",
    raised="#20292c",
    line="#3a474a",
    ink="#eef3f1",
    quiet="#a5b4b1",
    accent="#6cc5d4",
    on_accent="#06262c",
    sound="#3fce9f",
    mark="#ff8f3f",
)  # fmt: skip
THEMES = {"light": LIGHT, "dark": DARK}

_now = LIGHT


def current() -> Colours:
    """The look in use."""
    return _now


def wanted(settings) -> str:
    """The look that was chosen: "light", "dark", or "system" for that of the desktop."""
    name = str(settings.value("look", "system"))
    return name if name in THEMES else "system"


def look_of(app: QApplication, name: str) -> str:
    """The name of a look of ours: the desktop's own where "system" is wanted, light where it states none."""
    if name in THEMES:
        return name
    if app.property(WORN) is None:
        # Before anything is worn the palette is the desktop's; to ask the hints brings in all of Qt's enumerations, 30 ms.
        return "dark" if app.palette().window().color().lightness() < 128 else "light"
    return "dark" if app.styleHints().colorScheme().name == "Dark" else "light"


def load_fonts() -> None:
    for name in ("B612-Regular.otf", "B612-Bold.otf"):
        QFontDatabase.addApplicationFont(str(FONTS / name))


def font(points: float = 10.5, *, bold: bool = False) -> QFont:
    made = QFont(FAMILY)
    made.setPointSizeF(points)
    made.setBold(bold)
    return made


def font_for(words: str, width: float, points: float, *, bold: bool = False) -> QFont:
    """The font of so many points, or as much smaller as its longest line needs to fit a width in px: half points, down to 6."""
    made = font(points, bold=bold)
    while points > 6.0 and max(QFontMetricsF(made).horizontalAdvance(line) for line in words.split("\n")) > width:
        points -= 0.5
        made = font(points, bold=bold)
    return made


def _arrow(which: str, look: str) -> str:
    return (HERE / "icons" / f"{which}-{look}.svg").as_posix()


WORN = "sagen look"  #: the property of the application that says which look it wears


def apply(app: QApplication, name: str) -> Colours:
    """Dress the whole program in a look; nothing is done where it wears that already."""
    global _now
    _now = THEMES[name]
    if app.property(WORN) == name:
        return _now
    app.setProperty(WORN, name)
    icon.cache_clear()
    app.setStyle("Fusion")
    app.setFont(font())
    palette = QPalette()
    for role, colour in (
        (QPalette.ColorRole.Window, _now.ground),
        (QPalette.ColorRole.WindowText, _now.ink),
        (QPalette.ColorRole.Base, _now.raised),
        (QPalette.ColorRole.AlternateBase, _now.pane),
        (QPalette.ColorRole.Text, _now.ink),
        (QPalette.ColorRole.Button, _now.raised),
        (QPalette.ColorRole.ButtonText, _now.ink),
        (QPalette.ColorRole.Highlight, _now.accent),
        (QPalette.ColorRole.HighlightedText, _now.on_accent),
        (QPalette.ColorRole.PlaceholderText, _now.quiet),
        (QPalette.ColorRole.ToolTipBase, _now.raised),
        (QPalette.ColorRole.ToolTipText, _now.ink),
    ):
        palette.setColor(role, QColor(colour))
    app.setPalette(palette)
    app.setStyleSheet(
        _SHEET
        % {
            **vars(_now),
            "touch": TOUCH - 2,
            "arrow": _arrow("arrow", name),
            "arrow_up": _arrow("arrow-up", name),
            "check": _arrow("check", name),
        }
    )
    return _now


@cache
def icon(name: str, colour: str | None = None, size: int = 20) -> QIcon:
    """A shipped line icon in the ink of the present look."""
    text = (HERE / "icons" / f"{name}.svg").read_text(encoding="utf-8")
    made = QIcon()
    for mode, ink in ((QIcon.Mode.Normal, colour or _now.ink), (QIcon.Mode.Disabled, _now.line)):
        picture = QPixmap(QSize(size * 2, size * 2))
        picture.fill(QColor(0, 0, 0, 0))
        painter = QPainter(picture)
        QSvgRenderer(QByteArray(text.replace("currentColor", ink).encode())).render(painter)
        painter.end()
        picture.setDevicePixelRatio(2)
        made.addPixmap(picture, mode)
    return made


_SHEET = """
* { font-family: "B612"; }
QMainWindow, QDialog { background: %(ground)s; color: %(ink)s; }
#pane { background: %(pane)s; border-radius: 8px; }
#bar { background: %(pane)s; border-radius: 8px; }
QLabel { color: %(ink)s; background: transparent; }
QLabel#quiet { color: %(quiet)s; }
QLabel#live { font-family: "B612"; font-size: 15pt; font-weight: 700; }
QLabel#probe { font-family: "B612"; font-size: 60pt; font-weight: 700; }
QLabel#probe[verdict="inside"], QLabel#far[verdict="inside"] { color: %(sound)s; }
QLabel#probe[verdict="outside"], QLabel#far[verdict="outside"] { color: %(mark)s; }
QLabel#far { font-size: 20pt; font-weight: 700; }
QLabel#mind { background: %(raised)s; border-left: 5px solid %(mark)s; padding: 5px 10px; font-size: 14pt; }
QLabel#near { font-size: 15pt; }
QLabel#heading { font-size: 12.5pt; font-weight: 700; }
QLabel#over { color: %(quiet)s; font-size: 9pt; font-weight: 700; letter-spacing: 1px; }
QLabel#strong, QLabel#sign, QLabel#number { font-weight: 700; }
QLabel#number { color: %(mark)s; }
QLabel#sound { color: %(sound)s; font-size: 9.5pt; }
QLabel#small { color: %(quiet)s; font-size: 9pt; }
QLabel#advice { font-style: italic; }
QLabel#caution { background: %(raised)s; border-left: 4px solid %(mark)s; padding: 3px 6px; font-size: 9pt; }
QLabel#error { background: %(raised)s; color: %(ink)s; border: 2px solid %(mark)s; border-radius: 6px; padding: 8px 10px; }
QPushButton, QToolButton { background: %(raised)s; color: %(ink)s; border: 1px solid %(line)s; border-radius: 6px;
  padding: 0 12px; min-height: %(touch)spx; }
QToolButton { padding: 0 8px; min-width: 24px; }
QPushButton:hover, QToolButton:hover { border-color: %(accent)s; }
QPushButton:pressed, QToolButton:pressed { background: %(line)s; }
QPushButton:focus, QToolButton:focus, QLineEdit:focus, QComboBox:focus, QListView:focus, QPlainTextEdit:focus {
  border: 2px solid %(accent)s; }
QPushButton:disabled, QToolButton:disabled { color: %(line)s; background: %(pane)s; }
QPushButton:checked, QToolButton:checked { background: %(accent)s; color: %(on_accent)s; border-color: %(accent)s; }
QPushButton#first { background: %(accent)s; color: %(on_accent)s; border-color: %(accent)s; font-weight: 700; }
QPushButton#first:disabled { background: %(line)s; color: %(pane)s; border-color: %(line)s; }
QPushButton#row { text-align: left; padding: 0; min-height: 40px; background: transparent; border: 1px solid transparent; }
QPushButton#row:hover { border-color: %(line)s; }
QPushButton#row:focus { border: 2px solid %(accent)s; }
QPushButton#tight { padding: 0 5px; }
QPushButton#tight::menu-indicator { width: 0; image: none; }
QComboBox#tight { padding: 0 2px 0 7px; font-size: 9pt; }
QComboBox#tight::drop-down { width: 22px; }
QPushButton::menu-indicator { subcontrol-position: right center; subcontrol-origin: padding; right: 6px; width: 12px; image: url("%(arrow)s"); }
QMenu { background: %(raised)s; color: %(ink)s; border: 1px solid %(line)s; padding: 4px; }
QMenu::item { padding: 9px 26px 9px 14px; border-radius: 4px; }
QMenu::item:selected { background: %(accent)s; color: %(on_accent)s; }
QPushButton#plain, QToolButton#plain { background: transparent; border-color: transparent; }
QPushButton#plain:hover, QToolButton#plain:hover { border-color: %(line)s; }
QPushButton#line { background: transparent; border: 1px solid transparent; text-align: left; padding: 0 2px; font-size: 9pt; color: %(quiet)s; }
QPushButton#line:hover, QPushButton#line:focus { border-color: %(accent)s; color: %(ink)s; }
QPushButton#job { background: transparent; border: 1px solid transparent; text-align: left; font-size: 12.5pt; font-weight: 700; padding: 0 8px; }
QPushButton#job:hover { border-color: %(line)s; }
QLineEdit, QComboBox, QPlainTextEdit { background: %(raised)s; color: %(ink)s; border: 1px solid %(line)s;
  border-radius: 6px; padding: 0 10px; min-height: %(touch)spx; selection-background-color: %(accent)s;
  selection-color: %(on_accent)s; }
QPlainTextEdit { padding: 6px 8px; }
QAbstractSpinBox { min-height: %(touch)spx; }
QLineEdit#narrow { padding-left: 4px; padding-right: 2px; }
QLineEdit#reading { font-size: 17pt; }
QPushButton#recording { background: transparent; border: 2px solid %(mark)s; font-weight: 700; padding: 0 8px; }
QLineEdit[bad="true"] { border: 2px solid %(mark)s; }
QComboBox::drop-down { border: none; width: 30px; }
QComboBox::down-arrow { image: url("%(arrow)s"); width: 18px; height: 18px; }
QComboBox QAbstractItemView { background: %(raised)s; color: %(ink)s; border: 1px solid %(line)s; outline: none;
  selection-background-color: %(accent)s; selection-color: %(on_accent)s; }
QListView { background: transparent; border: 2px solid transparent; border-radius: 6px; outline: none; }
QScrollArea, QScrollArea > QWidget > QWidget { background: transparent; border: none; }
QScrollBar:vertical { background: transparent; width: 12px; margin: 0; }
QScrollBar::handle:vertical { background: %(line)s; border-radius: 5px; min-height: 40px; margin: 1px; }
QScrollBar:horizontal { background: transparent; height: 12px; margin: 0; }
QScrollBar::handle:horizontal { background: %(line)s; border-radius: 5px; min-width: 40px; margin: 1px; }
QScrollBar::add-line, QScrollBar::sub-line, QScrollBar::add-page, QScrollBar::sub-page { background: none; border: none; width: 0; height: 0; }
QSplitter::handle { background: transparent; }
QCheckBox { min-height: %(touch)spx; spacing: 10px; }
QCheckBox::indicator { width: 20px; height: 20px; border: 2px solid %(quiet)s; border-radius: 4px; background: %(raised)s; }
QCheckBox::indicator:focus { border-color: %(accent)s; }
QCheckBox::indicator:checked { background: %(accent)s; border-color: %(accent)s; image: url("%(check)s"); }
QProgressBar { background: %(raised)s; border: 1px solid %(line)s; border-radius: 5px; height: 10px; text-align: center; }
QProgressBar::chunk { background: %(accent)s; border-radius: 4px; }
QToolTip { background: %(raised)s; color: %(ink)s; border: 1px solid %(line)s; padding: 4px 6px; }
QTableView { background: %(raised)s; alternate-background-color: %(pane)s; color: %(ink)s; border: 1px solid %(line)s;
  border-radius: 6px; selection-background-color: %(accent)s; selection-color: %(on_accent)s; font-size: 9pt; }
QTableView::item { padding: 0 3px; }
QTableView#teeth::item { padding: 0; }
QHeaderView::section { background: %(pane)s; color: %(quiet)s; border: none; border-bottom: 1px solid %(line)s; padding: 4px 5px;
  font-size: 8.5pt; }
QTableView#teeth QHeaderView::section { padding: 4px 2px; }
QHeaderView::down-arrow { image: url("%(arrow)s"); width: 11px; height: 9px; subcontrol-position: top center; }
QHeaderView::up-arrow { image: url("%(arrow_up)s"); width: 11px; height: 9px; subcontrol-position: top center; }
QTableCornerButton::section { background: %(pane)s; border: none; }
#chapter { background: transparent; border: none; color: %(ink)s; }
#card { background: %(raised)s; border-radius: 8px; }
"""
