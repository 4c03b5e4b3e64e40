"""Which of several radii is used."""

import math
import unittest
from dataclasses import replace

import numpy as np
from tools.rows import whole_row

from ulvar.photometry import SeriesRow, choose_radius, rows_by_radius
from ulvar.stars import StarFlag

# Scatter of the comparison stars at each radius, and the target's error.
RADII = {1.0: (0.010, 300.0), 1.5: (0.004, 400.0), 2.5: (0.020, 200.0)}


def made(comparisons: int = 4, exposures: int = 40) -> list[SeriesRow]:
    """Return rows of a target and comparison stars in every radius."""
    rng = np.random.default_rng(8)
    rows = []
    for k in range(exposures):
        for radius, (scatter, error) in RADII.items():
            for name in ["T", *(f"c{i}" for i in range(comparisons))]:
                flux = 1e5 * (1 + scatter * rng.normal()) * (1 + 0.3 * (name == "T") * math.sin(k))
                rows.append(
                    whole_row(
                        file=f"{k}.fits", jd_utc=2461448.0 + k / 1000, name=name, role="target" if name == "T" else "comparison",
                        flux=flux, flux_error=error if name == "T" else 1e5 * 0.003, flags=0, aperture=radius,
                    )
                )  # fmt: skip
    return rows


class Choice(unittest.TestCase):
    """The comparison stars decide, where there are some."""

    def test_least_scatter(self) -> None:
        choice = choose_radius(made())
        self.assertEqual((choice.radius, choice.why), (1.5, "scatter"))
        self.assertEqual([t.radius for t in choice.tried], [1.0, 1.5, 2.5])
        for tried in choice.tried:
            # Against the mean of three others it scatters by a little more than alone; 40 points know it to 14 %.
            expected = RADII[tried.radius][0] * math.sqrt(4 / 3)
            self.assertAlmostEqual(tried.scatter / expected, 1.0, delta=0.3)
            self.assertAlmostEqual(tried.error, 0.003 * math.sqrt(4 / 3), delta=0.0005)
            self.assertAlmostEqual(tried.target_snr * RADII[tried.radius][1] / 1e5, 1.0, delta=0.05)

    def test_without_comparison_stars_the_target_has_to(self) -> None:
        for count in (0, 1):
            choice = choose_radius(made(count))
            self.assertEqual((choice.radius, choice.why), (2.5, "snr"))
            self.assertTrue(all(math.isnan(t.scatter) for t in choice.tried))
        nothing = [replace(row, flux_error=math.nan) for row in made(1)]
        self.assertEqual((choose_radius(nothing).radius, choose_radius(nothing).why), (1.0, "first"))
        few = choose_radius(made(exposures=3))
        self.assertEqual(few.why, "snr")

    def test_spoilt_rows_and_what_is_left_out_say_nothing(self) -> None:
        rows = made()
        wild = [
            replace(row, flux=row.flux * (3 if i % 2 else 1), flags=int(StarFlag.SATURATED))
            if row.aperture == 1.5 and row.name == "c0"
            else row
            for i, row in enumerate(rows)
        ]
        self.assertEqual(choose_radius(wild).radius, 1.5)
        clear = {f"{k}.fits" for k in range(20)}
        clouds = [
            replace(row, flux=row.flux * (1 + 0.3 * math.sin(7 * i))) if row.aperture == 1.5 and row.file not in clear else row
            for i, row in enumerate(rows)
        ]
        gone = {row.file for row in rows} - clear
        self.assertEqual(choose_radius(clouds, files_out=gone).radius, 1.5)
        one = [
            replace(row, flux=row.flux * (1 + 0.2 * math.cos(i))) if row.aperture == 1.5 and row.name == "c1" else row
            for i, row in enumerate(rows)
        ]
        self.assertEqual(choose_radius(one, leave_out=["c1"]).radius, 1.5)

    def test_one_radius_and_none(self) -> None:
        alone = [row for row in made() if row.aperture == 2.5]
        self.assertEqual((choose_radius(alone).radius, choose_radius(alone).why), (2.5, "first"))
        self.assertEqual(list(rows_by_radius(made())), list(RADII))
        with self.assertRaisesRegex(ValueError, "nothing was measured"):
            choose_radius([])
