"""One star or body placed by the profile of its exposure."""

import math
import unittest

import numpy as np
from tools.same import kept

from ulvar.engine import Failed
from ulvar.simulation import Psf, add_stars, recorded_fwhm
from ulvar.stars import StarFit, StarTable, find_stars, measure_star

PSF = Psf(1.4)
FWHM = recorded_fwhm(PSF)


class Single(unittest.TestCase):
    """A field of round stars, and in its middle something else."""

    def scene(self, *, flux: float = 3e4, trail: tuple[float, float] = (0.0, 0.0), seed: int = 5) -> tuple[np.ndarray, StarTable]:
        rng = np.random.default_rng(seed)
        ys, xs = np.mgrid[25:220:40, 25:220:40]
        places = np.column_stack([xs.ravel(), ys.ravel()]) + rng.uniform(-4, 4, (xs.size, 2))
        places = places[np.hypot(*(places - 120).T) > 25]
        expected = np.full((240, 240), 200.0)
        add_stars(expected, places[:, 0], places[:, 1], np.full(len(places), 6e4), PSF)
        add_stars(expected, np.array([120.3]), np.array([119.6]), np.array([flux]), PSF, trail_px=trail)
        image = (rng.poisson(expected) + rng.normal(0, 5, expected.shape)).astype(np.float32)
        return image, find_stars(image, gain_e_per_adu=1.0).stars

    def measured(self, image: np.ndarray, stars: StarTable | None, **more: float | bool) -> StarFit | Failed:
        return measure_star(image, (121.0, 119.0), fwhm_px=FWHM, stars=stars, gain_e_per_adu=1.0, **more)  # type: ignore[arg-type]

    def test_a_star(self) -> None:
        fit = self.measured(*self.scene())
        assert isinstance(fit, StarFit)
        error = np.sqrt(np.diag(fit.covariance))
        self.assertLess(abs(fit.x - 120.3), 4 * error[0])
        self.assertLess(abs(fit.y - 119.6), 4 * error[1])
        self.assertLess(abs(fit.flux - 3e4), 5 * error[2])
        # The error is about that of photons and sky: more than that of the star's own photons alone.
        self.assertGreater(error[2], math.sqrt(3e4))
        self.assertLess(error[2], 3 * math.sqrt(3e4))
        self.assertAlmostEqual(fit.snr, fit.flux / error[2])
        self.assertTrue(fit.own_profile)
        kept(self, fit)

    def test_a_body_that_moved_is_fitted_by_a_shape_of_its_own(self) -> None:
        image, stars = self.scene(flux=6e4, trail=(7.0, 3.0))
        long = self.measured(image, stars, long=True)
        short = self.measured(image, stars)
        assert isinstance(long, StarFit) and isinstance(short, StarFit)
        self.assertEqual((long.own_profile, short.own_profile), (False, True))
        self.assertLess(long.chi2, 0.5 * short.chi2)
        self.assertLess(math.hypot(long.x - 120.3, long.y - 119.6), 0.12)
        # Its light is not lost beside the profile of round stars.
        self.assertLess(abs(long.flux / 6e4 - 1), abs(short.flux / 6e4 - 1))
        # A misfit is uncertainty, too.
        self.assertGreater(short.covariance[0, 0], 1.5 * long.covariance[0, 0])

    def test_a_round_body_keeps_the_profile_of_the_stars(self) -> None:
        fit = self.measured(*self.scene(), long=True)
        assert isinstance(fit, StarFit)
        self.assertTrue(fit.own_profile)
        kept(self, fit)

    def test_how_far_off_it_may_be(self) -> None:
        image, stars = self.scene()
        away = measure_star(image, (111.0, 119.0), fwhm_px=FWHM, stars=stars, gain_e_per_adu=1.0)
        self.assertIsInstance(away, Failed)
        found = measure_star(image, (111.0, 119.0), fwhm_px=FWHM, reach_px=12.0, stars=stars, gain_e_per_adu=1.0)
        assert isinstance(found, StarFit)
        self.assertLess(abs(found.x - 120.3), 0.1)

    def test_nothing_is_nothing(self) -> None:
        image, stars = self.scene(flux=0.0)
        found = [measure_star(image, (110.0 + 2 * k, 120.0), fwhm_px=FWHM, stars=stars, gain_e_per_adu=1.0) for k in range(10)]
        self.assertTrue(all(isinstance(one, Failed) for one in found))
        outside = measure_star(image, (300.0, 5.0), fwhm_px=FWHM)
        assert isinstance(outside, Failed)
        self.assertIn("outside", outside.reason)
