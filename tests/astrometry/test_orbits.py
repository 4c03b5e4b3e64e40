"""Minor bodies from their elements, against motion integrated step by step and against a planet's published place."""

import math
from datetime import UTC, datetime, timedelta

import erfa
import numpy as np
from bench.by_hand_sky import MU, TILT, elements_of, zenith_distance
from scipy.integrate import solve_ivp
from tools.cases import FolderCase
from tools.same import kept

from ulvar.astrometry import Orbit, OrbitError, ephemeris, has_elements, heliocentric, observer_at, read_orbits

WHEN = datetime(2027, 2, 11, 22, 30, tzinfo=UTC)
SITE = (47.0, 8.0, 600.0)


class Motion(FolderCase):
    def test_every_conic_against_steps(self) -> None:
        days = np.array([-700.0, -90.0, -1.0, 0.0, 0.5, 30.0, 400.0, 2000.0])
        for q, e in ((2.2, 0.15), (0.6, 0.9), (0.1, 0.995), (1.0, 0.99999), (1.0, 1.0), (1.0, 1.00001), (0.5, 1.3), (2.0, 3.2), (1.5, 0.0)):
            orbit = Orbit("b", q, e, 12.0, 80.0, 210.0, 2461000.5)
            axes = orbit.to_icrs
            begin = np.r_[q * axes[:, 0], math.sqrt(MU * (1 + e) / q) * axes[:, 1]]
            found = heliocentric(orbit, days)
            for k, day in enumerate(days):
                if day == 0:
                    np.testing.assert_allclose(found[k], begin[:3], atol=1e-14)
                    continue
                stepped = solve_ivp(
                    lambda t, s: np.r_[s[3:], -MU * s[:3] / np.linalg.norm(s[:3]) ** 3], (0, day), begin, method="DOP853",
                    rtol=1e-13, atol=1e-15,
                ).y[:3, -1]  # fmt: skip
                np.testing.assert_allclose(found[k], stepped, rtol=2e-9, atol=2e-9, err_msg=f"q {q} e {e} day {day}")

    def test_axes(self) -> None:
        # In the ecliptic, perihelion towards the equinox, then a quarter on: at the solstice, 23.4 degrees north.
        axes = Orbit("b", 1.0, 0.1, 0.0, 0.0, 0.0, 2461000.5).to_icrs
        np.testing.assert_allclose(axes[:, 0], (1, 0, 0), atol=1e-15)
        self.assertAlmostEqual(math.degrees(math.asin(axes[2, 1])), 23.4393, places=3)
        # An orbit over the ecliptic's pole.
        over = Orbit("b", 1.0, 0.1, 90.0, 0.0, 90.0, 2461000.5).to_icrs
        np.testing.assert_allclose(over[:, 0], (0, -math.sin(TILT), math.cos(TILT)), atol=1e-15)

    def test_a_planet(self) -> None:
        # Elements of Mars from its place and speed at one day lead to its published places weeks around.
        jd = 2461448.5
        state = erfa.plan94(jd, 0.0, 4)
        orbit = elements_of(state["p"], state["v"], jd)
        for day in (-40.0, -5.0, 0.0, 10.0, 40.0):
            published = erfa.plan94(jd, day, 4)["p"]
            found = heliocentric(orbit, np.array([jd + day - orbit.perihelion_jd]))[0]
            # The planets pull it away by about so much.
            self.assertLess(float(np.linalg.norm(found - published)), 2e-5, day)
        self.assertLess(float(np.linalg.norm(heliocentric(orbit, np.array([jd - orbit.perihelion_jd]))[0] - state["p"])), 1e-12)


