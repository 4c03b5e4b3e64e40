"""Nights of 200 exposures as they are: seeing that wanders, airmass, scatter; and what is planted in them."""

import unittest

from bench.made_judged import COUNT, clean_night, planted
from tools.same import kept

from ulvar.inspection import series_findings


class Nights(unittest.TestCase):
    """What is there is named, what is not there is not."""

    def test_clean_nights_raise_at_most_one(self) -> None:
        counts = [len(series_findings(clean_night(seed))) for seed in range(40)]
        self.assertLessEqual(max(counts), 1)
        self.assertLessEqual(sum(counts), 10, "and most of them nothing at all")

    def check(self, code: str, span: range, share: float = 0.8, **changes) -> None:  # type: ignore[no-untyped-def]
        for seed in range(12):
            with self.subTest(code=code, seed=seed):
                found = [f for f in series_findings(planted(clean_night(seed), span, **changes)) if f.code == code]
                self.assertGreaterEqual(len(found), 1)
                named = {name for f in found for name in f.files}
                wanted = {f"f{i:03d}.fits" for i in span}
                self.assertGreaterEqual(len(named & wanted), share * len(wanted))
                self.assertLessEqual(len(named - wanted), 12)

    def test_clouds(self) -> None:
        self.check("cloud", range(90, 104), transparency=lambda v, k: v * (0.82 - 0.02 * min(k, 13 - k)))

    def test_thin_cloud_at_the_end(self) -> None:
        self.check("cloud", range(180, 200), 0.6, transparency=lambda v, k: v * (0.9 - 0.01 * k))

    def test_a_cloud_over_one_exposure(self) -> None:
        night = planted(clean_night(3), range(90, 91), transparency=lambda v, k: 0.5 * v)
        found = [f for f in series_findings(night) if f.code == "cloud"]
        self.assertEqual([f.files for f in found], [("f090.fits",)])
        self.assertRegex(found[0].title, r"^Cloud at \d\d:\d\d$")
        self.assertRegex(found[0].text, r"^One exposure loses (4|5)\d\xa0% of its light\.$")

    def test_focus_that_drifts_and_is_mended(self) -> None:
        span = range(60, 100)
        for seed in range(12):
            night = planted(clean_night(seed), span, fwhm_px=lambda v, k: v * (1 + 0.6 * (k / 39) ** 1.2))
            found = [f for f in series_findings(night) if f.code == "focus" and "f099.fits" in f.files]
            with self.subTest(seed=seed):
                self.assertEqual(len(found), 1)
                self.assertIn("refocused", found[0].text)

    def test_trailing(self) -> None:
        self.check("trailing", range(33, 36), ellipticity=lambda v, k: 0.45)

    def test_jump(self) -> None:
        for seed in range(12):
            night = planted(clean_night(seed), range(120, COUNT), shift_px=lambda v, k: (v[0] + 25, v[1] - 14))
            found = [f for f in series_findings(night) if f.code == "jump"]
            self.assertEqual([f.files for f in found], [("f120.fits",)], seed)

    def test_dawn(self) -> None:
        self.check(
            "dawn", range(185, COUNT), 0.6, sky_adu=lambda v, k: v * (1 + 0.15 * k**1.3),
            sun_altitude_deg=lambda v, k: -15 + 0.6 * k,
        )  # fmt: skip

    def test_dusk_is_told_from_dawn(self) -> None:
        night = planted(
            clean_night(3), range(10), sky_adu=lambda v, k: v * (4 - 0.3 * k), sun_altitude_deg=lambda v, k: -10 - 0.6 * k,
        )  # fmt: skip
        found = next(f for f in series_findings(night) if f.code == "dawn")
        self.assertTrue(found.title.startswith("Dusk"))
        self.assertIn("until ", found.title + found.text)
        late = planted(
            clean_night(3), range(185, COUNT), sky_adu=lambda v, k: v * (1 + 0.3 * k), sun_altitude_deg=lambda v, k: -15 + 0.6 * k,
        )  # fmt: skip
        found = next(f for f in series_findings(late) if f.code == "dawn")
        self.assertTrue(found.title.startswith("Dawn"))
        self.assertIn("from ", found.title + found.text)
        kept(self, found)

    def test_trails(self) -> None:
        self.check("trail", range(50, 52), trails=lambda v, k: 1)
        night = planted(clean_night(2), (50, 120), trails=lambda v, k: 1)
        (found,) = [f for f in series_findings(night) if f.code == "trail"]
        times = [night[k].mid_utc.strftime("%H:%M") for k in (50, 120)]
        self.assertIn(f"at {times[0]}, {times[1]}.", found.text)

    def test_much_rejected_is_not_called_a_trail(self) -> None:
        night = planted(clean_night(2), range(COUNT), rejected_high=lambda v, k: 0.001)
        night = planted(night, [70], rejected_high=lambda v, k: 0.02)
        found = series_findings(night)
        self.assertEqual([(f.code, f.files) for f in found], [("outliers", ("f070.fits",))])
        self.assertIn("2.00\u00a0% of it, 0.10\u00a0% is usual", found[0].text)
        # Several are one finding; what else explains it is enough.
        both = planted(night, [20], rejected_high=lambda v, k: 0.03)
        (found,) = series_findings(both)
        self.assertEqual((found.title, found.files), ("Outliers in 2 exposures", ("f020.fits", "f070.fits")))
        self.assertIn("up to 3.00\u00a0% of them", found.text)
        for change in ({"fwhm_px": 1.3}, {"sky_adu": 1.5}):
            ((name, factor),) = change.items()
            with self.subTest(name):
                told = series_findings(planted(night, [70], **{name: lambda v, k, f=factor: v * f}))
                self.assertNotIn("outliers", {f.code for f in told})
        # One with a trail is told of once.
        self.assertEqual({f.code for f in series_findings(planted(night, [70], trails=lambda v, k: 1))}, {"trail"})
