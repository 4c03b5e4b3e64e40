"""What findings say of measurements, each alone."""

import math
import unittest
from dataclasses import replace

import numpy as np
from tools.rows import whole_row
from tools.same import kept

from ulvar.inspection import Finding, measured_findings
from ulvar.photometry import SeriesRow, SeriesTable
from ulvar.stars import StarFlag

COUNT = 40
PLACES = {"T": (100.0, 120.0), "a": (150.0, 60.0), "b": (60.0, 180.0), "c": (200.0, 150.0), "d": (40.0, 70.0)}


def night() -> list[SeriesRow]:
    """Return rows of a quiet night: five stars in forty exposures, drifting by a tenth of a pixel each, noise of 1 mmag."""
    rng = np.random.default_rng(6)
    return [
        whole_row(
            file=f"{e}.fits", time_utc_mid=None, jd_utc=2461448.0 + e / 400, name=name, role="target" if name == "T" else "comparison",
            x=x + 0.1 * e + 4 * math.sin(e * 1.7), y=y - 0.05 * e, flux=1e5 * (1 + 0.001 * rng.normal()), flux_error=100.0, flags=0,
            fwhm_px=3.0, radius_px=5.0, covered=0.0, peak=9000.0,
        )
        for e in range(COUNT)
        for name, (x, y) in PLACES.items()
    ]  # fmt: skip


def found(rows: list[SeriesRow]) -> list[Finding]:
    """Return the findings of rows."""
    return measured_findings(SeriesTable(rows), {f"{e}.fits": f"raw/{e}.fits" for e in range(COUNT)})


class Measured(unittest.TestCase):
    def changed(self, name: str, files: range, **values: object) -> list[Finding]:
        there = {f"{e}.fits" for e in files}
        return found([replace(row, **values) if row.name == name and row.file in there else row for row in night()])  # type: ignore[arg-type]

    def test_a_quiet_night_has_none(self) -> None:
        self.assertEqual(found(night()), [])

    def test_flags_are_told_of_their_star_with_their_exposures(self) -> None:
        for flag, code, words in (
            (StarFlag.SATURATED, "star_full", "is saturated"), (StarFlag.NONLINEAR, "star_full", "over the linear limit"),
            (StarFlag.EDGE, "star_left", "leaves the frame"), (StarFlag.LOST, "star_lost", "not found in 3 exposures"),
        ):  # fmt: skip
            (one,) = self.changed("b", range(3), flags=int(flag), peak=61234.0)
            self.assertEqual((one.code, one.evidence["star"]), (code, "b"))
            self.assertIn(words, one.title)
            self.assertEqual(one.files, ("raw/0.fits", "raw/1.fits", "raw/2.fits"))
        (one,) = self.changed("b", range(3), flags=int(StarFlag.SATURATED), peak=61234.0)
        self.assertIn("up to 61234 ADU", one.text)
        self.assertEqual(one.mend.action, "leave_out_star")
        (target,) = self.changed("T", range(3), flags=int(StarFlag.SATURATED))
        self.assertIsNone(target.mend)
        kept(self, one)

    def test_of_many_stars_one_finding_tells(self) -> None:
        there = {"1.fits", "2.fits"}
        rows = [replace(row, flags=int(StarFlag.EDGE)) if row.file in there and row.name != "d" else row for row in night()]
        (one,) = found(rows)
        self.assertEqual((one.code, one.evidence["stars"]), ("star_left", ["T", "a", "b", "c"]))
        self.assertIn("4 stars", one.title)
        self.assertEqual(set(one.files), {"raw/1.fits", "raw/2.fits"})

    def test_neighbours_and_annuli_where_they_are_often(self) -> None:
        self.assertEqual(self.changed("a", range(9), flags=int(StarFlag.NEIGHBOUR)), [])
        (one,) = self.changed("a", range(12), flags=int(StarFlag.NEIGHBOUR))
        self.assertEqual(one.code, "star_blended")
        self.assertEqual(self.changed("a", range(COUNT), covered=0.4), [])
        (one,) = self.changed("a", range(COUNT), covered=0.7)
        self.assertEqual(one.code, "sky_covered")
        self.assertIn("70 %", one.text)

    def test_an_aperture_too_small_for_the_seeing(self) -> None:
        wide = [replace(row, fwhm_px=9.0) if row.file in ("4.fits", "7.fits") else row for row in night()]
        (one,) = found(wide)
        self.assertEqual(one.code, "small_aperture")
        self.assertIn("0.56 FWHM (5.0 px of 9.0 px)", one.text)
        self.assertEqual(set(one.files), {"raw/4.fits", "raw/7.fits"})
        self.assertEqual(found([replace(row, fwhm_px=8.2) if row.file == "4.fits" else row for row in night()]), [])

    def test_a_centre_that_jumps(self) -> None:
        rows = [replace(row, x=row.x + 4.5) if row.name == "c" and row.file in ("8.fits", "9.fits") else row for row in night()]
        (one,) = found(rows)
        self.assertEqual((one.code, one.evidence["star"]), ("centre_jumped", "c"))
        self.assertEqual(one.files, ("raw/8.fits", "raw/9.fits"))
        # All of them together, or turned about, is the telescope.
        moved = [replace(row, x=row.x + 30.0) if int(row.file[:-5]) > 20 else row for row in night()]
        self.assertEqual(found(moved), [])
        turned = [replace(row, x=240 - row.x, y=240 - row.y) if int(row.file[:-5]) > 20 else row for row in night()]
        self.assertEqual(found(turned), [])

    def test_light_that_follows_the_place(self) -> None:
        bent = [replace(row, flux=row.flux * (1 + 0.002 * (row.x - 60))) if row.name == "b" else row for row in night()]
        (one,) = found(bent)
        self.assertEqual((one.code, one.evidence["star"]), ("flat_follows", "b"))
        self.assertIn("along x", one.text)
        # What only changes with time, as the place does too, is no flat.
        slow = [replace(row, flux=row.flux * (1 + 0.0005 * int(row.file[:-5]))) if row.name == "b" else row for row in night()]
        self.assertEqual(found(slow), [])
