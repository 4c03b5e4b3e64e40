"""What boards and bars ask the model for: neighbours, what comes first, the next step's words, a running stack, the end of a job."""

import shutil
from datetime import UTC, datetime
from pathlib import Path
from types import SimpleNamespace
from unittest import mock

import numpy as np
from PySide6.QtCore import QObject
from tools.same import kept

from tests.desktop.scored import ScoredCase
from ulvar.desktop.models import ground, stacks
from ulvar.desktop.models.listing import star_at
from ulvar.desktop.models.plan import plan_run
from ulvar.desktop.models.starpick import give_role, where_words
from ulvar.desktop.models.tables import save_exposure_table
from ulvar.engine import Job
from ulvar.inspection import Severity
from ulvar.night import StationResult
from ulvar.photometry import ListedStar


class Asked(ScoredCase):
    def quiet_signals(self, of: QObject) -> None:
        """Tell no board of what is made up."""
        of.blockSignals(True)
        self.addCleanup(of.blockSignals, False)

    def test_exposures_about_the_current_one(self) -> None:
        paths = [f.path for f in self.model.lights()]
        self.model.set_current(paths[10])
        self.assertEqual(self.model.neighbours((-2, -1, 1, 2)), [paths[8], paths[9], paths[11], paths[12]])
        self.model.set_current(paths[-1])
        self.assertEqual(self.model.neighbours((-1, 1)), [paths[-2]])

    def test_findings_of_the_station_come_first_then_the_worst(self) -> None:
        told = [
            SimpleNamespace(station=s, severity=Severity.NOTE, title=t) for s, t in (("plate", "a"), ("combine", "b"), ("combine", "c"))
        ]
        with mock.patch.object(self.model.jobs, "_found", lambda: told):
            self.model.drop()
            self.assertEqual([f.title for f in self.model.jobs.findings()][-1], "a")
            own = SimpleNamespace(station="plate", severity=Severity.NOTE, title="job")
            with mock.patch.object(self.model.jobs, "finding", own):
                self.assertEqual(self.model.jobs.findings()[0].title, "job")
        self.model.drop()

    def test_a_running_stack_is_named_with_its_count(self) -> None:
        self.assertIsNone(self.model.stacks.running)
        self.model.drop()
        product = SimpleNamespace(output="running.fits", values={"count": 7})
        with mock.patch.object(stacks, "running_of", lambda night, series: product):
            self.assertEqual(self.model.stacks.running, ("running.fits", "Running stack of 7"))
        self.model.drop()

    def test_what_was_watched_is_shown_when_the_night_has_taken_it_up(self) -> None:
        running = ("running.fits", "Running stack of 7")
        with (
            mock.patch.object(type(self.model.stacks), "running", running), mock.patch.object(self.window, "command") as done,
            mock.patch.object(self.window.sky, "show_file") as shown,
        ):  # fmt: skip
            for station, what in (
                ("combine", "watch"), ("plate", ""), ("intake", ""), ("combine", "watch"), ("intake", ""), ("intake", ""),
            ):  # fmt: skip
                self.window._show_made(station, what)
        self.assertEqual((done.call_args_list, shown.call_args_list), ([mock.call("rescan")] * 2, [mock.call(*running)]))

    def test_a_place_is_marked_from_plate_on(self) -> None:
        for station, there in (("intake", "plate"), ("masters", "plate"), ("combine", "combine"), ("curve", "curve")):
            self.model.set_station(station)
            self.window.command("mark place")
            self.assertEqual(self.model.station, there)

    def test_a_mosaic_is_of_a_series(self) -> None:
        with mock.patch.object(type(self.model), "chosen_series", lambda _: None):
            self.assertEqual(self.model.stacks.mosaic_lacks(), ("There is no series.", 0))

    def test_the_answer_about_a_pixel_is_told_to_who_asked(self) -> None:
        told: list[object] = []
        self.model.stacks.history_known.connect(lambda: told.append(self.model.stacks.history))
        self.model.stacks.pixel = (3, 4)
        self.model.stacks._asker.ask((3, 4), lambda: "it was read")
        self.until(lambda: told, 10, "the answer")
        self.assertEqual(told, ["it was read"])

    def test_corrected_facts_tell_the_findings_of_intake_anew(self) -> None:
        with mock.patch.object(ground, "retell_intake") as retold:
            self.model.facts_edited()
        retold.assert_called_once_with(self.model.night)

    def test_who_shows_what_is_pointed_at_is_told_of_another_reference(self) -> None:
        told: list[None] = []
        self.model.pointing.changed.connect(lambda: told.append(None))
        path = self.model.lights()[3].path
        self.model.pointing._store("reference", path, "take another reference")
        self.assertEqual((len(told), self.model.settings().combine.reference), (1, path))
        self.model.undo.undo()
        self.assertEqual(self.model.settings().combine.reference, "")

    def test_why_a_toggle_shows_nothing(self) -> None:
        why = self.sky.naming.why_nothing
        self.assertEqual(why("regions"), "No region is left out.")
        self.model.looking.add_region("rectangle", [(5.0, 6.0), (30.0, 40.0)])
        self.assertEqual((why("regions"), why("aligned")), ("", ""))
        self.assertIn("There is no deep view yet", why("deep"))
        self.assertEqual(self.sky.marks.deep({"detections"}).roles, [])
        self.assertIn("Defects are shown at", why("defects"))

    def test_the_space_that_calibrated_lights_take_is_told(self) -> None:
        lights = self.model.lights()
        match = SimpleNamespace(safe=True, choices=())
        self.model.set_station("calibrate")
        with (
            mock.patch.object(self.model.matching, "has_masters", lambda: True),
            mock.patch.object(self.model.matching, "matches", lambda: [(SimpleNamespace(files=[f.path for f in lights]), match)]),
        ):
            _, told, command = plan_run(self.model)
        megabytes = sum(4 * f.width * f.height for f in lights) / 1e6
        self.assertIn(f"{megabytes:.0f} MB", told)
        self.assertEqual(command, "run calibrate")

    def test_the_end_of_a_job_is_told(self) -> None:
        told: list[str] = []
        self.model.message.connect(told.append)
        jobs = self.model.jobs
        made = (
            StationResult("masters", "Made 3 masters."),
            StationResult("masters", "Made 2 masters.", problem="There is nothing to make."),
        )
        for result, words in zip(made, ("Made 3 masters.", "There is nothing to make.")):
            jobs.job = Job("masters", lambda context: None, pools=jobs.pools)
            jobs.job.state, jobs.job.result = "done", result
            jobs._running = True
            jobs._on_event(jobs.job)
            self.idle()
            self.assertEqual(told[-1], words)
        jobs.job = None

    def test_a_role_is_given_to_the_star_at_a_place(self) -> None:
        model = self.model
        for place, role in (((100.0, 90.0), "target"), ((220.0, 180.0), "comparison"), ((320.0, 200.0), "target")):
            give_role(model, place, role)
        # The old target gave way.
        self.assertEqual([star.role for star in model.night.stars()], ["target", "comparison"])
        places = model.numbers.star_pixels(model.current)
        target = next(star.name for star in model.night.stars() if star.role == "target")
        x, y = places[target]
        np.testing.assert_allclose((x, y), (320, 200), atol=8)
        # Within eight pixels it is that star.
        for off in ((0.0, 8.5), (8.5, 0.0), (6.0, 6.0)):
            self.assertEqual(give_role(model, (x + off[0], y + off[1]), ""), "There is no role at this place.")
        self.assertEqual(give_role(model, (x + 5.5, y - 5.5), ""), f"{target} has no role now.")
        self.assertEqual([star.role for star in model.night.stars()], ["comparison"])

    def test_where_a_star_is_ends_at_the_outer_pixels_edges(self) -> None:
        facts = self.model.facts(self.model.current)
        star = ListedStar("s", "check", ra=1.0, dec=2.0)
        for x, y, words in (
            (-0.4, 10.0, "x 1, y 11"), (-0.6, 10.0, "outside of it"), (10.0, -0.6, "outside of it"),
            (facts.width - 0.6, facts.height - 0.6, f"x {facts.width}, y {facts.height}"), (facts.width - 0.4, 1.0, "outside of it"),
        ):  # fmt: skip
            wcs = SimpleNamespace(pixel=lambda ra, dec, at=(x, y): at)
            with mock.patch.object(type(self.model), "plates", lambda _, wcs=wcs: {self.model.current: wcs}):
                self.assertEqual(where_words(self.model, star), words)

    def test_limits_that_are_tried_are_told_and_no_defects_are_shown_yet(self) -> None:
        told: list[None] = []
        self.model.preview_changed.connect(lambda: told.append(None))
        self.model.looking.tune_stars(np.ones((3, 2)))
        self.assertEqual(len(told), 1)
        self.assertEqual(self.model.matching.preview.shape, (0, 2))
        self.assertEqual(self.model.jobs.series_done("masters"), (0, 0))
        self.assertIsNone(self.model.stacks.alignment("of no exposure"))

    def test_qualities_as_a_table_tell_times_to_the_millisecond(self) -> None:
        path = self.folder / "q.csv"
        self.assertEqual(save_exposure_table(self.model, path), len(self.model.lights()))
        times = [line.split(",")[1] for line in path.read_text().splitlines()[1:]]
        middles = [datetime.fromisoformat(time).replace(tzinfo=UTC) for time in times]
        self.assertEqual({len(time) for time in times}, {23})
        for facts, middle in zip(self.model.lights(), middles, strict=True):
            self.assertLess(abs((facts.mid_utc - middle).total_seconds()), 0.001)
        kept(self, path.read_text().splitlines())

    def test_a_star_is_found_by_its_name_in_a_list_and_moves(self) -> None:
        path = self.folder / "c.csv"
        path.write_text("id,ra,dec,epoch,pmra,pmdec,mag\nS 1,10.0,20.0,2016.0,0,0,9\nS 2,10.5,20.5,2016.0,0,3600000,9\n")
        self.assertEqual([star_at(path, name, None) for name in ("s2", "S 3")], [("S 2", 10.5, 20.5), ""])
        name, ra, dec = star_at(path, "S 2", datetime(2017, 1, 1, tzinfo=UTC))
        self.assertEqual((name, round(ra, 6), round(dec, 2)), ("S 2", 10.5, 21.5))
        self.assertIn("c.csv", star_at(path.with_name("no c.csv"), "S 2", None))

    def test_a_pixel_of_the_stack_is_asked_for_within_its_edges(self) -> None:
        told: list[object] = []
        stack = SimpleNamespace(values={"width": 30, "height": 20})
        self.quiet_signals(self.model.stacks)
        with (
            mock.patch.object(type(self.model.stacks), "stack", stack),
            mock.patch.object(self.model.stacks, "_taken", lambda: ([], "asked")),
            mock.patch.object(self.model.stacks, "_found", lambda pixel, answer: told.append((pixel, answer))),
        ):
            for place in ((0.4, 0.4), (29.4, 19.4), (-0.6, 3.0), (3.0, -0.6), (29.6, 3.0), (3.0, 19.6)):
                self.model.stacks.point_at(*place)
        outside = "That is outside the stack."
        self.assertEqual(
            told, [((0, 0), "asked"), ((29, 19), "asked"), ((-1, 3), outside), ((3, -1), outside), ((30, 3), outside), ((3, 20), outside)]
        )

    def test_what_came_while_the_views_were_told_is_followed(self) -> None:
        jobs = self.model.jobs
        self.quiet_signals(jobs)
        for finished, again, wanted in ((True, True, ["end"]), (False, True, ["more"]), (False, False, [])):
            told: list[str] = []
            with (
                mock.patch.object(jobs, "job", SimpleNamespace(finished=finished)), mock.patch.object(jobs, "_once_more", again),
                mock.patch.object(jobs, "_on_event", lambda job, told=told: told.append("end")),
                mock.patch.object(jobs, "_on_brought_up", lambda told=told: told.append("more")),
            ):  # fmt: skip
                jobs._go_on_following()
            self.assertEqual(told, wanted)

    def test_several_folders_are_one_night(self) -> None:
        raws = [self.folder / name for name in ("one", "two", "three")]
        for place, facts in zip(raws, self.model.lights()):
            place.mkdir()
            shutil.copy(facts.path, place)
        self.assertTrue(self.model.open_many(raws))
        self.idle()
        self.assertEqual({Path(f.path).parent for f in self.model.night.exposures}, set(raws))
