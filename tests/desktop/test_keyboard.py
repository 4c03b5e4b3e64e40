"""All without a mouse: pointing at the picture, roles, lines and rectangles, levels, selections; and where the keyboard is, is seen."""

from unittest import mock

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QCheckBox, QComboBox, QFileDialog, QPushButton, QSlider, QTableView, QToolButton, QWidget

from tests.desktop.scored import ScoredCase
from ulvar.astrometry import Wcs
from ulvar.desktop.models.starpick import add_stars
from ulvar.photometry import ListedStar

NONE = Qt.KeyboardModifier.NoModifier
CTRL, SHIFT, ALT = (
    Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.ShiftModifier, Qt.KeyboardModifier.AltModifier,
)  # fmt: skip


class Pointing(ScoredCase):
    def setUp(self) -> None:
        super().setUp()
        self.canvas = self.sky.canvas

    def at(self) -> tuple[float, float]:
        place = self.sky.pointer.place
        assert place is not None
        return place

    def test_the_cursor_goes_by_steps_and_pixels_and_the_read_out_follows(self) -> None:
        self.key(Qt.Key.Key_Right, CTRL)
        x, y = self.at()
        scale = self.canvas.sight.scale
        self.key(Qt.Key.Key_Right, CTRL)
        self.assertAlmostEqual(self.at()[0] - x, 10 / scale, places=6)
        self.key(Qt.Key.Key_Up, CTRL | SHIFT)
        self.assertAlmostEqual(self.at()[1] - y, 1.0, places=6, msg="up on the screen is up in the image")
        self.key(Qt.Key.Key_Down, CTRL)
        self.key(Qt.Key.Key_Left, CTRL | SHIFT)
        self.assertAlmostEqual(self.at()[1] - y, 1.0 - 10 / scale, places=6)
        self.assertAlmostEqual(self.at()[0] - x, 10 / scale - 1, places=6)
        told = self.sky.foot.read_out.text()
        self.assertIn(f"{self.at()[0] + 1:.1f}", told, "pixels count from 1, as in headers")
        # It is drawn, and Esc puts it away.
        shown = self.canvas.grab().toImage()
        self.key(Qt.Key.Key_Escape)
        self.assertIsNone(self.sky.pointer.place)
        self.assertNotEqual(self.canvas.grab().toImage(), shown)

    def test_beyond_the_edge_the_picture_follows(self) -> None:
        self.canvas.one_to_one()
        self.canvas.zoom(4.0)
        for _ in range(80):
            self.sky.pointer.do("right")
        at = self.canvas.sight.to_screen(*self.at())
        self.assertTrue(0 < at.x() < self.canvas.width())
        self.assertLess(self.canvas.sight.in_view()[0], self.at()[0])

    def test_from_star_to_star_and_a_role_for_it(self) -> None:
        self.key(Qt.Key.Key_6)
        table = self.sky.stars_of(self.model.current)
        order = np.argsort(-table.flux)
        for k in range(3):
            self.key(Qt.Key.Key_E)
            self.assertAlmostEqual(self.at()[0], float(table.x[order[k]]), places=3)
            self.assertAlmostEqual(self.at()[1], float(table.y[order[k]]), places=3)
        self.key(Qt.Key.Key_E, SHIFT)
        self.assertAlmostEqual(self.at()[0], float(table.x[order[1]]), places=3)
        self.key(Qt.Key.Key_T, ALT)
        self.assertEqual([s.role for s in self.model.night.stars()], ["target"])
        (place,) = self.model.numbers.star_pixels(self.model.current).values()
        self.assertLess(np.hypot(place[0] - self.at()[0], place[1] - self.at()[1]), 0.01)
        self.key(Qt.Key.Key_E)
        star = self.at()
        # A little beside it is still that star.
        self.sky.pointer.do("right")
        self.assertNotEqual(self.at(), star)
        self.key(Qt.Key.Key_C, ALT)
        place = list(self.model.numbers.star_pixels(self.model.current).values())[1]
        self.assertLess(np.hypot(place[0] - star[0], place[1] - star[1]), 0.01)
        self.key(Qt.Key.Key_E)
        self.key(Qt.Key.Key_K, ALT)
        self.assertEqual([s.role for s in self.model.night.stars()], ["target", "comparison", "check"])
        self.key(Qt.Key.Key_0, ALT)
        self.assertEqual([s.role for s in self.model.night.stars()], ["target", "comparison"])
        # A click by the keyboard opens the menu of roles, which the keyboard walks through.
        self.key(Qt.Key.Key_Return, CTRL)
        menu = self.window.commands.role_menu
        assert menu is not None
        self.assertTrue(menu.isVisible())
        QTest.keyClick(menu, Qt.Key.Key_Down)
        QTest.keyClick(menu, Qt.Key.Key_Down)
        QTest.keyClick(menu, Qt.Key.Key_Return)
        QApplication.processEvents()
        self.assertEqual([s.role for s in self.model.night.stars()], ["target", "comparison", "comparison"])
        self.key(Qt.Key.Key_Z, CTRL)
        self.assertEqual(len(self.model.night.stars()), 2)

    def test_roles_say_what_they_need(self) -> None:
        self.key(Qt.Key.Key_T, ALT)
        self.assertIn("at Measure", self.messages[-1])
        self.key(Qt.Key.Key_6)
        self.key(Qt.Key.Key_T, ALT)
        self.assertIn("Point at the star first", self.messages[-1])
        self.key(Qt.Key.Key_Return, CTRL)
        self.assertIn("Move the cursor first", self.messages[-1])
        self.assertEqual(self.model.night.stars(), [])

    def test_a_line_and_a_rectangle(self) -> None:
        self.key(Qt.Key.Key_P)
        self.key(Qt.Key.Key_Right, CTRL)
        first = self.at()
        self.key(Qt.Key.Key_Return, CTRL)
        for _ in range(6):
            self.key(Qt.Key.Key_Right, CTRL)
        last = self.at()
        self.key(Qt.Key.Key_Return, CTRL)
        a, b = self.canvas.line
        np.testing.assert_allclose([a.x(), a.y(), b.x(), b.y()], [*first, *last], atol=1e-6)
        self.assertIn("px", self.sky.foot.read_out.text())
        self.key(Qt.Key.Key_B)
        self.key(Qt.Key.Key_Return, CTRL)
        for key in (Qt.Key.Key_Left, Qt.Key.Key_Left, Qt.Key.Key_Down, Qt.Key.Key_Down, Qt.Key.Key_Down):
            self.key(key, CTRL)
        self.key(Qt.Key.Key_Return, CTRL)
        box, scale = self.canvas.box, self.canvas.sight.scale
        self.assertAlmostEqual(box.width(), 20 / scale, places=5)
        self.assertAlmostEqual(box.height(), 30 / scale, places=5)
        self.assertIn("median", self.sky.tools.box.words.text())

    def test_a_selection_is_drawn_out(self) -> None:
        lights = [f.path for f in self.model.lights()]
        self.model.set_current(lights[4])
        for _ in range(3):
            self.key(Qt.Key.Key_Right, SHIFT)
        self.assertEqual(list(self.model.brushed), lights[4:8])
        self.assertEqual(self.model.current, lights[7])
        self.key(Qt.Key.Key_Left, SHIFT)
        self.assertEqual(list(self.model.brushed), lights[4:7])
        for _ in range(4):
            self.key(Qt.Key.Key_Left, SHIFT)
        self.assertEqual(list(self.model.brushed), lights[2:5], "over its beginning to the other side")
        self.key(Qt.Key.Key_X)
        self.assertEqual(set(self.model.left_out()), set(lights[2:5]))
        self.key(Qt.Key.Key_Escape)
        self.key(Qt.Key.Key_Right, SHIFT)
        self.assertEqual(list(self.model.brushed), lights[2:4], "a new one begins where one is")

    def test_levels(self) -> None:
        histogram = self.sky.foot.histogram
        histogram.setFocus(Qt.FocusReason.TabFocusReason)
        current = self.model.current
        s = histogram.stretch
        QTest.keyClick(histogram, Qt.Key.Key_Right)
        step = histogram.stretch.floor - s.floor
        self.assertGreater(step, 0)
        self.assertEqual(self.canvas.stretch.floor, histogram.stretch.floor, "the picture follows")
        QTest.keyClick(histogram, Qt.Key.Key_Left, SHIFT)
        self.assertAlmostEqual(histogram.stretch.floor, s.floor - 9 * step, delta=abs(step) * 1e-6 + 1e-9)
        QTest.keyClick(histogram, Qt.Key.Key_Down)
        QTest.keyClick(histogram, Qt.Key.Key_Right)
        self.assertGreater(histogram.stretch.ceiling, s.ceiling, "down from the first is the last")
        QTest.keyClick(histogram, Qt.Key.Key_Down)
        before = histogram.stretch.knee_adu
        QTest.keyClick(histogram, Qt.Key.Key_Right)
        self.assertGreater(histogram.stretch.knee_adu, before)
        self.assertEqual(self.model.current, current, "arrows were the histogram's own")


