"""Header dialects, angles, facts from the user, grouping."""

import math
import unittest
from datetime import UTC, datetime, timedelta

from hypothesis import example, given, settings
from hypothesis import strategies as st

from ulvar.frames import ExposureFacts, Role, Tolerances, facts_from_header, group_exposures, parse_angle, parse_position, with_user_facts
from ulvar.frames.dialects import role_from_path, role_from_words
from ulvar.frames.times import parse_time, utc_from_scale

# Of the made-up headers.
_CARDS = (
    "EXPTIME", "RA", "DEC", "DATE-OBS", "MJD-OBS", "JD", "TIME-OBS", "TIMESYS", "CD1_1", "BAYERPAT", "GAIN", "XBINNING", "IMAGETYP",
    "FOCALLEN", "XPIXSZ", "CRVAL1", "CTYPE1", "SITELAT",
)  # fmt: skip


class Silent(unittest.TestCase):
    """What a header does not say, and what it says in other ways."""

    def facts(self, **cards: object) -> ExposureFacts:
        return facts_from_header(cards, "a.fits", width=10, height=10, planes=1, bitpix=16, hdu=0, size_bytes=1, mtime_ns=1)

    def test_no_pedestal_is_none(self) -> None:
        facts = self.facts()
        self.assertEqual((facts.pedestal_adu, facts.binning, facts.count, facts.filter), (0.0, 1, 1, ""))
        self.assertEqual(self.facts(PEDESTAL=-100).pedestal_adu, self.facts(PEDESTAL=-100.0).pedestal_adu)

    def test_the_middle_of_a_solution_is_the_pointing_where_nothing_else_is(self) -> None:
        solved = {"CTYPE1": "RA---TAN", "CTYPE2": "DEC--TAN", "CRVAL1": 115.5, "CRVAL2": 41.3}
        facts = self.facts(**solved)
        self.assertEqual((facts.ra_deg, facts.dec_deg), (115.5, 41.3))
        self.assertEqual(self.facts(**solved, RA=10.0, DEC=20.0).ra_deg, 10.0)
        for changes in ({"CTYPE1": "LINEAR"}, {"CRVAL1": None}, {"CRVAL2": "x"}):
            facts = self.facts(**{**solved, **changes})
            self.assertEqual((facts.ra_deg, facts.dec_deg), (None, None))

    def test_a_pointing_that_is_nowhere_on_the_sky_is_none(self) -> None:
        for cards in ({"RA": 1.7e308, "DEC": 10.0}, {"RA": 10.0, "DEC": -90.5}, {"RA": -361.0, "DEC": 0.0}):
            facts = self.facts(**cards)
            self.assertEqual((facts.ra_deg, facts.dec_deg), (None, None), cards)
            self.assertNotIn("ra_deg", facts.origins)
        self.assertEqual(self.facts(RA=-20.0, DEC=-90.0).ra_deg, -20.0)

    def test_places_at_the_edge_of_the_sky(self) -> None:
        self.assertEqual(parse_position("360,-90"), (360.0, -90.0))
        self.assertEqual(parse_position("0,90"), (0.0, 90.0))
        for text in ("360.01,0", "-0.01,0", "10,90.01", "10,-90.01", "10", "1,2,3"):
            with self.assertRaises(ValueError):
                parse_position(text)


