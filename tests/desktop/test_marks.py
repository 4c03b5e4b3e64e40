"""Marks compared with the pixels under them: on a picture that no mirror, turn or exchange of axes leaves alike."""

import unittest
from typing import Any

import numpy as np
from PySide6.QtCore import QPointF
from PySide6.QtGui import QColor, QImage, QPainter
from PySide6.QtWidgets import QApplication, QCheckBox

from tests.desktop.painted import pixels
from tests.desktop.scored import ScoredCase
from ulvar.astrometry import Wcs
from ulvar.desktop.app import make_application
from ulvar.desktop.parts.theme import THEMES
from ulvar.desktop.picture.canvas import Canvas
from ulvar.desktop.picture.marks import _carry
from ulvar.desktop.picture.overlays import MASK_KINDS, Overlay, RoleMark, paint_overlay
from ulvar.desktop.picture.pictures import Picture
from ulvar.desktop.picture.reading import read_out
from ulvar.desktop.picture.skymarks import paint_sky
from ulvar.desktop.picture.stretch import Sample, Stretch

# Width, not height; the bright block is near one corner.
HEIGHT, WIDTH, X, Y = 120, 200, 40, 25


def picture() -> Picture:
    """Return a dark picture with one bright block of 5 px."""
    data = np.zeros((HEIGHT, WIDTH), dtype=np.float32)
    data[Y - 2 : Y + 3, X - 2 : X + 3] = 1000.0
    return Picture("p", (data,), Sample.of(data), data.shape)


def centroid(image: QImage, lighter_than: int) -> tuple[float, float]:
    """Return the middle of the pixels that are lighter, of 255."""
    colours = pixels(image)
    y, x = np.nonzero((colours.max(axis=2) + colours.min(axis=2)) / 2 > lighter_than)
    assert len(x), "nothing is drawn"
    return float(x.mean()), float(y.mean())


class Carried(unittest.TestCase):
    def test_every_mark_of_an_aligned_picture_goes_along(self) -> None:
        """Half a turn, and 7, -3 on top: whatever stays behind or mixes its axes stands elsewhere."""

        def there(x: Any, y: Any) -> tuple[Any, Any]:
            return WIDTH + 7 - x, HEIGHT - 3 - y

        overlay = Overlay(
            detections=np.array([[10.0, 20.0], [30.0, 41.0]]), defects=np.array([[11.0, 21.0]]), chosen=(12.0, 22.0),
            trails=np.array([[13.0, 23.0, 14.0, 24.0, 5.0]]), places=[("here", 15.0, 25.0)], bodies=[("Wisp", 16.0, 26.0)],
            pair=((17.0, 27.0), (18.0, 28.0), "4″"), body=(19.0, 29.0, True), regions=[[(20.0, 30.0), (21.0, 31.0)]],
            roles=[RoleMark("T", "target", 22.0, 32.0, True)],
        )  # fmt: skip
        _carry(overlay, there)
        np.testing.assert_array_equal(overlay.detections, [there(10, 20), there(30, 41)])
        np.testing.assert_array_equal(overlay.defects, [there(11, 21)])
        np.testing.assert_array_equal(overlay.trails, [(*there(13, 23), *there(14, 24), 5.0)])
        self.assertEqual(overlay.chosen, there(12, 22))
        self.assertEqual((overlay.places, overlay.bodies), ([("here", *there(15, 25))], [("Wisp", *there(16, 26))]))
        self.assertEqual(overlay.pair, (there(17, 27), there(18, 28), "4″"))
        self.assertEqual(overlay.body, (*there(19, 29), True))
        self.assertEqual(overlay.regions, [[there(20, 30), there(21, 31)]])
        self.assertEqual(overlay.roles, [RoleMark("T", "target", *there(22, 32), True)])


