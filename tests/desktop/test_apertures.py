"""Aperture and annulus are set and shown with their units."""

import math

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QCheckBox, QDoubleSpinBox

from tests.desktop.scored import ScoredCase
from ulvar.desktop.models.starpick import give_role
from ulvar.desktop.picture.overlays import aperture_words
from ulvar.photometry import measure_apertures


class Apertures(ScoredCase):
    def setUp(self) -> None:
        super().setUp()
        self.model.set_station("measure")
        self.window.slip._toggle_fold()
        self.quiet()

    def spin(self, name: str) -> QDoubleSpinBox:
        return next(s for s in self.window.slip.findChildren(QDoubleSpinBox, f"measure.{name}") if s.isVisible())

    def type(self, name: str, text: str) -> None:
        spin = self.spin(name)
        spin.setFocus()
        spin.selectAll()
        QTest.keyClicks(spin, text)
        QTest.keyClick(spin, Qt.Key.Key_Return)
        self.quiet()

    def test_the_radius_has_the_unit_that_it_is_in(self) -> None:
        self.assertEqual(self.spin("radius").suffix(), " × FWHM")
        self.assertIn("× FWHM", self.spin("radius").toolTip())
        box = next(b for b in self.window.slip.findChildren(QCheckBox) if b.text() == "In units of the FWHM" and b.isVisible())
        QTest.mouseClick(box, Qt.MouseButton.LeftButton, pos=box.rect().topLeft() + box.rect().center() / 6)
        self.quiet()
        self.assertFalse(self.model.settings().measure.in_fwhm)
        self.assertEqual(self.spin("radius").suffix(), " px")
        self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        self.quiet()
        self.assertEqual(self.spin("radius").suffix(), " × FWHM")

    def test_the_ring_has_two_radii_or_none(self) -> None:
        self.assertEqual(self.spin("inner_px").text(), "by aperture")
        self.type("inner_px", "12")
        measure = self.model.settings().measure
        self.assertEqual((measure.inner_px, measure.outer_px), (12.0, 21.6))
        self.assertEqual(self.spin("outer_px").text(), "21.6 px")
        self.type("outer_px", "30")
        self.assertEqual(self.model.settings().measure.outer_px, 30.0)
        self.assertEqual(self.model.settings().measure.aperture.radii(3.0)[1:], (12.0, 30.0))
        self.type("outer_px", "9")
        self.assertEqual(self.model.settings().measure.outer_px, 30.0, "a ring turned inside out is refused")
        self.assertIn("annulus", self.messages[-1])
        self.type("inner_px", "0")
        measure = self.model.settings().measure
        self.assertEqual((measure.inner_px, measure.outer_px), (None, None))
        self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        self.assertEqual(self.model.settings().measure.inner_px, 12.0)

    def test_on_the_picture_they_stand_in_pixels(self) -> None:
        table = self.sky.stars_of(self.model.current)
        give_role(self.model, (float(table.x[0]), float(table.y[0])), "target")
        radii = self.sky.canvas.overlay.aperture
        fwhm = self.model.products("score")[self.model.current].values["fwhm_px"]
        self.assertAlmostEqual(radii[0], 1.7 * fwhm, places=6)
        self.assertEqual(aperture_words((4.94, 8.9, 15.84)), "aperture 4.9 px, annulus 8.9 to 15.8 px")
        with_words = self.sky.canvas.grab().toImage()
        self.model.set_station("combine")
        self.quiet()
        self.assertNotEqual(self.sky.canvas.grab().toImage(), with_words)


