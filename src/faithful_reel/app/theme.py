"""Paper and ink: colours of day and night, the fonts that ship with the program, the style sheet."""

from __future__ import annotations

import logging
from dataclasses import dataclass
from functools import cache, lru_cache
from importlib import resources
from importlib.resources.abc import Traversable
from pathlib import Path

from PyQt6.QtGui import QColor, QFont, QFontDatabase, QPainter
from PyQt6.QtWidgets import QApplication

from faithful_reel.core.collate.findings import Decision
from faithful_reel.core.errors import FileProblem

_LOG = logging.getLogger(__name__)
ASSETS = Path(str(resources.files("faithful_reel") / "assets"))
READING = "Literata"
CONTROLS = "Inter"


@cache
def _color(code: str) -> QColor:
    return QColor(code)


@dataclass(frozen=True, slots=True)
class Theme:
    """Colours by what they are for.  Text holds 4.5:1 and marks 3:1 against what they stand on; a test measures it."""

    name: str
    desk: str
    page: str
    ink: str
    quiet: str
    hairline: str
    strip: str
    wave: str
    lit: str
    chosen: str
    red: str
    blue: str
    graphite: str
    good: str
    pale: str

    def color(self, role: str) -> QColor:
        """The colour of a role; one's own, so that who changes it changes no other's."""
        return QColor(_color(getattr(self, role)))

    def color_of(self, color: str, usual: str) -> QColor:
        """The colour that something in the book was given; that of the usual role where it has none that is known here."""
        return self.color(color if color in GIVEN else usual)

    def pencil(self, decision: Decision) -> QColor:
        """The editor's pencil of a decision."""
        match decision:
            case Decision.PICKUP:
                return QColor(self.red)
            case Decision.MEND:
                return QColor(self.blue)
            case Decision.STET:
                return QColor(self.graphite)
            case Decision.OPEN:
                return QColor(self.ink)


GIVEN = frozenset({"red", "blue", "good", "graphite", "quiet", "pale"})
"""Roles that things can be drawn in by a name in the book; a book may come from elsewhere, with other names."""
DAY = Theme(
    "day", desk="#EFE8DA", page="#FBF8F1", ink="#26221C", quiet="#685F52", hairline="#D5CBB8", strip="#F1EADB", wave="#80694B",
    lit="#F6DE9A", chosen="#E6DCC6", red="#B02A1E", blue="#23509B", graphite="#5C5E61", good="#3D6B36",
    pale="#918269",
)  # fmt: skip
NIGHT = Theme(
    "night", desk="#1B1916", page="#23211D", ink="#EAE3D5", quiet="#AEA594", hairline="#3D3932", strip="#2C2924", wave="#B89F78",
    lit="#5E4B1C", chosen="#3A352B", red="#FF8D7D", blue="#93B7FF", graphite="#B4B5B8", good="#9CC98F",
    pale="#84755E",
)  # fmt: skip
THEMES = {t.name: t for t in (DAY, NIGHT)}


def load_fonts() -> None:
    """Register the shipped faces; for one that is damaged the system's stand in.

    Raises
    ------
    FileProblem
        There is no face at all: Qt would draw hollow boxes, and say nothing.
    """
    for file in _shipped_faces():
        if QFontDatabase.addApplicationFontFromData(file.read_bytes()) < 0:
            _LOG.warning("the shipped font %s is damaged: another one stands in for it. Install the program again.", file.name)
    if not QFontDatabase.families():
        raise FileProblem("The program's fonts are damaged, and the system has none. Install the program again.")


def _shipped_faces() -> list[Traversable]:
    folder = resources.files("faithful_reel") / "assets" / "fonts"
    return [file for file in folder.iterdir() if file.name.endswith(".ttf")]


USUAL_POINTS = 10.0
"""What most desktops write in; there our sizes are as they were drawn."""
POINTS = 0.75
"""Points of a pixel of our drawings, at 96 dots an inch."""
SMALLEST, LARGEST = 0.8, 2.4


def letters_of(system: QFont) -> QFont:
    """The application's own letters, as large beside the usual ones as the system's are."""
    points = system.pointSizeF() if system.pointSizeF() > 0 else USUAL_POINTS
    font = QFont(CONTROLS)
    font.setPointSizeF(13 * POINTS * min(LARGEST, max(SMALLEST, points / USUAL_POINTS)))
    return font


def scale_of_letters() -> float:
    """How large the application's letters are, times as they were drawn; its font is set by `letters_of`."""
    points = QApplication.font().pointSizeF()
    return points / (13 * POINTS) if points > 0 else 1.0


def reading_font(size: float, *, italic: bool = False, strong: bool = False) -> QFont:
    """The serif face of the manuscript; `size` in pixels as drawn, followed by the system's letters.  Not to be changed."""
    return _font(READING, size * POINTS * scale_of_letters(), italic, strong, False)


