"""A night that is followed while it is taken: what arrives joins the light curve, and nothing is done twice."""

import shutil
from unittest import mock

from tools.cases import FolderCase, remember_stars, small_demo

from tests.cli.support import Command
from ulvar.engine import JobContext
from ulvar.flows import measure, starfind
from ulvar.night import Night, StationResult
from ulvar.night.stations import run_follow, series_path
from ulvar.photometry import read_series, read_star_list


class Following(FolderCase):
    """The first exposures of the demo night, arriving one after the other."""

    def setUp(self) -> None:
        super().setUp()
        remember_stars(self)
        self.demo = small_demo()
        self.files = sorted((self.demo / "raw" / "lights" / "V").glob("*.fits"))[:7]
        self.raw = self.folder / "raw"
        self.raw.mkdir()
        for path in self.files[:3]:
            shutil.copy(path, self.raw)
        self.night = Night.create(self.folder / "night", [self.raw])
        self.addCleanup(self.night.close)
        settings = self.night.settings
        settings.plate.catalogue = str(self.demo / "catalogue.csv")
        self.night.set_settings(settings)
        self.night.wait_with_stars("", read_star_list(self.demo / "stars.csv"))

    def followed(self, waiting: list, **how: object) -> tuple[StationResult, list[str]]:
        """Follow the night while files arrive, two looks apart; ends when nothing is left."""
        stations: list[str] = []

        def over(taken: int, idle_s: float) -> bool:
            # Every file is taken up before the next one comes.
            if len(self.night.exposures) < len(list(self.raw.glob("*.f*"))) - len(list(self.raw.glob("half*"))) and idle_s < 30:
                return False
            if not waiting:
                return True
            shutil.copy(waiting.pop(0), self.raw)
            return False

        result = run_follow(self.night, JobContext(), lambda r: stations.append(r.station if r else "."), every_s=0.01, over=over, **how)  # type: ignore[arg-type]
        return result, stations

    def test_what_arrives_joins_the_curve_and_nothing_is_done_twice(self) -> None:
        with (
            mock.patch.object(starfind, "stars_item", wraps=starfind.stars_item) as found,
            mock.patch.object(measure, "measure_item", wraps=measure.measure_item) as measured,
        ):
            result, stations = self.followed(self.files[3:])
        self.assertEqual((result.done, result.failed, result.problem), (7, 0, ""))
        self.assertEqual((found.call_count, measured.call_count), (7, 7))
        self.assertEqual(stations.count("."), 5)
        self.assertEqual(stations[:6], ["intake", "combine", "plate", "measure", "curve", "."])
        self.assertIn("7 points of", result.text)
        series = self.night.current_series()
        assert series is not None
        table = read_series(series_path(self.night, series))
        self.assertEqual({row.file for row in table.rows}, {path.name for path in self.files})
        self.assertEqual(self.night.products_of("curve", series.key)[series.key].values["points"], 7)

    def test_masters_are_made_when_their_frames_arrive(self) -> None:
        frames = sorted((self.demo / "raw" / "bias").glob("*.f*"))[:3]
        _, stations = self.followed([*frames, self.files[3]])
        self.assertEqual((stations.count("masters"), stations.count("curve")), (3, 2))
        self.assertEqual(len(self.night.products_of("master")), 1)

    def test_a_stop_ends_it_well_and_single_files_are_not_followed(self) -> None:
        context = JobContext()
        seen = []

        def told(result: StationResult | None) -> None:
            seen.append(result)
            if result is not None and result.station == "combine":
                context.stop.stop()

        result = run_follow(self.night, context, told, every_s=0.01)
        self.assertEqual(result.problem, "")
        self.assertEqual([r.station for r in seen if r], ["intake", "combine"])
        alone = Night.create(self.folder / "alone", self.files[:1])
        self.addCleanup(alone.close)
        self.assertIn("no folder", run_follow(alone, JobContext()).problem)

    def test_a_file_that_is_never_whole_is_named_and_the_rest_goes_on(self) -> None:
        (self.raw / "half.fits").write_bytes(self.files[4].read_bytes()[:40_000])
        with mock.patch("ulvar.flows.arriving._PATIENCE_S", 0.2):
            result, _ = self.followed([self.files[3]])
        self.assertEqual(result.done, 4)


class FollowCommand(Command):
    """The command."""

    def test_points_are_told_as_they_come(self) -> None:
        demo = small_demo()
        raw = self.folder / "raw"
        raw.mkdir()
        for path in sorted((demo / "raw" / "lights" / "V").glob("*.fits"))[:3]:
            shutil.copy(path, raw)
        arguments = (
            "follow", raw, "--stars", demo / "stars.csv", "--catalogue", demo / "catalogue.csv", "--idle", "0.05", "--every", "0.02",
        )  # fmt: skip
        code, out, _ = self.ulvar(*arguments)
        self.assertEqual(code, 0, out)
        self.assertEqual(sum(" mag" in line and "±" in line for line in out.splitlines()), 3)
        self.assertIn("raw-night", out)
        code, out, _ = self.ulvar(*arguments, "--json")
        self.assertEqual(code, 0)
        self.assertEqual(out.count('"event": "point"'), 3)
        self.assertIn('"event": "end"', out)

    def test_wrong_usage(self) -> None:
        pixels = self.folder / "stars.csv"
        pixels.write_text("name,role,x,y\nT,target,5,5\n")
        (self.folder / "raw").mkdir()
        for words, told in (
            (("follow", self.folder / "gone"), "no such folder"),
            (("follow", self.folder / "raw", "--stars", pixels), "given by ra, dec"),
            (("follow", self.folder / "raw", "--every", "0"), "above 0"),
            (("follow", self.folder / "raw", "--stars", self.folder / "none.csv"), "none.csv"),
        ):
            with self.subTest(told):
                code, body = self.json(*words)
                self.assertEqual(code, 2)
                self.assertIn(told, body["error"])
