"""What boards and bars ask the model for: neighbours, what comes first, the next step's words, a running stack, the end of a job."""

from types import SimpleNamespace
from unittest import mock

from tests.desktop.scored import ScoredCase
from ulvar.desktop.models import ground, stacks
from ulvar.desktop.models.plan import plan_run
from ulvar.engine import Job
from ulvar.inspection import Severity
from ulvar.night import StationResult


class Asked(ScoredCase):
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
