"""Paper and ink: the colours by their roles, the type, the style sheet."""

from __future__ import annotations

from functools import cache
from importlib.resources import files

from msgspec import Struct
from PyQt6.QtGui import QColor, QFont, QFontDatabase, QPalette
from PyQt6.QtWidgets import QApplication


class Palette(Struct, frozen=True):
    """Colours by what they mean."""

    paper: str
    margin: str  # the findings' ground, a little darker than paper
    card: str
    ink: str
    quiet: str  # text of lesser weight, still readable
    rule: str  # lines between things
    attention: str  # selection, and what needs a look
    on_attention: str
    chosen: str  # ground of what is selected
    proven: str
    uncertain: str
    fog: str  # constant, or noise


DAY = Palette(
    paper="#F6F1E4", margin="#F0EADA", card="#FEFBF3", ink="#1B2A41", quiet="#55606B", rule="#DCD3BD",
    attention="#BD3822", on_attention="#FFFBF2", chosen="#FFF6E4", proven="#256B66", uncertain="#8F5D0B", fog="#8E9A9E",
)  # fmt: skip
NIGHT = Palette(
    paper="#161D27", margin="#121821", card="#1E2733", ink="#EDE6D6", quiet="#A9B2B9", rule="#323D4A",
    attention="#F2785F", on_attention="#161D27", chosen="#2A2C33", proven="#6CC4BA", uncertain="#DDA94B", fog="#7C8890",
)  # fmt: skip

TEXT_PX, ASIDE_PX, SMALL_PX, TITLE_PX = 13, 11, 10, 16
NEXT_PX, SHOT_PX = 20, 46  # what to press next: on the header, and to be read from across the bench


def load_fonts() -> None:
    """Make the shipped typefaces known to Qt."""
    for font in sorted((files("eager_tern.desk") / "fonts").iterdir(), key=lambda path: path.name):
        if font.name.endswith(".otf"):
            QFontDatabase.addApplicationFontFromData(font.read_bytes())


def text_font(px: int = TEXT_PX, bold: bool = False) -> QFont:
    font = QFont("B612")
    font.setPixelSize(px)
    font.setBold(bold)
    return font


def digit_font(px: int = TEXT_PX, bold: bool = False) -> QFont:
    """For numbers and bits: every digit as wide as the others."""
    font = QFont("B612 Mono")
    font.setPixelSize(px)
    font.setBold(bold)
    return font


class Theme:
    """The palette in force. Widgets that paint ask it each time."""

    palette: Palette = DAY

    @classmethod
    def apply(cls, app: QApplication, palette: Palette) -> None:
        cls.palette = palette
        if app.styleSheet() == _style(palette):  # setting it dresses every widget anew
            return
        qt = QPalette()
        roles = {
            QPalette.ColorRole.Window: palette.paper,
            QPalette.ColorRole.Base: palette.card,
            QPalette.ColorRole.AlternateBase: palette.margin,
            QPalette.ColorRole.Button: palette.card,
            QPalette.ColorRole.ToolTipBase: palette.card,
            QPalette.ColorRole.WindowText: palette.ink,
            QPalette.ColorRole.Text: palette.ink,
            QPalette.ColorRole.ButtonText: palette.ink,
            QPalette.ColorRole.ToolTipText: palette.ink,
            QPalette.ColorRole.PlaceholderText: palette.quiet,
            QPalette.ColorRole.Highlight: palette.attention,
            QPalette.ColorRole.HighlightedText: palette.on_attention,
        }
        for role, colour in roles.items():
            qt.setColor(role, QColor(colour))
        app.setPalette(qt)
        app.setStyleSheet(_style(palette))


def colour(role: str, alpha: float = 1.0) -> QColor:
    """A colour of the palette in force."""
    return _made(getattr(Theme.palette, role), alpha)


@cache
def _made(name: str, alpha: float) -> QColor:
    found = QColor(name)
    found.setAlphaF(alpha)
    return found


