"""Periods by phase bins and boxes, what the sampling makes of them, and sines taken out one after the other."""

import math
import unittest

import numpy as np

from ulvar.engine import Failed
from ulvar.lightcurves import METHODS, PeriodResult, _kernels, find_period, prewhiten


def nights(rng: np.random.Generator, count: int = 5, each: int = 40) -> np.ndarray:
    """Return times of nights one after the other, a quarter of a day each [d]."""
    return np.sort(np.concatenate([k + rng.uniform(0, 0.25, each) for k in range(count)]))


class Searches(unittest.TestCase):
    """The kernels against plain sums, and what they find."""

    def test_phase_bins_against_plain_sums(self) -> None:
        rng = np.random.default_rng(1)
        t, y = np.sort(rng.uniform(0, 3, 90)), rng.normal(0, 1, 90)
        out = np.empty(7)
        # Phases are whole numbers that leave whole cycles away by running over.
        with np.errstate(over="ignore"):
            _kernels.pdm(t, y, np.ones(90), 0.7, 0.31, 10, out)
        for k, theta in enumerate(out):
            phase = (0.7 + 0.31 * k) * t % 1
            left, free = 0.0, 0
            for cover in (0, 1):
                # The second cover lies half a bin further.
                place = np.floor((phase * 10 - 0.5 * cover) % 10).astype(int)
                for j in range(10):
                    inside = y[place == j]
                    if len(inside):
                        left += ((inside - inside.mean()) ** 2).sum()
                        free += len(inside) - 1
            self.assertAlmostEqual(theta, left / free / y.var(ddof=1), places=9)

    def test_boxes_against_plain_sums(self) -> None:
        rng = np.random.default_rng(2)
        t, y = np.sort(rng.uniform(0, 3, 60)), rng.normal(0, 1, 60)
        weight = rng.uniform(0.5, 1.5, 60)
        weight /= weight.sum()
        out, place = np.empty(4), np.empty((4, 2), dtype=np.int64)
        # Phases are whole numbers that leave whole cycles away by running over.
        with np.errstate(over="ignore"):
            _kernels.bls(t, y, weight, 0.9, 0.4, 25, 2, 6, out, place)
        centred = y - (weight * y).sum()
        whole = (weight * centred**2).sum()
        for k in range(4):
            bins = np.minimum(((0.9 + 0.4 * k) * t % 1 * 25).astype(int), 24)
            best = 0.0
            for first in range(25):
                for length in range(2, 7):
                    inside = np.isin(bins, (first + np.arange(length)) % 25)
                    s, r = (weight * centred)[inside].sum(), weight[inside].sum()
                    if s > 0 and 0 < r < 1:
                        best = max(best, s * s / (r * (1 - r)) / whole)
            self.assertAlmostEqual(out[k], best, places=9)
            first, length = place[k]
            inside = np.isin(bins, (first + np.arange(length)) % 25)
            s, r = (weight * centred)[inside].sum(), weight[inside].sum()
            self.assertAlmostEqual(s * s / (r * (1 - r)) / whole, best, places=9)

    def test_each_finds_what_it_is_for(self) -> None:
        rng = np.random.default_rng(3)
        time = nights(rng)
        noise = rng.normal(0, 0.01, len(time))
        phase = time / 0.0873 % 1
        saw = 0.05 * phase
        dip = np.where(time / 0.31 % 1 < 0.06, 0.05, 0.0)
        for value, method, period in ((saw, "phase", 0.0873), (dip, "box", 0.31), (0.03 * np.cos(2 * math.pi * phase), "sine", 0.0873)):
            found = find_period(time, 12 + value + noise, np.full(len(time), 0.01), shortest_d=0.05, longest_d=0.6, method=method)
            assert isinstance(found, PeriodResult)
            self.assertAlmostEqual(found.period_d / period, 1, delta=0.004, msg=method)
            self.assertLess(found.false_alarm, 1e-3, method)
            self.assertGreater(found.power, found.levels[0.001])
            self.assertGreater(found.levels[0.001], found.levels[0.1])
        with self.assertRaisesRegex(ValueError, "no way"):
            find_period(time, time, time, shortest_d=0.1, longest_d=1, method="guess")

    def test_noise_is_not_sure_of_anything(self) -> None:
        rng = np.random.default_rng(4)
        time = nights(rng, 3, 30)
        for method in METHODS:
            alarms = []
            for _ in range(40):
                found = find_period(time, rng.normal(0, 1, 90), np.ones(90), shortest_d=0.08, longest_d=1.0, method=method)
                assert isinstance(found, PeriodResult)
                alarms.append(found.false_alarm)
            # Of 40 four are below a tenth, give or take two; counts of independent frequencies are good to a factor of two.
            self.assertLess(np.mean(np.array(alarms) < 0.1), 0.4, method)
            self.assertGreater(np.median(alarms), 0.1, method)

    def test_daily_gaps_make_aliases(self) -> None:
        rng = np.random.default_rng(5)
        time = nights(rng, 6)
        value = 0.05 * np.sin(2 * math.pi * time / 0.31) + rng.normal(0, 0.01, len(time))
        found = find_period(time, value, np.full(len(time), 0.01), shortest_d=0.1, longest_d=2.0)
        assert isinstance(found, PeriodResult)
        beside = [1 / (1 / 0.31 + k) for k in (-1, 1)]
        for wanted in beside:
            self.assertTrue(any(abs(one / wanted - 1) < 0.02 for one in found.aliases), (wanted, found.aliases))
        self.assertTrue(any(abs(one / 0.62 - 1) < 0.01 for one in found.aliases))
        self.assertAlmostEqual(found.window[0], 1.0, places=9)
        # The sampling's own power, further on than one rotation goes.
        step = found.frequencies[1] - found.frequencies[0]
        for k in (3, 300, len(found.window) - 1):
            plain = np.abs(np.exp(2j * math.pi * k * step * time).mean()) ** 2
            self.assertAlmostEqual(found.window[k], plain, places=9)


class Prewhitening(unittest.TestCase):
    """Several sines, one after the other."""

    def test_two_sines_and_no_more(self) -> None:
        rng = np.random.default_rng(6)
        time = 2461448 + nights(rng, 6, 60)
        one = 0.03 * np.sin(2 * math.pi * (time - 2461448) / 0.081 + 1.0)
        two = 0.012 * np.sin(2 * math.pi * (time - 2461448) / 0.0613 + 2.0)
        found = prewhiten(
            time, 11 + one + two + rng.normal(0, 0.006, len(time)), np.full(len(time), 0.006), shortest_d=0.04, longest_d=0.5,
        )  # fmt: skip
        assert not isinstance(found, Failed)
        self.assertEqual(len(found.components), 2)
        for component, period, amplitude, phase in zip(found.components, (0.081, 0.0613), (0.03, 0.012), (1.0, 2.0)):
            self.assertLess(abs(component.frequency - 1 / period), 5 * component.frequency_error)
            self.assertLess(abs(component.amplitude - amplitude), 4 * component.amplitude_error)
            wanted = (phase / (2 * math.pi) + (found.origin - 2461448) / period) % 1
            self.assertLess(abs((component.phase - wanted + 0.5) % 1 - 0.5), 5 * component.phase_error + 0.01)
        self.assertAlmostEqual(float(found.residual.std()), 0.006, delta=0.0006)
        np.testing.assert_allclose(found.model, 11 + one + two, atol=0.004)
        quiet = prewhiten(time, rng.normal(0, 1, len(time)), np.ones(len(time)), shortest_d=0.04, longest_d=0.5)
        assert not isinstance(quiet, Failed)
        self.assertEqual(quiet.components, ())
