"""Small things that a night keeps, each looked at in the file that it keeps them in."""

import math
import tomllib
import unittest
from pathlib import Path

import numpy as np
from tools.cases import FolderCase
from tools.same import kept

from tests.night.test_written import EXPOSURE_S, SixExposures
from ulvar.engine import JobContext
from ulvar.flows import Outcome
from ulvar.frames import write_fits
from ulvar.night import Night, stations
from ulvar.night.preparing import CalibrateSettings
from ulvar.night.schema import settings_of
from ulvar.night.settings import NightSettings
from ulvar.night.stations import results_of, run_intake, run_plate, run_stack
from ulvar.night.stations.calibrate import _noisy
from ulvar.night.stations.intake import _changes
from ulvar.night.stations.masters import preparation_of, set_candidates
from ulvar.night.stations.plate import _wrongly_stated
from ulvar.night.stations.results import remember_result
from ulvar.night.stations.selection import field_shift
from ulvar.night.stations.sky import _told


class Pieces(unittest.TestCase):
    def test_a_flip_is_no_shift(self) -> None:
        # Half a turn about the middle of 40 x 30 pixels, and 5, -2 on top.
        self.assertEqual(field_shift([[-1, 0, 39 + 5], [0, -1, 29 - 2]], 40, 30), (5.0, -2.0))

    def test_files_that_changed_and_files_that_are_gone(self) -> None:
        found = _changes({"a": (1, 1), "b": (1, 1)}, ["a", "c"], ["a", "c"])
        self.assertEqual([(f.code, f.files) for f in found], [("file_changed", ("a",)), ("file_missing", ("b",))])

    def test_headers_that_state_another_place(self) -> None:
        raw_of = {"w/a": "/r/a.fits", "w/b": "/r/b.fits", "w/c": "/r/c.fits"}
        solved = [Outcome(file, True, values={"stated": stated, "stated_off_arcsec": off}) for file, stated, off in (
            ("w/a", "wrong", 90.4), ("w/b", "right", 3.0), ("w/c", "wrong", 1200.7),
        )]  # fmt: skip
        self.assertEqual(_wrongly_stated(solved[1:2], raw_of), [])
        for some, words in (
            (solved[:2], "a.fits was found 90″ from where it says"),
            (solved, "a.fits and others were found up to 1201″ from where they say"),
        ):
            (found,) = _wrongly_stated(some, raw_of)
            self.assertTrue(found.text.startswith(words), found.text)
            self.assertEqual((found.code, found.files), ("stated_wrong", tuple(raw_of[o.file] for o in some if o.file != "w/b")))

    def test_why_nothing_was_measured(self) -> None:
        for bad, words in (
            ([Outcome("a", False, "no stars")], "the pair was not measured: no stars"),
            ([], "there is no exposure to measure"),
        ):
            self.assertEqual(_told(["the pair"], len(bad), bad, 0).problem, words)

    def test_one_thing_in_each_exposure_or_several(self) -> None:
        good, bad = Outcome("a", True), Outcome("b", False, "no stars")
        for told, words in (
            (_told(["Wisp"], 2, [good, bad], 1), "Wisp measured in 1 of 2 exposures; no stars"),
            (_told(["Wisp", "Reed"], 2, [good] * 4, 4), "2 moving bodies measured at 4 of 4 places in 2 exposures"),
        ):
            self.assertEqual((told.text, told.problem), (words, ""))
        self.assertEqual(_told(["Wisp", "Reed"], 1, [bad, bad], 0).problem, "2 moving bodies were not measured: no stars")

    def test_what_no_suffix_may_be(self) -> None:
        for suffix in ("a/b", "-x.FITS"):
            with self.subTest(suffix), self.assertRaises(ValueError):
                CalibrateSettings(suffix=suffix)

    def test_a_region_of_the_settings_goes_before_the_header_s(self) -> None:
        own = CalibrateSettings(overscan="[1:4,1:30]", trim="[5:40,1:30]").preparation("[1:2,1:30]", "[3:40,1:30]")
        self.assertEqual([region.text for region in (own.overscan, own.trim)], ["[1:4,1:30]", "[5:40,1:30]"])
        told = CalibrateSettings().preparation("[1:2,1:30]", "[3:40,1:30]")
        self.assertEqual([region.text for region in (told.overscan, told.trim)], ["[1:2,1:30]", "[3:40,1:30]"])
        self.assertIsNone(CalibrateSettings().preparation("", "[3:40,1:30]").trim)

    def test_lights_are_noisy_by_the_masters_that_they_share(self) -> None:
        def light(name: str, after: float, **masters: str) -> Outcome:
            return Outcome(name, True, values={"noise_expected": 1.0, "noise_after": after, **masters})

        lights = [light("a", 1.3, dark="d1", bias="b"), light("b", 1.3, dark="d1", bias="b"), light("c", 1.0, dark="d2", bias="b")]
        self.assertEqual([f.files for f in _noisy([*lights, light("e", 1.2, bias="b2"), light("f", 1.0, bias="b3")])], [("a", "b"), ("e",)])


