"""Alignment, deep view, side by side, regions, masks, header and export, driven as a user drives them."""

import math
from dataclasses import replace
from unittest import mock

import numpy as np
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtTest import QTest
from tools.shown import at_rest

from tests.desktop.scored import ScoredCase
from ulvar.astrometry import Wcs
from ulvar.desktop.picture.header import TOGGLES
from ulvar.engine import JobContext
from ulvar.night import Night
from ulvar.night.stations import run_score


class Comparing(ScoredCase):
    """Alignment, the deep view, side by side, north up."""

    def test_aligned_exposures_lie_on_each_other(self) -> None:
        lights = self.model.lights()
        self.key(Qt.Key.Key_J)
        seen = []
        for facts in (lights[2], lights[-3]):
            self.model.set_current(facts.path)
            self.shown()
            self.assertIn("aligned", self.sky.header.facts.words)
            seen.append(self.sky.canvas.picture.data)
            marks = self.sky.canvas.overlay
        both = np.isfinite(seen[0]) & np.isfinite(seen[1])
        self.assertGreater(both.mean(), 0.8)
        a, b = (np.clip(s[both] - np.median(s[both]), 0, 600) for s in seen)
        self.assertGreater(np.corrcoef(a, b)[0, 1], 0.7, "the second is after the flip and lies on the first all the same")
        self.key(Qt.Key.Key_S)
        marks = self.sky.canvas.overlay
        x, y = marks.detections[0]
        data = self.sky.canvas.picture.data
        near = data[max(0, round(y) - 3) : round(y) + 4, max(0, round(x) - 3) : round(x) + 4]
        self.assertGreater(np.nanmax(near), np.nanmedian(data) + 200, "marks move with the picture")

    def test_deep_view(self) -> None:
        self.key(Qt.Key.Key_Y)
        self.assertTrue(any("deep view" in m for m in self.messages))
        self.assertFalse(self.sky.on("deep"))
        single = self.sky.canvas.picture
        self.window.command("run deep")
        self.idle()
        deep = self.model.looking.deep_view()
        self.assertTrue(deep.output.endswith("-V-deep.fits"))
        self.assertTrue(self.sky.on("deep"), "what was made is what is seen")
        self.until(lambda: self.sky.canvas.picture.path == deep.output, 20, "the deep view")
        data = self.sky.canvas.picture.data

        def noise(image: np.ndarray) -> float:
            differences = (image[:, 1:] - image[:, :-1]).ravel()
            differences = differences[np.isfinite(differences)]
            return 1.4826 * float(np.median(np.abs(differences - np.median(differences)))) / math.sqrt(2)

        # The median of n costs a quarter more noise than the mean.
        gain = noise(single.data) / noise(data)
        self.assertGreater(gain, 0.6 * math.sqrt(deep.values["count"]))
        # A mark set here lies on the reference's pixels, and so on every exposure's.
        self.model.set_station("measure")
        self.until(lambda: self.sky.canvas.picture.path == deep.output, 20)
        self.assertEqual(self.model.looking.at_hand(), deep.values["reference"])
        from ulvar.desktop.models.starpick import give_role

        give_role(self.model, (150.0, 120.0), "target")
        star = self.model.night.stars()[0]
        # Its mark is there whatever is switched off.
        for on in (True, False):
            if self.sky.on("apertures") != on:
                self.sky.toggle("apertures")
            self.until(lambda: [(mark.name, mark.role) for mark in self.sky.canvas.overlay.roles] == [(star.name, "target")], 20)
        x, y = self.model.numbers.star_pixels(deep.values["reference"])[star.name]
        self.assertLess(math.hypot(x - 150, y - 120), 0.01)
        other = self.model.lights()[-2].path
        tx, ty = self.model.looking.transform_of(other)(*(np.array([v]) for v in self.model.numbers.star_pixels(other)[star.name]))
        self.assertLess(math.hypot(tx[0] - 150, ty[0] - 120), 0.01)

    def test_side_by_side_is_linked(self) -> None:
        for _ in range(2):
            self.key(Qt.Key.Key_N)
        tiles = self.sky.tiles
        self.until(lambda: sum(c.picture is not None for c in tiles.others) == 3, 20, "four exposures")
        self.assertEqual(len({self.sky.shown_path, *tiles.wanted}), 4)
        self.assertEqual([canvas.picture.path for canvas in tiles.others], tiles.wanted)
        self.sky.canvas.zoom(2.0, QPointF(60, 60))
        for canvas in tiles.others:
            self.assertEqual((canvas.sight.scale, canvas.sight.centre), (self.sky.canvas.sight.scale, self.sky.canvas.sight.centre))
        last = tiles.others[2]
        self.drag(last, QPointF(60, 60), QPointF(90, 40))
        self.assertEqual(self.sky.canvas.sight.centre, last.sight.centre, "any of them leads")
        brushed = [f.path for f in self.model.lights()[5:7]]
        self.model.set_brush(brushed)
        self.assertEqual(len(tiles.wanted), 2, "the brushed ones beside the current one")
        self.key(Qt.Key.Key_N)
        self.assertTrue(all(not c.isVisible() for c in tiles.others))

    def test_brushed_exposures_go_round_as_a_blink(self) -> None:
        a, b = (f.path for f in self.model.lights()[3:5])
        self.model.set_brush([a, b])
        seen = []
        self.model.current_changed.connect(lambda: seen.append(self.model.current))
        for _ in range(5):
            self.window.movie._tick()
            self.shown()
        self.assertEqual(seen, [a, b, a, b, a])

    def test_north_up(self) -> None:
        canvas = self.sky.canvas
        angle = math.radians(130)
        cd = np.array([[-math.cos(angle), math.sin(angle)], [math.sin(angle), math.cos(angle)]]) / 3600
        for flip in (1, -1):
            wcs = Wcs(115.0, 41.0, 250.0, 187.0, cd=cd * np.array([[flip], [1]]))
            with mock.patch.object(type(self.model), "plates", lambda _, w=wcs: dict.fromkeys((f.path for f in self.model.lights()), w)):
                if self.sky.on("north"):
                    self.key(Qt.Key.Key_U)
                self.key(Qt.Key.Key_U)
                ra, dec = wcs.sky(250.0, 187.0)
                here = canvas.sight.to_screen(250.0, 187.0)
                north, east = (
                    canvas.sight.to_screen(*(float(v) for v in wcs.pixel(a, d))) for a, d in ((ra, dec + 0.01), (ra + 0.01, dec))
                )
                with self.subTest(flip=flip):
                    self.assertLess(abs(north.x() - here.x()), 0.05 * abs(north.y() - here.y()))
                    self.assertLess(north.y(), here.y(), "north is up")
                    self.assertLess(east.x(), here.x(), "east is left")
                    back = canvas.sight.to_image(canvas.sight.to_screen(33.0, 44.0))
                    self.assertLess(math.hypot(back.x() - 33, back.y() - 44), 1e-6)
                    canvas.grab()

    def test_north_needs_a_solution(self) -> None:
        self.key(Qt.Key.Key_U)
        self.assertTrue(any("solved" in m for m in self.messages))
        self.assertEqual(self.sky.canvas.sight.turn_deg, 0)


