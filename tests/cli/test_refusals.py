"""What commands say of words, files and folders that they cannot use: the option or the file, and the reason."""

import contextlib
import io
import json
import shutil
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path
from unittest import mock

import numpy as np
from rich.console import Console
from tools.cases import small_demo
from tools.nights import worked_night

from tests.cli.support import Command
from ulvar.engine import JobContext
from ulvar.frames import read_plane
from ulvar.night import Night, StationResult
from ulvar.photometry import SeriesRow, write_series

# What is typed, how it ends, and what is said of it; in groups, of which each is a test.
CASES = Path(__file__).with_name("refusals.txt").read_text(encoding="utf-8").strip().split("\n\n")


class Refusals(Command):
    def setUp(self) -> None:
        super().setUp()
        self.bare(2)
        shutil.copytree(Path(__file__).with_name("given"), self.folder / "given")
        (self.folder / "empty").mkdir()
        for name, text in (
            ("c.csv", "ra,dec\n1,2\n"),
            ("s.csv", "name,role,x,y\nt,target,1,1\n"),
            ("junk.csv", "\0\1"),
            ("junk.fits", "junk"),
        ):
            (self.folder / name).write_text(text)
        sky = {"CTYPE1": "RA---TAN", "CTYPE2": "DEC--TAN", "CRVAL1": 115.5, "CRVAL2": 41.3, "CRPIX1": 200.5, "CRPIX2": 150.5}
        sky |= {"CDELT1": -3e-4, "CDELT2": 3e-4, "EXPTIME": 9.0}
        pictures = [read_plane(str(self.folder / "bare" / f"im{k}.fits")).astype(np.uint16) for k in range(2)]
        for k, data in enumerate(pictures):
            self.write(f"solved/s{k}.fits", data, DATE_OBS="2027-02-11T21:00:00", **sky)
            self.write(f"two/{'VB'[k]}.fits", data, FILTER="VB"[k], IMAGETYP="light")
            self.write(f"dim/{k}.fits", np.random.default_rng(k).normal(300, 5, (60, 80)).astype(np.uint16), IMAGETYP="light")
            self.write(f"caps/{k}.fits", np.full((40, 60), 300, np.uint16), IMAGETYP=("bias", "flat")[k], FILTER="V", EXPTIME=2.0 * k)
        Night.create(self.folder / "night", [self.folder / "two" / "V.fits"]).close()
        for place in ("tiles/00.parquet", "broken/night.sqlite"):
            (self.folder / place).parent.mkdir()
            (self.folder / place).write_text("junk")
        for name in ("there.csv", "there.png", "there.pdf"):
            shutil.copy(self.folder / "c.csv", self.folder / name)
        rows = [
            SeriesRow(
                file=f"a{k}.fits", time_utc_mid=datetime(2027, 2, 11, 20, k, tzinfo=UTC), jd_utc=2461448 + k / 1440, bjd_tdb=2461448 + k / 1440,
                name=name, role=role, x=10.0, y=10.0, flux=flux + k, flux_error=10.0, fwhm_px=3.0, sky=200.0, sky_error=0.1, peak=900.0, flags=0,
                airmass=1.1,
            )
            for k in range(4)
            for name, role, flux in (("T", "target", 4e4), ("a", "comparison", 9e4))
        ]  # fmt: skip
        write_series(self.folder / "t.csv", rows)
        write_series(self.folder / "lone.csv", rows[::2])

    def check(self, group: str) -> None:
        with contextlib.chdir(self.folder):
            for words, code, said in (line.split(" | ") for line in group.splitlines()):
                with self.subTest(words):
                    ended, out, err = self.ulvar(*words.split())
                    self.assertEqual(ended, int(code), err or out)
                    self.assertIn(said, " ".join((out + err).split()))


class Terminal(Command):
    """What a terminal shows beside the results."""

    def test_how_far_a_job_is(self) -> None:
        shown = io.StringIO()
        with mock.patch("ulvar.cli.common.errors", Console(file=shown, force_terminal=True, width=90)):
            self.assertEqual(self.ulvar("stars", self.bare(2))[0], 0)
        self.assertRegex(shown.getvalue(), "Finding stars.*2/2")

    def test_the_demo_beside_its_truth(self) -> None:
        shutil.copytree(worked_night(), self.folder / "d", symlinks=True)
        truth = json.loads((small_demo() / "truth.json").read_text())
        for lost in ("", "plate"):

            def run(night: Night, context: JobContext, station: str) -> StationResult:
                return StationResult(station, f"{station} done", problem="no room" if station == lost else "")  # noqa: B023

            with (
                mock.patch("ulvar.simulation.make_demo_night", return_value=truth), mock.patch("ulvar.cli.nights.run_station", run),
                mock.patch("ulvar.cli.nights.time.perf_counter", return_value=5.0),
            ):  # fmt: skip
                code, body = self.json("demo", "--folder", self.folder / "d", "--no-window")
            self.assertEqual((code, [s["step"] for s in body["steps"] if not s["ok"]]), (1 if lost else 0, [lost] if lost else []))
            self.assertEqual(set(body["results"]["troubles"]), {*truth["planted"], "variable_comparison"})
            self.assertLess(body["results"]["alignment_residual_px"]["measured"], 0.1)


def named(group: str) -> Callable[[Refusals], None]:
    def test(self: Refusals) -> None:
        self.check(group)

    # Coverage tells tests apart by the names of their code.
    test.__name__ = f"test_{group.split()[0]}"
    test.__code__ = test.__code__.replace(co_name=test.__name__)
    return test


for test in map(named, CASES):
    setattr(Refusals, test.__name__, test)
