"""Where a finding begins: a little more than the limit is told, a little less is not; and shapes of a star with a direction."""

import math
import unittest
from datetime import UTC, datetime, timedelta
from typing import Any

import numpy as np

from ulvar.inspection import ExposureSummary, Finding, StarCloseUp, look_at_star, series_findings
from ulvar.inspection.pixels import look_at


def night(count: int = 24, **columns: Any) -> list[ExposureSummary]:
    """A steady series; columns that are given replace its own."""
    usual: dict[str, Any] = {
        "fwhm_px": 3.0, "ellipticity": 0.2, "sky_adu": 500.0, "transparency": 1.0, "shift_px": (0.0, 0.0), "rotation_deg": 0.0,
        "rejected": math.nan, "trails": 0, "airmass": 1.2, "sun": -40.0,
    }  # fmt: skip
    begin = datetime(2027, 2, 11, 20, tzinfo=UTC)

    def value(name: str, i: int) -> Any:
        given = columns.get(name, usual[name])
        return given[i] if isinstance(given, list) else given

    return [ExposureSummary(f"{i}", begin + timedelta(minutes=5 * i), *(value(name, i) for name in usual)) for i in range(count)]


def told(code: str, **columns: Any) -> Finding | None:
    return next((f for f in series_findings(night(**columns)) if f.code == code), None)


class Twilight(unittest.TestCase):
    """Dawn is a sky brighter than the night's while the Sun is less than 18 degrees under the horizon."""

    def skies(self, last: float) -> list[float]:
        return [500.0 + 5 * (-1) ** i for i in range(22)] + [last, last]

    def suns(self, last: float) -> list[float]:
        return [-40.0] * 22 + [last, last]

    def test_the_sun_decides(self) -> None:
        found = told("dawn", sky_adu=self.skies(900.0), sun=self.suns(-17.9))
        assert found is not None
        self.assertEqual(found.files, ("22", "23"))
        self.assertIn("1.8 times as bright", found.text)
        self.assertIn("\u221218° high", found.text)
        for sun in (-18.1, -18.9, -30.0, math.nan):
            self.assertIsNone(told("dawn", sky_adu=self.skies(900.0), sun=self.suns(sun)), sun)

    def test_light_that_follows_dusk_is_none_of_it(self) -> None:
        dusk = told("dawn", sky_adu=[900.0, 900.0, 5000.0, *self.skies(500.0)[:21]], sun=[-10.0, -12.0, *[-40.0] * 22])
        assert dusk is not None
        self.assertEqual(dusk.files, ("0", "1"))
        self.assertIn("1.8 times as bright", dusk.text)

    def test_half_as_bright_again(self) -> None:
        self.assertIsNotNone(told("dawn", sky_adu=self.skies(780.0), sun=self.suns(-10.0)))
        self.assertIsNone(told("dawn", sky_adu=self.skies(720.0), sun=self.suns(-10.0)))


class Long(unittest.TestCase):
    def test_beside_what_is_usual(self) -> None:
        for worst, usual, expected in ((0.36, 0.2, True), (0.34, 0.2, False), (0.26, 0.05, True), (0.24, 0.05, False)):
            with self.subTest(worst=worst, usual=usual):
                found = told("trailing", ellipticity=[usual] * 23 + [worst])
                self.assertEqual(found is not None and found.files == ("23",), expected)


class Shapes(unittest.TestCase):
    def test_an_ellipse_with_a_direction(self) -> None:
        rng = np.random.default_rng(5)
        ys, xs = np.mgrid[:120, :160]
        for angle, ratio in ((0.0, 0.7), (35.0, 0.6), (90.0, 0.7), (-50.0, 0.8)):
            c, s = math.cos(math.radians(angle)), math.sin(math.radians(angle))
            along, beside = (xs - 80.3) * c + (ys - 60.7) * s, (ys - 60.7) * c - (xs - 80.3) * s
            a = 2.2
            light = 3000 * np.exp(-0.5 * ((along / a) ** 2 + (beside / (ratio * a)) ** 2))
            image = (200 + light + rng.normal(0, 8, light.shape)).astype(np.float32)
            star = look_at_star(image, 80.0, 61.0, fwhm_px=4.0, gain_e_per_adu=1.0)
            assert isinstance(star, StarCloseUp)
            with self.subTest(angle=angle, ratio=ratio):
                self.assertLess(abs(star.ellipticity - (1 - ratio)), 0.03)
                self.assertLess(abs((star.angle_deg - angle + 90) % 180 - 90), 3)


class Levels(unittest.TestCase):
    def test_a_hundredth_lies_beyond_each_level(self) -> None:
        band = np.random.default_rng(2).permutation(np.arange(40_000, dtype=np.float32)).reshape(200, 200)
        look = look_at(band)
        # Of 20,000 values the percentile is known to its own scatter, 0.07 % of the range.
        self.assertLess(abs(look.low_adu - 400), 120)
        self.assertLess(abs(look.high_adu - 39_600), 120)
        self.assertEqual((look.maximum_adu, look.at_maximum, look.pixels, look.finite), (39_999.0, 1, 40_000, 1.0))