class Roles(unittest.TestCase):
    """Role words in the spellings of the trade."""

    def test_words(self) -> None:
        cases = {
            "Light Frame": Role.LIGHT, "LIGHT": Role.LIGHT, "object": Role.LIGHT, "science": Role.LIGHT,
            "Bias Frame": Role.BIAS, "zero": Role.BIAS, "Dark": Role.DARK, "DARKS": Role.DARK,
            "Flat Field": Role.FLAT, "skyflat": Role.FLAT, "Dark Flat": Role.DARK_FLAT, "FLATDARK": Role.DARK_FLAT,
            "darkflat": Role.DARK_FLAT, "flat_dark": Role.DARK_FLAT, "darks for flats": Role.DARK_FLAT,
        }  # fmt: skip
        for text, role in cases.items():
            with self.subTest(text=text):
                self.assertEqual(role_from_words(text), (role, False))
        self.assertEqual(role_from_words("Master Dark"), (Role.DARK, True))
        self.assertEqual(role_from_words("masterFlat"), (Role.FLAT, True))
        for text in ("", "tracking", "darkness", "flatter", "12"):
            self.assertIsNone(role_from_words(text))

    def test_path_takes_the_name_first_then_the_nearest_folder(self) -> None:
        self.assertEqual(role_from_path("night/flats/bias-001.fits"), (Role.BIAS, False))
        self.assertEqual(role_from_path("darks/flats/V/001.fits"), (Role.FLAT, False))
        self.assertEqual(role_from_path("dark flats/R/DF-R-001.fits"), (Role.DARK_FLAT, False))
        self.assertIsNone(role_from_path("a/b/c.fits"))

    def test_header_wins_over_path(self) -> None:
        facts = facts_from_header({"IMAGETYP": "Dark Frame"}, "flats/a.fits")
        self.assertEqual((facts.role, facts.origins["role"]), (Role.DARK, "header IMAGETYP"))


