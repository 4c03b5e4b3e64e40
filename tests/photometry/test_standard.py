"""Magnitudes on a catalogue's system, against a made-up one."""

import math
import unittest
from dataclasses import replace

import numpy as np
from tools.rows import whole_row

from ulvar.engine import Failed
from ulvar.photometry import Known, SeriesRow, SeriesTable, Standard, fit_standard, standard_of_one
from ulvar.stars import StarFlag

TERM, EXTINCTION, ZERO, GAIN = -0.12, 0.25, 22.4, 1.6


def night(
    seed: int, stars: int = 12, exposures: int = 30, *, clouds: float = 0.0, catalogue: float = 0.01
) -> tuple[list[SeriesRow], dict[str, Known], np.ndarray, np.ndarray]:
    """Return rows of a night with colour term and extinction, what a catalogue of some error tells, true magnitudes and colours."""
    rng = np.random.default_rng(seed)
    true, colour = rng.uniform(11, 14, stars), rng.uniform(0.3, 1.5, stars)
    rows = []
    for e in range(exposures):
        air = 1.05 + 0.9 * e / exposures
        lost = clouds * max(0.0, math.sin(e)) if clouds else 0.0
        for s in range(stars):
            zero = ZERO - EXTINCTION * air - lost + TERM * (colour[s] - 0.9)
            flux = 10 ** (-0.4 * (true[s] - zero))
            error = math.sqrt(flux / GAIN + 40.0**2)
            rows.append(
                whole_row(
                    file=f"{e}.fits", jd_utc=2461448.0 + e / 500, name=f"s{s}", role="comparison", airmass=air,
                    flux=flux + error * rng.normal(), flux_error=error, flags=0, noise_source=math.sqrt(flux / GAIN), noise_sky=36.0,
                    noise_read=math.sqrt(40.0**2 - 36.0**2), noise_level=0.0,
                )
            )  # fmt: skip
    known = {f"s{s}": Known(true[s] + catalogue * rng.normal(), catalogue, colour[s]) for s in range(stars)}
    return rows, known, true, colour