class Drawn(ScoredCase):
    """Rings are taken hold of on the picture."""

    def setUp(self) -> None:
        super().setUp()
        self.model.set_station("measure")
        self.quiet()
        table = self.sky.stars_of(self.model.current)
        height, width = self.sky.canvas.picture.shape
        inside = (abs(table.x - width / 2) < width / 4) & (abs(table.y - height / 2) < height / 4) & (table.flags == 0)
        star = int(inside.nonzero()[0][0])
        self.place = float(table.x[star]), float(table.y[star])
        give_role(self.model, self.place, "target")
        self.sky.canvas.look(QPointF(*self.place), 6.0)
        self.quiet()
        self.fwhm = float(self.model.products("score")[self.model.current].values["fwhm_px"])

    def at(self, radius: float, angle: float = 0.7) -> QPointF:
        """Return the screen's place of a point of a ring about the star."""
        mark = self.sky.canvas.overlay.roles[0]
        return self.sky.canvas.sight.to_screen(mark.x + radius * math.cos(angle), mark.y + radius * math.sin(angle))

    def test_an_aperture_is_drawn_wider_live_and_taken_back(self) -> None:
        canvas = self.sky.canvas
        before = canvas.overlay.aperture
        start, end = self.at(before[0]).toPoint(), self.at(1.3 * before[0]).toPoint()
        QTest.mouseMove(canvas, start)
        self.quiet()
        self.assertEqual(canvas.cursor().shape(), Qt.CursorShape.SizeAllCursor)
        QTest.mousePress(canvas, Qt.MouseButton.LeftButton, pos=start)
        QTest.mouseMove(canvas, end)
        self.quiet()
        drawn = canvas.overlay.aperture
        self.assertAlmostEqual(drawn[0], 1.3 * before[0], delta=0.15)
        self.assertEqual(drawn[1:], before[1:])
        # What it tells meanwhile is the star's light in this aperture.
        data, facts = canvas.picture.data, self.model.facts(self.model.current)
        mark = canvas.overlay.roles[0]
        found = measure_apertures(
            data, np.array([mark.x]), np.array([mark.y]), radius_px=drawn[0], inner_px=drawn[1], outer_px=drawn[2],
            gain_e_per_adu=facts.gain_e_per_adu,
        )  # fmt: skip
        told = self.sky.foot.read_out.text()
        self.assertIn(f"{found.flux[0]:,.0f} ± {found.flux_error[0]:,.0f} ADU".replace(",", "\u2009"), told)
        self.assertIn(f"SNR {found.flux[0] / found.flux_error[0]:,.0f}".replace(",", "\u2009"), told)
        self.assertEqual(self.model.settings().measure.radius, 1.7, "nothing is set before it is let go")
        QTest.mouseRelease(canvas, Qt.MouseButton.LeftButton, pos=end)
        self.quiet()
        now = self.model.settings().measure
        self.assertAlmostEqual(now.radius * self.fwhm, drawn[0], delta=0.01)
        # The annulus stays where it was seen.
        self.assertAlmostEqual(now.inner_px, before[1], delta=0.01)
        self.assertAlmostEqual(now.outer_px, before[2], delta=0.01)
        self.model.undo.undo()
        self.quiet()
        self.assertEqual(canvas.overlay.aperture, before)

    def test_profile_and_growth_follow(self) -> None:
        canvas, strip = self.sky.canvas, self.sky.tools.star
        self.sky.toggle("closeup")
        self.quiet()
        canvas.look(QPointF(*self.place), 6.0)
        self.quiet()
        before = canvas.overlay.aperture
        self.drag(canvas, self.at(before[0]), self.at(1.25 * before[0]))
        self.assertTrue(strip.growth.series, "the star's own growth")
        self.assertAlmostEqual(strip.growth.marker, 1.25 * before[0], delta=0.2)
        self.assertEqual(strip.radial.marker, strip.growth.marker)
        self.assertEqual(strip.growth.bands, [(before[1], before[2], "text")])

    def test_rings_stay_between_their_neighbours(self) -> None:
        canvas = self.sky.canvas
        aperture, inner, outer = canvas.overlay.aperture
        self.drag(canvas, self.at(inner), self.at(0.5 * aperture))
        self.quiet()
        now = self.model.settings().measure
        self.assertAlmostEqual(now.inner_px, aperture + 0.5, delta=0.02)
        self.assertAlmostEqual(now.outer_px, outer, delta=0.02)
        self.assertEqual(now.radius, 1.7)
        self.drag(canvas, self.at(outer), self.at(1.5 * outer))
        self.quiet()
        self.assertAlmostEqual(self.model.settings().measure.outer_px, 1.5 * outer, delta=0.3)

    def test_elsewhere_the_picture_is_moved(self) -> None:
        canvas = self.sky.canvas
        aperture, inner, _ = canvas.overlay.aperture
        before, centre = self.model.settings().measure, QPointF(canvas.sight.centre)
        self.drag(canvas, self.at((aperture + inner) / 2), self.at((aperture + inner) / 2) + QPointF(60, 40))
        self.quiet()
        self.assertEqual(self.model.settings().measure, before)
        self.assertNotEqual(canvas.sight.centre, centre)
        # A click on a ring is a click.
        self.click(canvas, self.at(aperture).x(), self.at(aperture).y())
        self.assertEqual(self.model.settings().measure, before)
