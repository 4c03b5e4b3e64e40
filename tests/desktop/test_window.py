"""The whole path in the real window: from opening the folder to the saved light curve."""

import csv
import json
import sys
from dataclasses import replace
from unittest import mock

import numpy as np
from PySide6.QtCore import QMimeData, QPoint, QPointF, Qt, QUrl
from PySide6.QtGui import QDropEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QPushButton, QTableView
from tools.cases import small_demo, stamps
from tools.window_cases import WindowCase

from tests.desktop.painted import pixels
from ulvar.desktop.boards.intake.board import GroupCard
from ulvar.desktop.models.plan import plan_action
from ulvar.desktop.parts.widgets import Cells
from ulvar.desktop.shell.finder import matches
from ulvar.frames import Role
from ulvar.night import Night
from ulvar.photometry import read_star_list


class WholePath(WindowCase):
    """One long walk, as a user takes it."""

    def test_folder_to_light_curve(self) -> None:
        demo = small_demo()
        raw = demo / "raw"
        before = stamps(raw)
        truth = json.loads((demo / "truth.json").read_text())
        window, model = self.window, self.window.model
        Night.create(self.folder / "night", [raw]).close()

        # Opened by a drop; headers are read in the background.
        data = QMimeData()
        data.setUrls([QUrl.fromLocalFile(str(self.folder / "night"))])
        event = QDropEvent(QPointF(300, 300), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier)
        window.dropEvent(event)
        self.idle()
        self.assertEqual(window.path_bar.title.text(), "Tarnholt field 12")
        self.assertIn("groups", window.board_of["intake"].title.text())
        codes = {f.code for f in model.jobs.findings()}
        self.assertLessEqual({"truncated", "flat_gain", "dark_temperature"}, codes)
        self.until(lambda: window.sky.canvas.picture is not None, 20, "the first exposure on screen")

        self._selection()
        self._roles()

        # Masters and calibration by key and button.
        self.key(Qt.Key.Key_2)
        self.assertEqual(model.station, "masters")
        self.assertIn("Make", window.slip.action.text())
        self.click(window.slip.action)
        self.assertTrue(model.jobs.busy)
        self.assertTrue(window.path_bar.job.isVisible())
        self.key(Qt.Key.Key_1)
        self.assertEqual(model.station, "intake", "the window answers while a job runs")
        self.idle()
        self.assertEqual(len(list((self.folder / "night" / "products" / "masters").glob("*.fits"))), 10)
        self.key(Qt.Key.Key_3)
        self.key(Qt.Key.Key_R, Qt.KeyboardModifier.ControlModifier)
        self.idle()
        calibrated = list((self.folder / "night" / "products" / "calibrated").glob("*-cal.fits"))
        lights = [f for f in model.lights() if f.filter == "V"]
        self.assertEqual(len(calibrated), len(lights))
        self.assertEqual(
            {f.code for f in model.jobs.findings() if f.station == "masters" and f.severity == 0}, {"no_safe_dark", "no_safe_flat"}
        )

        # Score, then stack.
        self.key(Qt.Key.Key_4)
        self.assertIn("Score", window.slip.action.text())
        self.click(window.slip.action)
        self.idle()
        self.assertIn("Stack", window.slip.action.text())
        self.click(window.slip.action)
        self.idle()
        products = self.folder / "night" / "products"
        (stack,) = products.glob("*/*-V-stack.fits")
        self.assertEqual(stack.parent.name, model.chosen_series().key)
        self.assertIn("cloud", {f.code for f in model.jobs.findings()})

        # The plate needs a catalogue; without one the button says so.
        self.key(Qt.Key.Key_5)
        self.assertFalse(window.slip.action.isEnabled())
        model.set_setting("plate", "catalogue", str(demo / truth["catalogue"]))
        self.click(window.slip.action)
        self.idle()
        self.assertEqual(len(model.plates()), len(lights))
        self._click_target(truth, lights)

        # Measure and curve.
        self.click(window.slip.action)
        self.until(lambda: len([s for s in model.night.stars() if s.role == "comparison"]) >= 3, 10, "comparison stars")
        model.matching.set_stars(read_star_list(demo / truth["stars"]), "the demo's stars")
        self.click(window.slip.action)
        self.idle()
        self.assertIn("exposures", window.board_of["measure"].count.text())
        self.key(Qt.Key.Key_7)
        self.click(window.slip.action)
        self.idle()
        (curve,) = products.glob("*/*-V-curve.csv")
        with curve.open(newline="") as handle:
            rows = list(csv.DictReader(handle))
        self.assertEqual(len(rows), len(lights))
        fit = next(iter(model.products("curve").values())).values["fit"]
        # Four errors of the fit itself, and the issue's own bound of 30 s and 0.01 mag beside it.
        self.assertLess(abs(fit["mid_bjd_tdb"] - truth["eclipse"]["mid_bjd_tdb"]), max(4 * fit["mid_error_d"], 30 / 86400))
        self.assertLess(abs(fit["depth_mag"] - truth["eclipse"]["depth_mag"]), max(4 * fit["depth_error_mag"], 0.01))
        self.assertIn("448", window.slip.result.text())
        self.assertIn("comparison_varies", {f.code for f in model.jobs.findings()})
        self._mend_star()

        self._no_number_is_cut()

        recipe = (self.folder / "night" / "recipe.toml").read_text()
        self.assertIn('steps = ["intake", "masters", "calibrate", "combine", "plate", "measure", "curve"]', recipe)
        self.assertEqual(stamps(raw), before, "raw files are untouched")
        picture = self.folder / "picture.png"
        window.exports.save_picture(picture)
        self.until(picture.exists, 20, "the picture")
        self.assertGreater(picture.stat().st_size, 5000)

        # Everything is there again when the night is opened anew.
        window.model.open(self.folder / "night")
        QApplication.processEvents()
        self.assertEqual(model.jobs.state("measure"), "done")
        self.assertEqual(model.jobs.state("intake"), "attention")

    def _selection(self) -> None:
        """Arrow keys step; X leaves out and puts back; undo and redo; a brush selects; dots tell."""
        window, model = self.window, self.window.model
        lights = [f.path for f in model.lights()]
        first = model.current
        self.key(Qt.Key.Key_Right)
        self.assertEqual(model.current, lights[lights.index(first) + 1])
        self.until(lambda: window.sky.canvas.picture is not None and window.sky.canvas.picture.path == model.current, 20)
        self.key(Qt.Key.Key_X)
        self.assertEqual(set(model.left_out()), {model.current})
        self.assertIn("left_out", {kind for *_, kind in window.line.line.state.dots()})
        self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        self.assertEqual(model.left_out(), {})
        self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
        self.assertEqual(set(model.left_out()), {model.current})
        self.key(Qt.Key.Key_X)
        self.assertEqual(model.left_out(), {})
        line = window.line.line
        dots = line.state.dots()
        path, x, y, _ = dots[len(dots) // 2]
        self.click(line, x, y)
        self.assertEqual(model.current, path)
        self.drag(line, QPointF(dots[2][1] - 3, 60), QPointF(dots[6][1] + 3, 60))
        self.assertGreaterEqual(len(model.brushed), 5)
        brushed = set(model.brushed)
        self.key(Qt.Key.Key_X)
        self.assertEqual(set(model.left_out()), brushed)
        self.key(Qt.Key.Key_X)
        self.key(Qt.Key.Key_Escape)
        self.assertEqual(model.brushed, ())

    def _roles(self) -> None:
        """A group takes another role, undoably; the raw file stays as it is."""
        window, model = self.window, self.window.model
        card = next(c for c in window.board_of["intake"].findChildren(GroupCard) if c.group.role is Role.BIAS)
        window.board_of["intake"].set_role(card.group, Role.DARK)
        self.assertFalse(any(g.role is Role.BIAS for g in model.groups()))
        self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        self.assertTrue(any(g.role is Role.BIAS for g in model.groups()))

    def _click_target(self, truth: dict, lights: list) -> None:
        """A click in the picture opens the roles; the star under the cursor gets the one chosen."""
        window, model = self.window, self.window.model
        self.key(Qt.Key.Key_6)
        model.set_current(lights[3].path)
        self.until(lambda: window.sky.canvas.picture is not None and window.sky.canvas.picture.path.endswith("-cal.fits"), 20)
        wcs = model.plates()[model.current]
        x, y = wcs.pixel(truth["target"]["ra"], truth["target"]["dec"])
        place = window.sky.canvas.sight.to_screen(float(x), float(y))
        self.click(window.sky.canvas, place.x(), place.y())
        menu = window.commands.role_menu
        next(a for a in menu.actions() if a.text() == "Target").trigger()
        menu.close()
        star = model.night.stars()[0]
        self.assertEqual(star.role, "target")
        off = np.hypot((star.ra - truth["target"]["ra"]) * np.cos(np.radians(41.3)), star.dec - truth["target"]["dec"]) * 3600
        # A tenth of a pixel of 2.5 arcsec for centring, and ten years of proper motion.
        self.assertLess(off, 0.5)

    def _no_number_is_cut(self) -> None:
        for station in ("masters", "calibrate", "combine", "plate", "measure"):
            self.go_to(station)
            for view in self.window.board_of[station].findChildren(QTableView):
                rows = view.model()
                self.assertIsInstance(view.itemDelegate(), Cells, "painted with the margins that widths go by")
                for row in range(min(20, rows.rowCount())):
                    for column in range(1, rows.columnCount()):
                        text = str(rows.index(row, column).data() or "")
                        room = view.columnWidth(column) - 12
                        self.assertGreaterEqual(room, view.fontMetrics().horizontalAdvance(text), f"{station}: {text}")

    def go_to(self, station: str) -> None:
        """Go to a station and let it come in sight wholly."""
        self.window.model.set_station(station)
        self.until(lambda: self.window.model.station == station and not self.window.model.jobs.busy, 30, station)

    def _mend_star(self) -> None:
        """The finding's button leaves the variable star out, and the action makes the curve anew."""
        button = next(b for b in self.window.slip.findChildren(QPushButton) if b.text() == "Leave out f")
        self.click(button)
        self.assertEqual(self.window.model.settings().curve.leave_out, ["f"])
        self.assertEqual(self.window.model.jobs.state("curve"), "stale")
        back = next(b for b in self.window.slip.findChildren(QPushButton) if b.text() == "Put back" and b.isVisible())
        self.click(back)
        self.assertEqual(self.window.model.settings().curve.leave_out, [])
        again = next(b for b in self.window.slip.findChildren(QPushButton) if b.text() == "Leave out f" and b.isVisible())
        self.click(again)
        self.key(Qt.Key.Key_R, Qt.KeyboardModifier.ControlModifier)
        self.idle()
        self.assertNotIn("comparison_varies", {f.code for f in self.window.model.jobs.findings()})


class Looks(WindowCase):
    """Regions, themes, finder, picture."""

    def test_empty_window_tells_the_next_step(self) -> None:
        texts = [b.text() for b in self.window.boards.currentWidget().findChildren(QPushButton)]
        self.assertIn("Open a folder", texts)
        for station in range(2, 8):
            self.key(Qt.Key(Qt.Key.Key_0 + station))
            self.assertTrue(self.window.boards.currentWidget().isVisible())
        self.assertEqual(plan_action(self.window.model)[2], "open")

    def test_folders_without_exposures(self) -> None:
        (self.folder / "raw").mkdir()
        (self.folder / "raw" / "notes.txt").write_text("clear sky")
        self.assertTrue(self.window.model.open(self.folder / "raw"))
        self.idle()
        self.assertIn("nothing_found", {f.code for f in self.window.model.jobs.findings()})
        self.assertFalse(self.window.model.open(self.folder / "nowhere"))
        self.assertIn("no such folder", self.messages[-1])

    def test_themes_and_small_window(self) -> None:
        for name in ("light", "red", "dark"):
            self.window.set_theme(name)
            self.assertEqual(self.window.theme.name, name)
            self.window.grab()
        self.window.resize(1024, 700)
        QApplication.processEvents()
        self.assertLessEqual(self.window.minimumSizeHint().width(), 1024)

    def test_red_theme_has_no_other_hue(self) -> None:
        self.window.set_theme("red")
        QApplication.processEvents()
        red, green, blue = np.moveaxis(pixels(self.window.grab().toImage()), -1, 0)
        self.assertLessEqual(int((green - red).max()), 0)
        self.assertLessEqual(int((blue - red).max()), 0)
        self.window.set_theme("dark")

    def test_finder_runs_commands(self) -> None:
        self.key(Qt.Key.Key_K, Qt.KeyboardModifier.ControlModifier)
        self.assertTrue(self.window.finder.isVisible())
        QTest.keyClicks(self.window.finder.field, "curve")
        QTest.keyClick(self.window.finder.field, Qt.Key.Key_Return)
        self.assertEqual(self.window.model.station, "curve")
        self.assertFalse(self.window.finder.isVisible())
        self.assertIsNone(matches("zz", "Curve"))
        self.assertLess(matches("cur", "Curve"), matches("ve", "Curve"))

    def test_every_action_has_a_tip_and_a_handler(self) -> None:
        from ulvar.desktop.shell.actions import ACTIONS

        self.assertEqual(len({a.command for a in ACTIONS}), len(ACTIONS))
        keys = [a.keys for a in ACTIONS if a.keys]
        self.assertEqual(len(set(keys)), len(keys), "no two actions share a key")
        for action in ACTIONS:
            self.assertTrue(action.tip)
        dialogs = mock.patch.multiple(
            "ulvar.desktop.shell.commands.QFileDialog", getExistingDirectory=lambda *_: "", getSaveFileName=lambda *_: ("", ""),
        )  # fmt: skip
        with dialogs:
            for action in ACTIONS:
                if action.command != "quit":
                    self.window.command(action.command)
        with mock.patch.object(self.window, "build_menu") as made:
            self.click(self.window.path_bar.menu_button)
        made().exec.assert_called_once()

    def test_painting_leaves_none_alone(self) -> None:
        """Some Qt bindings drop a reference of None in each painter call, which ends in a crash."""
        before = sys.getrefcount(None)
        for _ in range(20):
            self.window.grab()
        self.assertGreater(sys.getrefcount(None) - before, -200)


class Picture(WindowCase):
    """Zoom at the cursor, pan, fit, stretch, read-out."""

    def test_sky_view(self) -> None:
        demo = small_demo()
        Night.create(self.folder / "night", [demo / "raw" / "lights" / "V"]).close()
        self.window.model.open(self.folder / "night")
        self.idle()
        canvas = self.window.sky.canvas
        self.until(lambda: canvas.picture is not None, 20)
        place = QPointF(120, 90)
        before = canvas.sight.to_image(place)
        canvas.zoom(3.0, place)
        after = canvas.sight.to_image(place)
        self.assertAlmostEqual(before.x(), after.x(), places=6)
        self.assertAlmostEqual(before.y(), after.y(), places=6)
        screen = canvas.sight.to_screen(after.x(), after.y())
        self.assertAlmostEqual(screen.x(), 120, places=6)
        centre = QPointF(canvas.sight.centre)
        self.drag(canvas, QPointF(100, 100), QPointF(140, 130))
        self.assertNotEqual(canvas.sight.centre, centre)
        self.key(Qt.Key.Key_Z)
        self.assertEqual(canvas.sight.scale, 1.0)
        self.key(Qt.Key.Key_F)
        self.assertTrue(canvas.fitted)
        data = canvas.picture.data.copy()
        for name in ("Linear", "Root", "Log", "Rank", "Asinh"):
            self.window.sky.foot.stretch_box.setCurrentText(name)
            canvas.grab()
        np.testing.assert_array_equal(canvas.picture.data, data)
        QTest.mouseMove(canvas, QPoint(canvas.width() // 2, canvas.height() // 2))
        QApplication.processEvents()
        self.assertIn("value", self.window.sky.foot.read_out.text())
        self.window.sky.foot.histogram.changed.emit(replace(canvas.stretch, floor=100.0, ceiling=900.0))
        self.assertEqual((canvas.stretch.floor, canvas.stretch.ceiling), (100.0, 900.0))