class Dialects(unittest.TestCase):
    """Keywords of many programs to one set of facts, each with its origin."""

    def test_same_facts_from_different_dialects(self) -> None:
        first = facts_from_header(
            {"EXPTIME": 240.0, "DATE-OBS": "2027-02-11T22:00:00.500", "RA": 115.53, "DEC": 41.3, "CCD-TEMP": -15.0, "XBINNING": 1,
             "SITELAT": 61.2, "SITELONG": 9.7, "SITEELEV": 640.0, "FOCALLEN": 625.8, "XPIXSZ": 3.76, "EGAIN": 1.3}, "a.fits",
        )  # fmt: skip
        second = facts_from_header(
            {"EXPOSURE": "240", "DATE-OBS": "2027-02-11", "TIME-OBS": "22:00:00.5", "OBJCTRA": "07 42 07.2", "OBJCTDEC": "+41 18 00",
             "SET-TEMP": -15, "BINNING": "1x1", "SITELAT": "+61 12 00", "SITELONG": "+09 42 00", "SITEELEV": "640", "SECPIX": 1.2393,
             "CCDGAIN": 1.3}, "b.fits",
        )  # fmt: skip
        for name in ("exposure_s", "start_utc", "mid_utc", "binning", "site", "gain_e_per_adu"):
            self.assertEqual(getattr(first, name), getattr(second, name), name)
        for name, tolerance in (("ra_deg", 1e-9), ("dec_deg", 1e-9), ("scale_arcsec_px", 1e-3), ("sensor_temperature_c", 0)):
            self.assertAlmostEqual(getattr(first, name), getattr(second, name), delta=tolerance + 1e-12)
        self.assertEqual(first.mid_utc, datetime(2027, 2, 11, 22, 2, 0, 500000, tzinfo=UTC))
        self.assertEqual(first.origins["exposure_s"], "header EXPTIME")
        self.assertEqual(second.origins["exposure_s"], "header EXPOSURE")

    def test_empty_header_knows_nothing(self) -> None:
        facts = facts_from_header({}, "x.fits")
        for name in ("exposure_s", "gain", "temperature_c", "start_utc", "ra_deg", "scale_arcsec_px", "site", "gain_e_per_adu"):
            self.assertIsNone(getattr(facts, name), name)
        self.assertEqual((facts.role, facts.filter, facts.binning), (Role.UNKNOWN, "", 1))
        self.assertEqual(ExposureFacts("x").binning, 1)

    def test_nonsense_values_are_passed_over(self) -> None:
        facts = facts_from_header(
            {"EXPTIME": "n/a", "EXPOSURE": 3.0, "GAIN": "high", "DATE-OBS": "yesterday", "RA": "x", "FILTER": "None"}, "x.fits"
        )
        self.assertEqual((facts.exposure_s, facts.gain, facts.start_utc, facts.ra_deg, facts.filter), (3.0, None, None, None, ""))

    def test_times(self) -> None:
        noon = datetime(2027, 2, 11, 12, tzinfo=UTC)
        for header in ({"MJD-OBS": 61447.5}, {"JD": 2461448.0}, {"DATE-BEG": "2027-02-11T12:00:00Z"}, {"DATE-OBS": "2027/02/11 12:00:00"}):
            start = facts_from_header(header, "x").start_utc
            assert start is not None
            self.assertLess(abs(start - noon), timedelta(milliseconds=1), header)
        facts = facts_from_header({"DATE-OBS": "2027-02-11T12:00:00", "DATE-AVG": "2027-02-11T12:00:31", "EXPTIME": 60}, "x")
        self.assertEqual(facts.mid_utc, noon + timedelta(seconds=31))
        self.assertEqual(parse_time("2027-02-11T12:00:00.123456789"), noon + timedelta(microseconds=123456))

    def test_time_scales_are_brought_to_utc(self) -> None:
        noon = datetime(2027, 2, 11, 12, tzinfo=UTC)
        # TAI - UTC is 37 s since 2017; TT is 32.184 s ahead of TAI, GPS time 19 s behind it.
        for scale, ahead, tolerance in (
            ("UTC", 0.0, 0.0), ("UT1", 0.0, 0.0), ("TAI", 37.0, 0.0), ("TT", 69.184, 0.0), ("GPS", 18.0, 0.0), ("TDB", 69.184, 0.002),
            ("TT(TAI)", 69.184, 0.0),
        ):  # fmt: skip
            with self.subTest(scale=scale):
                told = f"{noon + timedelta(seconds=ahead):%Y-%m-%dT%H:%M:%S.%f}"
                facts = facts_from_header({"DATE-OBS": told, "TIMESYS": scale, "EXPTIME": 60.0}, "x")
                self.assertLessEqual(abs((facts.start_utc - noon).total_seconds()), tolerance)  # type: ignore[operator]
                self.assertEqual(facts.mid_utc, facts.start_utc + timedelta(seconds=30))  # type: ignore[operator]
        days = 61447.5 + 69.184 / 86400
        by_day = facts_from_header({"MJD-OBS": days, "TIMESYS": "TT"}, "x").start_utc
        self.assertLess(abs(by_day - noon), timedelta(milliseconds=1))  # type: ignore[operator]
        self.assertIsNone(facts_from_header({"DATE-OBS": "2027-02-11T12:00:00", "TIMESYS": "LOCAL"}, "x").start_utc)
        early = utc_from_scale(datetime(2016, 12, 31, 23, 59, 59, tzinfo=UTC) + timedelta(seconds=36), "TAI")
        self.assertEqual(early, datetime(2016, 12, 31, 23, 59, 59, tzinfo=UTC), "before the leap second there were 36")

    @given(
        st.dictionaries(
            st.sampled_from(_CARDS), st.one_of(st.text(max_size=20), st.floats(), st.integers(-(10**12), 10**12), st.booleans(), st.none())
        )
    )
    @example({"MJD-OBS": 1e300})
    @example({"JD": -1e9, "EXPTIME": 1e300})
    @example({"DATE-OBS": "0001-01-01T00:00:00", "TIMESYS": "TAI"})
    @example({"DATE-OBS": "9999-12-31T23:59:59", "EXPTIME": 1e9, "TIMESYS": "TDB"})
    @settings(max_examples=200, deadline=None)
    def test_no_header_breaks_the_reader(self, header: dict) -> None:
        facts = facts_from_header(header, "x.fits")
        self.assertTrue(facts.exposure_s is None or math.isfinite(facts.exposure_s))
        self.assertGreaterEqual(facts.binning, 1)


