"""Models of curves against plain ones: discs on a grid, least squares at a frequency, scatter of many draws."""

import math
import unittest
from datetime import UTC, datetime, timedelta

import numpy as np
from bench.by_hand_sky import dimming_on_a_grid

from tests.lightcurves.support import fit_eclipse
from ulvar.engine import Failed
from ulvar.lightcurves import EclipseShape, _kernels, airmass_at, altitude_deg, find_period, kwee_van_woerden
from ulvar.lightcurves._kernels_transit import disc_hidden
from ulvar.lightcurves.eclipse import TemplateShape, eclipse_template

SITE = (61.2, 9.7, 640.0)


class Template(unittest.TestCase):
    """The eclipse template is a limb-darkened disc behind another."""

    def test_area_of_a_lens(self) -> None:
        def common(distance: float, radius: float, other: float) -> float:
            out = np.empty(1)
            disc_hidden(np.array([distance]), np.array([radius]), np.ones(1), other, out)
            return float(out[0])

        # Equal discs a radius apart: 2 pi / 3 - sqrt(3) / 2; inside: the smaller one; apart: nothing.
        self.assertAlmostEqual(common(1.0, 1.0, 1.0), 2 * math.pi / 3 - math.sqrt(3) / 2, places=12)
        self.assertAlmostEqual(common(0.1, 1.0, 0.5), math.pi / 4, places=12)
        self.assertAlmostEqual(common(0.1, 0.5, 1.0), math.pi / 4, places=12)
        self.assertEqual(common(1.6, 1.0, 0.5), 0.0)
        self.assertTrue(math.isnan(common(math.nan, 1.0, 0.5)))
        step = np.linspace(-1, 1, 2001)
        x, y = np.meshgrid(step, step)
        cells = ((x**2 + y**2 < 1) & ((x - 0.9) ** 2 + y**2 < 0.36)).sum() * (step[1] - step[0]) ** 2
        self.assertAlmostEqual(common(0.9, 1.0, 0.6), cells, delta=2e-3)

    def test_the_kernel_is_the_plain_sum(self) -> None:
        radii, light = np.array([0.3, 0.7, 1.0]), np.array([0.2, 0.5, 1.3])
        for other in (0.4, 1.0, 2.5):
            away = np.linspace(0, 4, 400)
            out = np.empty(400)
            disc_hidden(away, radii, light, other, out)
            d, a = np.maximum(away[None, :], 1e-12), radii[:, None]
            alpha = np.arccos(np.clip((d * d + a * a - other**2) / (2 * d * a), -1, 1))
            beta = np.arccos(np.clip((d * d + other**2 - a * a) / (2 * d * other), -1, 1))
            lens = a * a * (alpha - np.sin(2 * alpha) / 2) + other**2 * (beta - np.sin(2 * beta) / 2)
            inside = math.pi * np.minimum(a, other) ** 2
            area = np.where(d >= a + other, 0.0, np.where(d <= np.abs(a - other), inside, lens))
            np.testing.assert_allclose(out, light @ area, rtol=1e-9, atol=1e-12)

    def test_draws_are_of_the_same_shape(self) -> None:
        shape = EclipseShape()
        p = np.array([0.01, math.log(0.08), math.log(0.8), 0.3, 0.6])
        back, room = shape.drawn_from(shape.drawn_as(p))
        np.testing.assert_allclose(back, p, rtol=1e-12)
        # How much of the share a unit of the drawn term is.
        q = shape.drawn_as(p)
        q[4] += 1e-6
        self.assertAlmostEqual(math.log((shape.drawn_from(q)[0][4] - p[4]) / 1e-6), room, places=5)
        away = shape.drawn_as(p)
        away[3] = 1.01
        self.assertIsNone(shape.drawn_from(away))

    def test_template_is_the_light_of_a_disc(self) -> None:
        time = np.linspace(-0.12, 0.12, 25)
        shapes = ((0.8, 0.2, 0.7), (1.3, 0.55, 0.6), (0.4, 0.1, 0.95))
        for ratio, impact, share in shapes:
            shape = TemplateShape(0.01, 0.08, ratio, impact, share)
            with self.subTest(shape=shape):
                dimming = eclipse_template(time, shape)
                # A grid of 401 cells across the radius and ten nodes in mu each know the light to some 0.2 %.
                np.testing.assert_allclose(dimming, dimming_on_a_grid(time, shape), atol=0.006, rtol=0.01)
                self.assertTrue((dimming[np.abs(time - 0.01) > 0.0801] == 0).all())


