"""One star, one rectangle: against what was drawn."""

import math
import unittest

import numpy as np

from ulvar.engine import Failed
from ulvar.frames import MaskBit
from ulvar.inspection import StarCloseUp, look_at_star, region_statistics
from ulvar.simulation import Psf, star_field


class CloseUp(unittest.TestCase):
    """Centroid, widths, profile and growth curve of one star."""

    def setUp(self) -> None:
        rng = np.random.default_rng(1)
        self.x, self.y, self.flux, self.fwhm = 83.37, 61.81, 60_000.0, 3.4
        self.image = star_field(
            rng, width=160, height=120, x=np.array([self.x, 130.0]), y=np.array([self.y, 20.0]),
            flux_e=np.array([self.flux, 3000.0]), psf=Psf.with_fwhm(self.fwhm, wing_fraction=0.0),
        )  # fmt: skip
        self.image.setflags(write=False)

    def look(self, x: float, y: float, **given) -> StarCloseUp:  # type: ignore[no-untyped-def]
        star = look_at_star(self.image, x, y, **given)
        assert isinstance(star, StarCloseUp), star
        return star

    def test_numbers(self) -> None:
        # Clicked two pixels beside it, with a wrong idea of the width.
        star = self.look(self.x + 1.6, self.y - 1.4, fwhm_px=2.5, gain_e_per_adu=1.0)
        self.assertLess(math.hypot(star.x - self.x, star.y - self.y), 0.05)
        self.assertLess(abs(star.fwhm_px / self.fwhm - 1), 0.03)
        self.assertLess(abs(star.fwhm_fit_px / self.fwhm - 1), 0.03)
        self.assertLess(star.ellipticity, 0.03)
        self.assertLess(abs(star.sky_adu - 200), 3)
        self.assertLess(abs(star.noise_adu / 15 - 1), 0.15)
        peak = self.flux / (2 * math.pi * (self.fwhm / 2.3548) ** 2)
        self.assertLess(abs(star.peak_adu / peak - 1), 0.12)
        self.assertFalse(star.saturated)
        # Growth: all of the light within four widths, and a best radius between one and three widths.
        self.assertLess(abs(np.interp(4 * self.fwhm, star.growth_px, star.growth_adu) / self.flux - 1), 0.02)
        self.assertTrue(0.5 * self.fwhm < star.best_px < 3 * self.fwhm)
        self.assertLess(abs(star.snr / (self.flux / math.sqrt(self.flux + math.pi * star.best_px**2 * 225)) - 1), 0.1)
        # Fitted profile against the pixels themselves, within their noise.
        height, scale, exponent = star.model
        near = star.radius_px < 5
        fitted = height * (1 + (star.radius_px[near] / scale) ** 2) ** -exponent
        expected = np.sqrt(225 + np.maximum(fitted, 0))
        self.assertLess(np.median(np.abs(star.value_adu[near] - fitted) / expected), 1.6)
        self.assertTrue((np.diff(star.radius_px) >= 0).all())

    def test_the_sky_is_that_of_the_ring(self) -> None:
        """Wings of a bright star are no sky: it is measured where they have ended, on every side alike."""
        rng = np.random.default_rng(3)
        image = star_field(
            rng, width=160, height=120, x=np.array([60.0]), y=np.array([70.0]), flux_e=np.array([3e6]), psf=Psf.with_fwhm(5.0),
        )  # fmt: skip
        # Beyond the ring the sky is another: it must not count.
        rows, columns = np.mgrid[:120, :160]
        image[np.hypot(columns - 60, rows - 70) > 45] += 400.0
        star = look_at_star(image, 60.0, 70.0, fwhm_px=5.0)
        assert isinstance(star, StarCloseUp)
        away = np.hypot(columns - star.x, rows - star.y)
        self.assertLess(abs(star.sky_adu - np.median(image[(away > 20) & (away < 30)])), 12.0)

    def test_without_gain_there_is_no_ratio(self) -> None:
        self.assertTrue(math.isnan(self.look(self.x, self.y).snr))

    def test_saturation_by_level_and_by_mask(self) -> None:
        self.assertTrue(self.look(self.x, self.y, saturation_adu=2000.0).saturated)
        mask = np.zeros(self.image.shape, dtype=np.uint16)
        mask[62, 83] = MaskBit.SATURATED
        self.assertTrue(self.look(self.x, self.y, mask=mask).saturated)

    def test_no_star(self) -> None:
        rng = np.random.default_rng(2)
        noise = rng.normal(100, 5, (80, 90)).astype(np.float32)
        for place in ((40.0, 40.0), (-5.0, 3.0), (500.0, 20.0)):
            self.assertIsInstance(look_at_star(noise, *place), Failed)
        self.assertIsInstance(look_at_star(np.full((40, 40), np.nan, dtype=np.float32), 20, 20), Failed)
        self.assertIsInstance(look_at_star(np.full((40, 40), 7.0, dtype=np.float32), 20, 20), Failed)

    def test_at_the_edge(self) -> None:
        image = star_field(
            np.random.default_rng(3), width=60, height=60, x=np.array([2.2]), y=np.array([30.0]),
            flux_e=np.array([2e4]), psf=Psf.with_fwhm(3.0),
        )  # fmt: skip
        star = look_at_star(image, 2, 30)
        assert isinstance(star, StarCloseUp)
        self.assertLess(abs(star.y - 30), 0.2)


class Regions(unittest.TestCase):
    """Statistics of a rectangle."""

    def test_against_numpy(self) -> None:
        rng = np.random.default_rng(4)
        data = rng.normal(500, 7, (50, 40)).astype(np.float32)
        data[3, 4], data[5, 6] = np.nan, 60_000
        told = region_statistics(data, saturation_adu=50_000)
        self.assertEqual((told.count, told.saturated, told.highest), (1999, 1, 60_000.0))
        self.assertAlmostEqual(told.median, float(np.nanmedian(data)))
        self.assertLess(abs(told.sigma / 7 - 1), 0.06, "one bright pixel does not widen the clipped deviation")
        self.assertEqual(told.lowest, float(np.nanmin(data)))

    def test_mask_counts_and_empty_pieces(self) -> None:
        mask = np.zeros((4, 4), dtype=np.uint16)
        mask[0, :3] = MaskBit.SATURATED
        self.assertEqual(region_statistics(np.ones((4, 4), dtype=np.float32), mask=mask).saturated, 3)
        self.assertIsInstance(region_statistics(np.empty((0, 5), dtype=np.float32)), Failed)
        self.assertIsInstance(region_statistics(np.full((3, 3), np.nan, dtype=np.float32)), Failed)
        self.assertEqual(region_statistics(np.ones((1, 1), dtype=np.float32)).count, 1)
