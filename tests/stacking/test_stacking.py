"""Normalisation, weights, framing, and the stack's signal to noise."""

import math
import unittest

import numpy as np

from ulvar.combine import Method, Rejection
from ulvar.registration import Transform
from ulvar.stacking import (
    Framing,
    Normalise,
    StackInput,
    Weighting,
    frame_exposures,
    noise_growth,
    normalisation,
    stack_warped,
    stack_weights,
)
from ulvar.stacking.framing import Frame2D, turn_of
from ulvar.stacking.options import GridOptions
from ulvar.stacking.stack import error_share


def known(**values: float) -> StackInput:
    """Return an exposure of which only these numbers are known."""
    numbers = {
        "sky_adu": 0.0, "noise_adu": math.nan, "fwhm_px": math.nan, "flux_ratio": 1.0, "score": math.nan,
    } | values  # fmt: skip
    return StackInput(Rows(np.zeros((2, 2), np.float32)), *numbers.values())


class Edges(unittest.TestCase):
    """What is not known of exposures."""

    def test_weights_of_what_is_not_known(self) -> None:
        for how in Weighting:
            np.testing.assert_allclose(stack_weights([known(), known(), known()], [1, 1, 1], how), [1 / 3] * 3)
        some = [known(noise_adu=2.0), known(), known(noise_adu=4.0), known(noise_adu=0.0)]
        # Who has no number counts as the poorest of the others.
        np.testing.assert_allclose(stack_weights(some, [1, 1, 1, 1], Weighting.NOISE), np.array([16, 4, 4, 4]) / 28)

    def test_error_share(self) -> None:
        self.assertAlmostEqual(error_share(np.array([2.0]), np.array([0.7])), 1.0)
        self.assertAlmostEqual(error_share(np.array([3.0]), None), 1.0)
        self.assertAlmostEqual(error_share(np.full(4, 2.0), np.full(4, 0.25)), 0.5)
        # Without one of the deviations all count as equal, also where one is zero.
        for odd in (0.0, math.nan):
            self.assertAlmostEqual(error_share(np.array([odd, 5.0, 5.0, 5.0]), np.full(4, 0.25)), 0.5)
        by_hand = math.sqrt(0.8**2 * 1 + 0.2**2 * 9) / math.sqrt((1 + 9) / 2)
        self.assertAlmostEqual(error_share(np.array([1.0, 3.0]), np.array([0.8, 0.2])), by_hand)


class Depth(unittest.TestCase):
    def test_noise_of_the_best_first(self) -> None:
        """Measured on stacks of ever more exposures, and foretold by each alone."""
        rng = np.random.default_rng(4)
        sigma = np.array([9.0, 2.0, 4.0, 3.0, 8.0, 2.5])
        exposures = [rng.normal(100, s, (600, 900)).astype(np.float32) for s in sigma]
        weights = 1 / sigma**2
        found = noise_growth([Rows(e) for e in exposures], weights / weights.sum(), Rejection(Method.SIGMA, 9, 9))
        self.assertEqual(found.counts, (1, 2, 3, 4, 5, 6))
        best = np.sort(sigma)
        for k, noise, expected in zip(found.counts, found.noise_adu, found.expected_adu, strict=True):
            true = 1 / math.sqrt((1 / best[:k] ** 2).sum())
            # Some 43,000 differences tell a spread to 1 %.
            self.assertAlmostEqual(noise / true, 1.0, delta=0.03)
            self.assertAlmostEqual(expected / true, 1.0, delta=0.03)
        many = noise_growth([Rows(exposures[1])] * 40, np.full(40, 1 / 40), Rejection(Method.MEDIAN, 3, 3))
        self.assertEqual((many.counts[0], many.counts[-1]), (1, 40))
        self.assertLessEqual(len(many.counts), 14)


class Rows:
    """An array as a source of rows."""

    def __init__(self, data: np.ndarray) -> None:
        self.data = data
        self.height, self.width = data.shape

    def rows(self, y0: int, y1: int) -> np.ndarray:
        """Return rows."""
        return self.data[y0:y1].copy()


def shifted(dx: float, dy: float) -> Transform:
    """Return a plain shift."""
    return Transform(np.array([[1.0, 0, dx], [0, 1.0, dy]]))


