"""A worker process is killed while a job runs; a job is stopped and goes on."""

import os
import signal

from PySide6.QtCore import Qt
from tools.cases import small_demo, stamps
from tools.window_cases import WindowCase

from ulvar.frames import read_plane
from ulvar.night import Night


class Trouble(WindowCase):
    """Window and data survive."""

    own_pools = True

    def setUp(self) -> None:
        super().setUp()
        demo = small_demo()
        self.raw = demo / "raw"
        Night.create(self.folder / "night", [self.raw]).close()
        self.window.model.open(self.folder / "night")
        self.idle()
        self.window.command("run masters")
        self.idle()

    def test_killed_worker_leaves_window_and_data_whole(self) -> None:
        model = self.window.model
        before = stamps(self.raw)
        self.window.command("run calibrate")
        self.until(lambda: model.jobs.job is not None and model.jobs.job.done >= 2, 60, "two calibrated lights")
        for pid in model.jobs.pools.pids:
            os.kill(pid, signal.SIGKILL)
        self.idle()
        # New workers have taken over what the killed ones were at: nothing is missing, half or told as lost.
        lights = [f for f in model.lights() if f.filter == "V"]
        self.assertEqual(model.jobs.job.state, "done")
        self.assertEqual(len(model.products("calibrated")), len(lights))
        self.assertEqual({f.code for f in model.jobs.findings()} & {"worker_died", "job_failed", "not_calibrated"}, set())
        products = list((self.folder / "night" / "products" / "calibrated").glob("*"))
        self.assertEqual(len(products), len(lights))
        for path in products:
            self.assertTrue(path.name.endswith("-cal.fits"), "no half-written file is left")
            self.assertEqual(read_plane(str(path)).shape, (375, 500))
        self.assertEqual(stamps(self.raw), before)
        # The window still works.
        self.key(Qt.Key.Key_3)
        self.assertEqual(model.station, "calibrate")

    def test_stop_keeps_what_is_finished_and_the_next_run_goes_on(self) -> None:
        model = self.window.model
        self.key(Qt.Key.Key_3)
        self.window.command("run calibrate")
        self.until(lambda: model.jobs.job is not None and model.jobs.job.done >= 2, 60, "two calibrated lights")
        self.key(Qt.Key.Key_Escape)
        self.idle()
        self.assertEqual(model.jobs.job.state, "stopped")
        folder = self.folder / "night" / "products" / "calibrated"
        first = stamps(folder)
        total = len([f for f in model.lights() if f.filter == "V"])
        self.assertGreaterEqual(len(first), 2)
        self.assertLess(len(first), total)
        self.window.command("run calibrate")
        self.idle()
        second = stamps(folder)
        self.assertEqual(len(second), total)
        self.assertEqual({name: second[name] for name in first}, first, "finished products were not made again")

    def test_two_jobs_at_once_are_refused_in_words(self) -> None:
        self.window.command("run calibrate")
        self.window.command("run masters")
        self.assertIn("runs already", self.window.toast.text())
        self.idle()
