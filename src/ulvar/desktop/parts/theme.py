"""Colours, type and the style sheet. Colour tokens are named for what they mean."""

from __future__ import annotations

import atexit
import shutil
import tempfile
from dataclasses import dataclass
from functools import cache
from importlib import resources

from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QFont, QFontDatabase, QPainter, QPalette, QPen, QPixmap
from PySide6.QtWidgets import QApplication


@dataclass(frozen=True)
class Theme:
    """One set of colour tokens (hexadecimal)."""

    name: str
    base: str
    panel: str
    raised: str
    hover: str
    sel: str
    plot: str
    grid: str
    line: str
    edge: str
    text: str
    soft: str
    mute: str
    accent: str
    on_accent: str
    cur: str
    block: str
    check: str
    note: str
    good: str
    target: str
    comparison: str
    check_star: str
    off: str
    filled_action: bool = True

    def color(self, token: str, alpha: float = 1.0) -> QColor:
        """Return a token as a colour."""
        color = QColor(getattr(self, token))
        color.setAlphaF(alpha)
        return color


DARK = Theme(
    "dark", "#10151A", "#181E25", "#222A33", "#2B3540", "#2A3641", "#141A20", "#222A33", "#2A333D", "#66737F",
    "#E8ECF0", "#B7C0CA", "#8E9AA6", "#F2A93B", "#1B1305", "#F2A93B", "#FF8257", "#F0E05A", "#9DB4CB", "#4FC08D",
    "#E69F00", "#56B4E9", "#CC79A7", "#98A3AE",
)  # fmt: skip
LIGHT = Theme(
    "light", "#DFE3E8", "#F6F7F9", "#FFFFFF", "#E9EDF1", "#E2E9F0", "#FFFFFF", "#E7EBEF", "#D3D9DF", "#717C87",
    "#18202A", "#3E4A56", "#586470", "#E69F00", "#1B1305", "#A86A00", "#B23A00", "#6E5F00", "#3D5E80", "#006B4C",
    "#865400", "#00639C", "#A03D74", "#5A6570",
)  # fmt: skip
RED = Theme(
    "red", "#080000", "#120101", "#1D0303", "#280505", "#2E0606", "#0C0000", "#220404", "#320707", "#C0281E",
    "#FF4A3C", "#FF382B", "#FF2519", "#FF4A3C", "#FF4A3C", "#FF4A3C", "#FF4A3C", "#FF4A3C", "#FF2519", "#FF382B",
    "#FF4A3C", "#FF4A3C", "#FF4A3C", "#C0281E", filled_action=False,
)  # fmt: skip
THEMES = {theme.name: theme for theme in (DARK, LIGHT, RED)}

# Colours of filters by where they let light through, for each theme; in the red one shape alone tells.
_FILTERS = {
    "dark": {"blue": "#7FB2FF", "green": "#5FC98F", "red": "#FF8A80", "white": "#B7C0CA"},
    "light": {"blue": "#1F5FBF", "green": "#0B7A4B", "red": "#B3332A", "white": "#3E4A56"},
    "red": dict.fromkeys(("blue", "green", "red", "white"), "#FF382B"),
}
_BANDS = {"blue": ("u", "b"), "green": ("g", "o"), "red": ("r", "i", "z", "y", "h", "s", "n")}


def filter_color(theme: Theme, name: str) -> QColor:
    """Return a filter's colour, from the letter that its name begins with; without a telling one it is neutral."""
    first = name.strip().lower()[:1]
    band = next((band for band, letters in _BANDS.items() if first and first in letters), "white")
    return QColor(_FILTERS[theme.name][band])


_FAMILY = "Inter"
# name: size px, weight
_TYPE = {
    "result": (20, 600), "board": (15, 600), "section": (13, 600), "value": (12, 600), "button": (12, 500),
    "label": (12, 400), "unit": (11, 400),
}  # fmt: skip


def load_fonts() -> None:
    """Register the shipped fonts with the application."""
    for entry in resources.files("ulvar.desktop.parts").joinpath("fonts").iterdir():
        if entry.name.endswith(".otf"):
            QFontDatabase.addApplicationFontFromData(entry.read_bytes())


def font(kind: str, scale: float = 1.0) -> QFont:
    """Return a font of a kind, with figures of one width."""
    # A copy: whoever asks may change it.
    return QFont(_font(kind, scale))


@cache
def _font(kind: str, scale: float) -> QFont:
    size, weight = _TYPE[kind]
    result = QFont(_FAMILY)
    result.setPixelSize(round(size * scale))
    result.setWeight(QFont.Weight(weight))
    result.setFeature(QFont.Tag("tnum"), 1)
    return result


_IMAGE_FOLDERS: dict[str, str] = {}


