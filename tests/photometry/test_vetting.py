"""Stars that vary among those that are taken for steady, and stars proposed for comparison."""

import math
import unittest
from dataclasses import replace

import numpy as np
from tools.same import kept

from tests.photometry.test_sky import detections
from ulvar.frames import robust_spread, row_medians
from ulvar.photometry import Candidate, Look, build_ensemble, judge_candidates, vet_stars, vetting, weighing
from ulvar.photometry.field import NoiseModel
from ulvar.photometry.weighing import against_rest, mix, weigh
from ulvar.stars import StarFlag


def steady(rng: np.random.Generator, level: np.ndarray, exposures: int, *, flat: float = 0.0015) -> tuple[np.ndarray, np.ndarray]:
    """Return fluxes and errors of steady stars under clouds; the errors know nothing of 1.5 mmag that all have."""
    told = np.hypot(0.9 / np.sqrt(level), 30 / level)
    clouds = 1 - 0.3 * np.clip(rng.normal(0, 1, exposures), 0, 3) / 3
    noise = np.hypot(told, flat)[:, None] * rng.normal(size=(len(level), exposures))
    return level[:, None] * clouds * (1 + noise), np.repeat((level * told)[:, None], exposures, axis=1)


def names(count: int) -> list[str]:
    """Return so many names."""
    return [f"s{k}" for k in range(count)]


class Steady(unittest.TestCase):
    """Nobody is named without reason."""

    def test_a_hundred_clean_ensembles(self) -> None:
        rng = np.random.default_rng(17)
        for trial in range(100):
            count, exposures = int(rng.choice([3, 5, 8, 25])), int(rng.choice([15, 40, 120]))
            flux, error = steady(rng, 10 ** rng.uniform(3.3, 5.6, count), exposures)
            if trial % 4 == 0:
                error = np.full(error.shape, np.nan)
            found = vet_stars(names(count), flux, error, hours=np.arange(exposures) / 12)
            self.assertEqual([v.name for v in found if v.varies], [], (trial, count, exposures))

    def test_single_wild_points_are_no_star(self) -> None:
        rng = np.random.default_rng(18)
        flux, error = steady(rng, np.full(6, 1e5), 60)
        flux[2, 20] *= 1.5
        flux[2, 41] *= 0.6
        self.assertFalse(any(v.varies for v in vet_stars(names(6), flux, error)))

    def test_too_few_say_nothing(self) -> None:
        rng = np.random.default_rng(19)
        flux, error = steady(rng, np.full(2, 1e5), 60)
        flux[0] *= 1 + 0.2 * np.sin(np.arange(60))
        self.assertFalse(any(v.varies for v in vet_stars(names(2), flux, error)))
        nothing = vet_stars(names(3), np.full((3, 20), np.nan), np.full((3, 20), np.nan))
        self.assertEqual([(v.varies, math.isnan(v.scatter)) for v in nothing], [(False, True)] * 3)


