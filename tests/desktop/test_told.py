"""Every control says what it does and what it is called; what is written can be read, in all three themes."""

import unittest

from PySide6.QtCore import Qt
from PySide6.QtGui import QColor, QPalette
from PySide6.QtTest import QTest
from PySide6.QtWidgets import (
    QAbstractButton,
    QAbstractItemView,
    QAbstractSlider,
    QAbstractSpinBox,
    QApplication,
    QComboBox,
    QHeaderView,
    QLineEdit,
    QPlainTextEdit,
    QScrollBar,
    QWidget,
)
from tools.cases import small_demo
from tools.shown import at_rest

from tests.desktop.scored import ScoredCase
from ulvar.desktop.app import make_application
from ulvar.desktop.dialogs.masters import MastersPanel
from ulvar.desktop.parts.plots import Plot
from ulvar.desktop.parts.theme import THEMES, Theme, apply_theme, filter_color
from ulvar.desktop.picture.histogram import Histogram
from ulvar.night import STATIONS

CONTROLS = (
    QAbstractButton, QComboBox, QAbstractSpinBox, QLineEdit, QPlainTextEdit, QAbstractSlider, QAbstractItemView, Plot,
    Histogram,
)  # fmt: skip


def controls(top: QWidget) -> list[QWidget]:
    """Return the controls in sight, without parts of which Qt makes them."""
    return [
        w for w in top.findChildren(QWidget)
        if w.isVisible() and isinstance(w, CONTROLS) and not isinstance(w, QScrollBar | QHeaderView)
        and not isinstance(w.parentWidget(), QAbstractSpinBox | QComboBox)
        and not (isinstance(w, QAbstractButton) and isinstance(w.parentWidget(), QAbstractItemView | QLineEdit))
    ]  # fmt: skip


def untold(top: QWidget) -> list[str]:
    """Return what lacks a tooltip or a name."""
    found = []
    for w in controls(top):
        text = w.text() if isinstance(w, QAbstractButton) else ""
        if not w.toolTip():
            found.append(f"{type(w).__name__} '{text or w.accessibleName()}' has no tooltip")
        if not (w.accessibleName() or text):
            found.append(f"{type(w).__name__} '{w.toolTip()}' has no name")
    return found


class Told(ScoredCase):
    def test_every_control_at_every_station(self) -> None:
        window = self.window
        window.slip._toggle_fold()
        seen = 0
        pages = {
            "combine": ("rules", "stars", "field", "alignment", "result", "exposures"),
            "calibrate": ("defects", "flat", "camera", "lights"),
        }
        for station in STATIONS:
            self.model.set_station(station)
            self.quiet()
            with self.subTest(station):
                self.assertEqual(untold(window), [])
            seen += len(controls(window))
            for page in pages.get(station, ()):
                window.board_of[station].turn_to(page)
                self.quiet()
                with self.subTest(page):
                    self.assertEqual(untold(window), [])
        self.assertGreater(seen, 150, "there was something to look at")

    def test_every_small_window(self) -> None:
        window = self.window
        for command in ("facts", "header", "sessions", "plan flats", "star places", "export picture"):
            window.command(command)
            self.quiet()
            panel = window.exports.panel if command == "export picture" else window.chores.panel
            with self.subTest(command):
                self.assertEqual(untold(panel), [])
                self.assertGreater(len(controls(panel)), 1)
                if command == "header":
                    # Comments of cards are as long as they are.
                    at_rest(self, panel)
                else:
                    self.look_at(panel)
                if not panel.action.text():
                    # What only shows has nothing to do at Enter, which is typed after a number.
                    QTest.keyClick(panel, Qt.Key.Key_Return)
                    self.assertTrue(panel.isVisible())
            panel.close()
        panel = MastersPanel(window, self.model, [next((small_demo() / "raw").rglob("*.fits"))])
        panel.show()
        self.quiet()
        self.assertEqual(untold(panel), [])
        self.look_at(panel)
        panel.close()
        window.command("find")
        self.quiet()
        self.assertEqual(untold(window.finder), [])
        self.look_at(window.finder)
        window.finder.hide()

    def test_every_choice_of_a_setting_has_its_sentence(self) -> None:
        window = self.window
        window.slip._toggle_fold()
        count = 0
        boxes = [window.sky.foot.stretch_box]
        for station in STATIONS:
            self.model.set_station(station)
            self.quiet()
            boxes += [b for b in window.slip.findChildren(QComboBox) if b.isVisible()]
            for box in boxes:
                for k in range(box.count()):
                    count += 1
                    self.assertTrue(box.itemData(k, Qt.ItemDataRole.ToolTipRole), f"{station}: {box.accessibleName()} {box.itemText(k)}")
            boxes = []
        self.assertGreater(count, 20)

    def test_a_fields_tip_has_its_unit(self) -> None:
        window = self.window
        window.slip._toggle_fold()
        for station in STATIONS:
            self.model.set_station(station)
            self.quiet()
            for box in window.slip.findChildren(QAbstractSpinBox):
                if box.isVisible() and box.suffix().strip():
                    self.assertIn(box.suffix().strip(), box.toolTip(), f"{station}: {box.accessibleName()}")

    def test_menus_show_what_their_entries_do(self) -> None:
        menu = self.window.build_menu()
        self.assertTrue(menu.toolTipsVisible())
        for action in menu.actions():
            if action.menu() is not None and action.text() != "Recent nights":
                self.assertTrue(action.menu().toolTipsVisible(), action.text())
                for entry in action.menu().actions():
                    self.assertTrue(entry.toolTip(), entry.text())
        menu.close()


