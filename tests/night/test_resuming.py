"""A stopped run goes on from where it was, and a new one repeats nothing; what changed is made anew."""

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any
from unittest import mock

from tools.cases import FolderCase, remember_stars, small_demo, stamps

from ulvar.engine import JobContext, StopRequested
from ulvar.flows import CameraNumbers, Library, measure, plate, starfind
from ulvar.night import Night
from ulvar.night.stations import run_intake, run_measure, run_plate, run_score, run_stack, series_path
from ulvar.photometry import ListedStar


class Resuming(FolderCase):
    """Scoring, solving and measuring six exposures of the demo night."""

    def setUp(self) -> None:
        super().setUp()
        remember_stars(self)
        demo = small_demo()
        lights = sorted((demo / "raw" / "lights" / "V").glob("*.fits"))[:6]
        self.night = Night.create(self.folder / "night", lights)
        self.addCleanup(self.night.close)
        settings = self.night.settings
        settings.plate.catalogue = str(demo / "catalogue.csv")
        self.night.set_settings(settings)
        run_intake(self.night, JobContext())

    def stopped_after(self, count: int) -> JobContext:
        """Return a context that is asked to stop when so many items are done."""
        context = JobContext()

        def progress(done: int, total: int, text: str) -> None:
            if done == count and total == 6:
                context.stop.stop()

        context.progress = progress
        return context

    def counted(self, place: Any, name: str, run: Callable[[], Any]) -> int:
        """Return how often an item's function is called by a run."""
        with mock.patch.object(place, name, wraps=getattr(place, name)) as called:
            result = run()
        self.assertEqual(result.problem, "")
        return called.call_count

    def score(self) -> int:
        return self.counted(starfind, "stars_item", lambda: run_score(self.night, JobContext()))

    def test_scoring(self) -> None:
        with self.assertRaises(StopRequested):
            run_score(self.night, self.stopped_after(4))
        self.assertEqual(len(self.night.products_of("found")), 4, "those that were finished are kept")
        self.assertEqual(self.score(), 2)
        first = {raw: p.values for raw, p in self.night.products_of("score").items()}
        self.assertEqual(self.score(), 0)
        again = {raw: p.values for raw, p in self.night.products_of("score").items()}
        for raw, values in first.items():
            for name, value in values.items():
                if isinstance(value, float):
                    # Tables hold positions to 1e-4 px; what was found a moment ago is not rounded yet.
                    self.assertAlmostEqual(again[raw][name], value, delta=1e-3 * max(1.0, abs(value)), msg=name)
        settings = self.night.settings
        settings.combine.threshold = 8.0
        self.night.set_settings(settings)
        self.assertEqual(self.score(), 6, "other limits, other stars")
        table = Path(next(iter(self.night.products_of("found").values())).output)
        table.write_text("spoiled")
        self.assertEqual(self.score(), 1)

    def test_solving_and_measuring(self) -> None:
        run_score(self.night, JobContext())
        run_stack(self.night, JobContext())
        with self.assertRaises(StopRequested):
            run_plate(self.night, self.stopped_after(3))
        self.assertEqual(len(self.night.products_of("plate")), 3)
        solved = stamps(self.night.products / "plate")
        # The stack is solved each time.
        self.assertEqual(self.counted(plate, "plate_item", lambda: run_plate(self.night, JobContext())), 3 + 1)
        after = stamps(self.night.products / "plate")
        self.assertEqual({path: after[path] for path in solved}, solved, "what was solved is not touched")
        self.night.set_stars([ListedStar("t", "target", x=250.0, y=180.0), ListedStar("a", "comparison", x=150.0, y=120.0)])
        with self.assertRaises(StopRequested):
            run_measure(self.night, self.stopped_after(4))
        self.assertEqual(self.measured(), 2)
        rows = series_path(self.night, self.night.current_series()).read_text()
        self.assertEqual(len(rows.splitlines()), 1 + 2 * 6)
        self.assertEqual(self.measured(), 0)
        self.assertEqual(
            series_path(self.night, self.night.current_series()).read_text(), rows, "the table is the same, number by number",
        )  # fmt: skip
        self.night.set_stars([*self.night.stars(), ListedStar("b", "check", x=300.0, y=90.0)])
        self.assertEqual(self.measured(), 6)
        path = self.night.lights()[0].path
        self.night.correct([path], "gain_e_per_adu", "2.5")
        self.assertEqual(self.measured(), 6 if self._refers_to(path) else 1, "its errors are others now")
        # Where the stars stand is told by those of one exposure: if these are found anew, all are measured again.
        known = self.night.products_of("score")
        origin = known[next(iter(known.values())).values["reference"]]
        self.night.store_products("score", [replace(origin, values={**origin.values, "print": "other stars"})], series=origin.series)
        self.assertEqual(self.measured(), 6)

    def measured(self) -> int:
        return self.counted(measure, "measure_item", lambda: run_measure(self.night, JobContext()))

    def _refers_to(self, raw: str) -> bool:
        score = next(iter(self.night.products_of("score").values()))
        return score.values["reference"] == raw

    def test_a_measured_gain_makes_what_needs_it_stale(self) -> None:
        library = Library(self.folder / "library")
        self.night.set_meta("library", str(library.folder))
        # A night whose headers do not tell the gain.
        silent = [dict.fromkeys(("gain_e_per_adu", "read_noise_e"))] * len(self.night.exposures)
        bare = [type(f)(**{**vars(f), **none}) for f, none in zip(self.night.exposures, silent)]
        self.night.store_exposures([f.path for f in bare], bare, [])
        self.assertEqual([f.gain_e_per_adu for f in self.night.exposures], [None] * 6)
        for station in ("masters", "calibrate", "measure"):
            self.night.mark_run(station, "done")
        library.remember_camera(bare[0], CameraNumbers(1.7, 0.01, 5.0, 0.05, "2027-02-12"))
        self.night.forget_exposures()
        self.assertEqual(self.night.exposures[0].gain_e_per_adu, 1.7)
        states = {station: self.night.state(station) for station in ("masters", "calibrate", "measure")}
        self.assertEqual(states, {"masters": "done", "calibrate": "stale", "measure": "stale"})