class Angles(unittest.TestCase):
    """Angles as people write them."""

    @given(st.floats(0, 359.999))
    def test_round_trip_of_hours(self, degrees: float) -> None:
        hours = degrees / 15
        h, m = int(hours), int(hours * 60 % 60)
        # Of a whole minute rounding may leave a little less than no second.
        s = abs(hours * 3600 - h * 3600 - m * 60)
        if s >= 59.9999995:
            return
        self.assertAlmostEqual(parse_angle(f"{h:02d}:{m:02d}:{s:.6f}", hours=True), degrees, delta=1e-6)

    def test_signs_and_forms(self) -> None:
        for text, value in (("-00:30:00", -0.5), ("−41 18 36", -41.31), ("+41d18m36s", 41.31), ("41.31", 41.31)):
            self.assertAlmostEqual(parse_angle(text), value, places=9)
        for text in ("", "abc", "12:61:00", "12:00:60", "nan", "1:2:3:4"):
            with self.assertRaises(ValueError, msg=text):
                parse_angle(text)

    def test_positions(self) -> None:
        ra, dec = parse_position("07:42:10.5,+41:18:03")
        self.assertAlmostEqual(ra, 115.54375)
        self.assertAlmostEqual(dec, 41.300833333)
        for text in (
            "07 42 10.5 +41 18 03", "7h42m10.5s 41d18m03s", "J074210.5+411803", "115.54375 41.3008333", "RA 07 42 10.5  Dec +41 18 03.0",
            "ra=115.54375 dec=41.3008333", "07 42 10.5 41 18 03", "7:42:10.5 41:18:03",
        ):  # fmt: skip
            ra, dec = parse_position(text)
            self.assertAlmostEqual(ra, 115.54375, places=6, msg=text)
            self.assertAlmostEqual(dec, 41.300833333, places=6, msg=text)
        self.assertAlmostEqual(parse_position("J001500.0−003000")[1], -0.5)
        for text in ("1", "1,2,3", "10,91", "400,0", "a,b", "1 2 3", "12 61 00 +10 00 00", "J07421+411803"):
            with self.assertRaises(ValueError, msg=text):
                parse_position(text)


