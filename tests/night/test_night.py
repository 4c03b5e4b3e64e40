"""The night's store: selections, corrections, recipe, states, resuming."""

import os
import sqlite3
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np
from tools.cases import FolderCase, stamps

from ulvar.engine import JobContext, temporary_name
from ulvar.flows import CameraNumbers
from ulvar.frames import ExposureFacts, Role, facts_from_text, facts_to_text
from ulvar.inspection import Finding, Mend, Severity, camera_key
from ulvar.night import RUNNERS, Night, NightError, NightSettings, RecipeError, read_recipe
from ulvar.night.coding import finding_from_text, finding_to_text
from ulvar.night.exposures import with_camera_numbers
from ulvar.night.settings import PairSettings, PlaceSettings
from ulvar.photometry import ListedStar
from ulvar.simulation import Psf, star_field


class Project(FolderCase):
    """A small folder of raw frames and its night."""

    def setUp(self) -> None:
        super().setUp()
        rng = np.random.default_rng(4)
        x, y, flux = rng.uniform(20, 280, 50), rng.uniform(20, 180, 50), 10 ** rng.uniform(3.6, 4.8, 50)
        for i in range(5):
            image = star_field(rng, width=300, height=200, x=x + i, y=y, flux_e=flux, psf=Psf.with_fwhm(3.0)) + 300
            self.write(
                f"raw/light-{i}.fits", image.astype(np.uint16), IMAGETYP="Light", EXPTIME=30.0, FILTER="V",
                DATE_OBS=f"2027-02-11T20:0{i}:00", EGAIN=1.0,
            )  # fmt: skip
        for i in range(4):
            self.write(f"raw/dark-{i}.fits", rng.normal(300, 5, (200, 300)).astype(np.uint16), IMAGETYP="Dark", EXPTIME=30.0)
        self.raw = self.folder / "raw"
        self.night = Night.for_path(self.raw)
        self.addCleanup(self.night.close)

    def run_all(self, *stations: str) -> None:
        for station in stations:
            result = RUNNERS[station](self.night, JobContext())
            self.assertEqual(result.problem, "", station)

    def test_place_and_reopening(self) -> None:
        self.assertEqual(self.night.folder.name, "raw-night")
        self.run_all("intake")
        self.assertEqual((len(self.night.exposures), len(self.night.lights())), (9, 5))
        again = Night.for_path(self.night.folder)
        self.addCleanup(again.close)
        self.assertEqual([f.path for f in again.exposures], [f.path for f in self.night.exposures])
        self.assertEqual(again.exposures[0].mid_utc, self.night.exposures[0].mid_utc)

    def test_changed_new_and_missing_files_are_noticed(self) -> None:
        self.run_all("intake")
        (self.raw / "light-0.fits").unlink()
        path = self.raw / "light-1.fits"
        os.utime(path, ns=(1, 1))
        self.write("raw/light-9.fits", np.zeros((200, 300), np.uint16), IMAGETYP="Light", EXPTIME=30.0)
        self.run_all("intake")
        names = {Path(f.path).name for f in self.night.exposures}
        self.assertNotIn("light-0.fits", names)
        self.assertIn("light-9.fits", names)
        self.assertEqual(next(f for f in self.night.exposures if f.path == str(path)).mtime_ns, 1)

    def test_selection_and_corrections(self) -> None:
        self.run_all("intake")
        paths = [f.path for f in self.night.lights()]
        self.assertEqual(self.night.leave_out(paths[:2], "cloud"), paths[:2])
        self.assertEqual(self.night.leave_out(paths[:3], "again"), paths[2:3])
        self.assertEqual(self.night.put_back(paths[:1]), {paths[0]: "cloud"})
        self.assertEqual(set(self.night.left_out), set(paths[1:3]))
        self.night.correct(paths[:1], "role", "dark")
        self.assertEqual(self.night.facts(paths[0]).role, Role.DARK)  # type: ignore[union-attr]
        self.night.correct(paths[:1], "role", None)
        self.assertEqual(self.night.facts(paths[0]).role, Role.LIGHT)  # type: ignore[union-attr]
        with self.assertRaises(ValueError):
            self.night.correct(paths[:1], "role", "moon")

    def test_states_go_stale_and_runs_resume(self) -> None:
        before = stamps(self.raw)
        self.run_all("intake", "masters", "calibrate", "combine")
        self.assertEqual(
            [self.night.state(s) for s in ("intake", "masters", "calibrate", "combine", "plate")], ["done", "done", "done", "done", "empty"]
        )
        products = stamps(self.night.products / "calibrated")
        self.run_all("calibrate")
        self.assertEqual(stamps(self.night.products / "calibrated"), products, "finished products are not made again")
        settings = self.night.settings
        settings.combine.high = 5.0
        self.night.set_settings(settings)
        self.assertEqual((self.night.state("calibrate"), self.night.state("combine")), ("done", "stale"))
        self.night.leave_out([self.night.lights()[0].path], "x")
        states = [self.night.state(s) for s in ("masters", "calibrate", "combine")]
        self.assertEqual(states, ["done", "done", "stale"], "a light is no part of masters")
        bias = next(f.path for f in self.night.exposures if f.role is not Role.LIGHT)
        self.night.leave_out([bias], "x")
        self.assertEqual([self.night.state(s) for s in ("intake", "masters", "calibrate")], ["done", "stale", "stale"])
        self.run_all("masters", "calibrate", "combine")
        self.assertEqual(self.night.state("calibrate"), "done")
        self.night.put_back([self.night.lights()[0].path])
        self.assertEqual(self.night.state("calibrate"), "stale", "nothing was made of what is in again")
        self.assertEqual(len(self.night.products_of("stack_frame")), 4)
        self.assertEqual(stamps(self.raw), before)

    def test_a_station_goes_stale_by_what_it_used_only(self) -> None:
        self.run_all("intake", "masters", "calibrate", "combine")
        later = ("plate", "measure", "curve")
        # Only the stamps count here: nothing is measured.
        for station in later:
            self.night.mark_run(station, "done")
        changes = {
            "combine": {"weights": "fwhm", "lost": 0.1, "low": 4.0, "framing": "union", "rules": [], "blend": {"stars": 1.0}},
            "measure": {"radius": 2.5}, "curve": {"detrend": ["sky"]},
        }  # fmt: skip
        for section, values in changes.items():
            for name, value in values.items():
                before = self.night.settings
                settings = self.night.settings
                setattr(getattr(settings, section), name, value)
                self.night.set_settings(settings)
                with self.subTest(f"{section}.{name}"):
                    stale = [s for s in ("combine", *later) if self.night.state(s) == "stale"]
                    wanted = {"combine": ["combine"], "measure": ["measure", "curve"], "curve": ["curve"]}[section]
                    self.assertEqual(stale, wanted)
                self.night.set_settings(before)
        settings = self.night.settings
        place = PlaceSettings(name="none", ra=1.0, dec=2.0)
        settings.plate.pair, settings.plate.places = PairSettings(first=place, second=place), [place]
        settings.plate.bodies, settings.plate.faintest_mag = "bodies.csv", 12.0
        self.night.set_settings(settings)
        self.assertEqual([s for s in later if self.night.state(s) == "stale"], [], "what is only shown, or measured on its own")
        settings.plate.radius_deg += 1
        self.night.set_settings(settings)
        self.assertEqual(self.night.state("plate"), "stale")
        settings = self.night.settings
        settings.combine.threshold = 9.0
        self.night.set_settings(settings)
        self.assertEqual([self.night.state(s) for s in ("combine", *later)], ["stale"] * 4, "other stars")

    def test_recipe_runs_on_another_folder(self) -> None:
        settings = self.night.settings
        settings.combine.rules = []
        settings.combine.low = 3.5
        # Parts that are not told, in lists and below each other; a name is a name, whatever it says.
        place = PlaceSettings(name="none", x=3.5, y=4.0)
        settings.plate.pair, settings.plate.places = PairSettings(first=place, second=place), [place]
        self.night.set_settings(settings)
        self.night.set_stars([ListedStar("T", "target", ra=10.0, dec=5.0), ListedStar("a", "comparison", x=3.0, y=4.0)])
        self.run_all("intake", "masters")
        stations, read, stars = read_recipe(self.night.folder / "recipe.toml")
        self.assertEqual(stations, ["intake", "masters"])
        self.assertEqual(read, self.night.settings)
        self.assertEqual(list(stars.values()), [self.night.stars()])
        bad = self.folder / "bad.toml"
        for text in ("x = [", 'steps = ["moon"]', "[settings.combine]\nlow = -1\n", "[settings.combine]\nnope = 1\n"):
            bad.write_text(text)
            with self.assertRaises(RecipeError):
                read_recipe(bad)

    def test_half_written_files_of_dead_processes_go(self) -> None:
        left = self.night.products / "calibrated"
        left.mkdir(parents=True)
        (left / ".ulvar-999999-7-0a1b2c3d.fits").write_text("half")
        (left / temporary_name("y.fits")).write_text("being written")
        again = Night(self.night.folder)
        self.addCleanup(again.close)
        self.assertEqual([p.name for p in left.iterdir()], [temporary_name("y.fits")])

    def test_not_a_night(self) -> None:
        place = self.folder / "odd"
        place.mkdir()
        (place / "night.sqlite").write_text("this is not a database, but long enough to look at" * 30)
        with self.assertRaises(NightError):
            Night(place)
        with self.assertRaises(NightError):
            Night.for_path(self.folder / "nowhere")
        newer = Night.create(self.folder / "newer", [self.raw])
        newer.close()
        connection = sqlite3.connect(self.folder / "newer" / "night.sqlite")
        connection.execute("PRAGMA user_version=99")
        connection.close()
        with self.assertRaisesRegex(NightError, "newer"):
            Night(self.folder / "newer")

    def test_facts_and_findings_round_trip(self) -> None:
        self.run_all("intake")
        for facts in self.night.exposures:
            self.assertEqual(facts_from_text(facts_to_text(facts)), facts)
        finding = Finding(
            Severity.CHECK, "cloud", "t", "x", ("a",), {"series": [1.0, 2.0]}, Mend("Leave out 1", "leave_out", ("a",)), "combine",
        )  # fmt: skip
        self.assertEqual(finding_from_text(finding_to_text(finding)), finding)


