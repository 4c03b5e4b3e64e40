"""Times, airmass, minima, eclipses, periods."""

import math
import unittest
from datetime import UTC, datetime, timedelta
from functools import cache

import erfa
import numpy as np
from tools.same import kept

from tests.lightcurves.support import fit_eclipse
from ulvar.astrometry import two_part
from ulvar.engine import Failed
from ulvar.lightcurves import (
    EclipseShape,
    airmass_at,
    altitude_deg,
    barycentric_jd,
    find_period,
    fit_jointly,
    fold_about,
    jd_from_utc,
    kwee_van_woerden,
    sun_altitude_deg,
)
from ulvar.simulation import EclipsingBinary

SITE = (61.2, 9.7, 640.0)


class Times(unittest.TestCase):
    """Time scales against numbers worked out another way."""

    def test_julian_date(self) -> None:
        moments = [datetime(2000, 1, 1, 12, tzinfo=UTC), datetime(2027, 2, 11, 0, 0, 0, 1, tzinfo=UTC)]
        jd = jd_from_utc(moments)
        self.assertEqual(jd[0], 2451545.0)
        self.assertAlmostEqual(jd[1], 2461447.5, places=9)

    def test_light_travel_over_a_year(self) -> None:
        moments = [datetime(2027, 1, 1, tzinfo=UTC) + timedelta(days=3 * i) for i in range(122)]
        jd = jd_from_utc(moments)
        ecliptic = (barycentric_jd(moments, 90.0, 23.4392911, None) - jd) * 86400
        pole = (barycentric_jd(moments, 270.0, 66.5607089, None) - jd) * 86400
        # TT - UTC is 69.184 s; the Earth is 490.6 to 507.4 light seconds from the Sun, the barycentre a few off.
        self.assertAlmostEqual((ecliptic.max() + ecliptic.min()) / 2, 69.2, delta=12)
        self.assertAlmostEqual((ecliptic.max() - ecliptic.min()) / 2, 499.0, delta=6)
        self.assertLess(np.abs(pole - 69.184).max(), 5)

    def test_site_moves_the_time_by_its_light_travel(self) -> None:
        moments = [datetime(2027, 2, 11, 22, tzinfo=UTC)]
        up = math.sin(math.radians(float(altitude_deg(moments, 115.53, 41.3, SITE)[0])))
        off = (barycentric_jd(moments, 115.53, 41.3, SITE) - barycentric_jd(moments, 115.53, 41.3, None))[0] * 86400
        # The Earth's radius is 21.26 ms of light; the geocentric zenith differs from the site's by 0.2 degrees.
        self.assertAlmostEqual(off * 1000, 21.2 * up, delta=0.3)

    def test_altitude_by_plain_geometry_and_refraction(self) -> None:
        moments = [datetime(2027, 2, 11, 12, tzinfo=UTC) + timedelta(minutes=20 * i) for i in range(72)]
        for ra, dec in ((115.53, 41.3), (250.0, -5.0), (20.0, 12.0)):
            apparent = altitude_deg(moments, ra, dec, SITE)
            day, fraction = two_part(moments)
            turned = erfa.c2t06a(*erfa.taitt(*erfa.utctai(day, fraction)), day, fraction, 0.0, 0.0) @ erfa.s2c(
                math.radians(ra), math.radians(dec)
            )
            zenith = erfa.s2c(math.radians(SITE[1]), math.radians(SITE[0]))
            true = np.degrees(np.arcsin(turned @ zenith))
            # Saemundsson 1986, Sky and Telescope 72, 70, at 5 degrees Celsius and the pressure of 640 m.
            bent = 1.02 / 60 / np.tan(np.radians(true + 10.3 / (true + 5.11))) * (939.3 / 1010) * (283 / 278)
            up = true > 8
            self.assertGreater(up.sum(), 15)
            # Aberration is up to 0.0057 degrees.
            self.assertLess(np.abs(apparent - true - bent)[up].max(), 0.008)
        # Several stars at one moment, and each at its own, as each alone.
        ra, dec = np.array([115.53, 250.0, 20.0]), np.array([41.3, -5.0, 12.0])
        alone = [altitude_deg(moments[k : k + 1], ra[k], dec[k], SITE)[0] for k in range(3)]
        np.testing.assert_allclose(altitude_deg(moments[:3], ra, dec, SITE), alone, atol=1e-12)
        np.testing.assert_allclose(altitude_deg(moments[:1], ra, dec, SITE)[0], alone[0], atol=1e-12)
        self.assertEqual(altitude_deg(moments[:1], ra, dec, SITE).shape, (3,))

    def test_airmass(self) -> None:
        moments = [datetime(2027, 2, 11, 12, tzinfo=UTC) + timedelta(minutes=20 * i) for i in range(72)]
        altitude, airmass = altitude_deg(moments, 115.53, 41.3, SITE), airmass_at(moments, 115.53, 41.3, SITE)
        high = altitude > 40
        np.testing.assert_allclose(airmass[high], 1 / np.sin(np.radians(altitude[high])), rtol=2e-3)
        self.assertAlmostEqual(altitude.max(), 90 - 61.2 + 41.3, delta=0.3)
        south = airmass_at(moments, 115.53, -80.0, SITE)
        self.assertTrue(np.isnan(south).all())

    def test_sun(self) -> None:
        noon = sun_altitude_deg([datetime(2027, 2, 11, 11, 35, tzinfo=UTC)], SITE)[0]
        self.assertAlmostEqual(float(noon), 90 - 61.2 - 14.0, delta=0.4)
        self.assertLess(float(sun_altitude_deg([datetime(2027, 2, 11, 23, 30, tzinfo=UTC)], SITE)[0]), -40)


