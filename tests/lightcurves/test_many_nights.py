"""Ephemerides of minima, and rotation of minor planets, against what was put in."""

import math
import unittest

import numpy as np

from ulvar.engine import Failed
from ulvar.lightcurves import Ephemeris, Geometry, Rotation, _kernels, find_rotation, fit_ephemeris, reduced


class Ephemerides(unittest.TestCase):
    """Linear and curved, with secondary minima."""

    def test_values_and_errors(self) -> None:
        rng = np.random.default_rng(1)
        cycles = np.sort(rng.choice(np.arange(-900, 1200), 24, replace=False)) * 0.5
        pulls = []
        for _ in range(60):
            error = rng.uniform(0.0002, 0.001, 24)
            time = 2461000.3 + 0.731245 * cycles + rng.normal(0, error)
            found = fit_ephemeris(time, error, period=0.73124, epoch=2461000.3, halves=True)
            assert isinstance(found, Ephemeris)
            np.testing.assert_array_equal(found.cycles, cycles)
            pulls.append([(found.epoch - 2461000.3) / found.epoch_error, (found.period - 0.731245) / found.period_error])
        for k in range(2):
            column = np.array(pulls)[:, k]
            self.assertTrue(0.6 < column.std() < 1.35, column.std())
            self.assertLess(abs(column.mean()), 0.5)
        np.testing.assert_allclose(found.off, time - found.epoch - found.period * cycles, atol=1e-8)
        np.testing.assert_array_equal(found.off, found.linear_off)

    def test_a_changing_period(self) -> None:
        rng = np.random.default_rng(2)
        cycles = np.arange(-3000, 3000, 250.0)
        time = 2461000 + 0.4 * cycles + 3e-10 * cycles**2 + rng.normal(0, 1e-4, len(cycles))
        error = np.full(len(cycles), 1e-4)
        found = fit_ephemeris(time, error, period=0.4, epoch=2461000.0, quadratic=True)
        assert isinstance(found, Ephemeris)
        self.assertLess(abs(found.change - 3e-10), 4 * found.change_error)
        self.assertGreater(found.change, 8 * found.change_error)
        self.assertGreater(np.ptp(found.linear_off), 5 * np.ptp(found.off))
        straight = fit_ephemeris(time, error, period=0.4, epoch=2461000.0)
        assert isinstance(straight, Ephemeris)
        self.assertGreater(straight.chi2_reduced, 10)
        # Too small errors are scaled up.
        self.assertAlmostEqual(
            straight.period_error / found.period_error, math.sqrt(straight.chi2_reduced / max(1, found.chi2_reduced)), delta=1.5,
        )  # fmt: skip

    def test_what_cannot_be_counted(self) -> None:
        time = np.array([2461000.0, 2461010.13, 2461020.02])
        failed = fit_ephemeris(time, np.full(3, 1e-3), period=0.4)
        assert isinstance(failed, Failed)
        self.assertIn("cycles off", failed.reason)
        self.assertIn("at least 3", fit_ephemeris(time[:2], time[:2], period=1.0, quadratic=True).reason)  # type: ignore[union-attr]
        unknown = fit_ephemeris(np.array([2461000.0, 2461001.0, 2461002.001]), np.full(3, math.nan), period=1.0)
        assert isinstance(unknown, Ephemeris)
        self.assertTrue(math.isnan(unknown.chi2_reduced))
        self.assertGreater(unknown.period_error, 0)