class FramingCase(unittest.TestCase):
    """Sizes announced before running."""

    def test_reference_union_common(self) -> None:
        moves = [shifted(0, 0), shifted(10.4, -5.2), shifted(-3, 20)]
        shapes = [(100, 200)] * 3
        same = frame_exposures(moves, shapes, (100, 200), Framing.REFERENCE)
        self.assertEqual((same.width, same.height, same.x0, same.y0), (200, 100, 0, 0))
        union = frame_exposures(moves, shapes, (100, 200), Framing.UNION)
        self.assertEqual((union.width, union.height, union.x0, union.y0), (214, 126, -3, -6))
        common = frame_exposures(moves, shapes, (100, 200), Framing.COMMON)
        self.assertEqual((common.width, common.height, common.x0, common.y0), (186, 74, 11, 20))
        x, y = common.shifted(moves[1])(np.array([0.6]), np.array([25.2]))
        np.testing.assert_allclose([x[0], y[0]], [0.0, 0.0], atol=1e-9)

    def test_half_turn_and_nothing_in_common(self) -> None:
        turned = Transform(np.array([[-1.0, 0, 199], [0, -1.0, 99]]))
        common = frame_exposures([shifted(0, 0), turned], [(100, 200)] * 2, (100, 200), Framing.COMMON)
        self.assertEqual((common.width, common.height), (200, 100))
        with self.assertRaisesRegex(ValueError, "nothing|no part"):
            frame_exposures([shifted(0, 0), shifted(500, 0)], [(100, 200)] * 2, (100, 200), Framing.COMMON)

    def test_scaled_turned_and_a_part(self) -> None:
        shapes, moves = [(100, 200)] * 2, [shifted(0, 0), shifted(10.0, -5.0)]
        double = frame_exposures(moves, shapes, (100, 200), Framing.REFERENCE, turned=turn_of(2.0))
        self.assertEqual((double.width, double.height), (400, 200))
        # Two pixels lie in each: their middles a quarter of it to either side.
        x, y = double.way(np.array([0.0, 199.25]), np.array([0.25, 98.75]))
        np.testing.assert_allclose([x, y], [[0.5, 399.0], [1.0, 198.0]], atol=1e-9)
        half = frame_exposures(moves, shapes, (100, 200), Framing.REFERENCE, turned=turn_of(0.5))
        self.assertEqual((half.width, half.height), (100, 50))
        np.testing.assert_allclose(half.way(np.array([0.5]), np.array([0.5])), [[0.0], [0.0]], atol=1e-9)
        # Clockwise: what was up is right.
        quarter = frame_exposures(moves, shapes, (100, 200), Framing.REFERENCE, turned=turn_of(1.0, 90.0))
        self.assertEqual((quarter.width, quarter.height), (100, 200))
        x, y = quarter.way(np.array([0.0, 0.0, 199.0]), np.array([0.0, 99.0, 0.0]))
        np.testing.assert_allclose([x, y], [[0.0, 99.0, 0.0], [199.0, 199.0, 0.0]], atol=1e-9)
        mirrored = frame_exposures(moves, shapes, (100, 200), Framing.REFERENCE, turned=turn_of(1.0, 0.0, True))
        np.testing.assert_allclose(mirrored.way(np.array([0.0]), np.array([7.0])), [[199.0], [7.0]], atol=1e-9)
        part = frame_exposures(moves, shapes, (100, 200), Framing.UNION, turned=turn_of(2.0), part=(30, 20, 50, 40))
        self.assertEqual((part.width, part.height, part.x0, part.y0), (100, 80, 60, 40))
        column = frame_exposures(moves, shapes, (100, 200), Framing.UNION, part=(30, 20, 1, 40))
        self.assertEqual((column.width, column.height), (1, 40))
        union = frame_exposures(moves, shapes, (100, 200), Framing.UNION, turned=turn_of(2.0))
        x, y = union.way(np.array([0.0, 209.0]), np.array([-5.0, 99.0]))
        self.assertTrue((x >= -0.01).all() and (y >= -0.01).all() and x.max() < union.width and y.max() < union.height)
        self.assertTrue(abs(union.width - 420) <= 2 and abs(union.height - 210) <= 2)
        for wrong in ({"scale": 0.05}, {"scale": 9.0}, {"turn_deg": 400.0}):
            with self.assertRaises(ValueError):
                GridOptions(**wrong)

    def test_turned_by_some_degrees(self) -> None:
        c, s = np.cos(0.2), np.sin(0.2)
        turned = Transform(np.array([[c, -s, 30.0], [s, c, -10.0]]))
        moves, shapes = [shifted(0, 0), turned], [(100, 200)] * 2
        back = turned.inverse()

        def places(frame: Frame2D) -> tuple[np.ndarray, np.ndarray]:
            ys, xs = np.mgrid[0 : frame.height, 0 : frame.width]
            return xs.ravel() + float(frame.x0), ys.ravel() + float(frame.y0)

        # Every pixel of the common part lies on both exposures ...
        x, y = places(frame_exposures(moves, shapes, (100, 200), Framing.COMMON))
        for u, v in ((x, y), back(x, y)):
            self.assertTrue(((u >= -1e-9) & (u <= 199) & (v >= -1e-9) & (v <= 99)).all())
        # ... also where it is the turned one's own edges that bound it ...
        small = Transform(np.array([[c, -s, 130.0], [s, c, 60.0]]))
        x, y = places(frame_exposures([shifted(0, 0), small], [(300, 400), (100, 200)], (300, 400), Framing.COMMON))
        u, v = small.inverse()(x, y)
        self.assertTrue(((u >= -1e-9) & (u <= 199) & (v >= -1e-9) & (v <= 99)).all())
        # ... and every corner of both lies on the union, which is no larger than it must be.
        union = frame_exposures(moves, shapes, (100, 200), Framing.UNION)
        cx, cy = np.array([0.0, 199, 0, 199]), np.array([0.0, 0, 99, 99])
        tx, ty = turned(cx, cy)
        ax, ay = np.concatenate([cx, tx]), np.concatenate([cy, ty])
        self.assertEqual((union.x0, union.y0), (np.floor(ax.min()), np.floor(ay.min())))
        self.assertEqual((union.x0 + union.width - 1, union.y0 + union.height - 1), (np.ceil(ax.max()), np.ceil(ay.max())))