class EclipseErrors(unittest.TestCase):
    """The quoted errors are the scatter of many draws; every number is in its own unit."""

    @classmethod
    def setUpClass(cls) -> None:
        cls.shape = TemplateShape(0.0, 0.09, 0.85, 0.3, 0.55)
        cls.time = np.linspace(-0.16, 0.15, 70)
        cls.clean = 12.0 + eclipse_template(cls.time, cls.shape)
        cls.fits = []
        for seed in range(24):
            noise = np.random.default_rng(seed).normal(0, 0.006, 70)
            fit = fit_eclipse(2461448.0 + cls.time, cls.clean + noise, np.full(70, 0.006))
            assert not isinstance(fit, Failed)
            cls.fits.append(fit)

    def told_over_scatter(self, value: str, error: str) -> float:
        values = np.array([getattr(fit, value) for fit in self.fits])
        return float(np.median([getattr(fit, error) for fit in self.fits]) / np.std(values, ddof=1))

    def test_errors_are_the_scatter(self) -> None:
        # The scatter of 24 draws is known to 15 %; three times that, and the spread of shapes only widens.
        self.assertTrue(0.65 < self.told_over_scatter("mid", "mid_error") < 1.6)
        self.assertTrue(0.6 < self.told_over_scatter("depth_mag", "depth_error_mag") < 2.2)
        self.assertTrue(0.55 < self.told_over_scatter("duration_d", "duration_error_d") < 2.6)

    def test_values(self) -> None:
        depth = eclipse_template(np.array([0.0]), self.shape)[0]
        self.assertAlmostEqual(np.mean([fit.mid for fit in self.fits]), 2461448.0, delta=3e-4)
        self.assertAlmostEqual(np.mean([fit.depth_mag for fit in self.fits]), depth, delta=0.006)
        self.assertAlmostEqual(np.median([fit.duration_d for fit in self.fits]), 0.18, delta=0.012)
        self.assertAlmostEqual(np.mean([fit.base_mag for fit in self.fits]), 12.0, delta=0.004)
        # Six numbers are fitted to 70 points.
        self.assertAlmostEqual(np.mean([fit.rms_mag for fit in self.fits]), 0.006 * math.sqrt(64 / 70), delta=4e-4)
        self.assertAlmostEqual(np.mean([fit.chi2_reduced for fit in self.fits]), 1.0, delta=0.15)
        for fit in self.fits:
            self.assertLess(np.abs(fit.model_mag - self.clean).max(), 0.03)

    def test_too_small_errors_are_scaled_up(self) -> None:
        noise = np.random.default_rng(0).normal(0, 0.006, 70)
        time = 2461448.0 + self.time
        true = self.fits[0]
        small = fit_eclipse(time, self.clean + noise, np.full(70, 0.002))
        unknown = fit_eclipse(time, self.clean + noise, np.full(70, np.nan))
        assert not isinstance(small, Failed) and not isinstance(unknown, Failed)
        self.assertAlmostEqual(small.chi2_reduced / true.chi2_reduced, 9, delta=0.5)
        for fit in (small, unknown):
            self.assertTrue(0.75 < fit.mid_error / true.mid_error < 1.35, fit.mid_error / true.mid_error)
            self.assertTrue(0.6 < fit.depth_error_mag / true.depth_error_mag < 1.6)
        self.assertTrue(math.isnan(unknown.chi2_reduced))

    def test_shape_that_points_leave_open_widens_the_errors(self) -> None:
        # Without points near mid-eclipse the depth is known worse than the same number of points would know it.
        hole = np.abs(self.time) > 0.035
        noise = np.random.default_rng(4).normal(0, 0.006, 70)
        fit = fit_eclipse(self.time[hole], (self.clean + noise)[hole], np.full(int(hole.sum()), 0.006))
        assert not isinstance(fit, Failed)
        whole = float(np.median([one.depth_error_mag for one in self.fits]))
        self.assertGreater(fit.depth_error_mag, 1.5 * whole)
        self.assertLess(abs(fit.depth_mag - eclipse_template(np.array([0.0]), self.shape)[0]), 4 * fit.depth_error_mag)

    def test_trend_and_its_sign(self) -> None:
        slope = np.linspace(-1, 1, 70)
        noise = np.random.default_rng(5).normal(0, 0.002, 70)
        fit = fit_eclipse(self.time, self.clean + noise + 0.03 * slope, np.full(70, 0.002), trends=[7 + 2 * slope])
        assert not isinstance(fit, Failed)
        np.testing.assert_allclose(fit.trend_mag, 0.03 * slope, atol=0.003)
        self.assertAlmostEqual(float(fit.trend_mag.mean()), 0, places=9)
        flat = fit_eclipse(self.time, self.clean + noise, np.full(70, 0.002), trends=[np.full(70, 1.2)])
        assert not isinstance(flat, Failed)
        self.assertTrue((flat.trend_mag == 0).all())
        few = fit_eclipse(self.time[:10], self.clean[:10], np.full(10, 0.1), trends=[slope[:10]])
        self.assertIn("at least 11", few.reason)


