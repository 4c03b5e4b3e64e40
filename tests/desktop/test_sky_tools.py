"""The sky view's tools, driven as a user drives them."""

import math
from types import SimpleNamespace
from unittest import mock

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication
from tools.shown import at_rest

from tests.desktop.painted import near, pixels
from tests.desktop.scored import ScoredCase
from ulvar.astrometry import Wcs
from ulvar.desktop.picture.stretch import STRETCHES, Sample, Stretch, auto_stretch, colour_table


class Tools(ScoredCase):
    """Loupe, close-up, rectangle, line."""

    def bright_star(self) -> tuple[float, float]:
        """Return a bright lone star of the current exposure."""
        table = self.sky.stars_of(self.model.current)
        clean = np.flatnonzero((table.flags == 0) & (table.x > 60) & (table.x < 430) & (table.y > 60) & (table.y < 300))
        return float(table.x[clean[0]]), float(table.y[clean[0]])

    def test_loupe(self) -> None:
        canvas = self.sky.canvas
        x, y = self.bright_star()
        self.key(Qt.Key.Key_O)
        QTest.mouseMove(canvas, canvas.sight.to_screen(x, y).toPoint())
        QApplication.processEvents()
        self.assertIsNotNone(canvas.loupe)
        self.assertIn("FWHM", " ".join(canvas.loupe_words))
        fwhm = float(canvas.loupe_words[-1].split()[1])
        self.assertLess(abs(fwhm / self.model.products("score")[self.model.current].values["fwhm_px"] - 1), 0.15)
        # The pixel under the cursor has a frame, in the middle of fifteen by fifteen of ten screen pixels each.
        drawn, left = pixels(canvas.grab().toImage()), 10 if canvas.sight.to_screen(x, y).x() > canvas.width() / 2 else canvas.width() - 160
        framed = near(drawn[70:100, left + 60 : left + 90], canvas.sky.color("cur"), 60)
        self.assertEqual([np.flatnonzero(framed.mean(axis=a) > 0.2).size > 0 for a in (0, 1)], [True, True])
        self.assertAlmostEqual(float(np.argwhere(framed).mean()), 15, delta=1.5)
        at_rest(self)
        canvas.leaveEvent(None)
        self.assertIsNone(canvas.loupe, "it goes with the cursor")

    def test_light_in_an_aperture_is_told_in_the_catalogues_magnitudes_where_they_are_known(self) -> None:
        series = self.model.series_of_exposure(self.model.current)
        product = SimpleNamespace(values={"band": "V", "zeros": {"a.fits": 20.5}})
        told = self.sky.instruments._on_the_catalogue
        self.assertEqual(told(100.0), "")
        with (
            mock.patch.object(self.model, "products", lambda kind: {series.key: product} if kind == "standard" else {}),
            mock.patch.object(self.model.numbers, "measured_names", lambda: {self.model.current: "a.fits"}),
        ):
            self.assertEqual(told(100.0), ", V 15.500")

    def test_close_up_of_a_star_and_of_none(self) -> None:
        x, y = self.bright_star()
        self.key(Qt.Key.Key_T)
        self.assertTrue(self.sky.tools.isVisible())
        place = self.sky.canvas.sight.to_screen(x, y)
        self.click(self.sky.canvas, place.x(), place.y())
        strip = self.sky.tools.star
        self.assertIn("FWHM", strip.words.text())
        self.assertIn("px = ", strip.words.text(), "on the sky too, since the files tell the scale")
        self.assertEqual(len(strip.radial.curves), 1)
        self.assertGreater(strip.growth.series[0].y.max(), 95)
        table = self.sky.stars_of(self.model.current)
        gaps = [(a, b) for a in range(40, 460, 12) for b in range(40, 340, 12) if np.hypot(table.x - a, table.y - b).min() > 22]
        empty = self.sky.canvas.sight.to_screen(*gaps[0])
        self.click(self.sky.canvas, empty.x(), empty.y())
        self.assertIn("no star", strip.radial.empty)
        self.assertEqual(strip.radial.series, [])

    def test_rectangle(self) -> None:
        self.key(Qt.Key.Key_B)
        canvas = self.sky.canvas
        self.drag(canvas, canvas.sight.to_screen(100, 80), canvas.sight.to_screen(160, 120))
        words = self.sky.tools.box.words.text()
        box = canvas.box
        part = canvas.picture.data[math.ceil(box.top()) : math.floor(box.bottom()) + 1, math.ceil(box.left()) : math.floor(box.right()) + 1]
        self.assertIn(f"median {np.median(part):.2f}".replace("\u2009", ""), words.replace("\u2009", ""))
        before = words
        self.key(Qt.Key.Key_Right)
        self.shown()
        self.assertNotEqual(self.sky.tools.box.words.text(), before, "the statistics follow the exposure")
        self.key(Qt.Key.Key_B)
        self.assertIsNone(canvas.box)
        self.assertFalse(self.sky.tools.isVisible())

    def test_line_tells_length_and_angle(self) -> None:
        self.key(Qt.Key.Key_P)
        canvas = self.sky.canvas
        self.drag(canvas, canvas.sight.to_screen(100, 100), canvas.sight.to_screen(200, 200))
        words = self.sky.foot.read_out.text()
        # A screen pixel is a few image pixels here, and the mouse goes by whole ones.
        self.assertAlmostEqual(float(words.partition(" at ")[2].split("°")[0]), 45.0, delta=1.5)
        self.assertLess(abs(float(words.split(" px")[0]) - 141.4), 4)
        self.assertEqual(len(self.sky.tools.line.plot.series), 1)
        self.key(Qt.Key.Key_T)
        self.assertIsNone(canvas.line, "one tool at a time")

    def test_line_on_the_sky(self) -> None:
        from ulvar.desktop.picture.tools import line_words

        wcs = Wcs(115.0, 41.0, 99.0, 99.0, cd=np.array([[-1, 0], [0, 1]]) / 3600)
        words = line_words((99.0, 99.0), (99.0, 199.0), wcs)
        self.assertIn("100.00″", words)
        self.assertIn("position angle 0.00°", words)
        self.assertIn("position angle 90.00°", line_words((99.0, 99.0), (79.0, 99.0), wcs))