class Sets(FolderCase):
    def test_what_is_left_out_makes_no_master(self) -> None:
        rng = np.random.default_rng(3)
        for i in range(5):
            self.write(f"raw/b{i}.fits", rng.normal(300 + 10 * i, 3, (40, 60)).astype(np.uint16), IMAGETYP="bias", EXPTIME=0.0)
        night = Night.create(self.folder / "night", [self.folder / "raw"])
        self.addCleanup(night.close)
        run_intake(night, JobContext())
        every = sorted(f.path for f in night.exposures)
        for out, count, level in ((), 5, 320), (every[3:], 3, 310), (every[:1], 4, 330), (every, 0, 0):
            night.put_back(every)
            night.leave_out(out, "clouds")
            sets = set_candidates(night)
            self.assertEqual([one.count for one in sets], [count] if count else [])
            # A median of 2,400 pixels of 3 ADU has an error of 0.08, whole numbers take half of one off.
            self.assertTrue(all(abs(one.level_adu + 0.5 - level) < 0.5 for one in sets), [one.level_adu for one in sets])


class Kept(SixExposures):
    def test_fields_are_remembered(self) -> None:
        night = self.night()
        self.assertEqual([one.key for one in night.fields()], [one.field.key for one in night.series()])
        self.assertEqual(len(night.fields()), 1)

    def test_the_order_follows_the_files_when_some_come_between(self) -> None:
        raw = Path(self.paths[0]).parent
        night = Night.for_path(raw)
        self.addCleanup(night.close)
        Path(self.paths[0]).rename(self.folder / "aside.fits")
        run_intake(night, JobContext())
        (self.folder / "aside.fits").rename(self.paths[0])
        run_intake(night, JobContext())
        self.assertEqual([Path(f.path).name for f in night.exposures], [f"L{i}.fits" for i in range(6)])
        # Also after it is opened anew.
        night.close()
        again = Night.for_path(raw)
        self.addCleanup(again.close)
        self.assertEqual([Path(f.path).name for f in again.exposures], [f"L{i}.fits" for i in range(6)])

    def test_without_a_catalogue_there_is_no_plate(self) -> None:
        told = run_plate(self.night(), JobContext())
        self.assertEqual((told.station, told.text, told.done), ("plate", "choose a star catalogue first", 0))

    def test_steps_stand_in_the_recipe_in_the_order_of_the_path(self) -> None:
        night = self.night()
        run_stack(night, JobContext())
        run_intake(night, JobContext())
        recipe = tomllib.loads((night.folder / "recipe.toml").read_text(encoding="utf-8"))
        self.assertEqual(recipe["steps"], ["intake", "combine"])

    def test_results_come_newest_first_and_tell_how_deep_they_are(self) -> None:
        night = self.night()
        series = night.current_series()
        made = []
        for weights in ("equal", "noise", "fwhm"):
            settings = night.settings
            settings.combine.weights = weights
            night.set_settings(settings)
            run_stack(night, JobContext())
            (stack,) = night.products_of("stack").values()
            made.append(stack.output)
            frames = night.products_of("stack_frame")
            w = np.array([p.values["weight"] for p in frames.values()])
            self.assertAlmostEqual(stack.values["snr_gain"], math.sqrt(w.sum() ** 2 / (w**2).sum()), places=9)
            if weights == "equal":
                self.assertAlmostEqual(stack.values["snr_gain"], math.sqrt(6), places=9)
        # Also those made within one second.
        self.assertEqual([r.output for r in results_of(night, series.key)], made[::-1])
        known = night.products_of("result")
        for first, second in ((made[0], made[1]), (made[1], made[0])):
            for output in (first, second):
                remember_result(night, series, known[output], known[output].values["print"])
            self.assertEqual([r.output for r in results_of(night, series.key)][:2], [second, first])
        # By when they were made, whatever the order in which they were stored.
        for n, output in enumerate(made):
            result = night.products_of("result")[output]
            values = {**result.values, "made_utc": f"2027-02-12T0{(n + 1) % 3}:00:00"}
            night.store_products("result", [result.__class__("result", output, output, values)], series=series.key)
        self.assertEqual([r.output for r in results_of(night, series.key)], [made[1], made[0], made[2]])
        self.assertEqual(results_of(night, "another"), [])

    def test_regions_of_the_headers_count_when_all_lights_tell_the_same(self) -> None:
        night = self.night()
        exposures = night.exposures
        paths = [f.path for f in exposures]
        night.correct(paths, "trim", "[11:360,6:250]")
        night.correct(paths, "overscan", "[361:370,6:250]")
        told = preparation_of(night, exposures)
        self.assertEqual((told.trim.text, told.overscan.text), ("[11:360,6:250]", "[361:370,6:250]"))
        night.correct(paths[:1], "trim", "[12:360,6:250]")
        told = preparation_of(night, exposures)
        self.assertEqual((told.trim, told.overscan.text), (None, "[361:370,6:250]"))
        night.correct(paths[:1], "overscan", "[362:370,6:250]")
        self.assertEqual(preparation_of(night, exposures).overscan, None)

    def test_without_lights_the_regions_are_those_of_what_is_there(self) -> None:
        raw = self.folder / "darks"
        raw.mkdir()
        for k in range(3):
            data = np.random.default_rng(k).normal(100, 3, (60, 80)).astype(np.float32)
            write_fits(
                raw / f"d{k}.fits",
                data,
                cards={"IMAGETYP": "dark", "EXPTIME": EXPOSURE_S, "TRIMSEC": "[3:80,1:60]", "BIASSEC": "[1:2,1:60]"},
            )
        night = Night.for_path(raw)
        self.addCleanup(night.close)
        run_intake(night, JobContext())
        self.assertEqual(night.lights(), [])
        self.assertEqual(preparation_of(night, night.exposures).trim.text, "[3:80,1:60]")
        # Nor is there anything to do for what works on lights.
        for run in (
            stations.run_growth, stations.run_measure, stations.run_field, stations.run_bodies, stations.run_pair,
            stations.run_plate_harder,
        ):  # fmt: skip
            told = run(night, JobContext())
            station = "measure" if run in (stations.run_growth, stations.run_measure, stations.run_field) else "plate"
            self.assertEqual((told.station, told.problem, told.failed), (station, "there is no light to work on", 0))


class Limits(unittest.TestCase):
    def test_what_each_setting_tells(self) -> None:
        kept(self, {name: settings_of(field.annotation) for name, field in NightSettings.model_fields.items()})

    def test_the_ends_that_the_window_offers_are_taken(self) -> None:
        for section, field in NightSettings.model_fields.items():
            model = field.annotation
            for told in settings_of(model):
                if told.kind != "number":
                    continue
                low, high = told.span
                for shown in (high, *([] if told.unset else [low])):
                    with self.subTest(f"{section}.{told.name} {shown}"):
                        value = shown / told.scale
                        whole = isinstance(told.default, int) and not isinstance(told.default, bool)
                        part = model(**{told.name: int(value) if whole else value})
                        self.assertAlmostEqual(getattr(part, told.name), value)
