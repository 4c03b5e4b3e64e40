"""Stations whose ground is missing or broken: each says what it lacks, and nothing that was made is lost."""

import shutil
from dataclasses import replace
from pathlib import Path

import numpy as np
from tools.cases import FolderCase
from tools.nights import solved_night, with_catalogue

from ulvar.engine import Failed, JobContext
from ulvar.flows import Body
from ulvar.night import Night, NightError
from ulvar.night.combining import MarkSettings
from ulvar.night.stations import (
    field_of,
    find_candidates,
    keep_origin,
    run_bodies,
    run_calibrate,
    run_colour,
    run_combine,
    run_curve,
    run_deep,
    run_field,
    run_growth,
    run_intake,
    run_masters,
    run_measure,
    run_mosaic,
    run_pair,
    run_plate,
    run_plate_harder,
    run_score,
    run_stack,
    run_watch,
    star_origin,
    way_to_origin,
)  # fmt: skip
from ulvar.night.stations.pointing import body_of
from ulvar.night.stations.tables import star_table
from ulvar.photometry import ListedStar
from ulvar.registration import stored_map

ALL = (
    run_masters, run_calibrate, run_score, run_stack, run_deep, run_combine, run_plate, run_plate_harder, run_measure, run_curve, run_growth, run_field,
    run_colour, run_pair, run_bodies, run_mosaic,
)  # fmt: skip


class Empty(FolderCase):
    def said(self, night: Night) -> dict[str, str]:
        return {run.__name__: run(night, JobContext()).problem for run in ALL}

    def test_a_night_without_exposures(self) -> None:
        (self.folder / "raw").mkdir()
        night = Night.create(self.folder / "night", [self.folder / "raw"])
        self.assertEqual(run_intake(night, JobContext()).done, 0)
        said = self.said(night)
        self.assertEqual({name for name, problem in said.items() if not problem}, {"run_masters"})
        night.close()
        with self.assertRaisesRegex(NightError, "none"):
            Night.for_path(self.folder / "none")

    def test_a_light_and_nothing_else(self) -> None:
        path = self.write("raw/a.fits", np.full((60, 80), 500, np.uint16), IMAGETYP="light", FILTER="V", EXPTIME=5.0)
        night = Night.create(self.folder / "night", [Path(path)])
        run_intake(night, JobContext())
        said = self.said(night)
        self.assertEqual(
            {name for name, problem in said.items() if not problem},
            {"run_masters", "run_calibrate", "run_score", "run_stack", "run_combine"},
        )
        self.assertIn("no folder to watch", run_watch(night, JobContext()).problem)
        night.close()


class Broken(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        shutil.copytree(solved_night(), self.folder / "night")
        self.night = with_catalogue(Night.for_path(self.folder / "night"))
        self.addCleanup(self.night.close)
        (self.series,) = self.night.series()
        stars = star_table(self.night, next(iter(self.night.products_of("score", self.series.key).values())))
        self.star = float(stars.x[0]), float(stars.y[0])

    def change(self, section: str, **values: object) -> None:
        """Change settings of the night."""
        settings = self.night.settings
        for name, value in values.items():
            setattr(getattr(settings, section), name, value)
        self.night.set_settings(settings)

    def test_a_catalogue_that_cannot_be_used(self) -> None:
        for path in ("", str(self.folder / "none.csv"), str(self.folder)):
            self.change("plate", catalogue=path)
            for run in (run_plate, run_plate_harder):
                self.assertIn(path or "choose a star catalogue first", run(self.night, JobContext()).problem)
        # Candidates go without colours then.
        self.night.set_stars([ListedStar("t", "target", x=self.star[0], y=self.star[1])])
        self.assertFalse(find_candidates(self.night, self.series).colour)

    def test_candidates_for_a_target_that_is_not_there(self) -> None:
        for stars, problem in (
            ([], "Click the target"), ([ListedStar("t", "target", x=-50.0, y=3.0)], "not found among the stars"),
            ([ListedStar("t", "target", ra=1.0, dec=2.0)], "not found among the stars"),
        ):  # fmt: skip
            self.night.set_stars(stars)
            self.assertIn(problem, find_candidates(self.night, self.series).problem)
        self.night.store_products("plate", [], series=self.series.key, clear=True)
        self.assertIn("Solve the plates first", find_candidates(self.night, self.series).problem)
        self.night.store_products("score", [], series=self.series.key, clear=True)
        self.assertIn("Score the exposures first", find_candidates(self.night, self.series).problem)
        self.assertIn("score the exposures first", run_field(self.night, JobContext()).problem)
        self.assertIn("score exposures first", run_plate(self.night, JobContext()).problem)
        self.assertIsNone(field_of(self.night, self.series))

    def test_stars_chosen_in_an_exposure_that_is_not_aligned_any_more(self) -> None:
        scores = self.night.products_of("score", self.series.key)
        keep_origin(self.night, self.series, scores)
        reference = star_origin(self.night, self.series, scores)
        self.assertEqual(way_to_origin(self.night, self.series, scores).matrix.tolist(), [[1, 0, 0], [0, 1, 0]])
        origin = next(raw for raw in scores if raw != reference)
        self.night.set_meta("star_origins", {self.series.field.key: origin})
        there = stored_map(scores[origin].values["matrix"], None)
        way = way_to_origin(self.night, self.series, scores)
        np.testing.assert_allclose(way(*there(np.array([50.0]), np.array([70.0]))), [[50.0], [70.0]], atol=1e-6)
        lost = {**scores, origin: replace(scores[origin], values={**scores[origin].values, "matrix": None})}
        other = {**scores, origin: replace(scores[origin], series="another", values={**scores[origin].values, "table": "gone.csv"})}
        for changed, reason in ((lost, "is not aligned any more"), (other, "score it")):
            self.assertIn(reason, way_to_origin(self.night, self.series, changed).reason)

    def test_the_body_of_a_stack(self) -> None:
        table = self.folder / "bodies.csv"
        table.write_text("name,ra,dec\nW,1,2\n")
        said: list[object] = []
        for change in (
            {"body_table": str(table)}, {"body_table": str(self.folder / "none.csv")}, {"body_table": "", "body_rate": 120.0, "body_angle": 30.0},
            {"body_marks": [MarkSettings(file=self.series.files[0], x=10.0, y=20.0)]},
        ):  # fmt: skip
            self.change("combine", **change)
            facts = {one.path: one for one in self.night.lights()}
            found = body_of(self.night.settings.combine, {p: p for p in facts}, list(facts.values()))
            said.append(found.reason if isinstance(found, Failed) else found)
        self.assertIn("no star in it moves", str(said[0]))
        self.assertEqual(said[2], Body(rate=(120.0, 30.0)))
        self.assertIn("mark it in a second one", str(said[3]))
        self.change("plate", bodies=str(table))
        self.assertIn("no star in it moves", run_bodies(self.night, JobContext()).problem)