class Hidden(unittest.TestCase):
    """What varies is named, and nothing else."""

    def test_sinusoid_eclipse_and_step(self) -> None:
        rng = np.random.default_rng(23)
        x = np.linspace(0, 1, 90)
        for trial in range(45):
            flux, error = steady(rng, np.r_[1e5, 10 ** rng.uniform(4.6, 5.6, int(rng.choice([4, 7, 20])))], 90)
            where = rng.uniform(0.3, 0.7)
            change = (
                0.010 * np.sin(2 * np.pi * (3 * x + where)), -0.03 * np.clip(1 - np.abs(x - where) / 0.08, 0, 1), 0.012 * (x > where),
            )[trial % 3]  # fmt: skip
            flux[0] *= 1 + change
            found = vet_stars(names(len(flux)), flux, error, hours=5 * x)
            self.assertEqual([v.name for v in found if v.varies], ["s0"], trial)

    def test_without_errors_many_stars_tell_what_is_usual(self) -> None:
        rng = np.random.default_rng(27)
        flux, error = steady(rng, 10 ** rng.uniform(3.5, 5.5, 60), 14)
        flux[7] *= (1 + 0.35 * np.sin(np.arange(14) / 1.5)) if flux[7, 0] < 1e4 else (1 + 0.1 * np.sin(np.arange(14) / 1.5))
        found = vet_stars(names(60), flux, np.full(error.shape, np.nan))
        self.assertEqual([v.name for v in found if v.varies], ["s7"])

    def test_two_of_five_do_not_blame_the_others(self) -> None:
        rng = np.random.default_rng(24)
        x = np.linspace(0, 1, 120)
        flux, error = steady(rng, np.full(5, 2e5), 120)
        flux[1] *= 1 + 0.08 * np.sin(2 * np.pi * 2 * x)
        flux[3] *= 1 + 0.05 * np.cos(2 * np.pi * 5 * x)
        found = vet_stars(names(5), flux, error)
        self.assertEqual([v.name for v in found if v.varies], ["s1", "s3"])
        for v, amplitude in ((found[1], 0.08), (found[3], 0.05)):
            self.assertAlmostEqual(v.scatter, amplitude / math.sqrt(2), delta=0.1 * amplitude)
            self.assertGreater(v.ratio, 8)
        # The steady ones are judged against steady ones.
        self.assertLess(max(found[k].ratio for k in (0, 2, 4)), 1.3)

    def test_trend_and_step_with_their_errors(self) -> None:
        rng = np.random.default_rng(25)
        hours = np.linspace(0, 4, 80)
        flux, error = steady(rng, np.full(6, 4e5), 80)
        flux[0] *= 1 + 0.004 * (hours - 2)
        flux[1] *= 1 + 0.010 * (hours > 2.5)
        found = vet_stars(names(6), flux, error, hours=hours, flipped=hours > 2.5)
        self.assertAlmostEqual(found[0].trend, 0.004, delta=4 * 0.004 / found[0].trend_sigma)
        self.assertGreater(found[0].trend_sigma, 8)
        self.assertAlmostEqual(found[1].step, 0.010, delta=0.002)
        self.assertGreater(found[1].step_sigma, 8)
        self.assertLess(max(abs(v.trend_sigma) for v in found[2:]), 4.5)
        # A step shared out among the others is small, and of the other sign.
        self.assertLess(found[2].step, 0.001)
        plain = vet_stars(names(6), flux, error)
        self.assertTrue(all(math.isnan(v.trend) and math.isnan(v.step) for v in plain))

    def test_an_ensemble_names_it(self) -> None:
        rng = np.random.default_rng(26)
        flux, error = steady(rng, np.full(6, 1e5), 70)
        flux[4, 40:] *= 1.2
        use = np.arange(70) < 40
        self.assertEqual(build_ensemble(names(6), flux, error).suspects, ("s4",))
        self.assertEqual(build_ensemble(names(6), flux, error, use=use).suspects, ())


class Weights(unittest.TestCase):
    """Against a plain loop."""

    def test_each_against_the_rest(self) -> None:
        rng = np.random.default_rng(3)
        relative = 1 + 0.01 * rng.normal(size=(5, 12))
        relative[1, 3] = relative[0, 7] = np.nan
        weights = np.array([0.1, 0.3, 0.0, 0.4, 0.2])
        found = against_rest(relative, weights)
        for k in range(5):
            rest = weights.copy()
            rest[k] = 0.0
            curve = relative[k] / mix(relative, np.zeros(relative.shape), rest)[0]
            np.testing.assert_allclose(found[k], curve / np.nanmedian(curve), rtol=1e-12)
        alone = against_rest(relative[:1], np.array([1.0]))
        self.assertTrue(np.isnan(alone).all())

    def test_a_star_that_is_out_lends_nothing(self) -> None:
        rng = np.random.default_rng(4)
        flux, error = steady(rng, np.full(5, 1e5), 50)
        wild = flux.copy()
        wild[2] *= 1 + 0.5 * np.sin(np.arange(50))
        out = np.arange(5) == 2
        one, other = weigh(flux, error, out=out), weigh(wild, error, out=out)
        np.testing.assert_array_equal(one.weights, other.weights)
        self.assertEqual(one.weights[2], 0.0)
        np.testing.assert_array_equal(np.delete(one.curves, 2, axis=0), np.delete(other.curves, 2, axis=0))
        self.assertGreater(np.nanstd(other.curves[2]), 0.2)


