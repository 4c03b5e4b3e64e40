"""Combine, pages Alignment and Result: what is told of a map, a stack, its maps, and one pixel's history."""

import fitsio
import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from tests.desktop.scored import ScoredCase
from ulvar.flows import Fate
from ulvar.registration import stored_map


class AlignmentTold(ScoredCase):
    """The exposure on screen, the reference, and one that is not aligned."""

    def test_residuals_and_kinds(self) -> None:
        page = self.page("alignment")
        scores = self.model.scores()
        reference = next(r for r, p in scores.items() if p.output == p.values["reference"])
        other = next(r for r in scores if r != reference and scores[r].values["maps_tried"])
        self.model.set_current(other)
        told, values = self.model.stacks.alignment(other), scores[other].values
        stars, base = (self.model.looking.star_table(r) for r in (other, reference))
        # Each arrow begins at a star of this exposure and ends where the reference has a star.
        way = stored_map(values["matrix"], values["bent"])
        mapped = np.column_stack(way(*told.places.T)) + told.residuals
        for place, end in zip(told.places, mapped):
            self.assertLess(np.hypot(stars.x - place[0], stars.y - place[1]).min(), 1e-9)
            self.assertLess(np.hypot(base.x - end[0], base.y - end[1]).min(), 1e-6)
        self.assertGreater(len(told.places), 12)
        self.assertIn(f"{told.matched} stars in common", page.words.text())
        self.assertTrue(page.words.text().lower().startswith(values["map"]), page.words.text())
        # On screen up is up and right is right, drawn to the scale that the legend tells.
        arrows, box = page.field.arrows(), page.field.box()
        facts = self.model.facts(other)
        for k in range(5):
            start, end = arrows[k]
            self.assertAlmostEqual(start.x(), (told.places[k, 0] + 0.5) / facts.width * box.width(), places=6)
            self.assertAlmostEqual(start.y(), (1 - (told.places[k, 1] + 0.5) / facts.height) * box.height(), places=6)
            scale = (end.x() - start.x()) / told.residuals[k, 0]
            self.assertGreater(scale, 0)
            self.assertAlmostEqual((start.y() - end.y()) / told.residuals[k, 1], scale, places=6)
        self.assertGreater(page.field.unit() * scale, 5)
        shown = {page.kinds.itemAt(i).widget().text() for i in range(page.kinds.count())}
        self.assertIn(f"▸ {values['map']}", shown)
        for kind, missed in values["maps_tried"]:
            self.assertIn(f"{missed:.3f} px", shown, kind)
        radius = page.radius.series[0]
        middle = np.array([facts.width - 1, facts.height - 1]) / 2
        np.testing.assert_allclose(radius.x, np.hypot(*(told.places - middle).T))
        np.testing.assert_allclose(radius.y, np.hypot(*told.residuals.T))
        page.grab()
        self.model.set_current(reference)
        self.assertIn("aligned on this one", page.words.text())
        self.assertEqual(page.field.arrows(), [])
        page.grab()

    def test_an_exposure_that_is_not_aligned_says_why(self) -> None:
        night = self.model.night
        lone = max(self.model.scores())
        product = self.model.scores()[lone]
        product.values.update({"matrix": None, "map": None, "bent": None})
        night.store_products("score", [product], series=product.series)
        self.model.open(night.folder)
        self.idle()
        self.model.set_station("combine")
        page = self.page("alignment")
        self.model.set_current(lone)
        self.assertIn("not aligned", page.words.text())
        self.assertEqual(page.field.arrows(), [])


