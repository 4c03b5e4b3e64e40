"""Models fitted together with trends, sessions and correlated noise; transits against the integral; posteriors against what is known."""

import math
import unittest

import numpy as np
from bench.by_hand import light_by_integral
from bench.plain_noise import covariance_of, likelihood

from ulvar.engine import Failed
from ulvar.lightcurves import (
    EclipseShape,
    JointFit,
    NoShape,
    PolynomialShape,
    SineShape,
    TransitShape,
    choose_trends,
    correlated_noise,
    fit_jointly,
    sample_posterior,
    transit_dimming,
)
from ulvar.lightcurves._kernels_transit import transit_light
from ulvar.lightcurves.posterior import autocorrelation_time, walk_moves
from ulvar.lightcurves.rednoise import Correlated, averaged, noise_like
from ulvar.lightcurves.shapes import AsItIs, quadratic_law, unquadratic_law

START = 2461448.0


def made(found: JointFit | Failed) -> JointFit:
    """Return a fit that there is."""
    assert isinstance(found, JointFit), found
    return found


class TransitLight(unittest.TestCase):
    """The quadrature gives the integral everywhere."""

    def test_against_the_integral(self) -> None:
        rng = np.random.default_rng(4)
        for _ in range(60):
            p = float(rng.choice([0.02, 0.1, 0.5, 1.0, 1.3]))
            z = float(rng.choice([rng.uniform(0, 1.05 + p), 0.0, p, abs(1 - p) + 1e-7, 1.0]))
            u1, u2 = float(rng.uniform(0, 0.7)), float(rng.uniform(-0.1, 0.3))
            out = np.empty(1)
            transit_light(np.array([z]), p, u1, u2, out)
            self.assertAlmostEqual(out[0], light_by_integral(z, p, u1, u2), places=9, msg=str((z, p, u1, u2)))

    def test_of_an_even_disc_the_area_is_gone(self) -> None:
        dimming = transit_dimming(np.array([0.0, 0.5]), 0.0, 0.2, 0.1, 0.0, (0.0, 0.0))
        self.assertAlmostEqual(dimming[0], -2.5 * math.log10(0.99), places=12)
        self.assertEqual(dimming[1], 0.0)
        # First to fourth contact is the duration told.
        edge = transit_dimming(np.array([-0.1001, -0.0999, 0.0999, 0.1001]), 0.0, 0.2, 0.1, 0.4, (0.4, 0.2))
        self.assertEqual((edge > 0).tolist(), [False, True, True, False])

    def test_the_law_in_two_numbers(self) -> None:
        for u1, u2 in ((0.4, 0.25), (0.6, 0.0), (0.1, 0.3)):
            np.testing.assert_allclose(quadratic_law(*unquadratic_law(u1, u2)), (u1, u2), atol=1e-12)