class Rotations(unittest.TestCase):
    """Minor planets of known periods."""

    def body(self, rng: np.random.Generator, period_h: float, days: tuple[int, ...] = (0, 1, 3, 4)):  # type: ignore[no-untyped-def]
        time = np.sort(np.concatenate([2461000 + d + rng.uniform(0, 0.25, 70) for d in days]))
        sessions = [f"night {int(t - 2461000)}" for t in time]
        levels = {name: float(rng.normal(0, 0.2)) for name in sorted(set(sessions))}
        phase = 2 * math.pi * (time - 2461000) * 24 / period_h
        wave = 0.2 * np.cos(2 * phase + 1) + 0.06 * np.cos(phase) + 0.03 * np.cos(3 * phase + 2)
        level = np.array([levels[name] for name in sessions])
        return time, 15 + wave + level + rng.normal(0, 0.015, len(time)), sessions, levels

    def test_period_levels_and_series(self) -> None:
        rng = np.random.default_rng(3)
        time, magnitude, sessions, levels = self.body(rng, 5.37)
        found = find_rotation(time, magnitude, np.full(len(time), 0.015), sessions, shortest_h=2, longest_h=24)
        assert isinstance(found, Rotation)
        self.assertLess(abs(found.period_h - 5.37), 4 * found.period_error_h)
        self.assertLess(found.period_error_h, 0.01)
        self.assertFalse(found.ambiguous, found.rivals)
        first = sessions[0]
        for name, offset in found.offsets.items():
            self.assertAlmostEqual(offset, levels[name] - levels[first], delta=0.02)
        phase = np.linspace(0, 2 * math.pi, 2000)
        wave = 0.2 * np.cos(2 * phase + 1) + 0.06 * np.cos(phase) + 0.03 * np.cos(3 * phase + 2)
        self.assertAlmostEqual(found.amplitude_mag, float(np.ptp(wave)), delta=0.02)
        self.assertAlmostEqual(found.rms_mag, 0.015, delta=0.003)
        left = magnitude - found.at(time)
        for name in set(sessions):
            inside = np.array([one == name for one in sessions])
            self.assertLess(left[inside].std(), 0.02)

    def test_errors_are_the_scatter(self) -> None:
        rng = np.random.default_rng(4)
        pulls = []
        for _ in range(20):
            time, magnitude, sessions, _ = self.body(rng, 6.11)
            found = find_rotation(time, magnitude, np.full(len(time), 0.015), sessions, shortest_h=5.5, longest_h=7, order=3)
            assert isinstance(found, Rotation)
            pulls.append((found.period_h - 6.11) / found.period_error_h)
        self.assertTrue(0.55 < np.std(pulls) < 1.6, np.std(pulls))

    def test_what_cannot_be_told_is_declared(self) -> None:
        rng = np.random.default_rng(5)
        # One short night of a slow body: many periods fit.
        time, magnitude, sessions, _ = self.body(rng, 17.0, (0, 9))
        found = find_rotation(time, magnitude, np.full(len(time), 0.015), sessions, shortest_h=2, longest_h=40)
        assert isinstance(found, Rotation)
        self.assertTrue(found.ambiguous)
        # Others are where the scatter is least around: apart by a ninth of a day.
        frequency = 24 / found.periods_h
        for rival in found.rivals[:4]:
            near = np.flatnonzero(np.abs(frequency - 24 / rival) < 0.3 / 9)
            best = near[np.argmin(found.scatter_mag[near])]
            self.assertLess(abs(frequency[best] - 24 / rival), 2 * float(np.ptp(frequency[near])) / len(near), rival)
        failed = find_rotation(time[:12], magnitude[:12], np.full(12, 0.01), sessions[:12], shortest_h=2, longest_h=40)
        assert isinstance(failed, Failed)
        with self.assertRaises(ValueError):
            find_rotation(time, magnitude, time, sessions, shortest_h=5, longest_h=2)

    def test_squares_against_least_squares(self) -> None:
        rng = np.random.default_rng(6)
        t, y, w = np.sort(rng.uniform(0, 3, 80)), rng.normal(0, 1, 80), rng.uniform(0.5, 2, 80)
        group = rng.integers(0, 3, 80)
        out = np.empty(5)
        _kernels.fourier_squares(t, y, w, group, 3, 0.8, 0.37, 3, out)
        for k, squares in enumerate(out):
            angles = 2 * math.pi * (0.8 + 0.37 * k) * np.outer(t, [1, 2, 3])
            design = np.concatenate([np.cos(angles), np.sin(angles), np.eye(3)[group]], axis=1) * np.sqrt(w)[:, None]
            solution, *_ = np.linalg.lstsq(design, np.sqrt(w) * y, rcond=None)
            self.assertAlmostEqual(squares, float(((np.sqrt(w) * y - design @ solution) ** 2).sum()), places=7)

    def test_light_time_distance_and_phase(self) -> None:
        jd = np.array([2461000.0, 2461010.0])
        table = Geometry(jd, np.array([2.0, 2.2]), np.array([1.0, 1.4]), np.array([0.0, 20.0]))
        found = reduced(jd, np.array([15.0, 15.0]), table)
        assert not isinstance(found, Failed)
        # A light minute is 1/499.005 au times 60; at phase 0 only distances count.
        self.assertAlmostEqual((jd[0] - found[0][0]) * 86400, 499.005, delta=0.01)
        self.assertAlmostEqual(found[1][0], 15 - 5 * math.log10(2.0), places=9)
        # At 20 degrees a body of G = 0.15 gives 0.85 x 0.3276 + 0.15 x 0.7984 of its light.
        self.assertAlmostEqual(found[1][1], 15 - 5 * math.log10(2.2 * 1.4) - 1.0, delta=0.005)
        self.assertIsInstance(reduced(jd + 1, jd, table), Failed)
