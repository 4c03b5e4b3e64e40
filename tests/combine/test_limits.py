"""Limits from the good values lost: what is promised is what is lost, at every count and by every method."""

import unittest

import numpy as np

from ulvar.combine import Method, Rejection, combine_stack, limit_for, suited

REJECTING = (Method.SIGMA, Method.WINSORIZED, Method.MAD, Method.LINEAR)


class Promise(unittest.TestCase):
    def test_on_noise_that_was_not_tried_before_as_many_are_lost_as_was_said(self) -> None:
        for method in (Method.SIGMA, Method.WINSORIZED, Method.MAD):
            for frames in (6, 12, 40):
                for lost in (0.01, 0.1):
                    with self.subTest(method=method, frames=frames, lost=lost):
                        noise = 800 + 7 * np.random.default_rng(5).standard_normal((frames, 200, 300), dtype=np.float32)
                        rejection = suited(Rejection(method, None, None, lost=lost), frames)
                        done = combine_stack(noise, rejection=rejection)
                        found = (done.rejected_low.sum() + done.rejected_high.sum()) / noise[0].size
                        # Poisson noise of this count and of the trial's, and the limit's step of 0.01.
                        spread = np.sqrt(lost / noise[0].size + lost / 16384)
                        self.assertAlmostEqual(found, lost, delta=4 * spread + 0.05 * lost)

    def test_more_exposures_have_wider_limits_and_more_losses_narrower_ones(self) -> None:
        for method in REJECTING:
            with self.subTest(method=method):
                wide = [limit_for(method, frames, 0.01) for frames in (10, 30, 90)]
                self.assertEqual(wide, sorted(wide))
                self.assertLess(wide[0], wide[2])
                self.assertLess(limit_for(method, 30, 0.2), limit_for(method, 30, 0.01))

    def test_many_exposures_come_near_the_normal_distribution(self) -> None:
        # 0.01 of 200 values outside: 4.06 standard deviations on both sides.
        self.assertAlmostEqual(limit_for(Method.SIGMA, 200, 0.01), 4.06, delta=0.1)

    def test_what_rejects_nothing_still_has_a_limit(self) -> None:
        self.assertAlmostEqual(limit_for(Method.MEAN, 10, 0.01), 3.29, delta=0.01)
        self.assertAlmostEqual(limit_for(Method.SIGMA, 3, 0.01), 2.94, delta=0.01)


class Given(unittest.TestCase):
    def test_what_is_given_stays(self) -> None:
        both = Rejection(Method.SIGMA, 2.0, 5.0)
        self.assertIs(suited(both, 20), both)
        low = suited(Rejection(Method.SIGMA, 2.0, None), 20)
        self.assertEqual((low.low, low.high), (2.0, limit_for(Method.SIGMA, 20, 0.01)))
        high = suited(Rejection(Method.SIGMA, None, 9.0, few=True), 20)
        self.assertEqual((high.low, high.high, high.few), (limit_for(Method.SIGMA, 20, 0.01), 9.0, True))

    def test_nonsense_is_refused(self) -> None:
        for lost in (0, 1, -0.1, float("nan")):
            with self.subTest(lost=lost), self.assertRaisesRegex(ValueError, "between 0 and 1"):
                Rejection(lost=lost)
        with self.assertRaisesRegex(ValueError, "missing"):
            combine_stack(np.zeros((5, 2, 2), "f4"), rejection=Rejection(Method.SIGMA, None, 3.0))

    def test_a_bright_outlier_goes_at_every_count(self) -> None:
        for method in REJECTING:
            # A line through few ranks follows the outlier.
            for frames in (40,) if method is Method.LINEAR else (5, 10, 40):
                with self.subTest(method=method, frames=frames):
                    noise = np.random.default_rng(frames).standard_normal((frames, 40, 50), dtype=np.float32)
                    noise[2, :, 20] = 60
                    done = combine_stack(noise, rejection=suited(Rejection(method, None, None), frames))
                    self.assertEqual(int(done.kept[:, 20].max()), frames - 1)
