"""Troubles are named with their frames; a steady night raises nothing."""

import unittest
from datetime import UTC, datetime, timedelta

import numpy as np
from tools.same import kept

from ulvar.engine import Failed
from ulvar.frames import ExposureFacts, Role, group_exposures
from ulvar.inspection import ExposureSummary, Severity, intake_findings, series_findings


def series(rng: np.random.Generator, n: int = 60, **changes) -> list[ExposureSummary]:  # type: ignore[no-untyped-def]
    """Return a night's summaries with natural scatter, and changes by index."""
    start = datetime(2027, 2, 11, 19, tzinfo=UTC)
    entries = []
    for i in range(n):
        values = {
            "fwhm_px": 2.9 + 0.08 * rng.standard_normal(), "ellipticity": abs(0.03 + 0.01 * rng.standard_normal()),
            "sky_adu": 100 + rng.standard_normal(), "transparency": 0.98 + 0.01 * rng.standard_normal(),
            "shift_px": tuple(rng.normal(0, 1.8, 2)), "rotation_deg": 0.0, "rejected_high": 0.003 + 0.0002 * rng.standard_normal(),
        }  # fmt: skip
        for name, change in changes.items():
            if i in change:
                values[name] = change[i]
        entries.append(ExposureSummary(f"f{i:03d}.fits", start + timedelta(minutes=5 * i), **values))  # type: ignore[arg-type]
    return entries


class Series(unittest.TestCase):
    """One trouble at a time."""

    def codes(self, **changes) -> dict[str, tuple[str, ...]]:  # type: ignore[no-untyped-def]
        return {f.code: f.files for f in series_findings(series(np.random.default_rng(1), **changes))}

    def test_steady_nights_raise_nothing(self) -> None:
        raised = sum(len(series_findings(series(np.random.default_rng(seed)))) for seed in range(60))
        self.assertLessEqual(raised, 1)

    def test_cloud(self) -> None:
        found = self.codes(transparency={20: 0.8, 21: 0.6, 22: 0.5, 23: 0.7})
        self.assertEqual(found, {"cloud": ("f020.fits", "f021.fits", "f022.fits", "f023.fits")})

    def test_focus(self) -> None:
        found = self.codes(fwhm_px={20 + i: 3.3 + 0.1 * i for i in range(10)})
        self.assertEqual(set(found), {"focus"})
        self.assertIn("f029.fits", found["focus"])
        # One exposure after it is enough to see that somebody put it right.
        late = series(np.random.default_rng(1), fwhm_px={49 + i: 3.3 + 0.1 * i for i in range(10)})
        self.assertIn("then refocused", next(f.text for f in series_findings(late) if f.code == "focus"))

    def test_how_much_wider_depends_on_how_restless_the_seeing_is(self) -> None:
        rng = np.random.default_rng(2)
        wide = dict.fromkeys(range(30, 36), 3.4)
        self.assertEqual(set(self.codes(fwhm_px=dict.fromkeys(range(60), 2.755) | wide)), {"focus"})
        # From a quarter of the best on where stars are by a twentieth wider or narrower from one exposure to the next.
        restless = {i: 2.9 + 0.145 * (-1) ** i + 0.01 * rng.standard_normal() for i in range(60)}
        self.assertEqual(self.codes(fwhm_px=restless | wide), {})
        self.assertEqual(set(self.codes(fwhm_px=restless | dict.fromkeys(range(30, 36), 3.52))), {"focus"})

    def test_trailing_jump_flip_trail(self) -> None:
        self.assertEqual(self.codes(ellipticity={9: 0.6}), {"trailing": ("f009.fits",)})
        moved = {i: (30.0 + 0.5 * (i % 3), -14.0) for i in range(30, 60)}
        self.assertEqual(self.codes(shift_px=moved), {"jump": ("f030.fits",)})
        self.assertEqual(self.codes(rotation_deg=dict.fromkeys(range(33, 60), 180.0)), {"flip": ("f033.fits",)})
        self.assertEqual(self.codes(rejected_high={12: 0.015}), {"outliers": ("f012.fits",)})

    def test_short_and_empty_series(self) -> None:
        self.assertEqual(series_findings([]), [])
        self.assertEqual(series_findings(series(np.random.default_rng(1), 2)), [])


class Intake(unittest.TestCase):
    """Headers that do not fit."""

    def facts(self, role: Role, number: int = 0, **changes) -> ExposureFacts:  # type: ignore[no-untyped-def]
        base = {
            "path": f"{role.value}-{number}-{sorted(changes.items())}.fits", "role": role, "exposure_s": 60.0, "gain": 100.0, "offset": 30.0,
            "temperature_c": -15.0, "width": 10, "height": 10, "filter": "V", "start_utc": datetime(2027, 2, 11, 22, tzinfo=UTC),
            "gain_e_per_adu": 1.3, "site_latitude_deg": 61.2, "site_longitude_deg": 9.7,
        }  # fmt: skip
        return ExposureFacts(**{**base, **changes})  # type: ignore[arg-type]

    def codes(self, *extra: ExposureFacts, failed: tuple[Failed, ...] = ()) -> dict[str, Severity]:
        exposures = [self.facts(Role.LIGHT, i) for i in range(5)] + [self.facts(Role.DARK, i) for i in range(3)] + list(extra)
        return {f.code: f.severity for f in intake_findings(group_exposures(exposures), failed)}

    def test_clean_night(self) -> None:
        self.assertEqual(self.codes(self.facts(Role.FLAT, exposure_s=2.0)), {})

    def test_each_trouble(self) -> None:
        self.assertEqual(self.codes(self.facts(Role.FLAT, gain=0.0)), {"flat_gain": Severity.BLOCKS})
        self.assertEqual(self.codes(self.facts(Role.DARK, offset=10.0)), {"dark_offset": Severity.CHECK})
        self.assertEqual(self.codes(self.facts(Role.DARK, temperature_c=-10.0)), {"dark_temperature": Severity.CHECK})
        (warm,) = intake_findings(group_exposures([self.facts(Role.LIGHT), self.facts(Role.DARK, temperature_c=-10.0)]), ())
        self.assertEqual(warm.text, "60 s at −10 °C; the nearest lights are at −15 °C.")
        self.assertEqual(self.codes(self.facts(Role.UNKNOWN)), {"role_unknown": Severity.CHECK})
        self.assertEqual(self.codes(self.facts(Role.LIGHT, 9, start_utc=None)), {"no_time": Severity.CHECK})
        self.assertEqual(self.codes(self.facts(Role.LIGHT, 9, gain_e_per_adu=None)), {"no_egain": Severity.NOTE})
        self.assertEqual(self.codes(self.facts(Role.DARK_FLAT, gain=None)), {"gain_missing": Severity.NOTE})
        cut = Failed("the file is cut short: it ends at 61% of its rows", "x.fits")
        self.assertEqual(
            self.codes(failed=(cut, Failed("this is not a FITS file", "y.fits"))),
            {"truncated": Severity.CHECK, "unreadable": Severity.CHECK},
        )
        kept(self, warm, cut)