class Stretches(ScoredCase):
    """Auto for every kind of picture, knee, keep, colours; data are never touched."""

    def test_auto_behaves_for_every_kind(self) -> None:
        rng = np.random.default_rng(1)
        ys, xs = np.mgrid[:300, :400]
        light = rng.normal(200, 15, (300, 400))
        for x, y, f in zip(rng.uniform(0, 400, 120), rng.uniform(0, 300, 120), 10 ** rng.uniform(2, 4.5, 120)):
            light += f * np.exp(-0.5 * ((xs - x) ** 2 + (ys - y) ** 2) / 1.7)
        dark = rng.normal(1000, 7, (300, 400))
        dark.ravel()[rng.integers(0, dark.size, 250)] += 10 ** rng.uniform(1, 4, 250)
        kinds = {
            "light": light, "stack": 200 + (light - 200) / 12, "bias": np.round(rng.normal(1000, 6, (300, 400))), "dark": dark,
            "flat": 30000 * (1 - 0.2 * ((xs / 200 - 1) ** 2 + (ys / 150 - 1) ** 2)) + rng.normal(0, 120, (300, 400)),
        }  # fmt: skip
        for name in ("Asinh", "Linear", "Root", "Log"):
            for kind, data in kinds.items():
                data = data.astype(np.float32)
                data.setflags(write=False)
                grey = auto_stretch(Sample.of(data), Stretch(name)).apply(data)
                with self.subTest(kind=kind, stretch=name):
                    if kind in ("light", "stack"):
                        self.assertLess(np.median(grey), 110, "the sky is dark")
                        self.assertGreater(np.percentile(grey, 99.7), 140, "stars are bright")
                    else:
                        self.assertTrue(60 < np.median(grey) < 190, "an even picture is middle grey")
                        self.assertLess(((grey == 0) | (grey == 255)).mean(), 0.03, "and little of it is cut")

    def test_order_is_kept_and_nan_is_black(self) -> None:
        values = np.linspace(-50, 1200, 500).astype(np.float32)
        for name in STRETCHES:
            grey = Stretch(name, 0.0, 1000.0, knee=0.1 if name in ("Asinh", "Log", "Root") else None).apply(values, np.sort(values))
            self.assertTrue((np.diff(grey.astype(int)) >= 0).all(), name)
            self.assertEqual((grey[0], grey[-1]), (0, 255), name)
        self.assertEqual(Stretch("Linear", 0, 1).apply(np.array([np.nan, 1.0], dtype=np.float32)).tolist(), [0, 255])
        self.assertEqual(Stretch("Log", 100.0, 300.0, knee=0.25).knee_adu, 150.0)
        half = Stretch("Root", 0.0, 100.0, knee=0.3).apply(np.array([30.0], dtype=np.float32))
        self.assertLess(abs(int(half[0]) - 127), 3, "Root shows the knee as middle grey")

    def test_colours(self) -> None:
        for name in ("Grey", "Ember", "Frost", "Contours"):
            table = colour_table(name)
            self.assertEqual(len(table), 256)
            self.assertEqual(table[0] >> 24, 0xFF)
        self.assertTrue(all(c & 0xFFFF == 0 for c in colour_table("Frost", red_only=True)))
        self.sky.foot.colour_box.setCurrentText("Ember")
        image = self.sky.canvas.grab().toImage()
        middle = image.pixelColor(image.width() // 2, image.height() // 2)
        self.assertGreaterEqual(middle.red(), middle.blue())

    def test_levels_are_kept_or_each_exposures_own(self) -> None:
        foot, canvas = self.sky.foot, self.sky.canvas
        self.assertFalse(foot.keep.isChecked())
        histogram = foot.histogram
        a = QPointF(histogram._x(canvas.stretch.ceiling), 20)
        self.drag(histogram, a, a - QPointF(15, 0))
        mine = canvas.stretch
        self.assertTrue(foot.keep.isChecked(), "levels set by hand are kept")
        self.key(Qt.Key.Key_Right)
        self.shown()
        self.assertEqual(canvas.stretch, mine)
        knee = QPointF(histogram._x(canvas.stretch.knee_adu), 6)
        self.drag(histogram, knee, knee + QPointF(12, 0))
        self.assertGreater(canvas.stretch.knee, Stretch().knee or 1 / 25)
        self.click(foot.keep)
        self.assertNotEqual(canvas.stretch.ceiling, mine.ceiling)
        self.assertIsNone(canvas.stretch.knee)
        own = auto_stretch(canvas.picture.sample, Stretch())
        self.assertEqual((canvas.stretch.floor, canvas.stretch.ceiling), (own.floor, own.ceiling))

    def test_saturation_is_marked(self) -> None:
        histogram = self.sky.foot.histogram
        self.assertEqual(histogram.saturation, self.model.facts(self.model.current).saturation_adu)
        histogram.saturation = float(histogram.picture.sample.values[-40])
        self.assertGreater(histogram.saturated_share(), 0)
        histogram.grab()