class Fitted(unittest.TestCase):
    """Terms and magnitudes come back within their errors."""

    def fitted(self, *arguments: object, **more: object) -> tuple[Standard, list[SeriesRow], np.ndarray, np.ndarray]:
        rows, known, true, colour = night(*arguments, **more)  # type: ignore[arg-type]
        found = fit_standard(SeriesTable(rows), known)
        assert isinstance(found, Standard)
        return found, rows, true, colour

    def test_colour_term_extinction_and_zero(self) -> None:
        terms, extinctions, off, own = [], [], [], []
        for seed in range(25):
            found, *_ = self.fitted(seed)
            terms.append((found.colour_term - TERM) / found.colour_error)
            extinctions.append(found.extinction)
            first = min(found.zeros, key=lambda e: e[1])
            truth = ZERO - EXTINCTION * 1.05 + TERM * (found.pivot - 0.9)
            off.append((found.zeros[first].magnitude - truth) / math.hypot(found.common_error, found.zeros[first].error))
            # From exposure to exposure they scatter about extinction by their own errors.
            air, zero, error = np.array([(z.airmass, z.magnitude, z.error) for z in found.zeros.values()]).T
            own.append((zero - np.polyval(np.polyfit(air, zero, 1), air)) / error)
        self.assertAlmostEqual(float(np.std(own)) / math.sqrt(28 / 30), 1.0, delta=0.1)
        # 25 draws know a spread to 14 %, of errors that are themselves known from 12 stars.
        self.assertLess(abs(np.mean(terms)), 0.8)
        self.assertTrue(0.6 < np.std(terms) < 1.6)
        self.assertTrue(0.6 < np.std(off) < 1.6)
        self.assertAlmostEqual(float(np.median(extinctions)), EXTINCTION, delta=0.01)

    def test_a_star_that_is_not_in_the_catalogue(self) -> None:
        pulls = []
        for seed in range(30):
            rows, known, true, colour = night(seed)
            del known["s0"]
            found = fit_standard(SeriesTable(rows), known)
            assert isinstance(found, Standard)
            values = [found.magnitude(row, colour[0]) for row in rows if row.name == "s0"]
            pulls.append((np.mean([m for m, _ in values]) - true[0]) / values[0][1])
            doubtful = found.magnitude(next(row for row in rows if row.name == "s0"))
            self.assertGreater(doubtful[1], values[0][1])
        self.assertLess(float(np.std(pulls)), 1.4)
        self.assertLess(abs(float(np.mean(pulls))), 0.5)

    def test_clouds_do_no_harm(self) -> None:
        found, rows, true, colour = self.fitted(3, clouds=0.6)
        values = np.array([found.magnitude(row, colour[4])[0] for row in rows if row.name == "s4"])
        self.assertLess(float(values.std()), 0.02)
        self.assertLess(abs(float(values.mean()) - true[4]), 4 * found.common_error + 0.01)
        zeros = np.array([z.magnitude for z in found.zeros.values()])
        self.assertGreater(np.ptp(zeros), 0.5)

    def test_the_limit_is_where_a_star_has_five_deviations(self) -> None:
        found, *_ = self.fitted(4)
        for zero in found.zeros.values():
            flux = 10 ** (-0.4 * (zero.limit - zero.magnitude))
            self.assertAlmostEqual(flux / math.sqrt(flux / GAIN + 40.0**2), 5.0, delta=0.02)

    def test_a_wrong_pair_is_dropped(self) -> None:
        rows, known, *_ = night(5)
        known["s7"] = replace(known["s7"], magnitude=known["s7"].magnitude + 0.4)
        found = fit_standard(SeriesTable(rows), known)
        assert isinstance(found, Standard)
        self.assertEqual(found.dropped, ("s7",))
        clean = fit_standard(SeriesTable([r for r in rows if r.name != "s7"]), known)
        assert isinstance(clean, Standard)
        self.assertAlmostEqual(found.colour_term, clean.colour_term, delta=0.002)

    def test_one_star_of_known_magnitude(self) -> None:
        rows, _, true, colour = night(8, clouds=0.5)
        found = standard_of_one(SeriesTable(rows), "s2", true[2], 0.03)
        assert isinstance(found, Standard)
        self.assertEqual(len(found.zeros), 30)
        own = [found.magnitude(row)[0] for row in rows if row.name == "s2"]
        self.assertLess(max(abs(m - true[2]) for m in own), 1e-9)
        # Another star is off by what the colour term makes of the difference of both colours, and by noise.
        values = np.array([found.magnitude(row) for row in rows if row.name == "s5"])
        self.assertAlmostEqual(float(values[:, 0].mean()) - true[5], -TERM * (colour[5] - colour[2]), delta=0.01)
        self.assertTrue((values[:, 1] > 0.03).all())
        self.assertIsInstance(standard_of_one(SeriesTable(rows), "nobody", 12.0), Failed)

    def test_what_cannot_be_told(self) -> None:
        rows, known, *_ = night(6)
        few = fit_standard(SeriesTable(rows), {n: known[n] for n in ("s1", "s2")})
        self.assertIsInstance(few, Failed)
        self.assertIn("knows 2", few.reason)
        self.assertIsInstance(fit_standard(SeriesTable(rows), known, leave_out=[f"s{k}" for k in range(10)]), Failed)
        grey = {n: replace(k, colour=math.nan) for n, k in known.items()}
        found = fit_standard(SeriesTable(rows), grey)
        assert isinstance(found, Standard)
        self.assertEqual(found.colour_term, 0.0)
        self.assertTrue(math.isnan(found.colour_error) and math.isnan(found.pivot))
        self.assertTrue(math.isfinite(found.magnitude(rows[0], 0.5)[0]))
        flat = [replace(row, airmass=1.2) for row in rows]
        same = fit_standard(SeriesTable(flat), known)
        assert isinstance(same, Standard)
        self.assertTrue(math.isnan(same.extinction))
        gone = [replace(row, flags=int(StarFlag.SATURATED)) if row.file == "3.fits" else row for row in rows]
        without = fit_standard(SeriesTable(gone), known)
        assert isinstance(without, Standard)
        self.assertNotIn("3.fits", {file for file, _ in without.zeros})
        self.assertTrue(math.isnan(without.magnitude(next(r for r in rows if r.file == "3.fits"))[0]))