class AllAtOnce(unittest.TestCase):
    """What is worked out for all stars together against one star after the other."""

    def setUp(self) -> None:
        rng = np.random.default_rng(8)
        self.curves = rng.normal(1, 0.01, (40, 31))
        self.curves[rng.random(self.curves.shape) < 0.1] = np.nan
        self.curves[rng.random(self.curves.shape) < 0.04] += 0.2
        self.curves[:5] = rng.normal(1, 0.01, (5, 31))
        self.curves[5], self.curves[6, 7:], self.curves[7, 2:], self.curves[8] = np.nan, np.nan, np.nan, 1.0
        self.curves[9, 8:], self.curves[9, :8] = np.nan, rng.normal(1, 0.01, 8)
        self.known = [row[np.isfinite(row)] for row in self.curves]

    def test_medians_and_spreads(self) -> None:
        self.curves[10, 3] = -np.inf
        self.known[10] = self.curves[10][np.isfinite(self.curves[10])]
        plain = [np.median(row) if len(row) else np.nan for row in self.known]
        np.testing.assert_array_equal(row_medians(self.curves), plain)
        self.assertTrue(np.isnan(row_medians(np.empty((3, 0)))).all())
        spread = [robust_spread(row) if len(row) > 2 else np.nan for row in self.known]
        np.testing.assert_allclose(weighing._robust_scatter(self.curves), spread, rtol=1e-14)

    def test_what_is_usual_is_that_of_stars_of_like_brightness(self) -> None:
        # Bright ones scatter by twice what their errors say.
        rng, flux = np.random.default_rng(9), np.repeat([1e6, 1e4], 40)[:, None] * np.ones(200)
        error = np.sqrt(flux)
        found = vet_stars([str(k) for k in range(80)], flux + rng.normal(0, error * np.repeat([2.0, 1.0], 40)[:, None]), error)
        # The scatter of 200 points is known to 5 %.
        for part, wanted in ((found[:40], 2e-3), (found[40:], 1e-2)):
            self.assertAlmostEqual(float(np.median([v.usual for v in part])) / wanted, 1.0, delta=0.1)

    def test_neighbours(self) -> None:
        plain = [
            (np.diff(row) ** 2).mean() / row.var(ddof=1) if len(row) > 7 and np.ptp(row) > 0 else np.nan for row in self.known
        ]  # fmt: skip
        np.testing.assert_allclose(vetting._von_neumann(self.curves), plain, rtol=1e-12)

    def test_far_off_points_that_stand_alone_count_for_nothing(self) -> None:
        self.curves[0, 10], self.curves[1, 10:13], self.curves[2, 0], self.curves[3, -1] = 1.3, 1.3, 0.7, 0.7
        # Those on both sides of a gap are neighbours, and a point keeps its place behind one.
        self.curves[0, 2:5] = self.curves[1, 11] = np.nan
        found = np.isnan(vetting._without_lonely(self.curves)) & np.isfinite(self.curves)
        self.assertEqual([np.flatnonzero(row).tolist() for row in found[:4]], [[10], [], [0], [30]])
        # Of so few nobody can say which one is off.
        self.curves[6, :7] = [1.0, 1.01, 0.99, 1.3, 1.0, 1.01, 0.99]
        self.assertFalse((np.isnan(vetting._without_lonely(self.curves)) & np.isfinite(self.curves))[6].any())


class Noise(unittest.TestCase):
    def test_terms_of_any_brightness_also_where_the_gain_is_unknown(self) -> None:
        flux = np.array([1e3, 1e5])
        known = NoiseModel(gain=2.0, sky=30.0, read=8.0, level=math.nan, scintillation=1e-3, flat=0.0)
        told = known.terms(flux)
        self.assertEqual(set(told), {"photons", "sky", "read", "scintillation", "sum"})
        np.testing.assert_allclose(told["sum"], np.sqrt(1 / (2 * flux) + (30**2 + 8**2) / flux**2 + 1e-6))
        without = replace(known, gain=math.nan).terms(flux)
        self.assertEqual(set(without), set(told) - {"photons"})
        np.testing.assert_allclose(without["sum"] ** 2, told["sum"] ** 2 - 1 / (2 * flux))


