"""Scores, field maps, the measured profile, the autocorrelation; kernels beside their plain versions."""

import math
import unittest

import numpy as np
from bench.made_fields import NOISE, make_field
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays
from scipy.optimize import least_squares
from tools.same import kept

from ulvar.simulation import Psf, star_field
from ulvar.stars import StarFlag, StarTable, blend_scores, field_map, find_stars, measure_quality
from ulvar.stars._kernels import radix_sort
from ulvar.stars._kernels_psf import sample_table, subtract_stars
from ulvar.stars.fitting import ProfileFit, gather_psf, stamps
from ulvar.stars.focus import autocorrelation_width
from ulvar.stars.psf import centred, gaussian_psf, profile_width


class Kernels(unittest.TestCase):
    """Against plain NumPy."""

    @settings(max_examples=60, deadline=None)
    @given(arrays(np.float32, st.integers(1, 300), elements=st.floats(-(2.0**90), 2.0**90, width=32)))
    def test_radix_sort(self, values: np.ndarray) -> None:
        wanted = np.sort(values)
        radix_sort(values, np.empty_like(values), np.empty((3, 2048), dtype=np.int64))
        np.testing.assert_array_equal(values, wanted)

    def test_table_gives_its_own_values_and_smooth_ones_between(self) -> None:
        psf = gaussian_psf(4.0)
        middle = (psf.table.shape[0] - 1) // 2
        for dx, dy in ((0.0, 0.0), (1.5, -2.0), (-3.5, 0.5)):
            self.assertAlmostEqual(sample_table(psf.table, dx, dy), psf.table[middle + round(2 * dy), middle + round(2 * dx)])
        sigma = 4.0 / 2.3548
        for dx, dy in ((0.3, 0.7), (-1.21, 2.36)):
            truth = math.exp(-0.5 * (dx**2 + dy**2) / sigma**2) / (2 * math.pi * sigma**2)
            self.assertLess(abs(sample_table(psf.table, dx, dy) / truth - 1), 0.004)
        self.assertEqual(sample_table(psf.table, 500.0, 0.0), 0.0)

    def test_taking_off_and_putting_back(self) -> None:
        rng = np.random.default_rng(1)
        picture = rng.normal(0, 1, (60, 80)).astype(np.float32)
        before = picture.copy()
        psf = gaussian_psf(3.0)
        x, y, flux = np.array([20.3, 79.0, -2.0]), np.array([30.7, 0.2, 30.0]), np.array([1000.0, 500.0, 300.0])
        reach = np.full(3, psf.radius_px)
        subtract_stars(picture, psf.table, x, y, flux, reach, 1.0)
        # The star in the middle loses all of its light, the one in the corner what falls on the frame.
        self.assertLess(abs((before - picture)[:, :50].sum() - 1000 - 0.0), 100)
        subtract_stars(picture, psf.table, x, y, flux, reach, -1.0)
        np.testing.assert_allclose(picture, before, atol=1e-3)

    def test_fit_is_the_least_squares_one(self) -> None:
        rng = np.random.default_rng(2)
        psf = gaussian_psf(3.0)
        truth = (25.37, 24.71, 4000.0)
        image = star_field(
            rng, width=50, height=50, x=np.array([truth[0]]), y=np.array([truth[1]]), flux_e=np.array([truth[2]]),
            psf=Psf.with_fwhm(3.0, wing_fraction=0.0),
        )  # fmt: skip
        picture = (image - 200).astype(np.float32)
        noise, bad = np.full(picture.shape, NOISE, dtype=np.float32), np.zeros(picture.shape, dtype=bool)
        fit = ProfileFit(picture.copy(), noise, bad, psf, gain=0.0, noise_adu=NOISE)
        fit.add(np.array([25.0]), np.array([25.0]), np.array([3000.0]))
        fit.settle(20)
        reach = max(2, math.ceil(0.75 * psf.fwhm_px))
        ys, xs = np.mgrid[:50, :50]
        inside = (xs - fit.x[0]) ** 2 + (ys - fit.y[0]) ** 2 <= (reach + 0.5) ** 2

        def left(p: np.ndarray) -> np.ndarray:
            model = np.array([sample_table(psf.table, i - p[0], j - p[1]) for i, j in zip(xs[inside], ys[inside])])
            return (picture[inside] - p[2] * model) / NOISE

        plain = least_squares(left, np.array([25.0, 25.0, 3000.0]), x_scale=(1, 1, 1000))
        errors = np.sqrt(np.diag(np.linalg.inv(plain.jac.T @ plain.jac)))
        found = np.array([fit.x[0], fit.y[0], fit.flux[0]])
        self.assertLess((np.abs(found - plain.x) / errors).max(), 0.1)
        mine = np.sqrt(fit.variance[0])[[1, 2, 0]]
        np.testing.assert_allclose(mine, errors, rtol=0.05)
        np.testing.assert_allclose(fit.left + 0, picture - (picture - fit.left), atol=1e-4)


