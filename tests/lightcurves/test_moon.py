"""The Moon's altitude and lit share against the almanac and against plain geometry."""

import unittest
import warnings
from datetime import UTC, datetime, timedelta

import numpy as np

from ulvar.lightcurves import moon_at, sun_altitude_deg

SITE = (61.20, 9.70, 640.0)


class Moon(unittest.TestCase):
    """Phases of February 2027, and what follows from them."""

    def test_phases(self) -> None:
        # New Moon 2027-02-06 15:56 UTC, full Moon 2027-02-20 23:24 UTC; first quarter 2027-02-14 07:58 UTC.
        moments = [
            datetime(2027, 2, 6, 15, 56, tzinfo=UTC), datetime(2027, 2, 20, 23, 24, tzinfo=UTC),
            datetime(2027, 2, 14, 7, 58, tzinfo=UTC),
        ]  # fmt: skip
        _, lit = moon_at(moments, SITE)
        self.assertLess(lit[0], 0.01)
        self.assertGreater(lit[1], 0.99)
        self.assertLess(abs(lit[2] - 0.5), 0.01)

    def test_full_moon_stands_opposite_the_sun(self) -> None:
        start = datetime(2027, 2, 20, 12, tzinfo=UTC)
        moments = [start + timedelta(minutes=20 * i) for i in range(72)]
        moon, _ = moon_at(moments, SITE)
        sun = sun_altitude_deg(moments, SITE)
        # Opposite but for the Moon's latitude (5 degrees), its parallax (1 degree) and half a day's motion (6 degrees).
        self.assertLess(np.abs(moon + sun).max(), 13)
        self.assertLess(np.abs(moon + sun).mean(), 7)

    def test_far_years_are_not_warned_of(self) -> None:
        with warnings.catch_warnings():
            warnings.simplefilter("error")
            height, lit = moon_at([datetime(2090, 2, 6, tzinfo=UTC)], SITE)
        self.assertTrue(np.isfinite([height, lit]).all())

    def test_parallax_lowers_it(self) -> None:
        # The same direction seen from the Earth's middle: a site cannot see it higher.
        moments = [datetime(2027, 2, 18, h, tzinfo=UTC) for h in range(24)]
        here, _ = moon_at(moments, SITE)
        there, _ = moon_at(moments, (SITE[0], SITE[1], -6_378_140.0))
        difference = there - here
        self.assertTrue((difference > -1e-6).all())
        self.assertLess(difference.max(), 1.05, "a degree at the horizon at most")
        self.assertGreater(difference.max(), 0.8)