def control_font(size: float, *, strong: bool = False, figures: bool = False) -> QFont:
    """The sans face of controls, as large as `reading_font`; `figures` makes all digits equally wide.  Not to be changed."""
    return _font(CONTROLS, size * POINTS * scale_of_letters(), False, strong, figures)


@lru_cache(maxsize=256)
def _font(face: str, points: float, italic: bool, strong: bool, figures: bool) -> QFont:  # noqa: FBT001 - a key
    font = QFont(face)
    font.setPointSizeF(points)
    font.setItalic(italic)
    if strong:
        font.setWeight(QFont.Weight.DemiBold)
    if figures:
        font.setFeature(QFont.Tag("tnum"), 1)
    return font


def over_sound(theme: Theme) -> QPainter.CompositionMode:
    """How a light colour is laid over a picture of sound, so that its paper takes it and its ink does not."""
    dark = theme.color("page").lightness() < theme.color("ink").lightness()
    mode = QPainter.CompositionMode
    return mode.CompositionMode_Lighten if dark else mode.CompositionMode_Darken


def style_sheet(t: Theme) -> str:
    """The whole window's style, in letters that follow the system's."""
    points = POINTS * scale_of_letters()
    return f"""
    * {{ font-family: "{CONTROLS}"; font-size: {13 * points:.2f}pt; color: {t.ink}; }}
    QMainWindow, QDialog, QMessageBox {{ background: {t.desk}; }}
    QWidget#desk, QScrollArea#desk, QWidget#page, QStackedWidget {{ background: {t.page}; }}
    QWidget#side, QWidget#foot, QWidget#top {{ background: {t.desk}; }}
    QLabel {{ background: transparent; }}
    QLabel#quiet {{ color: {t.quiet}; }}
    QLabel#title {{ font-family: "{READING}"; font-size: {17 * points:.2f}pt; font-weight: 600; }}
    QLabel#overpage {{ color: {t.quiet}; background: {t.page}; border-top: 1px solid {t.hairline}; border-right: 1px solid {t.hairline}; padding: 3px 12px; }}
    QLabel#heading {{ font-family: "{READING}"; font-size: {15 * points:.2f}pt; font-weight: 600; }}
    QLabel#large {{ font-family: "{READING}"; font-size: {25 * points:.2f}pt; }}
    QLabel#reading {{ font-family: "{READING}"; font-size: {16 * points:.2f}pt; }}
    QLabel#large {{ font-family: "{READING}"; font-size: {24 * points:.2f}pt; }}
    QLabel#problem {{ color: {t.red}; }}
    QLabel#good {{ color: {t.good}; }}
    QWidget#strip {{ background: {t.desk}; }}
    QPushButton#plain {{ background: transparent; border: 1px solid transparent; padding: 2px 8px; color: {t.quiet}; }}
    QPushButton#plain:hover, QPushButton#plain:focus {{ border-color: {t.quiet}; color: {t.ink}; }}
    QFrame#rule {{ background: {t.hairline}; border: none; max-height: 1px; min-height: 1px; }}
    QFrame#upright {{ background: {t.hairline}; border: none; max-width: 1px; min-width: 1px; }}
    QFrame#card {{ background: {t.page}; border: 1px solid {t.hairline}; border-radius: 3px; }}
    QPushButton {{ background: {t.page}; border: 1px solid {t.hairline}; border-radius: 3px; padding: 4px 10px; }}
    QPushButton:hover {{ background: {t.chosen}; }}
    QPushButton:focus {{ border-color: {t.ink}; }}
    QPushButton:disabled {{ color: {t.quiet}; background: {t.desk}; }}
    QPushButton:checked {{ background: {t.chosen}; border-color: {t.quiet}; }}
    QPushButton#deskname {{ background: transparent; border: none; border-radius: 0; padding: 7px 9px; color: {t.quiet};
        border-bottom: 2px solid transparent; }}
    QPushButton#deskname:checked {{ color: {t.ink}; border-bottom: 2px solid {t.ink}; }}
    QPushButton#deskname:focus {{ border-bottom: 2px solid {t.quiet}; }}
    QPushButton#pickup {{ color: {t.red}; }} QPushButton#mend {{ color: {t.blue}; }} QPushButton#stet {{ color: {t.graphite}; }}
    QLineEdit, QComboBox, QSpinBox, QDoubleSpinBox, QPlainTextEdit {{ background: {t.page}; border: 1px solid {t.hairline};
        border-radius: 3px; padding: 3px 6px; selection-background-color: {t.lit}; selection-color: {t.ink}; }}
    QLineEdit:focus, QComboBox:focus, QPlainTextEdit:focus {{ border-color: {t.ink}; }}
    QComboBox::drop-down {{ border: none; width: 20px; }}
    QComboBox::down-arrow {{ image: url({ASSETS.as_posix()}/arrow-{t.name}.png); width: 12px; height: 8px; }}
    QComboBox QAbstractItemView {{ background: {t.page}; selection-background-color: {t.chosen}; selection-color: {t.ink}; }}
    QTableWidget, QListView, QTableView, QTreeView {{ background: {t.page}; border: none; gridline-color: {t.hairline};
        selection-background-color: {t.chosen}; selection-color: {t.ink}; alternate-background-color: {t.page}; outline: none; }}
    QListView#books::item {{ padding: 5px 10px; }}
    QTextBrowser {{ background: {t.page}; border: 1px solid {t.hairline}; padding: 6px 12px; }} QTextBrowser:focus {{ border-color: {t.ink}; }}
    QHeaderView::section {{ background: {t.page}; color: {t.quiet}; border: none; border-bottom: 1px solid {t.hairline}; padding: 4px 6px; }}
    QTableCornerButton::section {{ background: {t.page}; border: none; }}
    QScrollBar:vertical {{ background: {t.desk}; width: 11px; margin: 0; }}
    QScrollBar::handle:vertical {{ background: {t.hairline}; min-height: 30px; border-radius: 4px; margin: 2px; }}
    QScrollBar::handle:vertical:hover {{ background: {t.quiet}; }}
    QScrollBar::add-line, QScrollBar::sub-line {{ height: 0; width: 0; }}
    QScrollBar:horizontal {{ background: {t.desk}; height: 11px; }}
    QScrollBar::handle:horizontal {{ background: {t.hairline}; border-radius: 4px; margin: 2px; }}
    QMenuBar {{ background: {t.desk}; }} QMenuBar::item {{ padding: 3px 8px; background: transparent; }}
    QMenuBar::item:selected, QMenu::item:selected {{ background: {t.chosen}; }}
    QMenu {{ background: {t.page}; border: 1px solid {t.hairline}; }} QMenu::item {{ padding: 5px 26px 5px 16px; }}
    QMenu::item:disabled {{ color: {t.quiet}; }}
    QMenu::separator {{ height: 1px; background: {t.hairline}; margin: 4px 8px; }}
    QToolTip {{ background: {t.page}; color: {t.ink}; border: 1px solid {t.hairline}; padding: 3px; }}
    QProgressBar {{ background: {t.strip}; border: 1px solid {t.hairline}; border-radius: 3px; text-align: center; max-height: 14px; font-size: {11 * points:.2f}pt; }}
    QProgressBar::chunk {{ background: {t.lit}; }}
    QSlider::groove:horizontal {{ height: 3px; background: {t.hairline}; border-radius: 1px; }}
    QSlider::sub-page:horizontal {{ height: 3px; background: {t.quiet}; border-radius: 1px; }}
    QSlider::handle:horizontal {{ width: 7px; margin: -6px 0; background: {t.ink}; border-radius: 1px; }}
    QSlider:focus {{ border: 1px solid {t.ink}; border-radius: 2px; }}
    QListView:focus {{ border: 1px solid {t.quiet}; }}
    QSplitter::handle {{ background: {t.hairline}; }}
    QCheckBox {{ spacing: 6px; }}
    QCheckBox::indicator {{ width: 13px; height: 13px; border: 1px solid {t.quiet}; border-radius: 2px; background: {t.page}; }}
    QCheckBox::indicator:checked {{ background: {t.quiet}; image: url({ASSETS.as_posix()}/tick-{t.name}.png); }}
    QCheckBox::indicator:focus {{ border-color: {t.ink}; }}
    QAbstractItemView::indicator {{ width: 13px; height: 13px; border: 1px solid {t.quiet}; border-radius: 2px; background: {t.page}; }}
    QAbstractItemView::indicator:checked {{ background: {t.quiet}; image: url({ASSETS.as_posix()}/tick-{t.name}.png); }}
    QSpinBox, QDoubleSpinBox {{ padding-right: 20px; }}
    QSpinBox::up-button, QDoubleSpinBox::up-button {{ subcontrol-origin: border; subcontrol-position: top right; width: 18px;
        border: none; border-left: 1px solid {t.hairline}; }}
    QSpinBox::down-button, QDoubleSpinBox::down-button {{ subcontrol-origin: border; subcontrol-position: bottom right; width: 18px;
        border: none; border-left: 1px solid {t.hairline}; }}
    QSpinBox::up-button:hover, QDoubleSpinBox::up-button:hover, QSpinBox::down-button:hover, QDoubleSpinBox::down-button:hover {{
        background: {t.chosen}; }}
    QSpinBox::up-arrow, QDoubleSpinBox::up-arrow {{ image: url({ASSETS.as_posix()}/up-{t.name}.png); width: 10px; height: 7px; }}
    QSpinBox::down-arrow, QDoubleSpinBox::down-arrow {{ image: url({ASSETS.as_posix()}/down-{t.name}.png); width: 10px; height: 7px; }}
    QSpinBox:focus, QDoubleSpinBox:focus {{ border-color: {t.ink}; }}
    """