class Candidates(unittest.TestCase):
    """What speaks for and against each star."""

    def judged(self, flags: dict[int, int] | None = None, shift: float = 0.0, **more: object) -> dict[int, Candidate]:
        # 0 target, 1 like it, 2 brighter, 3 much fainter, 4 much brighter, 5 with 6 beside it, 7 near the edge.
        x = [200.0, 260.0, 300.0, 150.0, 120.0, 220.0, 226.0, 392.0]
        y = [150.0, 150.0, 90.0, 60.0, 250.0, 250.0, 250.0, 150.0]
        flux = [1e4, 1e4, 2e4, 2e3, 2e5, 1e4, 9e3, 1e4]
        self.reference = detections(x, y, flux)
        bits = np.zeros(8, dtype=np.int64)
        for k, value in (flags or {}).items():
            bits[k] = value
        looks = [
            Look(self.reference.x + d, self.reference.y, 420, 300, detections([v + d for v in x], y, flux, flags=b), 3.0)
            for d, b in ((0.0, bits), (shift, np.zeros(8, dtype=np.int64)))
        ]
        return {c.index: c for c in judge_candidates(self.reference, 0, looks, fwhm_px=3.0, **more)}  # type: ignore[arg-type]

    def test_reasons(self) -> None:
        found = self.judged()
        self.assertEqual([k for k, c in found.items() if c.good], [1, 2, 7])
        self.assertEqual(found[3].why_not, ("1.7 mag fainter",))
        self.assertEqual(found[4].why_not, ("3.3 mag brighter",))
        self.assertEqual(found[5].why_not, ("neighbours with 90 % of its light",))
        self.assertEqual(found[6].why_not, ("neighbours with 111 % of its light",))
        self.assertAlmostEqual(found[2].fainter_mag, -0.7526, places=4)
        self.assertAlmostEqual(found[2].away_px, math.hypot(100, 60))
        self.assertNotIn(0, found)

    def test_every_exposure_counts(self) -> None:
        self.assertEqual(self.judged(shift=20.0)[7].why_not, ("leaves the frame in 1 exposure",))
        self.assertEqual(self.judged({1: int(StarFlag.SATURATED)})[1].why_not, ("saturated in 1 exposure",))
        self.assertEqual(self.judged({1: int(StarFlag.NONLINEAR)})[1].why_not, ("over the linear limit in 1 exposure",))
        both = int(StarFlag.SATURATED | StarFlag.NONLINEAR)
        self.assertEqual(self.judged({1: both})[1].why_not, ("saturated in 1 exposure",))
        reference = self.reference
        empty = Look(reference.x, reference.y, 420, 300, detections([], [], []), 3.0)
        unseen = judge_candidates(reference, 0, [empty], fwhm_px=3.0)
        self.assertEqual({c.index: c.why_not for c in unseen}[1], ("found in 0 of 1 exposure",))
        kept(self, empty)

    def test_colour_and_lists(self) -> None:
        colour = np.array([0.6, 0.7, 2.0, 0.6, 0.6, 0.6, 0.6, np.nan])
        found = self.judged(colour=colour, variable=np.arange(8) == 7)
        self.assertEqual(found[2].why_not, ("1.4 mag redder",))
        self.assertEqual(found[7].why_not, ("listed as variable",))
        self.assertAlmostEqual(found[1].redder_mag, 0.1)
        self.assertEqual(next(iter(found)), 1)
        # A star of its colour is better than one that is as bright.
        self.assertEqual(next(iter(self.judged(colour=np.array([0.6, 1.5, 0.6, 0.6, 0.6, 0.6, 0.6, 0.6])))), 2)
        # The colour of the target itself is subtracted, not the other way round.
        blue = self.judged(colour=np.array([2.0, 0.7, 2.0, 2, 2, 2, 2, 2]))
        self.assertEqual(blue[1].why_not, ("1.3 mag bluer",))
        self.assertTrue(math.isnan(self.judged()[1].redder_mag))
        kept(self, found, blue)
