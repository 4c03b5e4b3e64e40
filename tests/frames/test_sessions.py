"""Sessions from noon to noon, and sessions and tags by the user's example."""

import unittest
from dataclasses import replace
from datetime import UTC, datetime, timedelta

from hypothesis import given
from hypothesis import strategies as st
from tools.same import kept

from ulvar.frames import ExposureFacts, Role, TagRule, assign_sessions, group_exposures, preview_rule
from ulvar.frames.sessions import folder_parts, noon_offset, pattern_by_example


def facts(path: str, start: datetime | None = None, **changes: object) -> ExposureFacts:
    """Return a light."""
    return ExposureFacts(path, Role.LIGHT, start_utc=start, exposure_s=60.0, width=10, height=10, **changes)  # type: ignore[arg-type]


class Noon(unittest.TestCase):
    """A night is one session wherever on Earth it is."""

    def test_without_lights_and_site_the_others_tell(self) -> None:
        # Flats from 20 to 21 h and at 5 h: the longest gap is from 5 to 20 h, and its middle at 12:30.
        day = datetime(2027, 2, 11, tzinfo=UTC)
        flats = [replace(facts(f"f{h}", day + timedelta(hours=h)), role=Role.FLAT) for h in (20, 21, 29)]
        self.assertEqual(noon_offset(flats), timedelta(hours=12.5))
        # Where there are lights only they count.
        light = facts("l", day + timedelta(hours=2))
        self.assertEqual(noon_offset([*flats, light]), timedelta(hours=14))
        self.assertEqual(noon_offset([replace(f, start_utc=None) for f in flats]), timedelta(hours=12))

    @given(st.floats(-180, 180), st.integers(0, 300))
    def test_one_night_is_one_session(self, longitude: float, day: int) -> None:
        # From 16:00 to 08:00 local mean time.
        evening = datetime(2027, 1, 1, 16, tzinfo=UTC) + timedelta(days=day, hours=-longitude / 15)
        night = [facts(f"{i}", evening + timedelta(hours=i), site_latitude_deg=0.0, site_longitude_deg=longitude) for i in range(17)]
        self.assertEqual(len({f.session for f in assign_sessions(night)}), 1)
        next_night = [facts("n", evening + timedelta(hours=24), site_latitude_deg=0.0, site_longitude_deg=longitude)]
        self.assertEqual(len({f.session for f in assign_sessions(night + next_night)}), 2)

    def test_without_a_site_the_day_is_the_longest_pause(self) -> None:
        # A night of the far west: from 04:00 to 12:00 UTC.
        night = [facts(f"{d} {h}", datetime(2027, 2, 10 + d, h, tzinfo=UTC)) for d in range(3) for h in range(4, 13)]
        self.assertAlmostEqual(noon_offset(night) / timedelta(hours=1), 20.0, delta=0.1)
        sessions = [f.session for f in assign_sessions(night)]
        self.assertEqual(sessions, ["2027-02-09"] * 9 + ["2027-02-10"] * 9 + ["2027-02-11"] * 9)

    def test_files_without_a_time(self) -> None:
        one = [facts("a", datetime(2027, 2, 11, 22, tzinfo=UTC)), facts("b")]
        self.assertEqual([f.session for f in assign_sessions(one)], ["2027-02-11", "2027-02-11"])
        two = [*one, facts("c", datetime(2027, 2, 12, 22, tzinfo=UTC))]
        self.assertEqual(assign_sessions(two)[1].session, "", "with two sessions nobody knows")

    def test_the_users_word_stays(self) -> None:
        given_one = facts("a", datetime(2027, 2, 11, 22, tzinfo=UTC), session="first", origins={"session": "user"})
        self.assertEqual(assign_sessions([given_one])[0].session, "first")


class ByExample(unittest.TestCase):
    """Click the folder; all files fall."""

    ROOTS = ("/data/obs",)

    def test_pattern(self) -> None:
        path = "/data/obs/2027-02-11/lights/V/a.fits"
        self.assertEqual(folder_parts(path, self.ROOTS), ["2027-02-11", "lights", "V"])
        self.assertEqual(pattern_by_example(path, self.ROOTS, 1), "*/{}")
        with self.assertRaises(ValueError):
            pattern_by_example(path, self.ROOTS, 3)
        cases = {
            "{}": "2027-02-11", "*/{}": "lights", "2027-{}": "02-11", "*/l{}s": "ight", "x/{}": "", "*/*/{}": "V", "": "",
        }  # fmt: skip
        for pattern, value in cases.items():
            with self.subTest(pattern=pattern):
                self.assertEqual(TagRule("t", pattern).value(path, self.ROOTS), value)
        for pattern in ("{}/{}", "lights/*"):
            with self.assertRaises(ValueError):
                TagRule("t", pattern).value(path, self.ROOTS)

    def test_all_files_fall(self) -> None:
        members = [facts(f"/data/obs/{night}/{i}.fits") for night in ("n1", "n2") for i in range(3)] + [facts("/data/obs/x.fits")]
        self.assertEqual(preview_rule(TagRule("session", "{}"), members, self.ROOTS), {"": 1, "n1": 3, "n2": 3})
        rules = [TagRule("session", "{}"), TagRule("rig", "n{}")]
        assigned = assign_sessions(members, rules, self.ROOTS)
        self.assertEqual([f.session for f in assigned], ["n1"] * 3 + ["n2"] * 3 + [""])
        self.assertEqual([f.tags.get("rig") for f in assigned], ["1"] * 3 + ["2"] * 3 + [None])
        groups = group_exposures(assigned)
        self.assertEqual(sorted(g.count for g in groups), [1, 3, 3])
        self.assertEqual(len({g.key for g in groups}), 3)
        kept(self, members)

    def test_one_session_keeps_the_keys_of_groups_short(self) -> None:
        assigned = assign_sessions([facts("a", datetime(2027, 2, 11, 22, tzinfo=UTC))])
        (group,) = group_exposures(assigned)
        self.assertNotIn("2027", group.key)