def _images(theme: Theme) -> str:
    """Draw the few images that a style sheet takes only as files; returns their folder."""
    if theme.name not in _IMAGE_FOLDERS:
        folder = tempfile.mkdtemp(prefix="ulvar-")
        atexit.register(shutil.rmtree, folder, ignore_errors=True)
        _IMAGE_FOLDERS[theme.name] = folder
        for name, points, token in (
            ("chevron", ((6, 9), (12, 15), (18, 9)), "soft"),
            ("tick", ((5, 12), (10, 17), (19, 7)), "on_accent" if theme.filled_action else "text"),
        ):
            pixmap = QPixmap(24, 24)
            pixmap.fill(Qt.GlobalColor.transparent)
            painter = QPainter(pixmap)
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.setPen(QPen(theme.color(token), 2.6))
            painter.drawPolyline([QPointF(x, y) for x, y in points])
            painter.end()
            pixmap.save(f"{folder}/{name}.png")
    return _IMAGE_FOLDERS[theme.name]


def apply_theme(app: QApplication, theme: Theme) -> None:
    """Give the application a theme's palette and style sheet, unless it has them: all widgets would be styled anew."""
    sheet = style_sheet(theme)
    if app.styleSheet() == sheet:
        return
    palette = QPalette()
    role = QPalette.ColorRole
    for what, token in (
        (role.Window, "panel"), (role.WindowText, "text"), (role.Base, "raised"), (role.Text, "text"),
        (role.AlternateBase, "panel"), (role.Button, "panel"), (role.ButtonText, "text"), (role.Highlight, "sel"),
        (role.HighlightedText, "text"), (role.ToolTipBase, "raised"), (role.ToolTipText, "text"),
        (role.PlaceholderText, "soft"), (role.Link, "cur"),
    ):  # fmt: skip
        palette.setColor(what, theme.color(token))
    palette.setColor(QPalette.ColorGroup.Disabled, role.Text, theme.color("mute"))
    palette.setColor(QPalette.ColorGroup.Disabled, role.ButtonText, theme.color("mute"))
    app.setPalette(palette)
    app.setFont(font("label"))
    # From one sheet to another takes Qt three times as long as to none and to the other.
    app.setStyleSheet("")
    app.setStyleSheet(sheet)