def draw(seed: int) -> tuple[EclipsingBinary, np.ndarray, np.ndarray, np.ndarray]:
    """Return a binary, and times, magnitudes and errors of its minimum."""
    binary, rng = EclipsingBinary(2461448.4483), np.random.default_rng(seed)
    time = 2461448.4483 + np.sort(rng.uniform(-0.16, 0.15, 75))
    return binary, time, -2.5 * np.log10(binary.flux(time)) + rng.normal(0, 0.004, 75), np.full(75, 0.004)


@cache
def fitted(seed: int):  # type: ignore[no-untyped-def]
    """Return a draw and its fit, made once."""
    one = draw(seed)
    return *one, fit_eclipse(*one[1:])


class Eclipses(unittest.TestCase):
    """Injected minima come back without bias and with errors that are true."""

    def test_template(self) -> None:
        pulls, depth, chi = [], [], []
        for binary, _, _, _, fit in map(fitted, range(24)):
            assert not isinstance(fit, Failed)
            pulls.append((fit.mid - binary.mid_bjd_tdb) / fit.mid_error)
            depth.append(fit.depth_mag - binary.depth_mag)
            chi.append(fit.chi2_reduced)
        # 24 draws: the mean pull is known to 0.2, its scatter to 0.15.
        self.assertLess(abs(np.mean(pulls)), 0.7)
        self.assertLess(np.std(pulls), 1.45)
        self.assertLess(abs(np.median(depth)), 0.003)
        self.assertLess(abs(np.mean(chi) - 1), 0.12)
        kept(self, [fitted(seed)[-1] for seed in range(3)])

    def test_kwee_van_woerden(self) -> None:
        pulls = []
        for binary, time, magnitude, _ in map(draw, range(40)):
            found = kwee_van_woerden(time, magnitude, near=2461448.449, half_width=0.04)
            assert not isinstance(found, Failed)
            pulls.append((found.time - binary.mid_bjd_tdb) / found.error)
        self.assertLess(abs(np.mean(pulls)), 0.6)
        self.assertLess(np.std(pulls), 1.4)

    def test_a_gap_moves_no_folded_minimum(self) -> None:
        pulls, lines = [], []
        for number, (binary, time, magnitude, error) in enumerate(map(draw, range(14))):
            # A third of one flank is not there.
            late = number % 2
            hole = binary.mid_bjd_tdb + (0.006 if late else -0.021)
            seen = (time < hole) | (time > hole + 0.015)
            time, magnitude, error = time[seen], magnitude[seen], error[seen]
            fit = fit_jointly(time, magnitude, error, EclipseShape())
            assert not isinstance(fit, Failed)
            half = 0.36 * fit.values["duration_d"]
            found = fold_about(
                time, magnitude, fit.at, fit.noise_like(time, error, 40), near=fit.values["mid"], duration_d=fit.values["duration_d"],
            )  # fmt: skip
            assert not isinstance(found, Failed)
            side = 1 if late else -1
            pulls.append(side * (found.time - binary.mid_bjd_tdb) / found.error)
            line = kwee_van_woerden(time, magnitude, near=fit.values["mid"], half_width=half)
            if not isinstance(line, Failed):
                lines.append(side * (line.time - binary.mid_bjd_tdb) / found.error)
        # 14 draws: the mean is known to 0.27. Straight lines over the gap are off.
        self.assertLess(abs(np.mean(pulls)), 0.9)
        self.assertLess(np.std(pulls), 1.5)
        self.assertGreater(abs(np.mean(lines)), 1.0)

    def test_folding_knows_what_noise_does(self) -> None:
        pulls, rng = [], np.random.default_rng(6)
        for binary, time, magnitude, error, fit in map(fitted, range(20)):
            noise = rng.normal(0, error, (100, len(time)))
            found = fold_about(time, magnitude, fit.fit.at, noise, near=fit.mid, duration_d=fit.duration_d)
            assert not isinstance(found, Failed)
            pulls.append((found.time - binary.mid_bjd_tdb) / found.error)
        self.assertLess(abs(np.mean(pulls)), 0.8)
        self.assertTrue(0.45 < np.std(pulls) < 1.5, np.std(pulls))

    def test_trend_is_fitted_together(self) -> None:
        binary, time, magnitude, error = draw(0)
        airmass = 1.1 + 30 * (time - time.mean()) ** 2
        plain = fit_eclipse(time, magnitude, error)
        fit = fit_eclipse(time, magnitude + 0.05 * airmass, error, trends=[airmass])
        assert not isinstance(fit, Failed) and not isinstance(plain, Failed)
        self.assertLess(abs(fit.depth_mag - binary.depth_mag), 5 * max(fit.depth_error_mag, 0.003))
        self.assertLess(abs(fit.mid - plain.mid), 3 * fit.mid_error)
        kept(self, binary)

    def test_failures_have_reasons(self) -> None:
        time = np.linspace(0, 1, 30)
        self.assertIn("only 5 points", fit_eclipse(time[:5], time[:5], time[:5]).reason)
        self.assertIn("dip", fit_eclipse(time, np.zeros(30), np.full(30, 0.1)).reason)
        self.assertIsInstance(kwee_van_woerden(time, np.zeros(30), near=0.5, half_width=0.2), Failed)
        self.assertIn("points", kwee_van_woerden(time, time, near=0.5, half_width=0.01).reason)  # type: ignore[union-attr]
        self.assertIn("both sides", kwee_van_woerden(time, (time - 0.02) ** 2, near=0.02, half_width=0.3).reason)  # type: ignore[union-attr]


class Periods(unittest.TestCase):
    """A planted sine is found; noise is not sure of anything."""

    def test_sine_and_noise(self) -> None:
        rng = np.random.default_rng(3)
        time = np.sort(rng.uniform(0, 3, 150))
        signal = 0.02 * np.sin(2 * np.pi * time / 0.0791)
        found = find_period(time, signal + rng.normal(0, 0.01, 150), np.full(150, 0.01), shortest_d=0.02, longest_d=1.0)
        assert not isinstance(found, Failed)
        self.assertLess(abs(found.period_d - 0.0791), 5 * found.period_error_d)
        self.assertLess(found.false_alarm, 1e-6)
        alarms = [
            find_period(time, rng.normal(0, 0.01, 150), np.full(150, 0.01), shortest_d=0.02, longest_d=1.0).false_alarm  # type: ignore[union-attr]
            for _ in range(20)
        ]
        self.assertGreater(np.median(alarms), 0.05)
        self.assertIsInstance(find_period(time[:4], time[:4], time[:4], shortest_d=0.1, longest_d=1), Failed)
        with self.assertRaises(ValueError):
            find_period(time, time, time, shortest_d=1, longest_d=0.1)