def _style(p: Palette) -> str:
    return f"""
    * {{ font-family: "B612"; font-size: {TEXT_PX}px; color: {p.ink}; }}
    QMainWindow, QDialog, QWidget#desk, QScrollArea, QScrollArea > QWidget > QWidget {{ background: {p.paper}; }}
    QMenuBar {{ background: {p.paper}; border: none; padding: 1px 8px; }}
    QMenuBar::item {{ padding: 3px 8px; background: transparent; color: {p.quiet}; }}
    QMenuBar::item:selected {{ background: {p.chosen}; color: {p.ink}; }}
    QMenu {{ background: {p.card}; border: 1px solid {p.rule}; padding: 4px 0; }}
    QMenu::item {{ padding: 5px 26px 5px 20px; }}
    QMenu::item:selected {{ background: {p.attention}; color: {p.on_attention}; }}
    QMenu::item:disabled {{ color: {p.fog}; }}
    QMenu::separator {{ height: 1px; background: {p.rule}; margin: 4px 0; }}
    QWidget#header {{ background: {p.paper}; border-bottom: 2px solid {p.ink}; }}
    QWidget#column {{ background: {p.paper}; }}
    QWidget#margin, QScrollArea#margin, QScrollArea#margin > QWidget > QWidget {{ background: {p.margin}; }}
    QLabel {{ background: transparent; }}
    QLabel#heading {{ color: {p.quiet}; font-size: {ASIDE_PX}px; }}
    QLabel#trouble {{ color: {p.attention}; font-weight: bold; }}
    QLabel#aside {{ color: {p.quiet}; font-size: {ASIDE_PX}px; }}
    QLabel#proven {{ color: {p.proven}; font-weight: bold; }}
    QLabel#title {{ font-size: {TITLE_PX}px; font-weight: bold; }}
    QLabel#next {{ font-size: {NEXT_PX}px; font-weight: bold; }}
    QLabel#shot {{ font-size: {SHOT_PX}px; font-weight: bold; }}
    QPlainTextEdit {{ background: {p.card}; border: 1px solid {p.rule}; font-family: "B612 Mono"; padding: 4px; }}
    QPlainTextEdit:focus {{ border: 1px solid {p.attention}; }}
    QToolButton, QPushButton {{ background: {p.card}; border: 1px solid {p.ink}; border-radius: 3px;
        padding: 4px 10px; }}
    QToolButton:hover, QPushButton:hover {{ background: {p.chosen}; }}
    QToolButton:focus, QPushButton:focus {{ border: 2px solid {p.attention}; padding: 3px 9px; }}
    QToolButton:disabled, QPushButton:disabled {{ color: {p.fog}; border-color: {p.rule}; }}
    QToolButton::menu-indicator {{ image: none; width: 0; }}
    QToolButton#gadget {{ border: 1px solid transparent; background: transparent; font-size: {TITLE_PX}px;
        font-weight: bold; padding: 3px 4px; }}
    QToolButton#gadget:hover, QToolButton#gadget:focus {{ border-bottom: 1px solid {p.attention}; }}
    QPushButton#listen {{ background: {p.attention}; color: {p.on_attention}; border: 1px solid {p.attention};
        font-weight: bold; padding: 6px 20px; }}
    QPushButton#listen:checked {{ background: {p.card}; color: {p.attention}; }}
    QPushButton#listen:focus {{ border: 2px solid {p.ink}; padding: 5px 19px; }}
    QPushButton#listen:disabled {{ background: {p.rule}; color: {p.quiet}; border-color: {p.rule}; }}
    QPushButton#link {{ border: none; background: transparent; padding: 1px 0; text-decoration: underline;
        font-size: {ASIDE_PX + 1}px; text-align: left; }}
    QPushButton#link:hover, QPushButton#link:focus {{ color: {p.attention}; border: none; padding: 1px 0; }}
    QLineEdit {{ background: {p.card}; border: 1px solid {p.rule}; border-radius: 2px; padding: 3px 6px;
        selection-background-color: {p.attention}; selection-color: {p.on_attention}; }}
    QLineEdit:focus {{ border: 1px solid {p.attention}; }}
    QDoubleSpinBox {{ background: {p.card}; border: 1px solid {p.rule}; border-radius: 2px; padding: 1px 4px;
        font-size: {ASIDE_PX + 1}px; }}
    QDoubleSpinBox:focus {{ border: 1px solid {p.attention}; }}
    QTabBar {{ background: transparent; }}
    QTabBar::tab {{ background: transparent; border: none; padding: 9px 2px 7px 2px; margin: 0 22px 0 0;
        color: {p.quiet}; border-bottom: 3px solid transparent; }}
    QTabBar[narrow="true"]::tab {{ margin: 0 9px 0 0; }}
    QTabBar::tab:selected {{ color: {p.ink}; border-bottom: 3px solid {p.attention}; font-weight: bold; }}
    QTabBar::tab:focus {{ color: {p.attention}; }}
    QTableView {{ background: {p.paper}; border: none; outline: none; }}
    QFrame#card {{ background: {p.card}; border: none; }}
    QFrame#tour {{ background: {p.chosen}; border-top: 2px solid {p.ink}; }}
    QFrame#notice {{ background: {p.card}; border-left: 5px solid {p.attention}; border-bottom: 1px solid {p.rule}; }}
    QSplitter::handle {{ background: {p.rule}; }}
    QScrollBar:vertical {{ background: transparent; width: 9px; margin: 0; }}
    QScrollBar:horizontal {{ background: transparent; height: 9px; margin: 0; }}
    QScrollBar::handle {{ background: {p.rule}; border-radius: 4px; min-height: 24px; min-width: 24px; }}
    QScrollBar::handle:hover {{ background: {p.fog}; }}
    QScrollBar::add-line, QScrollBar::sub-line {{ width: 0; height: 0; }}
    QScrollBar::add-page, QScrollBar::sub-page {{ background: transparent; }}
    QToolTip {{ background: {p.card}; color: {p.ink}; border: 1px solid {p.rule}; padding: 3px; }}
    """