def style_sheet(theme: Theme) -> str:
    """Return the style sheet of a theme."""
    t = theme
    images = _images(theme)
    action = (
        f"background: {t.accent}; color: {t.on_accent}; border: 1px solid {t.accent};"
        if t.filled_action
        else f"background: transparent; color: {t.text}; border: 2px solid {t.accent};"
    )
    return f"""
    QWidget {{ color: {t.text}; font-family: Inter, sans-serif; font-size: 12px; }}
    QMainWindow, #gaps {{ background: {t.base}; }}
    #panel, #board, #slip, #bar, #skybar {{ background: {t.panel}; }}
    QLabel {{ background: transparent; }}
    QLabel[kind="result"] {{ font-size: 20px; font-weight: 600; }}
    QLabel[kind="board"] {{ font-size: 15px; font-weight: 600; }}
    QLabel[kind="section"] {{ font-size: 13px; font-weight: 600; }}
    QLabel[kind="value"] {{ font-weight: 600; }}
    QLabel[kind="label"] {{ color: {t.soft}; }}
    QLabel[kind="unit"] {{ color: {t.mute}; font-size: 11px; }}
    QLabel[kind="blocks"] {{ color: {t.block}; font-weight: 600; font-size: 11px; }}
    QLabel[kind="check"] {{ color: {t.check}; font-weight: 600; font-size: 11px; }}
    QLabel[kind="done"] {{ color: {t.good}; font-weight: 600; font-size: 11px; }}
    QLabel[kind="note"] {{ color: {t.note}; font-weight: 600; font-size: 11px; }}
    QPushButton {{ background: transparent; border: 1px solid {t.edge}; border-radius: 4px; padding: 3px 11px;
        min-height: 18px; font-weight: 500; }}
    QPushButton:hover {{ background: {t.hover}; }}
    QPushButton:disabled {{ color: {t.mute}; border-color: {t.line}; }}
    QPushButton[kind="action"] {{ {action} min-height: 26px; font-weight: 600; padding: 4px 12px; }}
    QPushButton[kind="action"]:disabled {{ background: transparent; color: {t.mute}; border: 1px solid {t.line}; }}
    QPushButton[kind="plain"] {{ border: none; color: {t.soft}; padding: 3px 4px; }}
    QPushButton[kind="plain"]:hover {{ color: {t.text}; }}
    QPushButton:focus, QComboBox:focus, QLineEdit:focus, QAbstractSpinBox:focus, QPlainTextEdit:focus {{
        border: 1px solid {t.cur}; }}
    QPushButton[kind="plain"]:focus {{ border: 1px solid {t.cur}; padding: 2px 3px; }}
    QPushButton[kind="action"]:focus {{ border: 2px solid {t.text}; padding: 3px 11px; }}
    QToolButton {{ background: transparent; border: none; border-radius: 4px; padding: 4px; }}
    QToolButton:hover {{ background: {t.hover}; }}
    QToolButton:checked {{ background: {t.raised}; border-bottom: 2px solid {t.cur}; }}
    QToolButton:focus {{ border: 1px solid {t.cur}; padding: 3px; }}
    QToolButton:checked:focus {{ border: 1px solid {t.cur}; border-bottom: 2px solid {t.cur}; padding: 3px 3px 2px 3px; }}
    QCheckBox:focus {{ color: {t.text}; }}
    QCheckBox::indicator:focus {{ border: 2px solid {t.text}; }}
    QSlider:focus {{ border: 1px solid {t.cur}; border-radius: 4px; }}
    QPlainTextEdit {{ background: {t.raised}; border: 1px solid {t.edge}; border-radius: 4px; padding: 4px 6px;
        selection-background-color: {t.sel}; }}
    QComboBox, QLineEdit, QAbstractSpinBox {{ background: {t.raised}; border: 1px solid {t.edge}; border-radius: 4px;
        padding: 2px 8px; min-height: 22px; selection-background-color: {t.sel}; }}
    QComboBox::drop-down {{ border: none; width: 22px; }}
    QComboBox::down-arrow {{ image: url({images}/chevron.png); width: 12px; height: 12px; }}
    QComboBox QAbstractItemView {{ background: {t.raised}; border: 1px solid {t.edge}; selection-background-color: {t.sel}; }}
    QAbstractSpinBox QLineEdit {{ border: none; padding: 0; min-height: 0; background: transparent; }}
    QAbstractSpinBox::up-button, QAbstractSpinBox::down-button {{ width: 0; border: none; }}
    QCheckBox {{ spacing: 8px; background: transparent; }}
    QCheckBox::indicator {{ width: 14px; height: 14px; border: 1px solid {t.edge}; border-radius: 3px; background: {t.raised}; }}
    QCheckBox::indicator:checked {{ image: url({images}/tick.png); background: {t.accent if t.filled_action else "transparent"}; border-color: {t.accent}; }}
    QSlider::groove:horizontal {{ height: 4px; background: {t.line}; border-radius: 2px; }}
    QSlider::sub-page:horizontal {{ background: {t.edge}; border-radius: 2px; }}
    QSlider::handle:horizontal {{ background: {t.cur}; width: 10px; height: 18px; margin: -7px 0; border-radius: 4px; }}
    QDialog {{ background: {t.panel}; }}
    QTableView, QListView, QTreeView {{ background: {t.panel}; border: none; gridline-color: transparent; outline: 0;
        selection-background-color: {t.sel}; selection-color: {t.text}; }}
    QTableView:focus, QListView:focus {{ border: 1px solid {t.cur}; }}
    QTableView::item {{ padding: 0 6px; border: none; }}
    QHeaderView {{ background: {t.panel}; }}
    QHeaderView::section {{ background: {t.panel}; color: {t.soft}; border: none; border-bottom: 1px solid {t.line};
        padding: 4px 6px; font-weight: 400; }}
    QScrollArea {{ background: transparent; border: none; }}
    QScrollArea > QWidget > QWidget {{ background: transparent; }}
    QScrollBar:vertical {{ background: transparent; width: 8px; margin: 0; }}
    QScrollBar::handle:vertical {{ background: {t.edge}; border-radius: 3px; min-height: 24px; margin: 1px; }}
    QScrollBar:horizontal {{ background: transparent; height: 8px; }}
    QScrollBar::handle:horizontal {{ background: {t.edge}; border-radius: 3px; min-width: 24px; margin: 1px; }}
    QScrollBar::add-line, QScrollBar::sub-line, QScrollBar::add-page, QScrollBar::sub-page {{ height: 0; width: 0; background: none; }}
    QSplitter::handle {{ background: {t.base}; }}
    QMenu {{ background: {t.raised}; border: 1px solid {t.edge}; padding: 4px; }}
    QMenu::item {{ padding: 5px 24px 5px 12px; border-radius: 3px; }}
    QMenu::item:selected {{ background: {t.sel}; }}
    QMenu::item:disabled {{ color: {t.mute}; }}
    QMenu::separator {{ height: 1px; background: {t.line}; margin: 4px; }}
    QToolTip {{ background: {t.raised}; color: {t.text}; border: 1px solid {t.edge}; padding: 4px; }}
    #hairline {{ background: {t.line}; }}
    #finder {{ background: {t.raised}; border: 1px solid {t.edge}; border-radius: 6px; }}
    """
