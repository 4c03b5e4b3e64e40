"""Differential light curves from tables whose every number is known."""

import csv
import math
import unittest
from datetime import UTC, datetime, timedelta

import numpy as np
from tools.cases import FolderCase

from ulvar.engine import Failed, OutputExists
from ulvar.lightcurves import CURVE_COLUMNS, LightCurve, differential_curve, write_curve
from ulvar.photometry import SeriesRow, SeriesTable, build_ensemble
from ulvar.stars import StarFlag

START = datetime(2027, 2, 11, 20, tzinfo=UTC)
POGSON = 2.5 / math.log(10)


def row(name: str, role: str, i: int, flux: float, error: float, flags: int = 0, **more: float) -> SeriesRow:
    """Return a row of exposure `i`; every field has a value of its own."""
    values = {
        "x": 100.0 + i, "y": 50.0 - i, "sky": 300.0 + i, "airmass": 1.2 + 0.01 * i, "fwhm_px": 3.0 + 0.1 * i,
    } | more  # fmt: skip
    return SeriesRow(
        file=f"e{i}.fits", time_utc_mid=START + timedelta(minutes=i), jd_utc=2461448.3 + i / 1440, bjd_tdb=2461448.305 + i / 1440,
        name=name, role=role, flux=flux, flux_error=error, sky_error=0.1, peak=5000.0 + i, flags=flags, **values,
    )  # fmt: skip


def made(curve: LightCurve | Failed) -> LightCurve:
    """Return a curve that there is."""
    assert isinstance(curve, LightCurve), curve
    return curve


class Curves(unittest.TestCase):
    """Values, errors and flags, one at a time."""

    def test_one_comparison_gives_the_quotient_and_its_error(self) -> None:
        rows = [row("t", "target", i, 2e4 + 500 * i, 100.0) for i in range(4)]
        rows += [row("a", "comparison", i, 5e4, 150.0) for i in range(4)]
        curve = made(differential_curve(SeriesTable(rows)))
        wanted = (2e4 + 500 * np.arange(4)) / 5e4
        np.testing.assert_allclose(curve.relative_flux, wanted)
        share = np.hypot(100.0 / (2e4 + 500 * np.arange(4)), 150.0 / 5e4)
        np.testing.assert_allclose(curve.relative_flux_error, wanted * share)
        np.testing.assert_allclose(curve.magnitude, -2.5 * np.log10(wanted))
        np.testing.assert_allclose(curve.magnitude_error, POGSON * share)
        np.testing.assert_allclose(curve.ensemble_flux, 5e4)
        for name, wanted_value in {"x": 103.0, "y": 47.0, "sky": 303.0, "airmass": 1.23, "fwhm_px": 3.3}.items():
            self.assertAlmostEqual(curve.companions[name][3], wanted_value, msg=name)

    def test_each_error_alone(self) -> None:
        def errors(target: float, comparison: float) -> np.ndarray:
            rows = [row("t", "target", i, 2e4, target) for i in range(3)]
            rows += [row("a", "comparison", i, 5e4, comparison) for i in range(3)]
            return made(differential_curve(SeriesTable(rows))).magnitude_error

        np.testing.assert_allclose(errors(100.0, 0.0), POGSON * 100 / 2e4)
        np.testing.assert_allclose(errors(0.0, 150.0), POGSON * 150 / 5e4)
        self.assertTrue(np.isnan(errors(math.nan, 150.0)).all())

    def test_four_equal_comparisons_halve_their_error(self) -> None:
        rng = np.random.default_rng(2)
        flux = 5e4 * (1 + 0.004 * rng.standard_normal((4, 400)))
        ensemble = build_ensemble(list("abcd"), flux, np.full(flux.shape, 200.0))
        # Weights are nearly a quarter each: the mean's relative error is 200 / 5e4 / 2, and so is its real scatter.
        np.testing.assert_allclose(ensemble.error / ensemble.flux, 0.002, rtol=0.03)
        self.assertLess(abs(np.std(ensemble.flux / 2e5) / 0.002 - 1), 4 / math.sqrt(2 * 400))

    def test_doubtful_comparisons_are_not_in_the_ensemble(self) -> None:
        for flag in (StarFlag.SATURATED, StarFlag.NONLINEAR, StarFlag.BAD_PIXEL, StarFlag.EDGE, StarFlag.LOST):
            with self.subTest(flag=flag):
                rows = [row("t", "target", i, 2e4, 100.0) for i in range(5)]
                for name in "ab":
                    rows += [row(name, "comparison", i, 5e4, 150.0) for i in range(5) if (name, i) != ("b", 2)]
                rows.append(row("b", "comparison", 2, 2e4, 150.0, int(flag)))
                curve = made(differential_curve(SeriesTable(rows)))
                # The spoiled value is 60 % low; without it the other star alone stands for the ensemble.
                np.testing.assert_allclose(curve.relative_flux, 0.2, rtol=1e-9)
                self.assertTrue(curve.good.all())

    def test_doubtful_points_of_the_target_are_in_no_fit(self) -> None:
        flags = [0, StarFlag.SATURATED, StarFlag.NONLINEAR, StarFlag.BAD_PIXEL, StarFlag.NEIGHBOUR, StarFlag.LEFT_OUT]
        rows = [row("t", "target", i, 2e4, 100.0, int(flag)) for i, flag in enumerate(flags)]
        rows += [row("t", "target", 6 + i, 2e4, 100.0, int(f)) for i, f in enumerate((StarFlag.LOST, StarFlag.EDGE))]
        rows += [row("a", "comparison", i, 5e4, 150.0) for i in range(8)]
        curve = made(differential_curve(SeriesTable(rows)))
        self.assertEqual(curve.files, tuple(f"e{i}.fits" for i in range(6)), "what was not measured has no point")
        self.assertEqual(list(curve.good), [True, False, False, False, True, False])

    def test_exposures_that_are_left_out_stay_but_count_for_nothing(self) -> None:
        rng = np.random.default_rng(5)
        rows = [row("t", "target", i, 2e4, 100.0) for i in range(30)]
        for name in "abc":
            rows += [row(name, "comparison", i, 5e4 * (1 + 0.002 * rng.standard_normal()), 100.0) for i in range(30)]
        for k, entry in enumerate(rows):
            if entry.name == "c" and entry.file in ("e3.fits", "e4.fits"):
                rows[k] = row("c", "comparison", int(entry.file[1]), 1e4, 100.0)
        gone = {"e3.fits", "e4.fits"}
        clean = made(differential_curve(SeriesTable([r for r in rows if r.file not in gone])))
        curve = made(differential_curve(SeriesTable(rows), files_out=gone))
        self.assertEqual(list(np.flatnonzero(curve.left_out)), [3, 4])
        self.assertEqual(int(curve.good.sum()), 28)
        np.testing.assert_allclose(curve.ensemble.weights, clean.ensemble.weights)
        np.testing.assert_allclose(curve.magnitude[curve.good], clean.magnitude)

    def test_without_what_it_needs(self) -> None:
        target, comparison = row("t", "target", 0, 1e4, 1.0), row("a", "comparison", 0, 1e4, 1.0)
        for rows, told in (
            ([comparison], "no star with the role target"), ([target], "no comparison"),
            ([row("t", "target", 0, math.nan, 1.0), comparison], "not measured in any"), ([], "no star with the role target"),
        ):  # fmt: skip
            found = differential_curve(SeriesTable(rows))
            self.assertIsInstance(found, Failed)
            self.assertIn(told, found.reason)  # type: ignore[union-attr]