class ResultTold(ScoredCase):
    """From the button to the pixel."""

    def stacked(self):  # type: ignore[no-untyped-def]
        self.page("result")
        self.assertEqual(self.window.board_of["combine"].shown.title.text(), "No stack yet")  # type: ignore[attr-defined]
        self.window.command("run stack")
        self.idle()
        self.shown()
        return self.page("result")

    def test_stack_maps_and_history(self) -> None:
        page = self.stacked()
        stack = self.model.of_series("stack")
        frames = self.model.night.products_of("stack_frame", stack.series)
        self.assertEqual(page.title.text(), f"Stack of {len(frames)}, {stack.values['width']} × {stack.values['height']} px")
        self.assertIn(f"{stack.values['noise_adu']:.2f} ADU", page.words.text())
        # Depth: measured of the whole stack, and near what independent noise gives.
        counts, noise, expected = stack.values["growth"]
        self.assertEqual((counts[0], counts[-1]), (1, len(frames)))
        np.testing.assert_allclose(page.growth.series[0].y, noise[0] / np.array(noise))
        self.assertAlmostEqual(noise[-1] / expected[-1], 1.0, delta=0.15)
        # Rejected shares, in order of time; a click goes to the exposure.
        shares = page.rejected.series[0]
        self.assertEqual(list(shares.keys), [f.path for f in self.model.lights() if f.path in frames])
        for key, share in zip(shares.keys, shares.y):
            self.assertAlmostEqual(share, 100 * frames[key].values["rejected_fraction"])
        # Maps: what is on screen is what stands in the file.
        self.assertEqual(list(page.map_buttons), ["", "COUNT MAP", "WEIGHT MAP", "NOISE MAP", "REJECTED LOW", "REJECTED HIGH"])
        with fitsio.FITS(stack.output) as handle:
            stored = {name: handle[name].read() for name in ("COUNT MAP", "REJECTED HIGH", "NOISE MAP")}
            data = handle[0].read()
        for name, plane in stored.items():
            self.click(page.map_buttons[name])
            self.shown()
            np.testing.assert_array_equal(self.sky.canvas.picture.levels[0], plane.astype(np.float32))
            self.assertIn(page.map_buttons[name].text().lower(), self.sky.header.full_name)
        # A pixel that something was rejected at, pointed at on the map.
        high = stored["REJECTED HIGH"]
        inner = np.zeros(high.shape, dtype=bool)
        inner[30:-30, 30:-30] = True
        y, x = (int(v[0]) for v in np.nonzero((high == 1) & inner & (stored["COUNT MAP"] >= 5)))
        self.click(page.map_buttons[""])
        self.shown()
        self.page("exposures")
        place = self.sky.canvas.sight.to_screen(x, y).toPoint()
        QTest.mouseClick(self.sky.canvas, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, place)
        self.assertEqual(self.window.board_of["combine"].page, "result")  # type: ignore[attr-defined]
        pixel = self.model.stacks.pixel
        self.assertLessEqual(np.hypot(pixel[0] - x, pixel[1] - y), 1.5)
        self.model.stacks.point_at(x, y)
        self.until(lambda: self.model.stacks.history is not None, 60, "the pixel's history")
        self.assertEqual(self.sky.canvas.overlay.chosen, (x, y))
        found = self.model.stacks.history
        fates = [v.fate for v in found.values]
        self.assertEqual(fates.count(Fate.HIGH), 1)
        self.assertEqual(fates.count(Fate.KEPT), stored["COUNT MAP"][y, x])
        self.assertAlmostEqual(found.combined_adu / data[y, x], 1.0, delta=1e-3)
        self.assertIn(f"Pixel {x}, {y}: {found.combined_adu:.2f} ADU", page.pixel_words.text())
        self.assertIn("1 too high", page.pixel_words.text())
        points = page.pixel.series[0]
        self.assertEqual(list(points.kinds).count("unreadable"), 1)
        odd = list(points.kinds).index("unreadable")
        self.assertEqual(points.y[odd], np.nanmax(points.y))
        page.grab()
        # From the point to the exposure.
        place = page.pixel.to_screen(points.x[odd], points.y[odd]).toPoint()
        QTest.mouseClick(page.pixel, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, place)
        self.assertEqual(self.model.current, points.keys[odd])
        self.model.stacks.point_at(-5, 3)
        self.assertIn("outside the stack", page.pixel.empty)

    def test_the_proper_coadd_is_offered(self) -> None:
        self.assertTrue(self.model.change_settings("combine", {"proper": True}))
        page = self.stacked()
        with fitsio.FITS(self.model.of_series("stack").values["proper"]) as handle:
            data = handle[0].read()
        self.click(page.map_buttons["PROPER"])
        self.shown()
        np.testing.assert_array_equal(self.sky.canvas.picture.levels[0], data)

    def test_a_stack_without_maps_offers_none(self) -> None:
        self.assertTrue(self.model.change_settings("combine", {"maps": False}))
        page = self.stacked()
        with fitsio.FITS(self.model.of_series("stack").output) as handle:
            self.assertEqual(len(handle), 1)
        self.assertEqual(list(page.map_buttons), [""])
        # Of a stack by an older version nothing is known.
        night, stack = self.model.night, self.model.of_series("stack")
        del stack.values["method"], stack.values["growth"]
        night.store_products("stack", [stack], series=stack.series, clear=True)
        self.model.open(night.folder)
        self.idle()
        self.model.set_station("combine")
        page = self.page("result")
        self.assertIn("older version", page.growth.empty)
        self.model.stacks.point_at(100, 100)
        self.assertIn("stack again", page.pixel.empty)