class Marking(ScoredCase):
    """Regions, masks, header, export."""

    def test_regions_are_kept_in_the_night_and_hide_stars(self) -> None:
        canvas = self.sky.canvas
        self.window.command("region circle")
        self.drag(canvas, canvas.sight.to_screen(120, 100), canvas.sight.to_screen(170, 100))
        self.window.command("region rectangle")
        self.drag(canvas, canvas.sight.to_screen(300, 200), canvas.sight.to_screen(380, 260))
        self.window.command("region polygon")
        for x, y in ((40, 250), (120, 260), (80, 330)):
            place = canvas.sight.to_screen(x, y)
            self.click(canvas, place.x(), place.y())
        QTest.mouseDClick(canvas, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, canvas.sight.to_screen(80, 330).toPoint())
        regions = self.model.looking.regions()
        self.assertEqual([r.kind for r in regions], ["circle", "rectangle", "polygon"])
        self.assertLess(abs(regions[0].points[1][0] - 50), 2)
        self.assertEqual(len(canvas.overlay.regions), 3)
        self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        self.assertEqual(len(self.model.looking.regions()), 2, "undo takes the last one back")
        self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
        folder = self.model.night.folder
        stored = Night(folder)
        self.assertEqual(len(stored.settings.combine.regions), 3)
        run_score(stored, JobContext())
        stored.close()
        from ulvar.flows import read_stars

        raw = self.model.current
        stars = self.model.night.series_folder(self.model.chosen_series().key) / "stars"
        table = read_stars(stars / f"{self.model.facts(raw).stem}.stars.csv")
        self.assertGreater(len(table), 30)
        self.assertFalse((np.hypot(table.x - regions[0].points[0][0], table.y - regions[0].points[0][1]) < 45).any())
        self.window.command("regions back")
        self.assertEqual(self.model.looking.regions(), [])

    def test_escape_calls_a_region_off(self) -> None:
        self.window.command("region polygon")
        self.assertEqual(self.sky.canvas.mode, "polygon")
        self.key(Qt.Key.Key_Escape)
        self.assertEqual((self.sky.canvas.mode, self.sky.regions.drawing), ("pan", False))

    def test_masked_pixels_by_kind(self) -> None:
        self.key(Qt.Key.Key_K)
        overlay = self.sky.canvas.overlay
        self.assertEqual(overlay.saturation, self.model.facts(self.model.current).saturation_adu)
        overlay.saturation = float(self.sky.canvas.picture.sample.values[-5])
        overlay.mask = np.zeros(self.sky.canvas.picture.shape, dtype=np.uint16)
        overlay.mask[100:140, 200:240] = 8
        image = self.sky.canvas.grab().toImage()
        place = self.sky.canvas.sight.to_screen(220, 120).toPoint()
        colour = image.pixelColor(place)
        self.assertGreater(colour.red(), 180)
        self.assertLess(colour.blue(), 90, "hot pixels are amber")

    def test_header_with_search(self) -> None:
        path = self.model.current
        self.model.correct([path], "filter", "R")
        self.shown()
        self.window.command("header")
        panel = self.window.chores.panel
        self.assertGreater(panel.rows.rowCount(), 15)
        panel.search.setText("exptime")
        self.assertEqual(panel.rows.rowCount(), 1)
        self.assertIn("240", panel.rows._rows[0][1])
        from PySide6.QtWidgets import QLabel

        words = " ".join(w.text() for w in panel.findChildren(QLabel))
        self.assertIn("Filter: R (from you)", words)
        at_rest(self, panel)
        panel.close()

    def test_header_of_a_product_tells_its_steps(self) -> None:
        self.window.command("run deep")
        self.idle()
        self.shown()
        self.window.command("header")
        panel = self.window.chores.panel
        self.assertTrue(any(key == "HISTORY" and "stack of" in value for key, value, _ in panel.cards))
        panel.close()

    def test_every_toggle_can_be_reached(self) -> None:
        for action in self.sky.header.more_menu().actions():
            self.assertTrue(action.text())
        words = [action.text().split("\t") for action in self.sky.header.more_menu().actions()]
        self.assertEqual(words, [[one.title, one.keys] if one.keys else [one.title] for one in TOGGLES])
        stretch = self.sky.canvas.stretch
        self.sky.foot.invert(True)
        self.assertEqual(self.sky.canvas.stretch, replace(stretch, inverted=True))
        QTest.mouseMove(self.sky.canvas, QPoint(5, 5))
