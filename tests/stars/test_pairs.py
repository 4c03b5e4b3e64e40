"""Two stars measured together, against where they were put."""

import math
import unittest

import numpy as np
from tools.same import kept

from ulvar.engine import Failed
from ulvar.frames import MaskBit
from ulvar.simulation import Psf, recorded_fwhm, star_field
from ulvar.stars import PairFit, StarTable, find_stars, measure_pair

PSF = Psf(1.4)
FWHM = recorded_fwhm(PSF)
GAIN = 1.5


def picture(
    rng: np.random.Generator, places: np.ndarray, flux: np.ndarray, side: int = 90, trail: tuple[float, float] = (0.0, 0.0)
) -> np.ndarray:
    return star_field(
        rng, width=side, height=side, x=places[:, 0], y=places[:, 1], flux_e=flux, psf=PSF, gain_e_per_adu=GAIN, trail_px=trail,
    )  # fmt: skip


class Truth(unittest.TestCase):
    """Every deviation over its error, of pairs at every distance: no bias, and as much scatter as the errors say."""

    def deviations(self, *, gain: float | None, field: bool, count: int) -> np.ndarray:
        rng = np.random.default_rng(8)
        rows = []
        for k in range(count):
            apart, angle = FWHM * math.exp(rng.uniform(math.log(0.8), math.log(30))), rng.uniform(0, 2 * math.pi)
            side = max(200 if field else 80, int(apart) + 70)
            middle = side / 2 + rng.uniform(-0.5, 0.5, 2)
            half = apart / 2 * np.array([math.cos(angle), math.sin(angle)])
            places, flux = np.array([middle - half, middle + half]), np.array([1.0, 10 ** rng.uniform(-0.8, 0)]) * 8e4
            if field:
                others = rng.uniform(0, side, (35, 2))
                others = others[np.linalg.norm(others[:, None] - places[None], axis=2).min(axis=1) > 3 * FWHM]
                places, flux = np.vstack([places, others]), np.r_[flux, 10 ** rng.uniform(3.5, 5.2, len(others))]
            image = picture(rng, places, flux, side)
            named = places[:2] + rng.normal(0, 0.2 * FWHM, (2, 2))
            stars = find_stars(image, gain_e_per_adu=GAIN).stars if field else None
            fit = measure_pair(image, *map(tuple, named), fwhm_px=FWHM, gain_e_per_adu=gain, stars=stars)  # type: ignore[arg-type]
            assert isinstance(fit, PairFit), (k, fit)
            self.assertEqual(fit.own_profile, field)
            (s, s_error), (a, a_error), (d, d_error) = fit.separation_px, fit.angle_deg, fit.difference_mag
            turned = (a - math.degrees(angle) + 180) % 360 - 180
            rows.append(((s - apart) / s_error, turned / a_error, (d + 2.5 * math.log10(flux[1] / flux[0])) / d_error))
        return np.array(rows)

    def assert_honest(self, deviations: np.ndarray) -> None:
        n = len(deviations)
        # The mean of n deviations scatters by 1 / sqrt(n), their spread by 1 / sqrt(2 n).
        np.testing.assert_array_less(np.abs(deviations.mean(axis=0)), 3.5 / math.sqrt(n))
        spread = deviations.std(axis=0)
        np.testing.assert_array_less(np.abs(spread - 0.95), 0.1 + 3.5 / math.sqrt(2 * n))

    def test_in_a_field(self) -> None:
        self.assert_honest(self.deviations(gain=GAIN, field=True, count=24))

    def test_alone(self) -> None:
        self.assert_honest(self.deviations(gain=GAIN, field=False, count=36))

    def test_of_an_unknown_gain(self) -> None:
        self.assert_honest(self.deviations(gain=None, field=False, count=24))

    def test_a_profile_that_is_none_of_a_moffat_is_in_the_errors(self) -> None:
        """Bright pairs that overlap, alone: their noise is nothing, what the profile misplaces is all."""
        rng = np.random.default_rng(21)
        off = []
        for _ in range(16):
            apart, angle = FWHM * rng.uniform(1.4, 3.2), rng.uniform(0, 2 * math.pi)
            half = apart / 2 * np.array([math.cos(angle), math.sin(angle)])
            places = np.array([40 - half, 40 + half]) + rng.uniform(-0.5, 0.5, 2)
            fit = measure_pair(
                picture(rng, places, np.array([2e6, 1.2e6])),
                *map(tuple, places),
                fwhm_px=FWHM,
                gain_e_per_adu=GAIN,  # type: ignore[arg-type]
            )
            assert isinstance(fit, PairFit)
            off.append((fit.separation_px[0] - apart) / fit.separation_px[1])
        self.assertLess(np.abs(off).max(), 3)
        self.assertGreater(np.abs(off).max(), 0.3, "nor are they far too wide")


