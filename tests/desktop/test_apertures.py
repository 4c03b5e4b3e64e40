"""Aperture and annulus are set and shown with their units."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QCheckBox, QDoubleSpinBox

from tests.desktop.scored import ScoredCase
from ulvar.desktop.models.starpick import give_role
from ulvar.desktop.picture.overlays import aperture_words


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
        box = next(
            b for b in self.window.slip.findChildren(QCheckBox) if b.text() == "In units of the FWHM" and b.isVisible()
        )
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


if __name__ == "__main__":
    import unittest

    unittest.main()