class Places(ScoredCase):
    """Stars by coordinates: in the small window and in the finder."""

    def setUp(self) -> None:
        super().setUp()
        facts = self.model.facts(self.model.current)
        cd = np.array([[-2.0 / 3600, 0.0], [0.0, 2.0 / 3600]])
        self.wcs = Wcs(115.5, 41.3, (facts.width - 1) / 2, (facts.height - 1) / 2, cd)

    def test_in_the_small_window(self) -> None:
        self.key(Qt.Key.Key_6)
        self.key(Qt.Key.Key_T, CTRL)
        panel = self.window.chores.panel
        QTest.keyClicks(panel.text, "T, 07:42:00, +41:18:00")
        QTest.keyClick(panel.text, Qt.Key.Key_Return)
        QTest.keyClicks(panel.text, "115.52 +41.31")
        self.assertEqual([(s.name, s.role) for s in panel.stars], [("T", "target"), ("", "comparison")])
        self.assertEqual(panel.action.text(), "Add 2 stars")
        self.look_at(panel)
        QTest.keyClick(panel.text, Qt.Key.Key_Return)
        QTest.keyClicks(panel.text, "x, 200.0, 95")
        self.assertIn("Line 3", panel.problem.text())
        self.assertFalse(panel.action.isEnabled())
        panel.text.setPlainText("T, 07:42:00, +41:18:00\n115.52 +41.31\nk, 115.4, 41.2, check\n")
        self.assertEqual(panel.problem.text(), "")
        self.click(panel.action)
        stars = self.model.night.stars()
        self.assertEqual([(s.name, s.role) for s in stars], [("T", "target"), ("a", "comparison"), ("k", "check")])
        self.assertAlmostEqual(stars[0].ra, 115.5)
        self.assertAlmostEqual(stars[0].dec, 41.3)
        self.assertIn("Solve the plates", self.messages[-1])
        self.key(Qt.Key.Key_Z, CTRL)
        self.assertEqual(self.model.night.stars(), [])

    def test_a_list_from_a_file(self) -> None:
        path = self.folder / "list.csv"
        path.write_text("name,role,ra,dec,x,y\nT,target,115.5,41.3,,\nb,check,07:42:12,+41:20,,\np,check,,,5,6\n")
        self.window.command("star places")
        panel = self.window.chores.panel
        with self.file_dialog(str(path)):
            self.click(panel.choose)
        self.assertEqual([s.name for s in panel.stars], ["T", "b"])
        self.assertIn("1 star of list.csv without a fixed place", panel.problem.text())
        self.assertAlmostEqual(panel.stars[1].ra, 115.55)
        path.write_text("nothing")
        with self.file_dialog(str(path)):
            self.click(panel.choose)
        self.assertIn("list.csv", panel.problem.text())
        panel.reject()

    @staticmethod
    def file_dialog(name: str):  # type: ignore[no-untyped-def]
        return mock.patch.object(QFileDialog, "getOpenFileName", return_value=(name, ""))

    def test_in_the_finder(self) -> None:
        field = self.window.finder.field
        items = lambda: [self.window.finder.list.item(k).text() for k in range(self.window.finder.list.count())]  # noqa: E731
        self.key(Qt.Key.Key_K, CTRL)
        QTest.keyClicks(field, "no such thing at all")
        self.assertEqual(len(items()), 1)
        self.assertTrue(items()[0].startswith("Nothing is found"))
        QTest.keyClick(field, Qt.Key.Key_Return)
        self.assertTrue(self.window.finder.isVisible(), "nothing is not taken")
        field.clear()
        QTest.keyClicks(field, "07:42:00 +41:18:00")
        self.assertEqual([t.split(" at ")[0] for t in items()[:3]], ["Target", "Comparison star", "Check star"])
        QTest.keyClick(field, Qt.Key.Key_Return)
        (star,) = self.model.night.stars()
        self.assertEqual((star.role, self.model.station), ("target", "measure"))
        self.assertAlmostEqual(star.ra, 115.5)
        # A second target takes the place of the first.
        self.key(Qt.Key.Key_K, CTRL)
        QTest.keyClicks(field, "N, 115.6, 41.4, target")
        QTest.keyClick(field, Qt.Key.Key_Return)
        self.assertEqual([s.name for s in self.model.night.stars()], ["N"])
        # The picture goes to a place where the exposure is solved.
        self.key(Qt.Key.Key_K, CTRL)
        field.setText("115.51, 41.31")
        self.window.finder.list.setCurrentRow(3)
        QTest.keyClick(field, Qt.Key.Key_Return)
        self.assertIn("not solved yet", self.messages[-1])
        with mock.patch.object(type(self.sky), "plate", new_callable=mock.PropertyMock, return_value=self.wcs):
            self.key(Qt.Key.Key_K, CTRL)
            field.setText("115.51, 41.31")
            self.window.finder.list.setCurrentRow(3)
            QTest.keyClick(field, Qt.Key.Key_Return)
        x, y = self.wcs.pixel(115.51, 41.31)
        centre = self.sky.canvas.sight.centre
        self.assertLess(np.hypot(centre.x() - float(x), centre.y() - float(y)), 1e-6)