class Errors(unittest.TestCase):
    def test_they_follow_from_the_covariance_of_places_and_light(self) -> None:
        rng = np.random.default_rng(4)
        values = np.array([40.0, 44.0, 46.5, 41.0, 9000.0, 4000.0])
        root = rng.normal(0, 1, (6, 6)) * np.array([0.02, 0.03, 0.04, 0.02, 40.0, 30.0])[:, None]

        def told(v: np.ndarray) -> PairFit:
            return PairFit(v[[0, 2]], v[[1, 3]], v[4:], root @ root.T, 1.0, FWHM, saturated=False, own_profile=True)

        for name in ("separation_px", "angle_deg", "difference_mag"):
            steps = 1e-4 * np.eye(6) * np.array([1, 1, 1, 1, 1000, 1000])[:, None]
            slope = [(getattr(told(values + h), name)[0] - getattr(told(values - h), name)[0]) / (2 * h.sum()) for h in steps]
            self.assertAlmostEqual(getattr(told(values), name)[1] / math.sqrt(slope @ root @ root.T @ np.array(slope)), 1.0, places=5)


class One(unittest.TestCase):
    def setUp(self) -> None:
        self.rng = np.random.default_rng(3)
        self.places = np.array([[40.3, 44.6], [46.1, 41.2]])
        self.flux = np.array([60_000.0, 24_000.0])

    def measured(self, image: np.ndarray, **more: object) -> PairFit | Failed:
        first, second = (tuple(p + 0.3) for p in self.places)
        return measure_pair(image, first, second, fwhm_px=FWHM, gain_e_per_adu=GAIN, **more)  # type: ignore[arg-type]

    def test_places_light_and_direction(self) -> None:
        fit = self.measured(picture(self.rng, self.places, self.flux))
        assert isinstance(fit, PairFit)
        np.testing.assert_allclose(np.column_stack([fit.x, fit.y]), self.places, atol=0.05)
        # In ADU, and the wings of a Moffat profile reach further than those of the made-up one.
        np.testing.assert_allclose(fit.flux, self.flux / GAIN, rtol=0.06)
        self.assertAlmostEqual(fit.separation_px[0], math.hypot(5.8, 3.4), delta=0.06)
        self.assertAlmostEqual(fit.angle_deg[0], 360 + math.degrees(math.atan2(-3.4, 5.8)), delta=0.6)
        self.assertAlmostEqual(fit.difference_mag[0], 2.5 * math.log10(60 / 24), delta=0.04)
        self.assertFalse(fit.saturated)
        kept(self, fit)

    def test_the_first_is_the_one_that_was_named_first(self) -> None:
        image = picture(self.rng, self.places, self.flux)
        there = measure_pair(image, (40.3, 44.6), (46.1, 41.2), fwhm_px=FWHM, gain_e_per_adu=GAIN)
        back = measure_pair(image, (46.1, 41.2), (40.3, 44.6), fwhm_px=FWHM, gain_e_per_adu=GAIN)
        assert isinstance(there, PairFit) and isinstance(back, PairFit)
        self.assertAlmostEqual((back.angle_deg[0] - there.angle_deg[0]) % 360, 180, delta=1e-3)
        self.assertAlmostEqual(back.difference_mag[0], -there.difference_mag[0], delta=1e-3)
        self.assertAlmostEqual(back.flux[1], there.flux[0], delta=1)

    def test_merged_stars_follow_the_direction_that_was_drawn(self) -> None:
        self.places = np.array([[40.0, 40.0], [40.0, 40.0 + 0.9 * FWHM]])
        self.flux = np.array([60_000.0, 55_000.0])
        image = picture(self.rng, self.places, self.flux)
        up = measure_pair(image, (40.2, 40.5), (40.1, 43.0), fwhm_px=FWHM, gain_e_per_adu=GAIN)
        down = measure_pair(image, (40.1, 43.0), (40.2, 40.5), fwhm_px=FWHM, gain_e_per_adu=GAIN)
        assert isinstance(up, PairFit) and isinstance(down, PairFit)
        self.assertAlmostEqual(up.angle_deg[0], 90, delta=4)
        self.assertAlmostEqual(down.angle_deg[0], 270, delta=4)

    def test_clicks_beside_the_stars(self) -> None:
        image = picture(self.rng, self.places, self.flux)
        fit = measure_pair(image, (38.2, 46.4), (48.0, 39.8), fwhm_px=FWHM, gain_e_per_adu=GAIN)
        assert isinstance(fit, PairFit)
        np.testing.assert_allclose(np.column_stack([fit.x, fit.y]), self.places, atol=0.05)

    def test_one_star_is_no_pair(self) -> None:
        for trail in ((0.0, 0.0), (0.5 * FWHM, 0.2 * FWHM)):
            image = picture(self.rng, self.places[:1], self.flux[:1], trail=trail)
            fit = measure_pair(image, (39.2, 44.0), (41.6, 45.1), fwhm_px=FWHM, gain_e_per_adu=GAIN)
            assert isinstance(fit, Failed), fit
        self.assertIsInstance(self.measured(picture(self.rng, self.places[:1], self.flux[:1])), Failed)
        nothing = self.measured(picture(self.rng, self.places, np.array([0.0, 0.0])))
        assert isinstance(nothing, Failed)

    def test_outside(self) -> None:
        image = picture(self.rng, self.places, self.flux)
        fit = measure_pair(image, (40.0, 44.0), (95.0, 41.0), fwhm_px=FWHM)
        assert isinstance(fit, Failed)
        self.assertIn("outside", fit.reason)
        assert isinstance(measure_pair(image, (40.0, 44.0), (46.0, 41.0), fwhm_px=math.nan), Failed)

    def test_spoilt_pixels_do_not_count(self) -> None:
        image = picture(self.rng, self.places, self.flux)
        clean = self.measured(image)
        spoilt, mask = image.copy(), np.zeros(image.shape, dtype=np.uint16)
        spoilt[46, 41] += 40_000
        mask[46, 41] = MaskBit.COSMIC
        spoilt[40, 47] = np.nan
        fit = self.measured(spoilt, mask=mask)
        assert isinstance(clean, PairFit) and isinstance(fit, PairFit)
        np.testing.assert_allclose(fit.x, clean.x, atol=3 * math.sqrt(clean.covariance[0, 0]) + 0.03)
        self.assertLess(fit.chi2, 2)
        # Told by nobody, it is a misfit: that widens the errors.
        weak = image.copy()
        weak[46, 41] += 1500
        struck = self.measured(weak)
        assert isinstance(struck, PairFit)
        self.assertGreater(struck.chi2, 3)
        self.assertGreater(struck.covariance[0, 0], 2 * clean.covariance[0, 0])

    def test_saturated_stars_are_told(self) -> None:
        image = picture(self.rng, self.places, self.flux)
        level = np.float32(0.7 * image.max())
        fit = self.measured(np.minimum(image, level), saturation_adu=float(level))
        assert isinstance(fit, PairFit)
        self.assertTrue(fit.saturated)
        np.testing.assert_allclose(np.column_stack([fit.x, fit.y]), self.places, atol=0.1)
        # What is clipped is no light that was measured: the wings tell how much there was.
        np.testing.assert_allclose(fit.flux[0], self.flux[0] / GAIN, rtol=0.12)

    def test_the_profile_is_of_stars_that_are_alone(self) -> None:
        rng = np.random.default_rng(30)
        ys, xs = np.mgrid[30:300:45, 30:300:45]
        places = np.column_stack([xs.ravel(), ys.ravel()]) + rng.uniform(-3, 3, (xs.size, 2))
        places = places[np.hypot(*(places - 165).T) > 30]
        lone, double = places[::4], np.delete(places, np.s_[::4], axis=0)
        # Three of four have a companion to the right, resolved, with half of their light.
        stars_at = np.vstack([[[162.0, 165.0], [167.5, 166.0]], lone, double, double + [5.5, 0.0]])
        flux = np.r_[8e4, 4e4, np.full(len(lone), 9e4), np.full(len(double), 9e4), np.full(len(double), 4.5e4)]
        image = picture(rng, stars_at, flux, 330)
        stars = find_stars(image, gain_e_per_adu=GAIN).stars
        fit = measure_pair(image, (162.2, 165.1), (167.3, 165.8), fwhm_px=FWHM, gain_e_per_adu=GAIN, stars=stars)
        assert isinstance(fit, PairFit)
        self.assertTrue(fit.own_profile)
        self.assertLess(fit.chi2, 1.6)
        self.assertLess(abs(fit.difference_mag[0] - 2.5 * math.log10(2)), 4 * fit.difference_mag[1])

    def test_a_neighbour_is_taken_off(self) -> None:
        rng = np.random.default_rng(12)
        others = rng.uniform(10, 210, (40, 2))
        places = np.vstack([[[100.0, 100.0], [106.0, 102.0]], [[103.0, 109.5]], others])
        places = places[np.r_[True, True, True, np.linalg.norm(others - [103, 104], axis=1) > 25]]
        flux = np.r_[60_000.0, 30_000.0, 90_000.0, 10 ** rng.uniform(4.2, 5, len(places) - 3)]
        image = picture(rng, places, flux, 220)
        stars = find_stars(image, gain_e_per_adu=GAIN).stars
        fit = measure_pair(image, (100.2, 100.1), (105.8, 102.3), fwhm_px=FWHM, gain_e_per_adu=GAIN, stars=stars)
        assert isinstance(fit, PairFit)
        self.assertTrue(fit.own_profile)
        error = np.sqrt(np.diag(fit.covariance))[:4]
        off = np.array([fit.x[0] - 100, fit.y[0] - 100, fit.x[1] - 106, fit.y[1] - 102])
        np.testing.assert_array_less(np.abs(off), 4 * error)
        # Without being taken off, its light moves them.
        table = StarTable(**{name: value[:0] for name, value in vars(stars).items()})
        alone = measure_pair(image, (100.2, 100.1), (105.8, 102.3), fwhm_px=FWHM, gain_e_per_adu=GAIN, stars=table)
        assert isinstance(alone, Failed) or abs(alone.y[1] - 102) > abs(fit.y[1] - 102)
        kept(self, fit, table, alone)