class Stacks(unittest.TestCase):
    """What comes out is as good as the photons allow."""

    def setUp(self) -> None:
        self.rng = np.random.default_rng(71)
        self.noise = np.array([5.0, 6.0, 8.0, 5.0, 12.0, 7.0, 5.5, 9.0])
        self.truth = 40 * np.exp(-0.5 * ((np.arange(120)[:, None] - 60) ** 2 + (np.arange(150)[None, :] - 70) ** 2) / 9)
        self.part = np.array([1.0, 0.9, 1.0, 0.7, 1.0, 0.8, 1.0, 1.0])
        self.sky = np.linspace(100, 300, 8)
        self.inputs = [
            StackInput(
                Rows((s + p * self.truth + self.rng.normal(0, n, self.truth.shape)).astype(np.float32)), s, n, 3.0, p, 1 / n,
            )
            for s, p, n in zip(self.sky, self.part, self.noise)
        ]  # fmt: skip

    def test_normalisation(self) -> None:
        both = normalisation(self.inputs, 0, Normalise.BOTH)
        for (factor, add), s, p in zip(both, self.sky, self.part):
            self.assertAlmostEqual(factor * s + add, 100.0)
            self.assertAlmostEqual(factor * p, 1.0)
        self.assertEqual(normalisation(self.inputs, 0, Normalise.NONE), [(1.0, 0.0)] * 8)

    def test_signal_to_noise_is_near_the_ideal_weighted_mean(self) -> None:
        ideal = math.sqrt(((self.part / self.noise) ** 2).sum())
        result = stack_warped(self.inputs, rejection=Rejection(Method.SIGMA, 4, 4), weighting=Weighting.SNR)
        empty = np.abs(self.truth) < 1e-3
        noise = float(result.data[empty].std())
        signal = float(((result.data - 100) * self.truth)[~empty].sum() / (self.truth[~empty] ** 2).sum())
        # 0.97 of the ideal is the target; 16,000 pixels give the noise to 0.6 %, the amplitude is known to 1 %.
        self.assertGreater(signal / noise, 0.97 * ideal * 0.98)
        self.assertLess(abs(signal - 1), 0.05)
        self.assertAlmostEqual(float(np.median(result.data[empty])), 100.0, delta=0.2)

    def test_outliers_go_and_the_noise_map_is_true(self) -> None:
        hit = self.rng.random(self.truth.shape) < 0.02
        self.inputs[2].source.data[hit] += 900
        result = stack_warped(self.inputs, rejection=Rejection(Method.SIGMA, 4, 3), weighting=Weighting.EQUAL, normalise=Normalise.LEVEL)
        empty = np.abs(self.truth) < 1e-3
        self.assertLess(abs(float(result.data[hit & empty].mean()) - 100), 1.0)
        self.assertGreater(result.rejected_fractions[2], 0.018)
        ratio = float(np.median(result.noise[empty])) / float(result.data[empty & ~hit].std())
        self.assertLess(abs(ratio - 1), 0.1)

    def test_the_noise_map_is_true_for_medians_and_weighted_means(self) -> None:
        shape = (200, 300)
        for method, weighting, noise in (
            (Method.MEDIAN, Weighting.EQUAL, np.full(9, 10.0)), (Method.MEAN, Weighting.EQUAL, np.full(9, 10.0)),
            (Method.MEAN, Weighting.NOISE, np.array([3.0, 6.0, 30.0, 12.0, 5.0, 8.0])),
        ):  # fmt: skip
            with self.subTest(method=method, weighting=weighting):
                inputs = [StackInput(Rows(self.rng.normal(100, n, shape).astype(np.float32)), 100.0, float(n)) for n in noise]
                result = stack_warped(inputs, rejection=Rejection(method, 4, 4), weighting=weighting)
                told = float(np.sqrt((result.noise.astype(float) ** 2).mean()))
                # 60,000 pixels: both figures to 0.5 %; the median's formula is good to 2 %.
                self.assertLess(abs(told / float(result.data.std()) - 1), 0.03)

    def test_what_was_rejected_makes_the_noise_of_its_pixel_larger(self) -> None:
        shape, count = (60, 80), 6
        inputs = [StackInput(Rows(self.rng.normal(100, 5, shape).astype(np.float32)), 100.0, 5.0) for _ in range(count)]
        for k in range(3):
            inputs[k].source.data[10:30] = np.nan
        result = stack_warped(inputs, rejection=Rejection(Method.MEAN, 4, 4), weighting=Weighting.EQUAL)
        whole, half = (float(np.sqrt((result.noise[rows].astype(float) ** 2).mean())) for rows in (slice(30, 60), slice(10, 30)))
        # 1600 and more pixels of three values know their noise to 2 %.
        self.assertAlmostEqual(whole, 5 / np.sqrt(6), delta=0.1)
        self.assertAlmostEqual(half, 5 / np.sqrt(3), delta=0.15)
        self.assertTrue((result.kept[10:30] == 3).all())

    def test_share_of_the_error(self) -> None:
        equal = np.ones(4)
        self.assertAlmostEqual(error_share(np.array([2.0, 2, 2, 2]), equal), 0.5)
        # One unknown noise makes all count as equal.
        for unknown in (np.nan, 0.0, np.inf):
            self.assertAlmostEqual(error_share(np.array([2.0, 9, unknown, 1]), equal), 0.5)
        self.assertAlmostEqual(error_share(np.array([1.0]), None), 1.0)
        self.assertAlmostEqual(error_share(np.array([3.0, 4.0]), np.array([1.0, 0.0])), 3 / np.sqrt(12.5))

    def test_each_weight_is_the_power_it_says(self) -> None:
        rows = self.inputs[0].source
        entries = [
            StackInput(rows, 100.0, 10.0, 3.0, 1.0, 0.5), StackInput(rows, 100.0, 20.0, 3.0, 1.0, 0.5),
            StackInput(rows, 100.0, 10.0, 6.0, 1.0, 0.5), StackInput(rows, 100.0, 10.0, 3.0, 1.0, 1.0),
        ]  # fmt: skip
        wanted = {
            Weighting.NOISE: [1, 1 / 4, 1, 1], Weighting.FWHM: [1, 1, 1 / 4, 1], Weighting.SNR: [1, 1 / 4, 1 / 4, 1],
            Weighting.SCORE: [1, 1, 1, 4],
        }  # fmt: skip
        for how, shares in wanted.items():
            with self.subTest(how=how):
                found = stack_weights(entries, [1.0] * 4, how)
                np.testing.assert_allclose(found / found[0], shares)
        # Made brighter to match the reference, an exposure's noise grows with it.
        scaled = stack_weights(entries, [1.0, 0.5, 1.0, 2.0], Weighting.NOISE)
        np.testing.assert_allclose(scaled / scaled[0], [1, 1, 1, 1 / 4])

    def test_weights(self) -> None:
        factors = [1.0] * 8
        np.testing.assert_allclose(stack_weights(self.inputs, factors, Weighting.EQUAL), 1 / 8)
        noise = stack_weights(self.inputs, factors, Weighting.NOISE)
        np.testing.assert_allclose(noise / noise[0], (self.noise[0] / self.noise) ** 2)
        blind = [StackInput(i.source, i.sky_adu, i.noise_adu) for i in self.inputs]
        np.testing.assert_allclose(stack_weights(blind, factors, Weighting.FWHM), 1 / 8)
        with self.assertRaisesRegex(ValueError, "takes no weights"):
            stack_warped(self.inputs, rejection=Rejection(Method.MEDIAN), weighting=Weighting.SNR)
        with self.assertRaisesRegex(ValueError, "nothing to stack"):
            stack_warped([])