class Written(FolderCase):
    """The file says what the curve says, each number in its own column."""

    def test_columns(self) -> None:
        rows = [row("t", "target", i, 2e4 + 700 * i, 100.0 + i, int(StarFlag.SATURATED) * (i == 1)) for i in range(3)]
        rows += [row("a", "comparison", i, 5e4, 150.0) for i in range(3)]
        curve = made(differential_curve(SeriesTable(rows)))
        path = self.folder / "curve.csv"
        write_curve(path, curve)
        with path.open(newline="") as handle:
            found = list(csv.DictReader(handle))
        self.assertEqual(list(found[0]), [name for name, *_ in CURVE_COLUMNS])
        for i, entry in enumerate(found):
            flux, error = 2e4 + 700 * i, 100.0 + i
            share = math.hypot(error / flux, 150 / 5e4)
            wanted = {
                "jd_utc": 2461448.3 + i / 1440, "bjd_tdb": 2461448.305 + i / 1440, "relative_flux": flux / 5e4,
                "relative_flux_error": flux / 5e4 * share, "magnitude": -2.5 * math.log10(flux / 5e4),
                "magnitude_error": POGSON * share, "ensemble_flux": 5e4,
            }  # fmt: skip
            for name, value in wanted.items():
                self.assertAlmostEqual(float(entry[name]), value, places=6, msg=name)
            self.assertEqual(entry["flags"], "saturated" if i == 1 else "")
        with self.assertRaises(OutputExists):
            write_curve(path, curve)


class ByProfile(unittest.TestCase):
    """Curves of the fluxes by the profile fit."""

    def rows(self, profile: bool = True) -> list[SeriesRow]:
        from tools.rows import whole_row

        rng = np.random.default_rng(2)
        told = []
        for e in range(30):
            for name, role, level in (("T", "target", 5e4), ("a", "comparison", 6e4), ("b", "comparison", 7e4)):
                told.append(
                    whole_row(
                        file=f"{e}.fits", jd_utc=2461448.0 + e / 300, name=name, role=role, flags=0,
                        # The aperture takes another star's light along as the seeing changes.
                        flux=level * (1 + 0.05 * (e % 7) * (name == "T")), flux_error=0.002 * level,
                        profile_flux=level * (1 + 0.003 * rng.normal()) if profile else float("nan"), profile_error=0.003 * level,
                    )
                )  # fmt: skip
        return told

    def test_target_and_comparison_stars_alike(self) -> None:
        by_profile = differential_curve(SeriesTable(self.rows()), light="profile")
        by_aperture = differential_curve(SeriesTable(self.rows()))
        assert not isinstance(by_profile, Failed) and not isinstance(by_aperture, Failed)
        self.assertLess(float(np.std(by_profile.magnitude)), 0.006)
        self.assertGreater(float(np.std(by_aperture.magnitude)), 0.05)
        share = np.hypot(0.003, 0.003 * np.sqrt(by_profile.ensemble.weights @ by_profile.ensemble.weights))
        self.assertAlmostEqual(float(np.median(by_profile.magnitude_error)), 1.0857 * float(share), delta=2e-4)
        self.assertAlmostEqual(float(np.median(by_profile.relative_flux)), 5e4 / 1.3e5, delta=2e-3)

    def test_without_a_profile_fit_it_says_what_to_do(self) -> None:
        found = differential_curve(SeriesTable(self.rows(profile=False)), light="profile")
        assert isinstance(found, Failed)
        self.assertIn("measure with the profile fit", found.reason)
