"""Whole rows at once: every count of frames, frames that have nothing, and single gaps, against plain NumPy."""

import unittest

import numpy as np
from bench.plain_combining import nan_median
from hypothesis import given, settings
from hypothesis import strategies as st
from tools.same import kept

from ulvar.combine import Method, Rejection, combine_stack, judged_together
from ulvar.combine._kernels_rows import median_of_spreads


class EveryCount(unittest.TestCase):
    """Blocks of eight, what is left over, and the frames between that are not there."""

    @given(st.integers(2, 41), st.integers(0, 2**32 - 1), st.floats(0, 0.6), st.booleans())
    @settings(max_examples=120, deadline=None)
    def test_median_mean_and_spread(self, n: int, seed: int, missing: float, weighted: bool) -> None:
        rng = np.random.default_rng(seed)
        stack = rng.normal(1000, 10, (n, 2, 37)).astype(np.float32)
        gone = rng.random(n) < missing
        gone[rng.permutation(n)[:2]] = False
        stack[gone] = np.nan
        # The first frame that is there holds what a cosmic ray leaves: the sums of the others must not suffer.
        stack[np.flatnonzero(~gone)[0], 0, 3] = 4e6
        median = combine_stack(stack, rejection=Rejection(Method.MEDIAN))
        np.testing.assert_array_equal(median.data, nan_median(stack).astype(np.float32))
        weights = rng.uniform(0.1, 2, n) if weighted else np.full(n, 0.25)
        mean = combine_stack(stack, rejection=Rejection(Method.MEAN), weights=weights.tolist(), maps=True)
        there = np.flatnonzero(~gone)
        wide = stack[there].astype(np.float64)
        expected = np.average(wide, axis=0, weights=weights[there])
        np.testing.assert_allclose(mean.data, expected, rtol=2e-7)
        for result in (mean, median):
            np.testing.assert_allclose(result.spread, wide.std(axis=0, ddof=1), rtol=1e-5)
            np.testing.assert_array_equal(result.kept, len(there))
        assert mean.maps is not None
        np.testing.assert_allclose(mean.maps.weight, weights[there].sum() / weights.sum(), rtol=1e-6)

    def test_every_way_on_a_few_pixels(self) -> None:
        """With gaps, weights and outliers, so few that they are also run line by line without a compiler."""
        rng = np.random.default_rng(31)
        for n, gaps in ((3, True), (9, True), (9, False), (10, False)):
            stack = rng.normal(100, 3, (n, 3, 24)).astype(np.float32)
            for light, share in ((60, 0.08), (-60, 0.05), (8, 0.1), (-8, 0.1)):
                stack[rng.random(stack.shape) < share] += light
            if gaps:
                stack[0, :, :5] = stack[2, 1:, 20:] = stack[:, 2, 7] = stack[1:, 2, 9] = stack[2:, 0, 12] = np.nan
            for method in Method:
                for few, slack in ((False, 0.0), (True, 0.0), (False, 0.4)):
                    weights = None if method is Method.MEDIAN else rng.uniform(0.1, 2, n).tolist()
                    rejection = Rejection(method, 2.0, 2.5, few=few, slack=slack)
                    kept(self, combine_stack(stack, rejection=rejection, weights=weights, maps=True))

    def test_a_gap_in_the_middle_of_a_row_is_seen_whatever_its_frame_weighs(self) -> None:
        rng = np.random.default_rng(8)
        for n in (3, 8, 9, 12, 20):
            for frame in range(n):
                stack = rng.normal(100, 1, (n, 1, 40)).astype(np.float32)
                stack[frame, 0, 17] = np.nan
                weights = np.ones(n)
                weights[frame] = 0.0
                for method, shares in ((Method.MEDIAN, None), (Method.MEAN, None), (Method.MEAN, weights.tolist())):
                    result = combine_stack(stack, rejection=Rejection(method), weights=shares)
                    self.assertEqual(result.kept[0, 17], n - 1, (n, frame, method))
                    self.assertEqual(result.kept[0, 16], n)
                    rest = np.delete(stack[:, 0, 17], frame)
                    wanted = np.median(rest) if method is Method.MEDIAN else rest.mean(dtype=np.float64)
                    self.assertAlmostEqual(float(result.data[0, 17]), float(wanted), 4)

    def test_a_frame_of_which_the_ends_are_missing_still_counts(self) -> None:
        stack = np.random.default_rng(9).normal(100, 1, (5, 1, 60)).astype(np.float32)
        stack[2, 0, 0] = stack[2, 0, -1] = np.nan
        result = combine_stack(stack, rejection=Rejection(Method.MEDIAN))
        np.testing.assert_array_equal(result.kept[0], [4] + 58 * [5] + [4])
        np.testing.assert_array_equal(result.data, nan_median(stack).astype(np.float32))

    def test_clipping_alike_with_and_without_frames_that_have_nothing(self) -> None:
        rng = np.random.default_rng(10)
        stack = rng.normal(100, 1, (17, 3, judged_together(19) + 30)).astype(np.float32)
        stack[rng.random(stack.shape) < 0.01] += 30
        wide = np.insert(stack, [4, 11], np.nan, axis=0)
        for method in (Method.SIGMA, Method.WINSORIZED, Method.MAD, Method.LINEAR):
            few, many = (combine_stack(s, rejection=Rejection(method, 3.5, 3.5), maps=True) for s in (stack, wide))
            np.testing.assert_array_equal(few.data, many.data, method)
            np.testing.assert_array_equal(few.rejected_high, np.delete(many.rejected_high, [4, 12]))
            self.assertGreater(few.rejected_high.sum(), 100)
        kept(self, few, many)


class Median(unittest.TestCase):
    """Picked by halving, not by sorting."""

    @given(st.lists(st.floats(0, 2.0**99, width=32), min_size=1, max_size=70))
    @settings(max_examples=200, deadline=None)
    def test_is_numpy_s(self, values: list[float]) -> None:
        spreads = np.array(values, dtype=np.float32)
        self.assertEqual(median_of_spreads(spreads), np.median(spreads.astype(np.float64)))
