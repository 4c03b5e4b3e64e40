"""A night's measurements: several radii, the catalogue's magnitudes, findings, the linear limit, the whole field."""

import csv
import json
import math
import shutil
from datetime import datetime
from pathlib import Path

import numpy as np
from tools.cases import FolderCase, made_once, remember_stars, small_demo
from tools.nights import with_catalogue, worked

from ulvar.engine import JobContext
from ulvar.night import Night
from ulvar.night.settings import MarkSettings
from ulvar.night.stations import (
    field_of,
    find_candidates,
    growths_of,
    proposal_of,
    run_field,
    run_growth,
    run_intake,
    run_measure,
    run_plate,
    run_score,
    series_path,
    series_table,
    solutions,
)
from ulvar.night.stations.resuming import measured_again
from ulvar.photometry import read_star_list, rows_by_radius


def _solve(folder: Path) -> None:
    lights = sorted((small_demo() / "raw" / "lights" / "V").glob("*.fits"))[:24:2]
    night = with_catalogue(Night.create(folder / "night", lights))
    worked(night, run_intake, run_score, run_plate)
    night.close()


class Measuring(FolderCase):
    """Twelve raw exposures of the small demo night, scored and solved."""

    def setUp(self) -> None:
        super().setUp()
        remember_stars(self)
        demo = small_demo()
        shutil.copytree(made_once("measuring", _solve) / "night", self.folder / "night")
        self.night = Night.for_path(self.folder / "night")
        self.addCleanup(self.night.close)
        self.series = self.night.current_series()
        self.truth = json.loads((demo / "truth.json").read_text())["cast"]
        self.night.set_stars(read_star_list(demo / "stars.csv"), self.series)

    def change(self, section: str, **values: object) -> None:
        """Change settings of a station."""
        settings = self.night.settings
        for name, value in values.items():
            setattr(getattr(settings, section), name, value)
        self.night.set_settings(settings)

    def measured(self) -> str:
        """Measure; returns what was said."""
        result = run_measure(self.night, JobContext())
        self.assertEqual(result.problem, "")
        return result.text

    def test_several_radii_are_kept_and_chosen_anew_without_reading(self) -> None:
        self.change("measure", several=True)
        self.assertIn("aperture", self.measured())
        (choice,) = self.night.products_of("aperture", self.series.key).values()
        self.assertEqual(len(choice.values["tried"]), 7)
        table = series_table(self.night, self.series)
        self.assertEqual({row.aperture for row in table.rows}, {choice.values["radius"]})
        kept = self.night.products_of("rows", self.series.key)
        for product in kept.values():
            self.assertEqual(len(rows_by_radius(measured_again(product))), 7)
        # Another choice of comparison stars may choose another radius; nothing is read for it.
        self.change("curve", leave_out=["a", "b"])
        before = {source: product.values["print"] for source, product in kept.items()}
        self.measured()
        after = {s: p.values["print"] for s, p in self.night.products_of("rows", self.series.key).items()}
        self.assertEqual(after, before)
        # One radius again: the table is that of the set one.
        self.change("measure", several=False)
        self.measured()
        self.assertEqual({row.aperture for row in series_table(self.night, self.series).rows}, {1.7})

    def test_magnitudes_are_the_catalogues(self) -> None:
        self.measured()
        (standard,) = self.night.products_of("standard", self.series.key).values()
        self.assertEqual(standard.values["band"], "V")
        for name in ("a", "b", "c", "d", "e"):
            found, error = standard.values["magnitudes"][name]
            # Raw exposures, divided by no flat, which darkens towards the corners by some per cent.
            self.assertLess(abs(found - self.truth[name]["V"]), 0.06, name)
            self.assertLess(error, 0.03)
        with Path(standard.output).open() as handle:
            rows = list(csv.DictReader(handle))
        self.assertEqual(len(rows), len(series_table(self.night, self.series).rows))
        limits = [float(row["limit"]) for row in rows]
        self.assertTrue(14 < float(np.median(limits)) < 20)
        self.change("plate", catalogue="")
        self.measured()
        self.assertEqual(self.night.products_of("standard", self.series.key), {})

    def test_the_linear_limit_is_a_setting(self) -> None:
        self.measured()
        clean = series_table(self.night, self.series)
        peak = max(row.peak for row in clean.star("a"))
        self.assertFalse(any(row.flags & 2 for row in clean.star("a")))
        self.assertNotIn("star_full", {f.code for f in self.night.findings("measure")})
        self.change("calibrate", linear_adu=0.5 * peak)
        self.assertEqual({f.nonlinear_adu for f in self.night.exposures}, {0.5 * peak})
        self.measured()
        bent = series_table(self.night, self.series)
        self.assertTrue(any(row.flags & 2 for row in bent.star("a")))
        told = [f for f in self.night.findings("measure") if f.code == "star_full"]
        self.assertTrue(any("a" in (f.evidence.get("star"), *f.evidence.get("stars", ())) for f in told))
        self.assertTrue(all("linear limit" in f.title for f in told))
        self.change("calibrate", linear_adu=None)
        self.measured()
        self.assertFalse(any(row.flags & 2 for row in series_table(self.night, self.series).star("a")))

    def test_apertures_candidates_and_the_field_come_back_from_the_night(self) -> None:
        self.assertIn("is proposed", run_growth(self.night, JobContext()).text)
        growths = growths_of(self.night, self.series)
        proposal = proposal_of(growths)
        assert proposal is not None
        for raw, growth in growths.items():
            self.assertAlmostEqual(growth.fwhm_px, self.night.products_of("score")[raw].values["fwhm_px"], places=6)
            self.assertEqual(growth.share[-1], 1.0)
        found = find_candidates(self.night, self.series)
        self.assertEqual(found.problem, "")
        there = len(self.night.products_of("score"))
        self.assertTrue(10 <= found.looks <= there)
        self.assertTrue(found.colour)
        run_field(self.night, JobContext())
        search = field_of(self.night, self.series)
        assert search is not None
        self.assertEqual(search.exposures, found.looks)
        levels = [star.verdict.level for star in search.stars]
        self.assertEqual(levels, sorted(levels, reverse=True))
        path = Path(self.night.products_of("field", self.series.key)[self.series.key].output)
        with path.open() as handle:
            rows = list(csv.DictReader(handle))
        self.assertEqual([row["name"] for row in rows], [star.verdict.name for star in search.stars])
        for row, star in zip(rows, search.stars):
            self.assertAlmostEqual(float(row["x"]), star.x, delta=0.006)
            if not math.isfinite(star.verdict.scatter):
                self.assertEqual(row["scatter"], "")
                continue
            self.assertAlmostEqual(float(row["scatter"]), 2.5 / math.log(10) * star.verdict.scatter, delta=2e-5)
        self.assertTrue(series_path(self.night, self.series).parent.exists())
        self.night.store_products("score", [], series=self.series.key, clear=True)
        self.assertIn("exposures first", run_growth(self.night, JobContext()).problem)
        self.night.set_stars([], self.series)
        self.assertIn("no target", run_growth(self.night, JobContext()).problem)
        self.assertIn("target", find_candidates(self.night, self.series).problem)

    def test_a_body_marked_in_two_exposures_is_followed(self) -> None:
        told = json.loads((small_demo() / "truth.json").read_text())["minor_body"]
        seconds = [datetime.fromisoformat(one["time_utc"]).timestamp() for one in told]
        plates = solutions(self.night)
        facts = {f.path: f for f in self.series.members if f.path in plates}

        def truth(path: str) -> tuple[float, float]:
            when = facts[path].mid_utc.timestamp()
            ra, dec = (float(np.interp(when, seconds, [one[axis] for one in told])) for axis in ("ra", "dec"))
            x, y = plates[path].pixel(ra, dec)
            return float(x), float(y)

        every = sorted(facts, key=lambda path: facts[path].mid_utc)
        # The truth is told from 19 h to 1 h.
        paths = [p for p in every if seconds[0] <= facts[p].mid_utc.timestamp() <= seconds[-1]]
        marks = [MarkSettings(file=path, x=truth(path)[0], y=truth(path)[1]) for path in (paths[1], paths[-2])]
        self.change("combine", body_marks=marks)
        self.change("measure", bodies=True)
        self.measured()
        rows = series_table(self.night, self.series).star("body")
        self.assertEqual(len(rows), len(every))
        for row in rows:
            path = next(p for p in every if Path(p).name == row.file)
            if path not in paths:
                continue
            x, y = truth(path)
            self.assertLess(math.hypot(row.x - x, row.y - y), 1.0, row.file)
        self.change("combine", body_marks=marks[:1])
        self.assertEqual(self.night.state("measure", self.series), "stale")
        self.assertIn("two solved exposures", run_measure(self.night, JobContext()).problem)
        # One place and its rate: by how much the truth moves, and towards where.
        first, last = paths[1], paths[-2]
        (x0, y0), (x1, y1) = truth(first), truth(last)
        ra, dec = plates[first].sky(np.array([x0]), np.array([y0]))
        ra1, dec1 = plates[last].sky(np.array([x1]), np.array([y1]))
        east, north = (ra1 - ra)[0] * math.cos(math.radians(dec[0])), (dec1 - dec)[0]
        hours = (facts[last].mid_utc - facts[first].mid_utc).total_seconds() / 3600
        self.change(
            "combine", body_rate=3600 * math.hypot(east, north) / hours, body_angle=math.degrees(math.atan2(east, north)),
        )  # fmt: skip
        self.measured()
        self.assertEqual(self.night.state("measure", self.series), "done")
        for row in series_table(self.night, self.series).star("body"):
            path = next(p for p in every if Path(p).name == row.file)
            if path in paths:
                self.assertLess(math.hypot(row.x - truth(path)[0], row.y - truth(path)[1]), 1.5, row.file)
        self.change("combine", body_rate=None)
        self.assertEqual(self.night.state("measure", self.series), "stale")
        self.change("measure", bodies=False)
        self.measured()
        self.assertNotIn("body", series_table(self.night, self.series).names())