class Marks(unittest.TestCase):
    """What is drawn on the canvas stands where its pixels are, turned and mirrored too."""

    @classmethod
    def setUpClass(cls) -> None:
        """Make the application."""
        cls.app = make_application()

    def setUp(self) -> None:
        self.canvas = Canvas(THEMES["dark"])
        self.addCleanup(self.canvas.deleteLater)
        self.canvas.resize(500, 400)
        self.canvas.stretch = Stretch("Linear", 0.0, 1000.0)
        self.canvas.set_picture(picture())
        self.canvas.fit()

    def drawn(self, overlay: Overlay) -> QImage:
        """Return only the marks, on black."""
        self.canvas.overlay = overlay
        image = QImage(500, 400, QImage.Format.Format_RGB32)
        image.fill(QColor("#000000"))
        painter = QPainter(image)
        paint_overlay(painter, self.canvas.scene())
        paint_sky(painter, self.canvas.scene())
        painter.end()
        return image

    def block(self) -> tuple[float, float]:
        """Return where the bright block is seen."""
        self.canvas.overlay = Overlay()
        return centroid(self.canvas.grab().toImage(), 200)

    def test_marks_lie_on_their_pixels(self) -> None:
        place = np.array([[float(X), float(Y)]])
        overlays = {
            "detections": Overlay(detections=place), "catalogue": Overlay(catalogue=place), "defects": Overlay(defects=place),
            "chosen": Overlay(chosen=(float(X), float(Y))), "role": Overlay(roles=[RoleMark("", "target", X, Y)]),
            "trail": Overlay(trails=np.array([[X - 9.0, Y - 4.0, X + 9.0, Y + 4.0, 2.0]])),
            "region": Overlay(regions=[[(X - 6, Y - 3), (X + 6, Y - 3), (X + 6, Y + 3), (X - 6, Y + 3)]]),
        }  # fmt: skip
        for turn, mirrored in ((0.0, False), (33.0, False), (90.0, True), (200.0, True)):
            self.canvas.turn(turn, mirrored)
            wanted = self.block()
            for name, overlay in overlays.items():
                with self.subTest(mark=name, turn=turn, mirrored=mirrored):
                    x, y = centroid(self.drawn(overlay), 20)
                    self.assertLess(np.hypot(x - wanted[0], y - wanted[1]), 2.0)

    def test_rows_run_upwards(self) -> None:
        x, y = self.block()
        self.assertLess(x, 250, "x to the right")
        self.assertGreater(y, 200, "small y is below")

    def test_a_click_goes_to_the_pixel_under_it(self) -> None:
        for turn, mirrored in ((0.0, False), (57.0, True)):
            self.canvas.turn(turn, mirrored)
            back = self.canvas.sight.to_image(QPointF(*self.block()))
            self.assertLess(np.hypot(back.x() - X, back.y() - Y), 0.8)

    def test_residual_arrows_point_where_the_star_was_found(self) -> None:
        """From the catalogue's place to the star: right and up on the screen for a positive dx and dy."""
        for dx, dy in ((0.3, 0.0), (0.0, 0.3), (-0.2, 0.1)):
            with self.subTest(dx=dx, dy=dy):
                image = self.drawn(Overlay(residuals=np.array([[X, Y, dx, dy]])))
                at = self.canvas.sight.to_screen(X, Y)
                x, y = centroid(image.copy(round(at.x()) - 40, round(at.y()) - 40, 80, 80), 20)
                # The head is heavier than the tail: the middle of the arrow lies towards where it points.
                self.assertGreater((x - 40) * dx - (y - 40) * dy, 1.0 * np.hypot(dx, dy))

    def test_names_of_stars_beside_each_other_do_not_run_into_each_other(self) -> None:
        stars = [(f"star {k}", 100.0 + k, 60.0, "varies", False) for k in range(4)]
        alone = [pixels(self.drawn(Overlay(candidates=[star]))).max(axis=2) > 60 for star in stars]
        # The name of the first is to the right of it, above.
        at = self.canvas.sight.to_screen(100.0, 60.0).toPoint()
        self.assertGreater(alone[0][at.y() - 22 : at.y() - 8, at.x() + 18 : at.x() + 60].sum(), 100)
        # Nor over the name of a star with a role, nor over the edge.
        role = RoleMark("a", "target", 100.0, 60.0)
        letter = (slice(at.y() - 34, at.y() - 14), slice(at.x() + 26, at.x() + 42))
        one, both = (pixels(self.drawn(Overlay(roles=[role], candidates=some)))[letter] for some in ([], stars[:1]))
        self.assertGreater(int(one.max()), 100)
        np.testing.assert_array_equal(both, one)
        edge = pixels(self.drawn(Overlay(candidates=[("star 9", WIDTH - 1.0, 60.0, "varies", False)]))).max(axis=2) > 60
        self.assertGreater(edge.sum(), 0.7 * alone[0].sum())
        together = pixels(self.drawn(Overlay(candidates=stars))).max(axis=2) > 60
        # Waves go over each other, names do not: every name has the light that it has alone.
        waves = sum(mark[at.y() + 6 : at.y() + 25, at.x() - 20 : at.x() + 30].sum() for mark in alone)
        named = together.copy()
        named[at.y() + 6 : at.y() + 25, at.x() - 20 : at.x() + 30] = False
        self.assertAlmostEqual(named.sum(), sum(mark.sum() for mark in alone) - waves, delta=60)

    def test_what_a_pair_measures_stands_clear_of_the_marks_of_its_stars(self) -> None:
        pair = ((100.0, 50.0), (100.0, 62.0), "12.34″, 90.0°")
        role = RoleMark("a", "target", 100.0, 62.0)
        middle = self.canvas.sight.to_screen(100.0, 56.0).toPoint()
        left = [
            int(
                np.nonzero(
                    (pixels(self.drawn(Overlay(pair=pair, roles=roles)))[middle.y() - 6 : middle.y() + 5, : middle.x() - 27] > 90).any(
                        axis=(0, 2)
                    )
                )[0].max()
            )
            for roles in ([], [role], [role, RoleMark("f", "comparison", 70.0, 56.0)])
        ]
        self.assertGreater(left[0], middle.x() - 35)
        self.assertLess(left[1], middle.x() - 30)
        # Those of other stars do not drive it further away.
        self.assertEqual(left[2], left[1])

    def test_masked_pixels_are_coloured_where_they_are(self) -> None:
        mask = np.zeros((HEIGHT, WIDTH), dtype=np.uint16)
        mask[Y, X] = 8
        image = self.drawn(Overlay(mask=mask))
        at = self.canvas.sight.to_screen(X, Y)
        self.assertEqual(image.pixelColor(round(at.x()), round(at.y())).name(), "#e69f00")

    def test_signs_of_masked_pixels_stay_within_them(self) -> None:
        for _, bits, _, sign in MASK_KINDS:
            with self.subTest(sign):
                mask = np.zeros((HEIGHT, WIDTH), dtype=np.uint16)
                mask[Y, X] = bits & -bits
                self.canvas.fitted = False
                self.canvas.sight.scale, self.canvas.sight.centre = 20.0, QPointF(X, Y)
                drawn = pixels(self.drawn(Overlay(mask=mask)))[160:240, 210:290].max(axis=-1) > 60
                rows, columns = np.nonzero(drawn)
                # A pixel is twenty wide; strokes leave most of it free, a full sign nothing.
                self.assertLess(max(np.ptp(rows), np.ptp(columns)), 24)
                self.assertTrue(0.6 < drawn.sum() / 400 < 1.3 if sign == "full" else 0.02 < drawn.sum() / 400 < 0.6, drawn.sum())