class CameraTold(unittest.TestCase):
    """What photon transfer measured stands in for what headers and user leave out, each number by itself."""

    def test_each_on_its_own(self) -> None:
        known = CameraNumbers(1.5, 0.01, 4.2, 0.1, "2027-02-11")
        bare = ExposureFacts("a", camera="C", gain=100.0)
        for given, gain, read in (
            ({}, 1.5, 4.2), ({"gain_e_per_adu": 2.0}, 2.0, 4.2), ({"read_noise_e": 9.0}, 1.5, 9.0),
            ({"gain_e_per_adu": 2.0, "read_noise_e": 9.0}, 2.0, 9.0),
        ):  # fmt: skip
            facts = replace(bare, **given)
            (told,) = with_camera_numbers([facts], {camera_key(bare): known})
            self.assertEqual((told.gain_e_per_adu, told.read_noise_e), (gain, read))
            self.assertEqual(set(told.origins), {"gain_e_per_adu", "read_noise_e"} - set(given))
            self.assertEqual(with_camera_numbers([facts], {"another": known}), [facts])


class Settings(unittest.TestCase):
    """Settings refuse nonsense."""

    def test_validation(self) -> None:
        settings = NightSettings()
        for section, name, value in (
            ("combine", "low", 0), ("masters", "age_d", -1), ("measure", "centre", "there"), ("curve", "model", "x"),
        ):  # fmt: skip
            with self.assertRaises(ValueError):
                setattr(getattr(settings, section), name, value)