class Fits(unittest.TestCase):
    """Values within their errors, errors that are the scatter."""

    def transits(self, count: int, red: float):  # type: ignore[no-untyped-def]
        rng = np.random.default_rng(11)
        kernel = np.exp(-np.arange(60) / 10)
        for _ in range(count):
            n = 110
            time = START + np.sort(rng.uniform(0, 0.22, n))
            mid, duration, ratio, impact = (
                START + rng.uniform(0.09, 0.13), rng.uniform(0.09, 0.12), rng.uniform(0.1, 0.14), rng.uniform(0, 0.5),
            )  # fmt: skip
            airmass = 1 + 2 * (time - START)
            slow = np.convolve(rng.normal(0, 1, n + 60), kernel)[60 : 60 + n]
            noise = rng.normal(0, 0.002, n) + red * 0.002 * slow / slow.std()
            magnitude = 12 + transit_dimming(time, mid, duration, ratio, impact, (0.4, 0.25)) + 0.01 * (airmass - 1.2) + noise
            fit = made(fit_jointly(time, magnitude, np.full(n, 0.002), TransitShape(), trends={"airmass": airmass}))
            depth = float(transit_dimming(np.array([mid]), mid, duration, ratio, impact, (0.4, 0.25))[0])
            truth = {"mid": mid, "depth_mag": depth, "duration_d": duration}
            yield fit, {name: (fit.values[name] - true) / fit.errors[name] for name, true in truth.items()}

    def test_errors_are_the_scatter_with_independent_and_with_correlated_noise(self) -> None:
        for red in (0.0, 0.6):
            fits = list(self.transits(11, red))
            for name in ("mid", "depth_mag", "duration_d"):
                pulls = np.array([pull[name] for _, pull in fits])
                # The scatter of 11 draws is known to 22 %.
                self.assertLess(pulls.std(), 1.7, (red, name))
                self.assertGreater(pulls.std(), 0.4, (red, name))
                self.assertLess(abs(np.median(pulls)), 0.8, (red, name))
            factor = np.median([fit.red.factor for fit, _ in fits])
            self.assertTrue((factor == 1.0) if red == 0 else (factor > 1.2), (red, factor))
        fit = fits[0][0]
        self.assertAlmostEqual(fit.values["fourth_contact"] - fit.values["first_contact"], fit.values["duration_d"], places=8)
        self.assertLess(fit.values["ingress_d"], 0.05)

    def test_the_law_can_be_fitted(self) -> None:
        rng = np.random.default_rng(5)
        time = START + np.linspace(0, 0.2, 900)
        magnitude = 12 + transit_dimming(time, START + 0.1, 0.1, 0.12, 0.2, (0.5, 0.2)) + rng.normal(0, 0.0005, 900)
        fit = made(fit_jointly(time, magnitude, np.full(900, 0.0005), TransitShape((0.3, 0.3), free_law=True)))
        self.assertLess(abs(fit.values["u1"] + fit.values["u2"] - 0.7), 0.15)
        self.assertLess(abs(fit.values["ratio"] - 0.12), 4 * fit.errors["ratio"])

    def test_contacts_of_two_discs(self) -> None:
        shape, none = EclipseShape(), np.empty(0)
        for impact in (0.0, 0.2):
            # Radii of 1 and 0.5, told by their logarithms as the half length is; the impact is a share of their sum.
            told = shape.values(none, np.array([START, math.log(0.1), math.log(0.5), impact, 0.3]), none)
            low = 1.5 * impact
            for name, distance in (("first", 1.5), ("second", 0.5), ("third", 0.5), ("fourth", 1.5)):
                along = (told[f"{name}_contact"] - START) / 0.1 * math.sqrt(1.5**2 - low**2)
                self.assertAlmostEqual(math.hypot(low, along), distance, places=7, msg=name)
            self.assertLess(told["second_contact"], told["third_contact"])
        self.assertTrue(math.isnan(shape.values(none, np.array([START, math.log(0.1), math.log(0.5), 0.9, 0.3]), none)["second_contact"]))

    def test_sessions_have_levels_of_their_own(self) -> None:
        rng = np.random.default_rng(6)
        time = np.concatenate([START + np.linspace(0, 0.11, 80), START + 2 + np.linspace(0.05, 0.2, 80)])
        names = ["first"] * 80 + ["second"] * 80
        wave = 0.05 * np.sin(2 * math.pi * (time - START) / 0.173)
        magnitude = 11 + wave + np.where(np.arange(160) < 80, 0.0, 0.4) + rng.normal(0, 0.004, 160)
        fit = made(fit_jointly(time, magnitude, np.full(160, 0.004), SineShape(1, 0.17), sessions=names))
        ((name, offset, error),) = fit.sessions
        self.assertEqual(name, "second")
        self.assertLess(abs(offset - 0.4), 4 * error)
        self.assertLess(error, 0.005)
        self.assertLess(abs(fit.values["period_d"] - 0.173), 4 * fit.errors["period_d"])
        self.assertLess(abs(fit.values["semi_amplitude_mag"] - 0.05), 4 * fit.errors["semi_amplitude_mag"])
        self.assertAlmostEqual(fit.base_mag, 11, delta=0.01)
        # It is brightest where the sine is lowest.
        phase = ((fit.values["maximum"] - START) / 0.173) % 1
        self.assertAlmostEqual(phase, 0.75, delta=0.05)
        np.testing.assert_allclose(fit.at(time) + np.where(np.arange(160) < 80, 0, offset), fit.model_mag, atol=1e-9)

    def test_a_polynomial_tells_its_turning_point(self) -> None:
        rng = np.random.default_rng(7)
        offs = []
        time = START + np.linspace(0, 0.1, 60)
        for _ in range(30):
            magnitude = 10 - 40 * (time - START - 0.043) ** 2 + rng.normal(0, 0.004, 60)
            fit = made(fit_jointly(time, magnitude, np.full(60, 0.004), PolynomialShape(3)))
            offs.append((fit.values["minimum"] - START - 0.043) / fit.errors["minimum"])
        self.assertLess(np.std(offs), 1.6)
        self.assertGreater(np.std(offs), 0.5)
        self.assertLess(abs(np.mean(offs)), 0.6)
        self.assertTrue(math.isnan(fit.values["maximum"]))

    def test_wave_of_two_minima(self) -> None:
        rng = np.random.default_rng(8)
        time = START + np.sort(rng.uniform(0, 1.3, 220))
        angle = 2 * math.pi * (time - START) / 0.31
        magnitude = 12 + 0.1 * np.cos(2 * angle) + 0.04 * np.cos(angle) + rng.normal(0, 0.006, 220)
        fit = made(fit_jointly(time, magnitude, np.full(220, 0.006), SineShape(3)))
        self.assertLess(abs(fit.values["period_d"] - 0.31), 5 * fit.errors["period_d"])

    def test_what_cannot_be_fitted(self) -> None:
        time = START + np.linspace(0, 1, 8)
        for shape, reason in ((TransitShape(), "at least"), (SineShape(4), "at least")):
            failed = fit_jointly(time, time * 0, np.full(8, 0.1), shape)
            assert isinstance(failed, Failed)
            self.assertIn(reason, failed.reason)
        self.assertNotIn("one time", fit_jointly(time[:2], np.ones(2), np.full(2, 0.1), PolynomialShape()).reason)  # type: ignore[union-attr]
        flat = fit_jointly(START + np.linspace(0, 1, 60), np.zeros(60), np.full(60, 0.1), EclipseShape())
        self.assertIsInstance(flat, Failed)
        for shape in (EclipseShape(), TransitShape(), SineShape(), PolynomialShape()):
            for count in (1, 3):
                self.assertIsInstance(fit_jointly(np.full(count, START), np.ones(count), np.ones(count), shape), Failed)
        self.assertIsInstance(fit_jointly(np.empty(0), np.empty(0), np.empty(0), NoShape()), Failed)


