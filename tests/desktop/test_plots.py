"""A small plot: what stands where, what a click and a drag take, and what a saved picture of it holds."""

import unittest

import numpy as np
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from tests.desktop.painted import DARK, near, pixels
from ulvar.desktop.app import make_application
from ulvar.desktop.parts import zoomed
from ulvar.desktop.parts.plots import Points
from ulvar.desktop.parts.printing import render_plots
from ulvar.desktop.parts.zoomed import Ruler, ZoomPlot

NONE, SHIFT = Qt.KeyboardModifier.NoModifier, Qt.KeyboardModifier.ShiftModifier


class Plots(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.app = make_application()

    def setUp(self) -> None:
        self.picked: list[str] = []
        self.brushed: list[list[str]] = []
        self.plot = ZoomPlot(DARK, x_label="Time", y_label="Level", on_pick=self.picked.append, on_brush=self.brushed.append)
        self.plot.resize(460, 240)
        self.plot.series = [Points(np.array([0.0, 2.0, 10.0]), np.array([1.0, 5.0, 3.0]), keys=["a", "b", "c"])]
        # 400 px for 10, 200 px for 5.
        self.plot.x_range, self.plot.y_range = (0.0, 10.0), (0.0, 5.0)
        self.plot.home = (0.0, 10.0)
        self.plot.show()
        self.addCleanup(self.plot.deleteLater)

    def where(self, token: str, within: int = 12) -> np.ndarray:
        return near(pixels(self.plot.grab().toImage()), DARK.color(token), within)

    def drag(self, *places: tuple[float, float], modifier: Qt.KeyboardModifier = NONE) -> None:
        points = [QPoint(round(x), round(y)) for x, y in places]
        QTest.mousePress(self.plot, Qt.MouseButton.LeftButton, modifier, points[0])
        for place in points[1:]:
            QTest.mouseMove(self.plot, place)
            QApplication.processEvents()
        QTest.mouseRelease(self.plot, Qt.MouseButton.LeftButton, modifier, points[-1])

    def test_the_scale_is_that_of_the_widget(self) -> None:
        for (x, y), (px, py) in {(0, 0): (52, 208), (10, 5): (452, 8), (2.5, 1): (152, 168)}.items():
            self.assertEqual(self.plot.to_screen(x, y), QPointF(px, py))
            np.testing.assert_allclose(self.plot.from_screen(QPointF(px, py)), (x, y), atol=1e-9)

    def test_lines_of_the_axes_cross_the_plot_and_numbers_stand_outside(self) -> None:
        self.plot.series[0].y[:2] = np.nan
        # A line between two pixels is half as bright in each.
        seen = np.abs(pixels(self.plot.grab().toImage()) - DARK.color("plot").getRgb()[:3]).max(axis=-1) > 4
        down, across = seen[12:204].mean(axis=0) > 0.9, seen[:, 56:448].mean(axis=1) > 0.9
        self.assertEqual([x for x in range(56, 448) if down[x] and down[x - 1]], [152, 252, 352])
        self.assertEqual([y for y in range(12, 204) if across[y] and across[y - 1]], [48, 128])
        words = self.where("mute", 60)
        self.assertTrue(words[122:134, 20:50].any() and words[211:224, 140:164].any() and words[224:240, 400:452].any())
        self.assertFalse(words[209:212, 60:].any(), "too near to the axis")

    def test_marks_and_notes_are_painted_over_the_points(self) -> None:
        self.plot.current, self.plot.marker = "b", 6.0
        cur = self.where("cur", 100)
        self.assertGreater(cur[10:206, 290:295].any(axis=1).mean(), 0.99)
        rows, columns = np.nonzero(self.where("cur", 60)[:, :280])
        np.testing.assert_allclose((columns.min(), columns.max(), rows.max()), (125, 138, 14), atol=1)
        self.plot.marker, self.plot.current, self.plot.notes = None, "", [(5.0, 2.5, "a dip", "comparison")]
        rows, columns = np.nonzero(self.where("comparison", 60))
        self.assertTrue(np.hypot(columns - 252, rows - 108).max() < 60 and len(rows) > 20, "the words stand at their place")
        self.plot.bands = [(4.0, 6.0, "check")]
        plot, band = pixels(self.plot.grab().toImage())[[60, 60], [300, 250]]
        self.assertGreater(np.abs(plot - band).max(), 5)

    def test_a_click_takes_the_nearest_point_and_no_far_one(self) -> None:
        for place in ((60, 160), (440, 85), (250, 120), (150, 20), (124, 8)):
            QTest.mouseClick(self.plot, Qt.MouseButton.LeftButton, NONE, QPoint(*place))
        self.assertEqual(self.picked, ["a", "c", "b"])

    def test_a_rectangle_takes_what_lies_in_it_but_a_shaking_hand_draws_none(self) -> None:
        self.drag((180, 30), (100, 0))
        self.assertEqual(self.brushed, [["b"]])
        self.drag((130, 10), (132, 12))
        self.assertEqual((self.brushed, self.picked), ([["b"]], ["b"]))

    def test_shift_moves_what_is_zoomed_and_not_past_the_ends(self) -> None:
        self.plot.show_range((4.0, 6.0))
        self.drag((200, 100), (240, 100), modifier=SHIFT)
        np.testing.assert_allclose(self.plot.x_range, (3.8, 5.8))
        self.drag((60, 100), (440, 100), (60, 100), (440, 100), (60, 100), (440, 100), modifier=SHIFT)
        self.assertGreaterEqual(self.plot.x_range[0], 0.0)
        self.plot.home = None
        self.drag((200, 100), (260, 100), modifier=SHIFT)
        self.assertEqual((self.plot.x_range[1] - self.plot.x_range[0]).__round__(9), 2.0)

    def test_what_lies_in_the_range_fills_the_height(self) -> None:
        self.plot.series = [Points(np.arange(6.0), np.array([90.0, 1.0, 2.0, np.nan, 3.0, -50.0]))]
        self.plot.show_range((1.0, 4.0))
        np.testing.assert_allclose(self.plot.y_range, (0.76, 3.24))
        self.plot.show_range(None)
        self.assertEqual((self.plot.x_range, self.plot.y_range), ((0.0, 10.0), None))

    def test_a_ruler_has_ends(self) -> None:
        self.plot.rulers = [Ruler(2.5, 7.5, 2.0, 2.0, 0.1, 0.1, 3, 3)]
        rows, columns = np.nonzero(self.where("check", 60))
        for at in (152, 352):
            end = rows[np.abs(columns - at) <= 1]
            np.testing.assert_allclose((end.min(), end.max()), (122, 134), atol=1.5)

    def test_many_points_are_painted_where_they_are(self) -> None:
        x, y = np.repeat([1.0, 8.0], zoomed._MANY), np.repeat([4.0, 1.0], zoomed._MANY)
        self.plot.series = [Points(x, y, token="comparison")]
        rows, columns = np.nonzero(self.where("comparison", 60))
        self.assertEqual(sorted({(c // 10 * 10, r // 10 * 10) for r, c in zip(rows, columns)}), [(90, 40), (370, 160)])

    def test_a_saved_picture_has_the_plots_one_under_the_other_and_a_rim(self) -> None:
        image = render_plots([self.plot, self.plot], ["Title", "Further"], DARK)
        self.assertEqual((image.width(), image.height()), (460 + 28, 2 * 240 + 28 + 2 * 19 + 6))
        ground = near(pixels(image), DARK.color("plot"), 2)
        for top in (58, 298):
            self.assertGreater(ground[top + 8 : top + 208, 14 + 52 : 14 + 452].mean(), 0.85)
        self.assertFalse(ground[:, :60].any() or ground[:60].any() or ground[:, -20:].any())