class Profile(unittest.TestCase):
    """The table gathered from stars is the profile that made them."""

    def test_gathered_from_stars(self) -> None:
        rng = np.random.default_rng(5)
        gx, gy = (g.ravel() for g in np.meshgrid(np.arange(30, 700, 45.0), np.arange(30, 480, 45.0)))
        x, y = gx + rng.uniform(-0.5, 0.5, len(gx)), gy + rng.uniform(-0.5, 0.5, len(gy))
        field = make_field(rng, stars=0, positions=(x, y), faintest=4.5, brightest=5.0)
        noise, bad = np.full(field.image.shape, NOISE, dtype=np.float32), np.zeros(field.image.shape, dtype=bool)
        start = gaussian_psf(3.6)
        cut, *rest = stamps(((field.image - 200).astype(np.float32), noise, bad), x, y, start.radius_px + 2)
        psf = gather_psf(start, *cut, *rest[:2], field.flux[rest[2]], gain=1.0, noise_adu=NOISE, rounds=5)
        self.assertLess(abs(psf.fwhm_px / 3.0 - 1), 0.01)
        self.assertFalse(psf.ring)
        self.assertAlmostEqual(0.25 * psf.table.sum(), 1.0, places=9)
        # Truth from the simulator: one bright star without noise, on whole pixels.
        one = star_field(
            np.random.default_rng(0), width=61, height=61, x=np.array([30.0]), y=np.array([30.0]),
            flux_e=np.array([1e9]), psf=Psf.with_fwhm(3.0), sky_e=0.0, read_noise_e=0.0,
        ) / 1e9  # fmt: skip
        mine = np.array([[sample_table(psf.table, i - 30.0, j - 30.0) for i in range(61)] for j in range(61)])
        self.assertLess(np.abs(mine - one).max(), 0.015 * one.max())

    def test_centring_moves_a_table_to_its_middle(self) -> None:
        psf = gaussian_psf(4.0)
        moved = np.roll(psf.table, (1, -2), axis=(0, 1))
        np.testing.assert_allclose(centred(moved, 4.0), psf.table, atol=2e-3 * psf.table.max())

    def test_widths_of_known_tables(self) -> None:
        width, ring = profile_width(gaussian_psf(5.0, (2.0, 1.0, 0.3)).table, 5.0)
        self.assertLess(abs(width / 5 - 1), 0.02)
        self.assertFalse(ring)
        # Longish, off the middle, from a wrong start; what a neighbour left counts little.
        rng, offsets = np.random.default_rng(5), (np.arange(41) - 20) / 2
        dx, dy = np.meshgrid(offsets - 0.2, offsets + 0.1)
        for beta in (1.8, 4.0):
            core = 2.0 / math.sqrt(2 ** (1 / beta) - 1)
            table = (1 + (dx * dx / 1.3 + dy * dy * 1.3) / core**2) ** -beta + rng.normal(0, 0.002, dx.shape)
            table[26, 22] += 0.5
            for start in (3.3, 4.6):
                self.assertAlmostEqual(profile_width(table, start)[0], 4.0, delta=0.02)

    def test_autocorrelation_tells_the_width(self) -> None:
        for fwhm in (2.5, 4.0, 8.0):
            field = make_field(np.random.default_rng(7), stars=150, fwhm_px=fwhm, brightest=4.0)
            hot = np.random.default_rng(8).integers(0, 400, (2, 300))
            field.image[hot[0], hot[1]] += 5000
            width = autocorrelation_width(field.image - 200, NOISE)
            self.assertLess(abs(width / fwhm - 1), 0.3, fwhm)
        noise = np.random.default_rng(9).normal(0, 5, (300, 300)).astype(np.float32)
        self.assertFalse(autocorrelation_width(noise, 5.0) > 2.5)
        self.assertTrue(math.isnan(autocorrelation_width(noise[:5], 5.0)))


class Scores(unittest.TestCase):
    """Blends of qualities."""

    def test_default_is_point_source_snr(self) -> None:
        columns = {"transparency": [1.0, 0.5, 1.0], "fwhm_px": [3.0, 3.0, 6.0], "noise_adu": [10.0, 10.0, 20.0]}
        np.testing.assert_allclose(blend_scores(columns), [1.0, 0.5, 0.25])

    def test_powers_and_unknown_values(self) -> None:
        columns = {"fwhm_px": [2.0, 4.0, None], "ellipticity": [0.5, 0.0, 0.0]}
        np.testing.assert_allclose(blend_scores(columns, {"fwhm_px": 2.0}), [1.0, 0.25, 0.0])
        np.testing.assert_allclose(blend_scores(columns, {"ellipticity": 1.0}), [0.5, 1.0, 1.0])
        np.testing.assert_allclose(blend_scores(columns, {"fwhm_px": 0.0}), [1.0, 1.0, 1.0])
        with self.assertRaises(ValueError):
            blend_scores(columns, {"beauty": 1.0})

    def test_gradient_and_expected_noise(self) -> None:
        rng = np.random.default_rng(3)
        ys, xs = np.mgrid[:400, :600]
        image = (rng.normal(0, 1, (400, 600)) * 15 + 200 + 30 * xs / 600 - 12 * ys / 400).astype(np.float32)
        quality = measure_quality(find_stars(image), gain_e_per_adu=1.0, read_noise_e=5.0)
        self.assertLess(abs(quality.gradient_adu - 42), 4)
        self.assertLess(abs(quality.expected_noise_adu - math.sqrt(209 + 25)), 0.3)
        self.assertTrue(math.isnan(measure_quality(find_stars(image)).expected_noise_adu))