class Trends(unittest.TestCase):
    """The criterion takes what is there and nothing else."""

    def test_what_is_planted_is_taken(self) -> None:
        rng = np.random.default_rng(9)
        n, taken = 120, []
        time = START + np.linspace(0, 0.2, n)
        for _ in range(8):
            companions = {
                "airmass": 1 + 9 * (time - START - 0.1) ** 2, "fwhm": rng.normal(3, 0.3, n), "x": np.cumsum(rng.normal(0, 1, n)),
            }  # fmt: skip
            magnitude = 12 + transit_dimming(time, START + 0.1, 0.1, 0.1, 0.2, (0.4, 0.25)) + rng.normal(0, 0.002, n)
            magnitude += 0.004 * (companions["fwhm"] - 3) / 0.3
            found = choose_trends(time, magnitude, np.full(n, 0.002), TransitShape(), companions)
            assert not isinstance(found, Failed)
            names, tried = found
            taken.append(names)
            self.assertEqual(tried[0].gain, max(one.gain for one in tried))
            self.assertEqual([one.gain for one in tried if one.names == ()], [0.0])
        self.assertTrue(all("fwhm" in names for names in taken))
        # By chance the criterion takes one of two more in some 4 % each.
        self.assertLess(sum(len(names) > 1 for names in taken), 4)


