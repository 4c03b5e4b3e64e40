"""From raw exposures to the light curve by commands alone."""

import csv
import json
import math
import shutil
import signal
import tempfile
from pathlib import Path
from typing import Any, ClassVar
from unittest import mock

from tools.cases import small_demo, stamps
from tools.nights import worked_night

from tests.cli.support import Command
from ulvar.cli.nights import compare, prepare_demo
from ulvar.frames import header_of
from ulvar.night import Night as OfANight


class Night(Command):
    """Masters to curve on the small demo night, against its truth; a step that several tests need is run once."""

    @classmethod
    def setUpClass(cls) -> None:
        cls.demo = small_demo()
        cls.raw = cls.demo / "raw"
        cls.truth = json.loads((cls.demo / "truth.json").read_text())
        cls.made = Path(tempfile.mkdtemp(prefix="ulvar-test-"))
        cls.addClassCleanup(shutil.rmtree, cls.made, True)
        cls.before = stamps(cls.raw)
        cls.steps: dict[str, tuple[int, dict[str, Any]]] = {}

    demo: ClassVar[Path]
    raw: ClassVar[Path]
    made: ClassVar[Path]
    truth: ClassVar[dict[str, Any]]
    before: ClassVar[dict[str, tuple[int, int]]]
    steps: ClassVar[dict[str, tuple[int, dict[str, Any]]]]

    def test_the_demo_is_prepared_once(self) -> None:
        for name in ("raw", "catalogue.csv", "stars.csv"):
            (self.folder / name).symlink_to(self.demo / name)
        night = prepare_demo(self.folder, self.truth)
        self.assertEqual(
            (night.meta("library"), night.settings.plate.catalogue), tuple(str(self.folder / n) for n in ("library", "catalogue.csv"))
        )
        self.assertGreater(len(night.stars()), 3)
        night.set_meta("library", "/elsewhere")
        night.set_stars(night.stars()[:1])
        night.close()
        night = prepare_demo(self.folder, self.truth)
        self.addCleanup(night.close)
        self.assertEqual((night.meta("library"), len(night.stars())), ("/elsewhere", 1))
        made = "ulvar.simulation.make_demo_night"
        with mock.patch(made, side_effect=OSError("no room")) as make, mock.patch.dict("os.environ", XDG_DATA_HOME=str(self.folder)):
            self.assertEqual(self.json("demo", "--no-window")[0], 3)
        self.assertEqual(make.call_args.args[0], (self.folder / "ulvar" / "demo").resolve())
        ways, seen = (signal.SIGTERM, signal.SIGINT), []
        for way in ways:
            self.addCleanup(signal.signal, way, signal.getsignal(way))

        def opened(folder: Path) -> int:
            seen.append((folder, [signal.getsignal(way) for way in ways]))
            return 0

        # The window ends when its process is told to, in whose loop no command would hear of it.
        with mock.patch(made, return_value=self.truth), mock.patch("ulvar.desktop.app.run_window", opened):
            self.assertEqual(self.ulvar("demo", "--folder", self.folder)[0], 0)
        self.assertEqual(seen, [(self.folder / "night", [signal.SIG_DFL] * 2)])

    def test_what_was_measured_beside_the_truth(self) -> None:
        shutil.copytree(worked_night(), self.folder / "made", symlinks=True)
        night = OfANight.for_path(self.folder / "made" / "night")
        self.addCleanup(night.close)
        results = compare(night, self.truth)
        for name, entry in results.items():
            if "limit" in entry and "minimum" not in name:
                self.assertLess(abs(entry["measured"] - entry.get("truth", 0)), entry["limit"], name)
            elif "truth" in entry:
                self.assertAlmostEqual(entry["measured"] / entry["truth"], 1, delta=0.05, msg=name)
        self.assertEqual(results["plates_solved"]["measured"], len(night.products_of("plate", night.current_series().key)))

    def tearDown(self) -> None:
        self.assertEqual(stamps(self.raw), self.before, "a raw file was touched")

    def step(self, name: str, *words: object) -> tuple[int, dict[str, Any]]:
        """Run a command once for all tests."""
        if name not in self.steps:
            self.steps[name] = self.json(*words)
        return self.steps[name]

    def masters(self) -> tuple[int, dict[str, Any]]:
        return self.step("masters", "masters", self.raw, "--out", self.made / "masters")

    def calibrated(self) -> tuple[int, dict[str, Any]]:
        self.masters()
        return self.step(
            "calibrate", "calibrate", self.raw / "lights" / "V", "--masters", self.made / "masters", "--out", self.made / "cal"
        )  # fmt: skip

    def solved(self) -> tuple[int, dict[str, Any]]:
        self.calibrated()
        imported = self.step("import", "catalogue", "import", self.demo / "catalogue.csv", "--out", self.made / "tiles")
        self.assertEqual(imported[1]["tiles"], 2)
        return self.step("solve", "solve", self.made / "cal", "--catalogue", self.made / "tiles")

    def test_sorted(self) -> None:
        code, body = self.json("sort", self.raw)
        self.assertEqual(code, 1, "one file is cut short")
        codes = {f["code"] for f in body["findings"]}
        self.assertLessEqual({"truncated", "flat_gain", "dark_temperature"}, codes)
        files = [p for p in self.raw.rglob("*.f*") if p.is_file()]
        self.assertEqual(sum(g["count"] for g in body["groups"]) + 1, len(files))

    def test_masters_are_made_once(self) -> None:
        _, body = self.masters()
        self.assertEqual({m["kind"] for m in body["masters"]}, {"bias", "dark", "dark_flat", "flat"})
        self.assertTrue(all(m["rejected_fraction"] < 0.02 for m in body["masters"]))
        again = self.json("masters", self.raw, "--out", self.made / "masters")[1]
        self.assertTrue(all(m["skipped"] for m in again["masters"]))
        self.assertEqual([m["count"] for m in again["masters"]], [m["count"] for m in body["masters"]])

    def test_calibrated_or_refused(self) -> None:
        code, body = self.calibrated()
        self.assertEqual((code, sum(not f["ok"] for f in body["frames"])), (1, 1))
        good = next(f for f in body["frames"] if f["ok"])
        self.assertTrue(good["dark"] and good["flat"] and not good["bias"])
        self.assertNotIn("SATURATE", header_of(good["output"]))
        code, body = self.json("calibrate", self.raw / "lights" / "B", "--masters", self.made / "masters", "--out", self.made / "cal")
        self.assertEqual(code, 3)
        self.assertIn("no safe dark", body["frames"][0]["reason"])

    def test_solved_where_the_sky_is(self) -> None:
        code, body = self.solved()
        self.assertEqual(code, 0)
        for frame in body["frames"]:
            true = self.truth["frames"]["lights/V/" + Path(frame["file"]).name.replace("-cal.fits", ".fits")]
            east = (frame["ra"] - true["ra"]) * math.cos(math.radians(true["dec"])) * 3600
            self.assertLess(math.hypot(east, (frame["dec"] - true["dec"]) * 3600), 0.3)
            self.assertLess(abs((frame["rotation_deg"] - true["rotation_deg"] + 180) % 360 - 180), 0.05)
        again = self.json("solve", self.made / "cal", "--catalogue", self.made / "tiles")[1]
        self.assertTrue(all(f["skipped"] for f in again["frames"]))

    def test_measured_and_fitted(self) -> None:
        _, solved = self.solved()
        series, curve = self.folder / "series.csv", self.folder / "curve.csv"
        code, body = self.json("measure", self.made / "cal", "--stars", self.demo / "stars.csv", "--out", series)
        self.assertEqual((code, body["rows"]), (0, 8 * len(solved["frames"])))
        with series.open(newline="") as handle:
            row = next(csv.DictReader(handle))
        self.assertEqual(len(row["bjd_tdb"].split(".")[1]), 9)
        self.assertTrue(row["airmass"] and row["flux_error"])
        code, body = self.json("curve", series, "--out", curve, "--model", "eclipse", "--detrend", "airmass", "--period", "0.05,0.5")
        self.assertEqual(code, 0)
        fit, true = body["fit"], self.truth["eclipse"]
        late = abs(fit["mid_bjd_tdb"] - true["mid_bjd_tdb"]) * 86400
        self.assertLess(late, max(30, 4 * fit["mid_error_d"] * 86400))
        self.assertLess(abs(fit["depth_mag"] - true["depth_mag"]), max(0.01, 4 * fit["depth_error_mag"]))
        self.assertEqual({f["code"] for f in body["findings"]}, {"comparison_varies"})

    def test_stacked_by_the_sky(self) -> None:
        self.solved()
        code, body = self.json(
            "stack", self.made / "cal", "--align", "sky", "--framing", "common", "--out", self.folder / "s.fits",
            "--memory", "0.2",
        )  # fmt: skip
        self.assertEqual(code, 0)
        self.assertLess(body["width"], 500)