class Seen(ScoredCase):
    """Where the keyboard is can be seen on everything that takes it."""

    def look(self, widget: QWidget) -> bytes:
        QApplication.processEvents()
        image = widget.grab().toImage()
        return bytes(image.constBits())

    def test_focus_changes_what_is_seen(self) -> None:
        kinds = (QPushButton, QToolButton, QComboBox, QCheckBox, QSlider, QTableView)
        self.window.activateWindow()
        seen: dict[str, int] = {}
        hidden: list[str] = []
        for station in ("combine", "calibrate", "measure", "intake"):
            self.model.set_station(station)
            self.until(lambda: not self.model.jobs.busy, 20)
            for _ in range(10):
                QApplication.processEvents()
                QTest.qWait(2)
            for kind in kinds:
                for widget in self.window.findChildren(kind):
                    if not (widget.isVisible() and widget.isEnabled() and widget.focusPolicy() & Qt.FocusPolicy.TabFocus):
                        continue
                    widget.clearFocus()
                    before = self.look(widget)
                    widget.setFocus(Qt.FocusReason.TabFocusReason)
                    seen[kind.__name__] = seen.get(kind.__name__, 0) + 1
                    if self.look(widget) == before:
                        hidden.append(f"{station}: {kind.__name__} {widget.toolTip()[:40]}")
        self.assertEqual(hidden, [])
        for kind in (QPushButton, QToolButton, QComboBox, QCheckBox, QTableView):
            self.assertIn(kind.__name__, seen)
        histogram = self.sky.foot.histogram
        histogram.clearFocus()
        before = self.look(histogram)
        histogram.setFocus(Qt.FocusReason.TabFocusReason)
        self.assertNotEqual(self.look(histogram), before)


class Lists(ScoredCase):
    def test_names_and_targets(self) -> None:
        said = add_stars(
            self.model,
            [
                ListedStar("", "target", 1.0, 2.0), ListedStar("", "target", 3.0, 4.0), ListedStar("a", "check", 5.0, 6.0),
            ],
        )  # fmt: skip
        stars = self.model.night.stars()
        self.assertEqual([s.role for s in stars], ["target", "check", "check"], "one target; a second is looked at too")
        self.assertEqual(len({s.name for s in stars}), 3)
        self.assertTrue(said.startswith("Added 3 stars."))
        add_stars(self.model, [ListedStar("a", "comparison", 7.0, 8.0)])
        self.assertEqual([(s.role, s.ra) for s in self.model.night.stars() if s.name == "a"], [("comparison", 7.0)])
        self.messages.clear()
        self.window.commands._going.to_star("a")
        self.assertEqual(self.messages, ["a has no place in this exposure yet: solve or align it first."])
