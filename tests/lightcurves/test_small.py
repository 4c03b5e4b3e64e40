"""Small rules of timing and of shapes, each against plain sums or numbers worked out by hand."""

import math
import unittest
from unittest import mock

import numpy as np

from ulvar.engine import Failed
from ulvar.lightcurves import (
    EclipseShape,
    Minimum,
    Occultation,
    fit_jointly,
    fit_occultation,
    kwee_van_woerden,
    minimum,
    occultation,
    sample_posterior,
)
from ulvar.lightcurves.rednoise import lasts
from ulvar.lightcurves.shapes import SineShape


class Folding(unittest.TestCase):
    def test_by_plain_sums(self) -> None:
        """Kwee & van Woerden (1956), equations 3 to 7, at the time that was found."""
        rng = np.random.default_rng(4)
        for n in (61, 70, 78, 85):
            t = np.sort(rng.uniform(-0.1, 0.1, n))
            m = 9 - 30 * t**2 + rng.normal(0, 0.004, n)
            found = kwee_van_woerden(t, m, near=0.003, half_width=0.06)
            assert isinstance(found, Minimum), found
            inside = int((np.abs(t - found.time) <= 0.06).sum())
            odd = inside + 1 - inside % 2
            step, half = 0.12 / odd, odd // 2
            y = np.interp(found.time + step * np.arange(-half, half + 1), t, m)
            low, mid, high = (
                half * float(np.mean([(y[i] - y[2 * half + s - i]) ** 2 for i in range(odd) if i < 2 * half + s - i < odd])) for s in (-1, 0, 1)
            )  # fmt: skip
            a, b = 0.5 * (low + high) - mid, 0.5 * (high - low)
            self.assertLess(abs(b / (2 * a)), 0.0025, "it stays where it is")
            error = 0.5 * step * math.sqrt((mid - b * b / (4 * a)) / (a * (max(2, inside / 4) - 1)))
            self.assertAlmostEqual(found.error / error, 1.0, delta=0.01)

    def test_the_scatter_of_draws_is_the_error(self) -> None:
        draws = [Minimum(1.0 + 0.01 * k, 0.5, 50) for k in range(9)]
        with mock.patch.object(minimum, "kwee_van_woerden", side_effect=[Minimum(1.02, 0.1, 50), *draws]):
            found = minimum.fold_about(np.arange(3.0), np.zeros(3), np.zeros_like, np.zeros((9, 3)), near=1.0, duration_d=0.2)
        self.assertEqual((found.time, found.points), (1.02, 50))
        self.assertAlmostEqual(found.error, math.hypot(0.01 * math.sqrt(7.5), 0.04))


class Shapes(unittest.TestCase):
    def test_how_long_what_is_measured_lasts(self) -> None:
        for values, wanted in (
            ({"ingress_d": 0.02, "duration_d": 0.5}, 0.02), ({"duration_d": 0.08}, 0.02), ({"period_d": 0.4}, 0.1), ({"duration_d": 9.0}, 0.25),
            ({"ingress_d": math.nan}, 0.05), ({}, 0.05),
        ):  # fmt: skip
            self.assertAlmostEqual(lasts(values, 1.0), wanted)

    def test_bounds_of_a_period(self) -> None:
        for told, span, wanted in ((1.0, 0.5, (0.8, 1.2)), (1.0, 10.0, (0.96, 1.04)), (None, 10.0, (0.005, 30.0))):
            shape = SineShape(period_d=told)
            np.testing.assert_allclose(np.exp(shape.bounds(np.array([0.0, span]))), np.reshape(wanted, (2, 1)))

    def test_parameters_that_are_drawn(self) -> None:
        shape = EclipseShape()
        p = np.array([0.0, math.log(0.1), 0.1, 0.4, 0.3])
        back = shape.drawn_from(shape.drawn_as(p))
        assert back is not None
        np.testing.assert_allclose(back[0], p)
        # Impacts are told in sums of the radii.
        for k, wrong in ((2, 11.0), (3, 1.1), (3, -0.1), (4, 0.1)):
            q = shape.drawn_as(np.array([0.0, math.log(0.1), 1.5, 0.4, 0.3]))
            q[k] = wrong
            self.assertIsNone(shape.drawn_from(q))

    def test_an_eclipse_begins_with_more_light_than_its_dip_hides(self) -> None:
        t = np.linspace(0, 1, 200)
        starts = EclipseShape().starts(t, np.where(np.abs(t - 0.4) < 0.1, 10.5, 10.0))
        self.assertEqual(len(starts), 6)
        for p in starts:
            # Half a magnitude is 37 % of the light; a smaller disc that passes in front hides its area's share.
            self.assertAlmostEqual(p[4], min(0.95, 1.6 * 0.369 / min(1.0, math.exp(2 * p[2]))), delta=0.001)

    def test_how_far_drawing_is_grows_while_it_is_told(self) -> None:
        rng = np.random.default_rng(2)
        t = np.linspace(0, 0.3, 60)
        m = 10 + 0.05 * np.sin(2 * math.pi * t / 0.15) + rng.normal(0, 0.003, 60)
        fit = fit_jointly(t, m, np.full(60, 0.003), SineShape(period_d=0.15))
        assert not isinstance(fit, Failed)
        told: list[tuple[int, int]] = []
        sample_posterior(t, m, np.full(60, 0.003), fit, {}, most=500, progress=lambda done, total, words: told.append((done, total)))
        done = [d for d, _ in told]
        self.assertTrue(done and done == sorted(set(done)) and done[0] > 0 and done[-1] <= told[0][1])


class Edges(unittest.TestCase):
    def test_short_ones_are_timed_whole_long_ones_edge_by_edge(self) -> None:
        rng = np.random.default_rng(3)
        for frames, together in ((8, True), (40, False)):
            flux = 1000 + rng.normal(0, 2, 600)
            flux[300 : 300 + frames] -= 990
            with (
                mock.patch.object(occultation, "_both", wraps=occultation._both) as both,
                mock.patch.object(occultation, "_edge", wraps=occultation._edge) as edge,
            ):
                found = fit_occultation((np.arange(600) + 0.5) * 0.1, flux, 0.1)
            assert isinstance(found, Occultation)
            self.assertEqual((both.called, edge.called), (together, not together))
            self.assertTrue(all(call.args[4] == 3 for call in edge.call_args_list), "so sure an edge is looked for near by")
            # What is dark, in part or wholly, is no part of the level.
            self.assertAlmostEqual(found.level, 1000, delta=5 * 2 / math.sqrt(600))