class CorrelatedNoise(unittest.TestCase):
    """Restricted likelihood against noise of a known kind."""

    def test_a_mean_over_lasting_noise_scatters_more(self) -> None:
        step, length, share = 0.001, 0.02, 0.5
        time = START + np.arange(400) * step
        found = Correlated(share, length, np.empty((0, 0)), None, ())
        for count in (20, 100):
            told = averaged(time, np.zeros(400), found, count * step).factor
            lag = np.abs(np.subtract.outer(np.arange(count), np.arange(count))) * step
            # The sum over all pairs of points; the noise of a mean of independent ones is 1 / count.
            self.assertAlmostEqual(told / math.sqrt(1 + share * np.exp(-lag / length).sum() / count), 1, delta=0.01)
        # What lasts no longer than a point is one point.
        self.assertAlmostEqual(averaged(time, np.zeros(400), found, step / 2).factor, math.sqrt(1 + share), delta=0.01)
        self.assertEqual(averaged(time, np.zeros(400), None, 0.1).factor, 1.0)

    def test_share_and_length_are_found(self) -> None:
        rng = np.random.default_rng(10)
        t = np.linspace(0, 1, 200)
        covariance = 1e-6 * (np.eye(200) + 0.8 * np.exp(-np.abs(t[:, None] - t) / 0.05))
        root = np.linalg.cholesky(covariance)
        slopes = np.column_stack([np.ones(200), t - 0.5])
        shares, spreads, told = [], [], []
        for _ in range(20):
            noise = root @ rng.normal(0, 1, 200)
            fitted, *_ = np.linalg.lstsq(slopes, noise, rcond=None)
            found = correlated_noise(t, noise - slopes @ fitted, slopes, np.full(200, 1e-3))
            assert found is not None
            shares.append(found.share)
            spreads.append(fitted)
            told.append(np.sqrt(np.diag(found.covariance)))
        self.assertTrue(0.3 <= np.median(shares) <= 2.0, shares)
        for k in range(2):
            ratio = np.median(np.array(told)[:, k]) / np.std(np.array(spreads)[:, k])
            self.assertTrue(0.6 < ratio < 1.6, (k, ratio))

    def test_likelihood_is_that_of_the_whole_covariance(self) -> None:
        rng = np.random.default_rng(14)
        t = rng.permutation(np.cumsum(rng.exponential(0.002, 90)))
        sigma = rng.uniform(1e-3, 3e-3, 90)
        slopes = np.column_stack([np.ones(90), t, 50 * np.sin(20 * t)])
        noise = noise_like(t, sigma, [(1.0, 1.5, 0.02, 1.0)], 1)[0]
        # What no point knows has no error.
        found = correlated_noise(t, noise, np.column_stack([slopes, np.zeros(90)]), sigma)
        assert found is not None and found.whitening is not None
        told = [(w, *likelihood(t, noise, slopes, sigma, share, length)) for w, share, length, _ in found.kinds]
        weights, logs = np.array([one[0] for one in told]), np.array([one[1] for one in told])
        self.assertTrue(len(told) > 5 and all(share > 0 for _, share, *_ in found.kinds))
        np.testing.assert_allclose(weights / weights.max(), np.exp(logs - logs.max()), rtol=1e-6)
        np.testing.assert_allclose([kind[3] ** 2 for kind in found.kinds], [one[3] for one in told], rtol=1e-9)
        mean = sum(one[0] * one[2] for one in told) / weights.sum()
        # Those that are seldom likely have a part in the mean as well.
        np.testing.assert_allclose(np.sqrt(np.diag(found.covariance)[:3] / np.diag(mean)), 1, atol=0.05)
        self.assertTrue((found.covariance[3] == 0).all() and (found.covariance[:, 3] == 0).all())
        order = np.argsort(t)
        best = covariance_of(t[order], sigma[order], found.share, found.length_d)
        np.testing.assert_allclose(found.whitening, np.linalg.inv(np.linalg.cholesky(best))[:, np.argsort(order)], atol=1e-6)

    def test_draws_are_like_the_noise(self) -> None:
        rng = np.random.default_rng(8)
        t = rng.permutation(np.cumsum(rng.uniform(0.001, 0.004, 60)))
        sigma = np.where(np.arange(60) < 20, 0.006, 0.002)
        drawn = noise_like(t, sigma, [(1.0, 2.0, 0.01, 1.5)], 20_000)
        wanted = 1.5**2 * (np.diag(sigma**2) + 2.0 * 0.002**2 * np.exp(-np.abs(t[:, None] - t[None, :]) / 0.01))
        # 20,000 draws know a covariance to 1 % of the variances.
        scale = np.sqrt(np.outer(np.diag(wanted), np.diag(wanted)))
        self.assertLess(np.abs((np.cov(drawn.T) - wanted) / scale).max(), 0.05)
        # Of two kinds each comes as often as it is likely.
        both = noise_like(t, sigma, [(0.3, 0.0, 0.01, 1.0), (0.6, 0.0, 0.01, 3.0)], 6000)
        loud = (both / sigma).std(axis=1) > 2
        self.assertAlmostEqual(float(loud.mean()), 2 / 3, delta=0.03)
        np.testing.assert_array_equal(drawn[:5], noise_like(t, sigma, [(1.0, 2.0, 0.01, 1.5)], 20_000)[:5])

    def test_independent_noise_is_left_alone(self) -> None:
        rng = np.random.default_rng(12)
        t = np.linspace(0, 1, 200)
        slopes = np.ones((200, 1))
        grown = [
            float(np.sqrt(found.covariance[0, 0]) / (1e-3 / math.sqrt(200)))
            for _ in range(20)
            if (found := correlated_noise(t, rng.normal(0, 1e-3, 200), slopes, np.full(200, 1e-3))) is not None
        ]
        self.assertTrue(0.9 < np.median(grown) < 1.25, np.median(grown))
        self.assertIsNone(correlated_noise(t[:6], t[:6], slopes[:6], np.ones(6)))

    def test_many_points_are_taken_together(self) -> None:
        rng = np.random.default_rng(13)
        t = np.sort(rng.uniform(0, 1, 2500))
        found = correlated_noise(t, rng.normal(0, 1e-3, 2500), np.ones((2500, 1)), np.full(2500, 1e-3))
        assert found is not None
        self.assertIsNone(found.whitening)
        self.assertAlmostEqual(float(np.sqrt(found.covariance[0, 0])) / (1e-3 / 50), 1.0, delta=0.3)


