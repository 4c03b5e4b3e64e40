"""Occultations: both edges within their errors, single frames, none where there is none."""

import unittest

import numpy as np

from ulvar.engine import Failed
from ulvar.lightcurves import Occultation, fit_occultation
from ulvar.lightcurves._kernels import best_box


def _series(rng, frames=600, exposure=0.04, length=1.0, snr=8.0, left=0.0):  # type: ignore[no-untyped-def]
    time = (np.arange(frames) + 0.5) * exposure
    out = rng.uniform(0.25, 0.5) * frames * exposure
    share = np.clip((np.minimum(time + exposure / 2, out + length) - np.maximum(time - exposure / 2, out)) / exposure, 0, 1)
    flux = 100 * (1 - (1 - left) * share + rng.normal(0, 1 / snr, frames))
    return time, flux, out


class OccultationTest(unittest.TestCase):
    """Injected dips."""

    def _pulls(self, count: int, **how: float) -> np.ndarray:
        rng = np.random.default_rng(5)
        pulls = []
        for _ in range(count):
            time, flux, out = _series(rng, **how)
            found = fit_occultation(time, flux, 0.04)
            assert isinstance(found, Occultation), found
            length = how.get("length", 1.0)
            pulls.append(
                [
                    (found.out_s - out) / found.out_error_s,
                    (found.back_s - out - length) / found.back_error_s,
                    (found.duration_s - length) / found.duration_error_s,
                ]
            )
        return np.array(pulls)

    def test_the_deepest_box_against_all(self) -> None:
        flux = np.random.default_rng(3).normal(100, 9, 40)
        flux[13:19] -= 12
        for longest in (3, 30):
            gains = {}
            for i in range(1, 39):
                for j in range(i + 1, min(39, i + longest) + 1):
                    dip, rest = flux[i:j], np.r_[flux[:i], flux[j:]]
                    if dip.mean() < rest.mean():
                        gains[i, j] = flux.var() * 40 - dip.var() * len(dip) - rest.var() * len(rest)
            gain, first, last = best_box(flux, longest)
            self.assertEqual((first, last), max(gains, key=gains.__getitem__))
            self.assertAlmostEqual(gain, max(gains.values()), places=6)

    def test_edges_are_unbiased_and_their_errors_right(self) -> None:
        for how in ({"snr": 8.0}, {"snr": 2.5}, {"snr": 12.0, "left": 0.6}, {"length": 0.3, "snr": 6.0}):
            with self.subTest(how):
                pulls = self._pulls(60, **how)
                inside = (np.abs(pulls) < 1).mean()
                # 180 pulls of which those of one dip depend on each other: 68 % +- 4.5 %.
                self.assertGreater(inside, 0.56)
                self.assertLess(inside, 0.82)
                self.assertLess(np.abs(pulls.mean(axis=0)).max(), 0.45)

    def test_a_second_at_video_rate_is_timed_within_a_frame(self) -> None:
        rng = np.random.default_rng(2)
        for _ in range(20):
            time, flux, out = _series(rng, snr=5.0)
            found = fit_occultation(time, flux, 0.04)
            assert isinstance(found, Occultation)
            self.assertLess(abs(found.out_s - out), 0.04)
            self.assertLess(abs(found.back_s - out - 1.0), 0.04)

    def test_depth_and_model(self) -> None:
        time, flux, out = _series(np.random.default_rng(3), left=0.25, snr=20.0)
        flux[7] = np.nan
        found = fit_occultation(time, flux, 0.04)
        assert isinstance(found, Occultation)
        self.assertLess(abs(found.low - 25), 4 * found.low_error)
        self.assertAlmostEqual(found.drop_mag, -2.5 * np.log10(0.25), delta=0.2)
        self.assertLess(np.nanstd(flux - found.model), 6.0)
        self.assertEqual(found.frames, int(np.isfinite(found.model[(time > out - 0.02) & (time < out + 1.02)]).sum()))
        self.assertTrue(np.isnan(found.model[7]))

    def test_noise_makes_none_and_says_what_would_have_shown(self) -> None:
        rng = np.random.default_rng(11)
        told = [fit_occultation(np.arange(500) * 0.04, 100 + rng.normal(0, 20, 500), 0.04) for _ in range(60)]
        self.assertTrue(all(isinstance(one, Failed) for one in told))
        self.assertRegex(told[0].reason, r"would have been seen")

    def test_slow_flicker_is_no_dip(self) -> None:
        rng = np.random.default_rng(4)
        slow = np.convolve(rng.normal(0, 1, 1100), np.ones(40) / 40**0.5, "same")[:1000]
        found = fit_occultation(np.arange(1000) * 0.04, 100 + 4 * slow + rng.normal(0, 2, 1000), 0.04)
        self.assertIsInstance(found, Failed)

    def test_what_cannot_be_fitted(self) -> None:
        self.assertIsInstance(fit_occultation(np.arange(10.0), np.ones(10), 1.0), Failed)
        self.assertIsInstance(fit_occultation(np.arange(50.0), np.ones(50), 1.0), Failed)
        with self.assertRaisesRegex(ValueError, "ascend"):
            fit_occultation(np.arange(50.0)[::-1], np.random.default_rng(1).normal(size=50), 1.0)