class ResultsKept(ScoredCase):
    """Every stack stays, has a name, and can be laid beside the newest."""

    def made(self, **settings: object) -> str:
        self.assertTrue(self.model.change_settings("combine", settings) if settings else True)
        self.window.command("run stack")
        self.idle()
        self.shown()
        return self.model.of_series("stack").output

    def test_results_are_kept_named_and_compared(self) -> None:
        page = self.page("result")
        self.assertFalse(page.results_row.isVisibleTo(page))
        first = self.made()
        with fitsio.FITS(first) as handle:
            before = handle[0].read()
        second = self.made(kernel="bilinear", turn_deg=90.0)
        self.assertNotEqual(first, second)
        with fitsio.FITS(first) as handle:
            np.testing.assert_array_equal(handle[0].read(), before)
        page = self.page("result")
        self.assertEqual(page.results.count(), 2)
        self.assertTrue(page.results.currentText().startswith("Stack 2: "), "what was just made is chosen")
        self.assertTrue(page.title.isVisible() and page.title.text().startswith("Stack of "))
        self.assertFalse(page.compare.isEnabled())
        page.results.setCurrentIndex(1)
        page.results.activated.emit(1)
        self.shown()
        self.assertEqual(self.sky.product, first)
        self.assertIn("resample by", page.result_words.text())
        self.assertIn("turned by", page.result_words.text())
        # Turned by a quarter it has another size: they cannot be laid over each other, and that is said.
        self.click(page.compare)
        self.until(lambda: "another size" in self.sky.header.facts.text(), 30, "what is said of the sizes")
        self.assertIsNone(self.sky.canvas.second)
        third = self.made(turn_deg=0.0)
        page.results.setCurrentIndex(2)
        page.results.activated.emit(2)
        self.click(page.compare)
        self.until(lambda: self.sky.canvas.second is not None and self.sky.settled, 30, "the other picture")
        self.assertEqual(self.sky.product, third)
        self.assertEqual(self.sky.canvas.sides, ("Stack 1", "Stack 3"))
        np.testing.assert_array_equal(self.sky.canvas.second.levels[0], before)
        # A name, undoably; made again with the same settings it is the same result.
        page.name.setFocus()
        page.name.selectAll()
        QTest.keyClicks(page.name, "Sharpest")
        QTest.keyClick(page.name, Qt.Key.Key_Return)
        self.assertTrue(page.results.currentText().startswith("Sharpest: "))
        self.model.undo.undo()
        self.assertTrue(page.results.currentText().startswith("Stack 1: "))
        self.model.undo.redo()
        again = self.made(kernel="lanczos3")
        self.assertEqual(again, first)
        page = self.page("result")
        self.assertEqual(page.results.count(), 3)
        self.assertTrue(page.results.currentText().startswith("Sharpest: "))
        # An exposure takes the words of the border back.
        self.sky.refresh()
        self.assertEqual(self.sky.canvas.sides, ("before", "after"))

    def test_a_part_is_drawn_on_any_aligned_exposure(self) -> None:
        scores = self.model.scores()
        reference = next(r for r, p in scores.items() if p.output == p.values["reference"])
        other = max(
            (r for r, p in scores.items() if p.values["matrix"] is not None),
            key=lambda r: np.hypot(*np.array(scores[r].values["matrix"])[:, 2]),
        )
        self.assertNotEqual(other, reference)
        self.model.set_current(other)
        self.shown()
        self.model.region_wanted.emit("part")
        self.sky.canvas.region_drawn.emit(60, 40, 160, 130)
        way = stored_map(scores[other].values["matrix"], scores[other].values["bent"])
        u, v = way(np.array([59.5, 159.5, 59.5, 159.5]), np.array([39.5, 39.5, 129.5, 129.5]))
        wanted = [round(float(e) + 0.5) for e in (u.min(), u.max(), v.min(), v.max())]
        text = f"[{wanted[0] + 1}:{wanted[1]},{wanted[2] + 1}:{wanted[3]}]"
        self.assertEqual(self.model.settings().combine.part, text)
        self.made()
        stack = self.model.of_series("stack")
        self.assertEqual((stack.values["width"], stack.values["height"]), (wanted[1] - wanted[0], wanted[3] - wanted[2]))
        # On a product nobody knows where the reference's pixels are.
        self.assertTrue(self.sky.shows_product)
        said: list[str] = []
        self.model.message.connect(said.append)
        self.model.region_wanted.emit("part")
        self.sky.canvas.region_drawn.emit(10, 10, 30, 30)
        self.assertIn("drawn on an aligned exposure", said[-1])
        self.assertEqual(self.model.settings().combine.part, text)