class Periodogram(unittest.TestCase):
    """The periodogram is a weighted least-squares fit of a sine and a mean, frequency by frequency."""

    def test_against_least_squares(self) -> None:
        rng = np.random.default_rng(8)
        time = np.sort(rng.uniform(0, 2.0, 60))
        error = rng.uniform(0.004, 0.03, 60)
        value = 3.0 + 0.02 * np.sin(2 * np.pi * time / 0.31 + 0.7) + rng.normal(0, error)
        weight = 1 / error**2
        weight /= weight.sum()
        # More than are gone through by one rotation.
        frequencies = 0.3 + 0.013 * np.arange(670)
        powers = np.empty(670)
        _kernels.gls(time - 0.9, value, weight, 0.3, 0.013, powers)
        root = np.sqrt(weight)
        flat = ((value - (weight * value).sum()) ** 2 * weight).sum()
        for frequency, power in zip(frequencies[::23], powers[::23]):
            angle = 2 * np.pi * frequency * time
            terms = np.stack([np.ones(60), np.cos(angle), np.sin(angle)], axis=1)
            fitted, *_ = np.linalg.lstsq(terms * root[:, None], value * root, rcond=None)
            left = (weight * (value - terms @ fitted) ** 2).sum()
            self.assertAlmostEqual(power, 1 - left / flat, places=9)

    def test_weights_are_inverse_variances(self) -> None:
        # Half of the points are worthless: with their errors told the sine stands out, without it drowns.
        rng = np.random.default_rng(9)
        time = np.sort(rng.uniform(0, 3, 160))
        error = np.where(np.arange(160) % 2, 0.003, 0.4)
        value = 0.01 * np.sin(2 * np.pi * time / 0.21) + rng.normal(0, error)
        told = find_period(time, value, error, shortest_d=0.1, longest_d=1.0)
        untold = find_period(time, value, np.full(160, np.nan), shortest_d=0.1, longest_d=1.0)
        assert not isinstance(told, Failed) and not isinstance(untold, Failed)
        self.assertAlmostEqual(told.period_d, 0.21, delta=0.002)
        self.assertGreater(told.power, 0.6)
        self.assertLess(untold.power, 0.4)

    def test_error_is_the_scatter_and_the_grid_is_fine_enough(self) -> None:
        rng = np.random.default_rng(10)
        time = np.sort(rng.uniform(0, 4, 120))
        signal = 0.02 * np.sin(2 * np.pi * time / 0.137)
        found = [
            find_period(time, signal + rng.normal(0, 0.008, 120), np.full(120, 0.008), shortest_d=0.05, longest_d=2.0) for _ in range(40)
        ]
        periods = np.array([one.period_d for one in found if not isinstance(one, Failed)])
        told = np.median([one.period_error_d for one in found if not isinstance(one, Failed)])
        # 40 draws know the scatter to 11 %.
        self.assertTrue(0.7 < told / periods.std(ddof=1) < 1.4, told / periods.std(ddof=1))
        self.assertAlmostEqual(periods.mean(), 0.137, delta=4 * told / math.sqrt(40))
        first = found[0]
        assert not isinstance(first, Failed)
        # Twelve steps in the width 1 / span of a peak.
        self.assertLessEqual(np.diff(first.frequencies).max() * np.ptp(time), 1 / 11.9)
        self.assertEqual((first.frequencies[0], first.frequencies[-1]), (0.5, 20.0))

    def test_false_alarm_is_the_share_of_noise_that_gives_as_much(self) -> None:
        rng = np.random.default_rng(11)
        time = np.sort(rng.uniform(0, 2, 50))
        alarms = []
        for _ in range(200):
            found = find_period(time, rng.normal(0, 1, 50), np.ones(50), shortest_d=0.2, longest_d=2.0)
            assert not isinstance(found, Failed)
            alarms.append(found.false_alarm)
        share = float(np.mean(np.array(alarms) < 0.2))
        # 200 draws know a share of 0.2 to 0.03; the count of independent frequencies is good to a factor of two.
        self.assertTrue(0.1 < share < 0.45, share)
        self.assertIsInstance(find_period(time, np.ones(50), np.ones(50), shortest_d=0.2, longest_d=2.0), Failed)

    def test_false_alarm_by_its_formula(self) -> None:
        rng = np.random.default_rng(13)
        time = np.sort(rng.uniform(0, 2, 40))
        found = find_period(time, rng.normal(0, 1, 40), np.ones(40), shortest_d=0.1, longest_d=0.12)
        assert not isinstance(found, Failed)
        independent = (1 / 0.1 - 1 / 0.12) * np.ptp(time)
        alarm = 1 - (1 - (1 - found.power) ** (37 / 2)) ** independent
        self.assertAlmostEqual(found.false_alarm, alarm, places=9)
        for count, reason in ((7, "at least 8"), (0, "only 0 points")):
            self.assertIn(reason, find_period(time[:count], time[:count], time[:count], shortest_d=1, longest_d=2).reason)  # type: ignore[union-attr]