def table_of(x: np.ndarray, y: np.ndarray, fwhm: np.ndarray, e1: np.ndarray, e2: np.ndarray) -> StarTable:
    """Return bright clean stars of given shapes."""
    n = len(x)
    return StarTable(
        x=x, y=y, flux=np.full(n, 1e4), flux_error=np.full(n, 100.0), snr=np.full(n, 100.0), fwhm_px=fwhm, fwhm_fit_px=fwhm,
        ellipticity=np.hypot(e1, e2), angle_deg=np.degrees(0.5 * np.arctan2(e2, e1)), peak=np.full(n, 900.0),
        flags=np.zeros(n, dtype=np.int64),
    )  # fmt: skip


class FieldMaps(unittest.TestCase):
    """Planted tilt, curvature and coma are told; an even field tells nothing."""

    def setUp(self) -> None:
        rng = np.random.default_rng(11)
        self.x, self.y = rng.uniform(0, 3000, 400), rng.uniform(0, 2000, 400)
        self.u, self.v = (self.x - 1499.5) / 1500, (self.y - 999.5) / 1500
        self.fwhm = 3.0 + 0.05 * rng.standard_normal(400)
        self.e1, self.e2 = 0.02 * rng.standard_normal((2, 400))

    def told(self, fwhm: np.ndarray, e1: np.ndarray, e2: np.ndarray) -> tuple:
        found = field_map(table_of(self.x, self.y, fwhm, e1, e2), 3000, 2000)
        assert found is not None
        return found, " ".join(found.words)

    def test_even(self) -> None:
        found, words = self.told(self.fwhm, self.e1, self.e2)
        self.assertIn("even", words)
        self.assertLess(abs(found.middle_px / 3 - 1), 0.01)
        self.assertEqual(found.count.sum(), 400)
        self.assertTrue(np.isfinite(found.fwhm_px).all())

    def test_tilt(self) -> None:
        # From 2.7 px at the left to 3.3 px at the right: 20 % across.
        found, words = self.told(self.fwhm + 0.3 * self.u, self.e1, self.e2)
        self.assertLess(abs(found.tilt - 0.2), 0.01)
        self.assertLess(min(found.tilt_angle_deg, 360 - found.tilt_angle_deg), 5)
        self.assertIn("the right", words)
        self.assertNotIn("Curvature", words)
        kept(self, found)

    def test_curvature(self) -> None:
        found, words = self.told(self.fwhm + 0.5 * (self.u**2 + self.v**2), self.e1, self.e2)
        self.assertLess(abs(found.curvature - 0.5 * (1 + (2 / 3) ** 2) / 3), 0.02)
        self.assertIn("corners", words)
        self.assertNotIn("Tilt", words)

    def test_coma_and_trailing(self) -> None:
        r2, toward = self.u**2 + self.v**2, np.arctan2(self.v, self.u)
        found, words = self.told(self.fwhm, self.e1 + 0.1 * r2 * np.cos(2 * toward), self.e2 + 0.1 * r2 * np.sin(2 * toward))
        self.assertLess(abs(found.radial - 0.1 * (1 + (2 / 3) ** 2)), 0.03)
        self.assertIn("point to the middle", words)
        found, words = self.told(self.fwhm, self.e1 + 0.2 * math.cos(2.0), self.e2 + 0.2 * math.sin(2.0))
        self.assertLess(abs(found.common_ellipticity - 0.2), 0.02)
        self.assertLess(abs(found.common_angle_deg - math.degrees(1.0)), 3)
        self.assertIn("guiding", words)
        kept(self, found)

    def test_too_few_and_doubtful_stars(self) -> None:
        few = table_of(self.x[:12], self.y[:12], self.fwhm[:12], self.e1[:12], self.e2[:12])
        self.assertIsNone(field_map(few, 3000, 2000))
        doubtful = table_of(self.x, self.y, self.fwhm, self.e1, self.e2)
        doubtful.flags[:] = StarFlag.SATURATED
        self.assertIsNone(field_map(doubtful, 3000, 2000))
