"""Words and cells: what stands on the screen, letter by letter."""

import gc
import re
import unittest
import weakref

import numpy as np
from hypothesis import given
from hypothesis import strategies as st
from PySide6.QtCore import QEvent
from PySide6.QtGui import QFontMetrics
from PySide6.QtWidgets import QApplication, QLabel, QWidget

from tests.desktop.painted import pixels
from ulvar.desktop.app import make_application
from ulvar.desktop.boards.combine.rules import _IN_FORMULA, blend_formula
from ulvar.desktop.parts.layers import Layer
from ulvar.desktop.parts.theme import THEMES, apply_theme, font
from ulvar.desktop.parts.widgets import Rows, short_words, table
from ulvar.desktop.picture.tools import sexagesimal
from ulvar.desktop.shell.path_bar import _time_left
from ulvar.frames import parse_angle
from ulvar.stars import BLENDS


class Phrases(unittest.TestCase):
    """Short texts that are made of numbers and names."""

    def test_the_score_as_a_formula(self) -> None:
        for blend, formula in (
            ({"transparency": 1.0, "fwhm_px": 1.0, "noise_adu": 1.0}, "transparency / (FWHM × noise)"),
            ({"fwhm_px": 2.0}, "1 / FWHM^2"), ({"stars": 1.0, "sky_adu": 0.0}, "stars"), ({}, "1"),
            ({"ellipticity": 0.5, "transparency": 1.0}, "transparency × (1 − ellipticity)^0.5"),
        ):  # fmt: skip
            self.assertEqual(blend_formula(blend), formula)
        self.assertEqual(set(_IN_FORMULA), set(BLENDS), "every quality that can be weighed has its place")
        worse = {"fwhm_px", "noise_adu", "sky_adu"}
        for key, make in BLENDS.items():
            falls = bool(make(np.array([0.2]))[0] > make(np.array([0.4]))[0])
            self.assertEqual(_IN_FORMULA[key][1], key in worse)
            self.assertEqual(falls, key in worse or key == "ellipticity")

    def test_time_left(self) -> None:
        self.assertEqual([_time_left(s) for s in (3.4, 99.0, 1307.0)], ["3 s", "99 s", "22 min"])

    def test_long_words_keep_both_ends(self) -> None:
        self.assertEqual(short_words("a light_0001_of_a_long_night_V_0042.fits is cut", 21), "a light_0001…_0042.fits is cut")
        self.assertEqual(short_words("all short words stay", 21), "all short words stay")


class Angles(unittest.TestCase):
    """Right ascension and declination in sixties."""

    def test_places(self) -> None:
        self.assertEqual(sexagesimal(0, 0), "RA 00 00 00.00   Dec +00 00 00.0")
        self.assertEqual(sexagesimal(84.21, -5.77), "RA 05 36 50.40   Dec −05 46 12.0")
        # No sixty seconds, no twenty-fourth hour, no minus of nothing.
        self.assertEqual(sexagesimal(359.999999, 89.99999), "RA 00 00 00.00   Dec +90 00 00.0")
        self.assertEqual(sexagesimal(14.999999, -0.000001), "RA 01 00 00.00   Dec +00 00 00.0")
        self.assertEqual(sexagesimal(10, -0.5), "RA 00 40 00.00   Dec −00 30 00.0")

    @given(st.floats(0, 360, exclude_max=True), st.floats(-90, 90))
    def test_read_back(self, ra: float, dec: float) -> None:
        found = re.fullmatch(r"RA (.*)   Dec (.*)", sexagesimal(ra, dec))
        assert found is not None
        again = parse_angle(found[1], hours=True)
        self.assertLess(abs((again - ra + 180) % 360 - 180), 0.0051 * 15 / 3600)
        self.assertLess(abs(parse_angle(found[2].replace("−", "-")) - dec), 0.051 / 3600)


