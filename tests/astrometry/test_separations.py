"""Separation and position angle, against places that were worked out otherwise."""

import math
import unittest

import numpy as np

from ulvar.astrometry import Wcs, offset_position, position_angle_deg, separation_deg, separation_on_sky


def solution(ra: float, dec: float, turn: float = 0.0, *, mirrored: bool = False, scale: float = 1.0) -> Wcs:
    c, s = math.cos(math.radians(turn)), math.sin(math.radians(turn))
    hand = 1.0 if mirrored else -1.0
    return Wcs(ra, dec, 100.0, 80.0, np.array([[hand * c, -s], [hand * s, c]]) * scale / 3600)


class Angles(unittest.TestCase):
    def test_quarters(self) -> None:
        for east, north, angle in ((0, 1, 0), (1, 0, 90), (0, -1, 180), (-1, 0, 270), (1, 1, 45)):
            for ra, dec in ((0.0, 0.0), (359.9999, 40.0), (120.0, -70.0)):
                there = offset_position(ra, dec, east / 3600, north / 3600)
                self.assertAlmostEqual(float(position_angle_deg(ra, dec, *there)), angle, delta=0.02)

    def test_close_to_the_pole(self) -> None:
        # From the pole's one side to the other: straight north.
        self.assertAlmostEqual(float(position_angle_deg(10.0, 89.9, 190.0, 89.9)), 0.0, delta=1e-9)
        self.assertAlmostEqual(3600 * float(separation_deg(10.0, 89.9, 190.0, 89.9)), 720.0, delta=1e-6)


class OnSky(unittest.TestCase):
    def test_known_offsets(self) -> None:
        # +y is north, +x west: to the left is east.
        plain = separation_on_sky(solution(50.0, 20.0), np.array([100.0, 80.0, 90.0, 80.0]))
        self.assertAlmostEqual(plain.arcsec, 10.0, delta=1e-6)
        self.assertAlmostEqual(plain.angle_deg, 90.0, delta=1e-4)
        self.assertTrue(math.isnan(plain.arcsec_error))
        np.testing.assert_allclose(plain.offset, (10.0, 0.0), atol=1e-4)
        mirrored = separation_on_sky(solution(50.0, 20.0, mirrored=True), np.array([100.0, 80.0, 90.0, 80.0]))
        self.assertAlmostEqual(mirrored.angle_deg, 270.0, delta=1e-4)
        # Turned by 30 degrees, +y points to 360 - 30 there, for the matrix turns the sky the other way.
        turned = solution(50.0, 20.0, 30.0)
        up = separation_on_sky(turned, np.array([100.0, 80.0, 100.0, 100.0]))
        self.assertAlmostEqual(up.angle_deg, turned.rotation_deg, delta=1e-4)
        self.assertAlmostEqual(up.arcsec, 20.0, delta=1e-6)

    def test_errors_are_those_of_many_trials(self) -> None:
        rng = np.random.default_rng(2)
        wcs = solution(0.001, 65.0, 40.0, scale=1.7)
        places = np.array([96.0, 82.0, 103.0, 78.5])
        # First and second star, each with errors along and across that are not alike.
        covariance = np.array([[4.0, 1.5, 0.6, 0], [1.5, 2.0, 0, 0], [0.6, 0, 9.0, -3.0], [0, 0, -3.0, 5.0]]) * 1e-4
        found = separation_on_sky(wcs, places, covariance)
        trials = rng.multivariate_normal(places, covariance, 4000)
        each = [separation_on_sky(wcs, trial) for trial in trials]
        self.assertAlmostEqual(found.arcsec_error / np.std([e.arcsec for e in each]), 1, delta=0.05)
        self.assertAlmostEqual(found.angle_error_deg / np.std([e.angle_deg for e in each]), 1, delta=0.05)
        parts = np.array([e.offset for e in each])
        np.testing.assert_allclose(found.offset, parts.mean(axis=0), atol=4 * parts.std() / math.sqrt(4000))

    def test_errors_on_both_sides_of_north(self) -> None:
        wcs = solution(50.0, 20.0)
        found = separation_on_sky(wcs, np.array([100.0, 80.0, 100.0, 90.0]), np.diag([0.0, 0.0, 0.1**2, 0.1**2]))
        self.assertLess(min(found.angle_deg, 360 - found.angle_deg), 1e-3)
        self.assertAlmostEqual(found.angle_error_deg, math.degrees(0.01), delta=1e-3)

    def test_errors_along_the_axes(self) -> None:
        wcs = solution(50.0, 20.0)
        # To the east by 10 px: errors along x are those towards east.
        found = separation_on_sky(wcs, np.array([100.0, 80.0, 90.0, 80.0]), np.diag([0.03**2, 0.1**2, 0.04**2, 0.0]))
        np.testing.assert_allclose(found.offset_error, (0.05, 0.1), rtol=1e-3)
        self.assertAlmostEqual(found.angle_error_deg, math.degrees(0.01), delta=1e-4)