class MinimumError(unittest.TestCase):
    """The paper's error follows the noise and the number of points."""

    def test_scatter(self) -> None:
        time = np.linspace(-0.05, 0.05, 61)
        for sigma in (0.002, 0.004):
            found = []
            for seed in range(60):
                noise = np.random.default_rng(seed).normal(0, sigma, 61)
                one = kwee_van_woerden(time, 9 - 400 * time**2 + noise, near=0.002, half_width=0.035)
                found.append(one)
            good = [one for one in found if not isinstance(one, Failed)]
            self.assertGreater(len(good), 55, sigma)
            told = np.median([one.error for one in good])
            scatter = np.std([one.time for one in good], ddof=1)
            # 60 draws know the scatter to 9 %; an estimate from folded sums is good to a third.
            self.assertTrue(0.8 < told / scatter < 1.6, (sigma, told / scatter))

    def test_uses_only_points_near(self) -> None:
        time = np.linspace(-0.1, 0.1, 101)
        magnitude = 80 * time**2
        magnitude[np.abs(time) > 0.06] = 50.0
        one = kwee_van_woerden(time, magnitude, near=0.001, half_width=0.041)
        assert not isinstance(one, Failed)
        self.assertAlmostEqual(one.time, 0, delta=2e-4)
        self.assertEqual(one.points, 41)


class Air(unittest.TestCase):
    """Airmass by its formula, refraction by the height of the site."""

    def test_formula_down_to_the_horizon(self) -> None:
        moments = [datetime(2027, 2, 11, 12, tzinfo=UTC) + timedelta(minutes=10 * i) for i in range(144)]
        altitude, airmass = altitude_deg(moments, 40.0, 5.0, SITE), airmass_at(moments, 40.0, 5.0, SITE)
        up = altitude >= 0
        self.assertTrue(up.any() and not up.all())
        h = altitude[up]
        np.testing.assert_allclose(airmass[up], 1 / np.sin(np.radians(h + 244 / (165 + 47 * h**1.1))), rtol=1e-12)
        self.assertTrue(np.isnan(airmass[~up]).all())
        low = (h > 4) & (h < 6)
        # The air at 5 degrees is 10.3 times that overhead by every published table.
        self.assertTrue(low.any())
        self.assertTrue((np.abs(airmass[up][low] * np.sin(np.radians(h[low])) - 0.9) < 0.06).all())

    def test_refraction_falls_with_the_height(self) -> None:
        moments = [datetime(2027, 2, 11, 12, tzinfo=UTC) + timedelta(minutes=2 * i) for i in range(720)]
        sea, hill = (altitude_deg(moments, 40.0, 5.0, (61.2, 9.7, height)) for height in (0.0, 3000.0))
        near = (sea > 5) & (sea < 5.5)
        self.assertTrue(near.any())
        # About 9.5 arcmin at sea level, in proportion to the pressure: a third less at 3000 m.
        lift = (sea - hill)[near] * 60
        np.testing.assert_allclose(lift, 9.5 * (1 - math.exp(-3000 / 8430)), atol=0.6)


class Shapes(unittest.TestCase):
    """The shape a fit tells gives its curve again."""

    def test_shape_gives_the_model(self) -> None:
        shape = TemplateShape(2461448.02, 0.07, 0.9, 0.2, 0.5)
        time = 2461448.0 + np.linspace(-0.12, 0.14, 60)
        noise = np.random.default_rng(2).normal(0, 0.003, 60)
        fit = fit_eclipse(time, 11 + eclipse_template(time, shape) + noise, np.full(60, 0.003))
        assert not isinstance(fit, Failed)
        np.testing.assert_allclose(fit.fit.at(time), fit.model_mag, atol=1e-6)
        self.assertAlmostEqual(fit.fourth_contact - fit.first_contact, fit.duration_d, places=8)
