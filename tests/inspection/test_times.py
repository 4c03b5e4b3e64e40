"""Times that cannot be: equal, overlapping, set during the night, of the end, by day."""

import unittest
from dataclasses import replace
from datetime import UTC, datetime, timedelta

import numpy as np
from tools.same import kept

from ulvar.frames import ExposureFacts, Role
from ulvar.inspection import sun_altitude, time_findings
from ulvar.lightcurves import sun_altitude_deg

SITE = (61.2, 9.7, 640.0)
START = datetime(2027, 2, 11, 20, tzinfo=UTC)


def night(count: int = 20, exposure: float = 60.0, **more: object) -> list[ExposureFacts]:
    """Return lights one after the other, each written a second and a half after its end."""
    made = []
    for k in range(count):
        start = START + timedelta(seconds=(exposure + 4) * k)
        made.append(
            ExposureFacts(
                f"n/f{k:02d}.fits", role=Role.LIGHT, exposure_s=exposure, start_utc=start, mid_utc=start + timedelta(seconds=exposure / 2),
                camera="c", width=10, height=10, site_latitude_deg=SITE[0], site_longitude_deg=SITE[1], site_height_m=SITE[2], mtime_ns=int((start.timestamp() + exposure + 1.5 + 0.1 * (k % 3)) * 1e9), **more,
            )
        )  # fmt: skip
    return made


def moved(facts: ExposureFacts, seconds: float) -> ExposureFacts:
    """Return an exposure with another time in its header."""
    assert facts.start_utc is not None and facts.mid_utc is not None
    shift = timedelta(seconds=seconds)
    return replace(facts, start_utc=facts.start_utc + shift, mid_utc=facts.mid_utc + shift)


def codes(exposures: list[ExposureFacts]) -> dict[str, tuple[str, ...]]:
    return {finding.code: tuple(path[2:5] for path in finding.files) for finding in time_findings(exposures)}


class Times(unittest.TestCase):
    def test_a_good_night_has_none(self) -> None:
        self.assertEqual(codes(night()), {})
        self.assertEqual(codes(night(exposure=3.0)), {})
        # Copied files say nothing of when they were written; two cameras may expose at once.
        copied = [replace(f, mtime_ns=1_900_000_000_000_000_000 + k) for k, f in enumerate(night())]
        self.assertEqual(codes(copied), {})
        self.assertEqual(codes(night() + [replace(f, path=f"m/{f.name}", camera="d") for f in night()]), {})

    def test_equal_and_overlapping(self) -> None:
        lights = night()
        lights[5] = replace(lights[4], path="n/f05.fits")
        self.assertEqual(codes(lights)["times_equal"], ("f04", "f05"))
        quick = [replace(f, exposure_s=0.4, start_utc=START, mtime_ns=0) for f in night()]
        self.assertEqual(codes(quick), {})
        lights = night()
        lights[9:] = [moved(f, -30) for f in lights[9:]]
        self.assertEqual(codes(lights)["times_overlap"], ("f09",))
        # Four seconds lie between exposures; those of up to 55 s may overlap by 1.1 s, longer ones by a fiftieth.
        for exposure, by, told in ((20.0, -5.0, False), (20.0, -5.2, True), (100.0, -5.9, False), (100.0, -6.1, True)):
            lights = night(exposure=exposure)
            lights[9:] = [moved(f, by) for f in lights[9:]]
            self.assertEqual("times_overlap" in codes(lights), told, (exposure, by))

    def test_a_clock_that_was_set(self) -> None:
        for by, words in ((30.0, "later"), (-3000.0, "earlier")):
            lights = night(exposure=10.0)
            lights[12:] = [moved(f, by) for f in lights[12:]]
            found = {f.code: f for f in time_findings(lights)}
            self.assertIn("clock_step", found)
            self.assertEqual(found["clock_step"].files[0], "n/f12.fits" if by > 0 else found["clock_step"].files[0])
            self.assertIn(words, found["clock_step"].text)
        kept(self, found)

    def test_the_end_told_for_the_start(self) -> None:
        self.assertEqual(set(codes([moved(f, 60.0) for f in night()])), {"times_of_end"})
        self.assertEqual(codes([moved(f, 20.0) for f in night()]), {})

    def test_by_day(self) -> None:
        self.assertEqual(set(codes([moved(f, 12 * 3600) for f in night()])) - {"clock_step"}, {"times_by_day"})
        self.assertIn("times_by_day", codes([moved(f, 12 * 3600) for f in night(3)] + night(3)))
        self.assertNotIn("times_by_day", codes([moved(f, 12 * 3600) for f in night(2)]))
        one = night()
        one[3] = moved(one[3], 15 * 3600)
        self.assertNotIn("times_by_day", codes(one))

    def test_the_sun_stands_where_it_does(self) -> None:
        moments = [START + timedelta(hours=7 * k, days=11 * k) for k in range(60)]
        better = sun_altitude_deg(moments, SITE)
        own = np.array([sun_altitude(when, SITE) for when in moments])
        low = np.abs(better) < 60
        # The better one lifts the Sun by refraction near the horizon.
        self.assertLess(np.abs(own - better)[low & ((better < -2) | (better > 10))].max(), 0.15)