class Cells(unittest.TestCase):
    """How a table's cells are painted."""

    @classmethod
    def setUpClass(cls) -> None:
        """Make the application, in the dark theme."""
        apply_theme(make_application(), THEMES["dark"])

    def setUp(self) -> None:
        """Make a table of two rows."""
        self.theme = THEMES["dark"]
        self.rows = Rows(["Name\n", "Value\npx", "More\n"])
        self.rows.theme = self.theme
        self.view = table(self.rows, "Words", stretch=2)
        self.view.resize(300, 120)
        self.view.show()
        self.addCleanup(self.view.deleteLater)

    def painted(self, row: int, column: int) -> np.ndarray:
        """Return a cell's pixels, shape (height, width, 3), as red, green, blue."""
        QApplication.processEvents()
        box = self.view.visualRect(self.rows.index(row, column))
        return pixels(self.view.viewport().grab(box).toImage())

    def colour(self, token: str) -> np.ndarray:
        """Return a theme's colour as red, green, blue."""
        colour = self.theme.color(token)
        return np.array([colour.red(), colour.green(), colour.blue()])

    def has(self, cell: np.ndarray, token: str) -> bool:
        """Whether a colour stands anywhere in a cell."""
        return bool((np.abs(cell - self.colour(token)).max(axis=-1) < 12).any())

    def test_text_goes_to_its_side_in_its_colour(self) -> None:
        self.rows.fill([["one", "1.00", ""], ["two", "2.00", ""]], ["a", "b"], {(1, 1): "block"}, {0})
        ink = np.abs(self.painted(1, 0) - self.colour("panel")).max(axis=-1) > 60
        columns = np.flatnonzero(ink.any(axis=0))
        self.assertLess(columns[0], 10, "a name stands at the left")
        cell = self.painted(1, 1)
        ink = np.abs(cell - self.colour("panel")).max(axis=-1) > 60
        self.assertGreater(np.flatnonzero(ink.any(axis=0))[-1], cell.shape[1] - 10, "a number at the right")
        self.assertTrue(self.has(cell, "block"), "marked")
        self.assertFalse(self.has(self.painted(0, 1), "text"), "soft")
        self.assertTrue(self.has(self.painted(1, 0), "text"))
        self.assertFalse((np.abs(self.painted(1, 2) - self.colour("panel")) > 12).any(), "nothing in an empty cell")

    def test_the_chosen_row_has_its_own_ground(self) -> None:
        self.rows.fill([["one", "1.00", ""], ["two", "2.00", ""]], ["a", "b"], {(1, 1): "block"})
        self.view.selectRow(1)
        for column in range(3):
            corner = (slice(1, 2), slice(1, 2))
            self.assertTrue(self.has(self.painted(1, column)[corner], "sel"))
            self.assertFalse(self.has(self.painted(0, column)[corner], "sel"))

    def test_columns_are_as_wide_as_their_first_texts(self) -> None:
        def needed(text: str, bold: bool = False) -> int:
            metrics = QFontMetrics(font("value")) if bold else self.view.fontMetrics()
            return metrics.horizontalAdvance(text) + 12

        self.rows.fill([("star", "175 109.25", ""), ("other", "3", "")], ["a", "b"])
        self.assertGreaterEqual(self.view.columnWidth(1), needed("175 109.25"))
        wide = self.view.columnWidth(1)
        # A value in bold is wider; a heading is never cut; a text far below does not count.
        self.rows.fill([("star", "175 109.25", "")], ["a"], {(0, 1): "block"})
        self.assertGreaterEqual(self.view.columnWidth(1), needed("175 109.25", bold=True))
        self.rows.fill([("star", "1", "")] * 30 + [("star", "1" * 40, "")], [str(i) for i in range(31)])
        self.assertLess(self.view.columnWidth(1), wide)
        self.assertGreaterEqual(self.view.columnWidth(1), self.view.fontMetrics().horizontalAdvance("Value"))
        self.rows.fill([], [])
        self.assertGreater(self.view.columnWidth(1), 10)

    def test_a_table_that_goes_takes_its_rows_with_it(self) -> None:
        def made() -> list[weakref.ref]:
            rows = Rows(["Name\n", "Value\n"])
            view = table(rows, "Words")
            rows.fill([("star", "1")], ["a"])
            view.deleteLater()
            return [weakref.ref(rows), weakref.ref(view)]

        gone = made()
        QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
        gc.collect()
        self.assertEqual([what() for what in gone], [None, None])

    def test_what_has_no_room_is_cut_in_its_middle(self) -> None:
        long = "a_name_that_is_much_too_long_for_a_column_" * 2
        self.rows.fill([[f"{long}01", "1.00", ""], [f"{long}02", "2.00", ""], [f"x{long}02", "3.00", ""]], ["a", "b", "c"])
        self.view.horizontalHeader().resizeSection(0, 110)
        first, second, other = (self.painted(row, 0) for row in range(3))
        ink = np.abs(first - self.colour("panel")).max(axis=-1) > 60
        self.assertFalse(ink[:, -6:].any(), "it stops before the edge")
        # Both ends are seen: names that differ in either look different.
        unlike = np.abs(first - second).max(axis=-1) > 60
        self.assertTrue(unlike[:, first.shape[1] // 2 :].any())
        self.assertFalse(unlike[:, : first.shape[1] // 3].any())
        self.assertTrue((np.abs(second - other).max(axis=-1) > 60)[:, : first.shape[1] // 3].any())


class Layers(unittest.TestCase):
    """A painting that is kept."""

    def test_painted_again_only_for_another_key_or_size(self) -> None:
        make_application()
        widget = QLabel()
        self.addCleanup(widget.deleteLater)
        widget.resize(40, 30)
        layer, calls = Layer(), []

        def paint(target: QWidget, key: tuple) -> None:
            from PySide6.QtGui import QPainter, QPixmap

            pixmap = QPixmap(target.size())
            painter = QPainter(pixmap)
            layer.paint(painter, target, key, lambda _: calls.append(key))
            painter.end()

        paint(widget, ("a",))
        paint(widget, ("a",))
        self.assertEqual(calls, [("a",)])
        paint(widget, ("b",))
        widget.resize(41, 30)
        paint(widget, ("b",))
        self.assertEqual(calls, [("a",), ("b",), ("b",)])