class Reading(unittest.TestCase):
    """The line under the picture says what is at the cursor."""

    def test_value_and_position(self) -> None:
        shown = picture()
        cd = np.array([[-3e-4, 4e-5], [6e-5, 5e-4]])
        wcs = Wcs(115.0, 41.0, 100.0, 60.0, cd)
        ra, dec = (float(v) for v in wcs.sky(X, Y))
        words = read_out(shown, X, Y, wcs)
        self.assertIn("value 1000.0 ADU", words)
        hours = ra / 15
        self.assertIn(f"{int(hours):02d}", words)
        self.assertIn(f"{int(dec):02d}", words)
        seconds = (hours * 60 % 1) * 60
        self.assertIn(f"{int(hours * 60 % 60):02d}", words)
        self.assertRegex(words, rf"{int(seconds):02d}\.")
        self.assertNotEqual(read_out(shown, Y, X, wcs), words)
        self.assertIn("value 0.0 ADU", read_out(shown, Y, X, None))
        self.assertIn("outside", read_out(shown, -1.0, 5.0, wcs))
        self.assertIn("outside", read_out(shown, 5.0, float(HEIGHT), wcs))


class Choosing(ScoredCase):
    """The brush takes what it covers, and boxes of the slip switch what they say."""

    def test_the_brush_takes_every_dot_under_it(self) -> None:
        line = self.window.line.line
        dots = line.state.dots()
        for first, last in ((2, 6), (0, 3), (len(dots) - 4, len(dots) - 1)):
            self.drag(line, QPointF(dots[first][1] - 2, 60), QPointF(dots[last][1] + 2, 60))
            inside = [path for path, x, _, _ in dots if dots[first][1] - 2 <= x <= dots[last][1] + 2]
            self.assertGreaterEqual(len(inside), last - first + 1)
            self.assertEqual(list(self.model.brushed), inside)
        self.drag(line, QPointF(dots[6][1] + 2, 60), QPointF(dots[2][1] - 2, 60))
        self.assertEqual(len(self.model.brushed), 5, "drawn from right to left too")

    def test_each_box_of_the_light_curve_switches_its_own_term(self) -> None:
        self.model.set_station("curve")
        self.until(lambda: not self.window.slip._soon.isActive(), 10)
        # The sky's stands among those that are seldom needed.
        self.click(self.window.slip.fold)
        QApplication.processEvents()
        for number, (title, term) in enumerate((("Detrend by airmass", "airmass"), ("Detrend by FWHM", "fwhm"), ("Detrend by sky", "sky"))):
            box = next(b for b in self.window.slip.findChildren(QCheckBox) if b.text() == title and b.isVisible())
            self.assertFalse(box.isChecked())
            self.click(box, 8, box.height() / 2)
            self.assertEqual(len(self.model.settings().curve.detrend), number + 1)
            self.assertIn(term, self.model.settings().curve.detrend)
        box = next(b for b in self.window.slip.findChildren(QCheckBox) if b.text() == "Detrend by FWHM" and b.isVisible())
        self.click(box, 8, box.height() / 2)
        self.assertEqual(self.model.settings().curve.detrend, ["airmass", "sky"])
        QApplication.processEvents()

    def test_leaving_out_keeps_earlier_reasons(self) -> None:
        lights = [f.path for f in self.model.lights()]
        self.model.leave_out(lights[:2], "cloud")
        self.model.leave_out(lights[:4], "by hand")
        self.assertEqual([self.model.left_out()[p] for p in lights[:4]], ["cloud", "cloud", "by hand", "by hand"])
        self.model.put_back(lights[:4])
        self.model.undo.undo()
        self.assertEqual([self.model.left_out()[p] for p in lights[:4]], ["cloud", "cloud", "by hand", "by hand"])