class _Idle(AsItIs):
    """A parameter that does nothing, drawn by its logarithm."""

    kind = "idle"

    def starts(self, t, magnitude):  # type: ignore[no-untyped-def]
        return [np.array([5.0])]

    def bounds(self, t):  # type: ignore[no-untyped-def]
        return np.array([0.1]), np.array([10.0])

    def rivals(self, p):  # type: ignore[no-untyped-def]
        return []

    def offset(self, t, p):  # type: ignore[no-untyped-def]
        return np.zeros(len(t))

    def columns(self, t, p):  # type: ignore[no-untyped-def]
        return np.empty((len(t), 0))

    def values(self, t, p, c):  # type: ignore[no-untyped-def]
        return {"idle": float(p[0])}

    def drawn_as(self, p):  # type: ignore[no-untyped-def]
        return np.log(p)

    def drawn_from(self, q):  # type: ignore[no-untyped-def]
        return np.exp(q), float(q[0])


class Posteriors(unittest.TestCase):
    """Walkers in a density that is known."""

    def test_a_stretched_normal(self) -> None:
        covariance = np.array([[1.0, 9.0], [9.0, 100.0]])
        inverse = np.linalg.inv(covariance)
        rng = np.random.default_rng(2)
        chain, taken = walk_moves(lambda p: -0.5 * float(p @ inverse @ p), rng.normal(0, 1, (12, 2)), 6000, rng)
        draws = chain[500:].reshape(-1, 2)
        tau = autocorrelation_time(chain[500:])
        self.assertTrue(5 < tau < 80, tau)
        self.assertTrue(0.2 < taken < 0.9)
        # So many independent draws know a variance to some 4 %.
        found = np.cov(draws.T)
        np.testing.assert_allclose(found / covariance, 1.0, atol=5 * math.sqrt(2 * tau / len(draws)))
        self.assertLess(abs(draws[:, 1].mean()), 5 * 10 * math.sqrt(tau / len(draws)))

    def test_what_nothing_tells_is_even_however_it_is_drawn(self) -> None:
        rng = np.random.default_rng(21)
        time = START + np.linspace(0, 1, 40)
        magnitude, error = rng.normal(10, 0.01, 40), np.full(40, 0.01)
        fit = made(fit_jointly(time, magnitude, error, _Idle()))
        found = sample_posterior(time, magnitude, error, fit, {}, most=4000)
        middle, below, above = found.values["idle"]
        # Evenly from 0.1 to 10; even in its logarithm the median would be 1.
        self.assertAlmostEqual(middle, 5.05, delta=0.6)
        self.assertAlmostEqual(below, 0.341 * 9.9, delta=0.6)
        self.assertAlmostEqual(above, 0.341 * 9.9, delta=0.6)
        self.assertLess(max(found.draws["idle"]), 10.0 + 1e-9)

    def test_chain_times(self) -> None:
        rng = np.random.default_rng(3)
        steps, keep = 20000, 0.9
        x = np.zeros((steps, 2, 1))
        for k in range(1, steps):
            x[k] = keep * x[k - 1] + rng.normal(0, 1, (2, 1))
        # Of a first-order process it is (1 + r) / (1 - r).
        self.assertAlmostEqual(autocorrelation_time(x), 19.0, delta=4)

    def test_it_agrees_with_the_fit(self) -> None:
        rng = np.random.default_rng(14)
        time = START + np.sort(rng.uniform(0, 2, 100))
        magnitude = 10 + 0.05 * np.sin(2 * math.pi * (time - START) / 0.4) + rng.normal(0, 0.01, 100)
        error = np.full(100, 0.01)
        fit = made(fit_jointly(time, magnitude, error, SineShape(1, 0.4)))
        found = sample_posterior(time, magnitude, error, fit, {}, most=5000)
        self.assertTrue(found.converged, found.words)
        middle, below, above = found.values["period_d"]
        self.assertAlmostEqual(middle, fit.values["period_d"], delta=fit.errors["period_d"])
        self.assertTrue(0.7 < (below + above) / 2 / fit.errors["period_d"] < 1.4)
        self.assertGreater(found.values["maximum"][0], START - 2)
        self.assertIn("converged", found.words)