def luminance(color: QColor) -> float:
    """Return the relative luminance (WCAG 2.1)."""
    parts = (color.redF(), color.greenF(), color.blueF())
    r, g, b = (c / 12.92 if c <= 0.04045 else ((c + 0.055) / 1.055) ** 2.4 for c in parts)
    return 0.2126 * r + 0.7152 * g + 0.0722 * b


def contrast(one: QColor, other: QColor) -> float:
    """Return the contrast ratio (WCAG 2.1)."""
    a, b = sorted((luminance(one), luminance(other)))
    return (b + 0.05) / (a + 0.05)


def over(theme: Theme, token: str, alpha: float, ground: str) -> QColor:
    """Return a colour as it is seen through on a ground."""
    top, below = theme.color(token), theme.color(ground)
    mixed = [alpha * a + (1 - alpha) * b for a, b in zip(top.getRgbF()[:3], below.getRgbF()[:3])]
    return QColor.fromRgbF(*mixed)


class Contrast(unittest.TestCase):
    """Words reach 4.5 to 1, graphics 3 to 1 (WCAG 2.1, 1.4.3 and 1.4.11)."""

    def test_words(self) -> None:
        words = ("text", "soft", "mute", "block", "check", "note", "good")
        for theme in THEMES.values():
            for ground in ("panel", "raised", "plot"):
                for token in words:
                    with self.subTest(theme=theme.name, ground=ground, token=token):
                        self.assertGreaterEqual(contrast(theme.color(token), theme.color(ground)), 4.5)
            with self.subTest(theme=theme.name, ground="sel"):
                for token in ("text", "soft"):
                    self.assertGreaterEqual(contrast(theme.color(token), theme.color("sel")), 4.5)
            if theme.filled_action:
                self.assertGreaterEqual(contrast(theme.color("on_accent"), theme.color("accent")), 4.5)

    def test_placeholders(self) -> None:
        app = make_application()
        for theme in THEMES.values():
            apply_theme(app, theme)
            palette = QApplication.palette()
            with self.subTest(theme.name):
                hint = palette.color(QPalette.ColorRole.PlaceholderText)
                self.assertGreaterEqual(contrast(hint, theme.color("raised")), 4.5)

    def test_graphics(self) -> None:
        for theme in THEMES.values():
            plot = theme.color("plot")
            for token in ("cur", "target", "comparison", "check_star", "off", "edge", "mute"):
                with self.subTest(theme=theme.name, token=token):
                    self.assertGreaterEqual(contrast(theme.color(token), plot), 3.0)
            # Dots of other series, the Moon's line.
            for token, alpha in (("text", 0.68), ("note", 0.8)):
                with self.subTest(theme=theme.name, token=token, alpha=alpha):
                    self.assertGreaterEqual(contrast(over(theme, token, alpha, "plot"), plot), 3.0)
            for name in ("B", "V", "R", "G", "", "Ha"):
                with self.subTest(theme=theme.name, filter=name):
                    self.assertGreaterEqual(contrast(filter_color(theme, name), plot), 3.0)