class UserFacts(unittest.TestCase):
    """Facts given by the user win and say so."""

    def test_given_facts(self) -> None:
        facts = facts_from_header({"DATE-OBS": "2027-02-11T12:00:00"}, "x.fits")
        given_facts = with_user_facts(facts, {"gain_e_per_adu": "1.45", "site": "61.20,9.70,640", "role": "dark flat", "exposure_s": "60"})
        self.assertEqual((given_facts.gain_e_per_adu, given_facts.site, given_facts.role), (1.45, (61.2, 9.7, 640.0), Role.DARK_FLAT))
        self.assertEqual(given_facts.origins["gain_e_per_adu"], "user")
        self.assertEqual(given_facts.mid_utc, datetime(2027, 2, 11, 12, 0, 30, tzinfo=UTC))
        self.assertEqual(facts.gain_e_per_adu, None)
        self.assertEqual(with_user_facts(ExposureFacts("x"), {"scale_arcsec_px": "0.7"}).scale_arcsec_px, 0.7)
        # A length that no calendar holds has no middle.
        self.assertIsNone(with_user_facts(facts, {"exposure_s": "1e300"}).mid_utc)

    def test_a_corrected_start_carries_the_middle_with_it(self) -> None:
        later = "2027-02-11T14:00:00"
        start = datetime(2027, 2, 11, 14, tzinfo=UTC)
        for header, wait in (
            ({"DATE-OBS": "2027-02-11T12:00:00"}, 0.0),
            ({"DATE-OBS": "2027-02-11T12:00:00", "DATE-AVG": "2027-02-11T12:00:40"}, 40.0),
            ({"DATE-OBS": "2027-02-11T12:00:00", "EXPTIME": 50.0}, 25.0),
            ({}, 0.0),
        ):
            with self.subTest(header=header):
                given_facts = with_user_facts(facts_from_header(header, "x.fits"), {"start_utc": later})
                self.assertEqual(given_facts.mid_utc, start + timedelta(seconds=wait))
        told = with_user_facts(facts_from_header({}, "x.fits"), {"start_utc": later, "mid_utc": "2027-02-11T14:00:07"})
        self.assertEqual(told.mid_utc, start + timedelta(seconds=7), "a middle that is given stays")

    def test_a_clock_that_is_off_moves_the_header_s_times(self) -> None:
        facts = facts_from_header({"DATE-OBS": "2027-02-11T12:00:00", "EXPTIME": 50.0}, "x.fits")
        moved = with_user_facts(facts, {"clock_s": "-7200.5"})
        self.assertEqual(moved.start_utc, datetime(2027, 2, 11, 9, 59, 59, 500000, tzinfo=UTC))
        self.assertEqual(moved.mid_utc, datetime(2027, 2, 11, 10, 0, 24, 500000, tzinfo=UTC))
        self.assertEqual((moved.clock_s, moved.origins["clock_s"]), (-7200.5, "user"))
        # What is corrected again counts from the header, too; what is typed is not moved.
        self.assertEqual(with_user_facts(moved, {"clock_s": "0"}).start_utc, facts.start_utc)
        longer = with_user_facts(facts, {"exposure_s": "60", "clock_s": "1"})
        self.assertEqual(longer.mid_utc, datetime(2027, 2, 11, 12, 0, 31, tzinfo=UTC))
        typed = with_user_facts(facts, {"start_utc": "2027-02-11T14:00:00", "clock_s": "5"})
        self.assertEqual(typed.start_utc, datetime(2027, 2, 11, 14, tzinfo=UTC))
        self.assertEqual(with_user_facts(ExposureFacts("x"), {"clock_s": "5"}).start_utc, None)

    def test_wrong_ones_are_told(self) -> None:
        for name, text, message in (
            ("nope", "1", "unknown fact 'nope'"), ("gain", "abc", "gain=abc"), ("site", "1", "site=1"), ("binning", "0", "binning=0"),
            ("clock_s", "nan", "clock_s=nan"), ("row_us", "inf", "row_us=inf"), ("path", "x", "unknown fact"),
        ):  # fmt: skip
            with self.assertRaisesRegex(ValueError, message):
                with_user_facts(ExposureFacts("x"), {name: text})


class Grouping(unittest.TestCase):
    """Groups do not depend on the order of files."""

    def make(self, **facts: object) -> ExposureFacts:
        return ExposureFacts(**{"path": f"{facts}", "role": Role.DARK, "exposure_s": 60.0, "width": 10, "height": 10, **facts})  # type: ignore[arg-type]

    def test_tolerances(self) -> None:
        members = [self.make(temperature_c=t) for t in (-15.2, -14.9, -14.6, -10.0)] + [self.make(exposure_s=61.5, temperature_c=-15.0)]
        groups = group_exposures(members)
        self.assertEqual(sorted(g.count for g in groups), [1, 1, 3])
        self.assertEqual(group_exposures(reversed(members)), groups)

    def test_short_exposures_are_told_apart(self) -> None:
        limits = Tolerances()
        self.assertFalse(limits.same_exposure(1.6, 2.0))
        self.assertTrue(limits.same_exposure(2.0, 2.02))
        self.assertTrue(limits.same_exposure(240.0, 240.4))
        self.assertFalse(limits.same_exposure(240.0, 300.0))
        self.assertTrue(limits.same_exposure(None, None))
        self.assertFalse(limits.same_exposure(None, 1.0))

    def test_filter_matters_for_flats_not_for_darks(self) -> None:
        darks = group_exposures([self.make(filter="V"), self.make(filter="B")])
        flats = group_exposures([self.make(role=Role.FLAT, filter="V"), self.make(role=Role.FLAT, filter="B")])
        self.assertEqual((len(darks), len(flats)), (1, 2))
