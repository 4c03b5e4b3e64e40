"""Two processes on one night: one works at a time, the other waits and says so; what they make is whole."""

import subprocess
import sys
import threading
import time

import numpy as np
from tools.cases import FolderCase, files_under

from ulvar.engine import JobContext, StopRequested, StopToken
from ulvar.night import Night, run_station
from ulvar.night.recipe import record_step
from ulvar.night.working import alone

_HOLDS = """
import sys, time
from pathlib import Path
from ulvar.engine import JobContext
from ulvar.night import Night
from ulvar.night.working import alone
night = Night(Path(sys.argv[1]))
with alone(night, JobContext()):
    night.leave_out(["x"], "by the other")
    print("held", flush=True)
    sys.stdin.readline()
print("given back", flush=True)
"""


class Two(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        rng = np.random.default_rng(4)
        for i in range(4):
            bias = rng.normal(300, 5, (40, 60)).astype(np.uint16)
            self.write(f"raw/b{i}.fits", bias, IMAGETYP="Bias", EXPTIME=0.0, GAIN=1)
        self.night = Night.for_path(self.folder / "raw")
        self.addCleanup(self.night.close)
        self.told: list[str] = []
        self.token = StopToken()
        self.context = JobContext(progress=lambda done, total, text: self.told.append(text), stop=self.token)

    def other(self) -> subprocess.Popen:
        """Start a process that holds the night until it is sent a line."""
        process = subprocess.Popen(
            [sys.executable, "-c", _HOLDS, str(self.night.folder)], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True,
        )  # fmt: skip
        self.addCleanup(process.communicate)
        self.addCleanup(process.kill)
        assert process.stdout is not None
        self.assertEqual(process.stdout.readline().strip(), "held")
        return process

    def begun(self) -> threading.Thread:
        """Run a station in a thread, and return once it has said that it waits."""
        self.results = []

        def work() -> None:
            try:
                self.results.append(run_station(self.night, self.context, "intake"))
            except StopRequested as stopped:
                self.results.append(stopped)

        thread = threading.Thread(target=work)
        thread.start()
        end = time.monotonic() + 60
        while not self.told and time.monotonic() < end:
            time.sleep(0.02)
        self.assertEqual(set(self.told), {"Waiting for another Ulvar that works on this night"})
        self.assertEqual(self.results, [])
        return thread

    def test_the_second_waits_until_the_first_is_done(self) -> None:
        self.assertEqual(self.night.left_out, {})
        process = self.other()
        thread = self.begun()
        process.stdin.write("go\n")
        process.stdin.flush()
        thread.join(60)
        self.assertEqual(self.results[0].problem, "")
        self.assertEqual(len(self.night.exposures), 4)
        self.assertEqual(self.night.left_out, {"x": "by the other"})

    def test_the_second_goes_on_when_the_first_is_killed(self) -> None:
        process = self.other()
        thread = self.begun()
        process.kill()
        thread.join(60)
        self.assertEqual(self.results[0].problem, "")

    def test_whoever_waits_can_be_stopped(self) -> None:
        self.other()
        thread = self.begun()
        self.token.stop()
        thread.join(60)
        self.assertIsInstance(self.results[0], StopRequested)

    def test_a_station_within_a_station_does_not_wait_for_itself(self) -> None:
        with alone(self.night, self.context), alone(self.night, self.context):
            self.assertEqual(run_station(self.night, self.context, "intake").problem, "")
        self.assertNotIn("Waiting", " ".join(self.told))
        # Given back wholly: another process gets it.
        self.other()

    def test_two_commands_at_once_make_what_one_makes(self) -> None:
        run_station(self.night, JobContext(), "intake")
        for station in ("intake", "masters"):
            record_step(self.night, station)
        recipe = self.folder / "recipe.toml"
        recipe.write_text((self.night.folder / "recipe.toml").read_text())
        # What the recipe says is done, whatever the night is set to now.
        settings = self.night.settings
        wanted, settings.masters.age_d = settings.masters.age_d, 3.0
        self.night.set_settings(settings)
        self.night.close()
        words = [sys.executable, "-m", "ulvar", "run", str(recipe), "--night", str(self.folder / "raw")]
        both = [subprocess.Popen(words, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True) for _ in range(2)]
        for process in both:
            out, err = process.communicate(timeout=120)
            self.assertEqual((process.returncode, err), (0, ""), out)
            self.assertIn("masters    1 master", out)
        night = Night(self.night.folder)
        self.addCleanup(night.close)
        self.assertEqual(night.settings.masters.age_d, wanted)
        self.assertEqual((len(night.exposures), len(night.products_of("master"))), (4, 1))
        self.assertEqual(len([f for f in files_under(night.products) if f.endswith(".fits")]), 1)
        self.assertEqual([f for f in files_under(night.folder) if "/.ulvar" in f], [])