class Seen(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        self.orbit = Orbit("b", 1.6, 0.2, 9.0, 130.0, 40.0, 2461480.5, h_mag=14.0)

    def test_light_is_on_its_way(self) -> None:
        observer = observer_at([WHEN], None)
        seen = ephemeris(self.orbit, [WHEN], None)
        light = float(seen.distance_au[0]) * 499.00478383615643 / 86400
        since = observer.tdb[0] - self.orbit.perihelion_jd + observer.tdb[1]
        for moment, agrees in ((since - light, True), (since, False), (since + light, False)):
            way = heliocentric(self.orbit, moment)[0] - observer.heliocentric[0]
            ra, dec = (math.degrees(math.atan2(way[1], way[0])) % 360, math.degrees(math.asin(way[2] / np.linalg.norm(way))))
            off = 3600 * math.hypot((ra - float(seen.ra[0])) * math.cos(math.radians(dec)), dec - float(seen.dec[0]))
            self.assertEqual(off < 1e-3, agrees, off)
            self.assertLess(off, 60)
        kept(self, observer, seen, way)

    def test_parallax_brings_it_down(self) -> None:
        # From the ground a body stands lower than from the Earth's centre, by 8.8 arcsec over its distance at the horizon.
        lowered = []
        for hours in range(0, 24, 3):
            when = WHEN + timedelta(hours=hours)
            centre, site = ephemeris(self.orbit, [when], None), ephemeris(self.orbit, [when], SITE)
            above = [zenith_distance(float(e.ra[0]), float(e.dec[0]), when, SITE) for e in (centre, site)]
            shift = 3600 * (above[1] - above[0])
            expected = 8.794 / float(centre.distance_au[0]) * math.sin(math.radians(above[0]))
            self.assertAlmostEqual(shift, expected, delta=0.02 * 8.8 / float(centre.distance_au[0]))
            lowered.append(shift)
        self.assertGreater(max(lowered), 1.0)

    def test_magnitude(self) -> None:
        # At opposition the phase is nearly nothing: H + 5 log (r Delta).
        earth = observer_at([WHEN], None).heliocentric[0]
        far = 2.5 * earth / np.linalg.norm(earth)
        speed = np.cross([0, 0, 1.0], far) / 2.5 * math.sqrt(MU / 2.5)
        orbit = elements_of(far, speed + 1e-6, 2461448.4375)
        with_h = Orbit(**{**vars(orbit), "h_mag": 12.0})
        seen = ephemeris(with_h, [WHEN], None)
        self.assertAlmostEqual(float(seen.magnitude[0]), 12 + 5 * math.log10(2.5 * float(seen.distance_au[0])), delta=0.15)
        self.assertTrue(math.isnan(float(ephemeris(orbit, [WHEN], None).magnitude[0])))
        # Away from it light falls as both parts of the law say, each by its own constants (Bowell et al. 1989, with G between them).
        when = [WHEN + timedelta(days=d) for d in (40, 90, 150)]
        for slope in (0.0, 0.15, 1.0):
            side = ephemeris(Orbit(**{**vars(with_h), "slope": slope}), when, None)
            earth = observer_at(when, None).heliocentric
            sides = side.from_sun_au, side.distance_au, np.linalg.norm(earth, axis=1)
            phase = np.arccos((sides[0] ** 2 + sides[1] ** 2 - sides[2] ** 2) / (2 * sides[0] * sides[1]))
            half = np.tan(phase / 2)
            light = (1 - slope) * np.exp(-3.33 * half**0.63) + slope * np.exp(-1.87 * half**1.22)
            np.testing.assert_allclose(side.magnitude, 12 + 5 * np.log10(sides[0] * sides[1]) - 2.5 * np.log10(light), atol=1e-3)
        side = ephemeris(with_h, [WHEN + timedelta(days=120)], None)
        bare = 12 + 5 * math.log10(float(side.from_sun_au[0] * side.distance_au[0]))
        self.assertGreater(float(side.magnitude[0]), bare + 0.5)


class Tables(FolderCase):
    def table(self, text: str) -> str:
        path = self.folder / "elements.csv"
        path.write_text(text)
        return str(path)

    def test_anomaly_and_perihelion_say_the_same(self) -> None:
        motion = math.degrees(math.sqrt(MU / 2.0**3))
        rows = read_orbits(
            self.table(
                "# made up\nName,epoch,a,e,incl,node,peri,M,H,G\n"
                f"one,2461440.5,2.0,0.2,5,10,20,{30.0},15.1,0.25\ntwo,2027-02-04T00:00:00,2.0,0.2,5,10,20,350,,\n"
            )
        )
        one, two = rows
        self.assertEqual((one.name, one.perihelion_au, one.h_mag, one.slope), ("one", 1.6, 15.1, 0.25))
        self.assertAlmostEqual(one.perihelion_jd, 2461440.5 - 30 / motion, places=6)
        self.assertAlmostEqual(two.epoch_jd, 2461440.5, places=6)
        # The perihelion that is next, not the one before.
        self.assertAlmostEqual(two.perihelion_jd, 2461440.5 + 10 / motion, places=6)
        self.assertTrue(math.isnan(two.h_mag))
        self.assertEqual(two.slope, 0.15)
        (comet,) = read_orbits(self.table("designation,q,e,i,om,w,tp\nC,1.1,1.0,100,20,30,2027-03-01\n"))
        self.assertEqual((comet.perihelion_jd, comet.node_deg, comet.argument_deg), (2461465.5, 20.0, 30.0))

    def test_what_cannot_be_used_is_named(self) -> None:
        head = "name,epoch,a,e,i,node,peri,M\n"
        for text, words in (
            ("", "empty"), ("name,ra,dec\n", "lacks the columns"), (head, "lists no body"), (head + "x,2461440,2,0.1,a,1,1,1\n", "line 2: 'a' under i"),
            (head + "x,2461440,2,-0.1,1,1,1,1\n", "line 2: an eccentricity"), (head + "\n# c\nx,12,2,0.1,1,1,1,1\n", "line 4: 12 under epoch"),
            (head + "x,soon,2,0.1,1,1,1,1\n", "neither a Julian date"), (head + "x,2461440,-2,0.1,1,1,1,1\n", "perihelion distance"),
            (head + "x,2461440,2,0.1,1,1,1,\n", "tp is needed"), (head + "x,2461440,2,1,1,1,1,1\n", "q is needed"), (head + "x,2461440,nan,0.1,1,1,1,1\n", "no number"),
        ):  # fmt: skip
            with self.assertRaisesRegex(OrbitError, words):
                read_orbits(self.table(text))
        with self.assertRaisesRegex(OrbitError, "nowhere"):
            read_orbits(self.folder / "nowhere.csv")
        self.assertTrue(has_elements(["Name", "Q", "E"]))
        self.assertFalse(has_elements(["name", "ra", "dec", "time_utc"]))
