"""A night whose lights were never calibrated into copies: with masters there, every station calibrates on the way."""

import shutil
from dataclasses import replace
from pathlib import Path

import numpy as np
from tools.cases import FolderCase, files_under, made_once, remember_stars, small_demo
from tools.nights import with_catalogue, worked

from ulvar.combine import Method
from ulvar.engine import JobContext
from ulvar.flows import StackedExposure, pixel_history
from ulvar.frames import read_plane
from ulvar.night import Night
from ulvar.night.stations import (
    run_calibrate,
    run_intake,
    run_masters,
    run_measure,
    run_plate,
    run_score,
    run_stack,
    series_path,
    working_of,
)
from ulvar.photometry import read_series, read_star_list
from ulvar.stacking import STACK_REJECTION

LIGHTS = 5


def _inputs() -> list[Path]:
    raw = small_demo() / "raw"
    lights = sorted((raw / "lights" / "V").iterdir())[:LIGHTS]
    darks = sorted((raw / "darks").glob("Dark-240*"))[:5]
    return [raw / "bias", raw / "flats" / "V", raw / "dark flats" / "V", *darks, *lights]


def _measure(folder: Path) -> None:
    """Make two nights that are scored, stacked, solved and measured: one that calibrates into copies, one on the way."""
    for name in ("copies", "none"):
        night = with_catalogue(Night.create(folder / name, _inputs()))
        copied = [run_calibrate] if name == "copies" else []
        worked(night, run_intake, run_masters, *copied, run_score, run_stack, run_plate)
        night.set_stars(read_star_list(small_demo() / "stars.csv"), night.current_series())
        worked(night, run_measure)
        night.close()


class OnTheWay(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        remember_stars(self)

    def night(self, name: str) -> Night:
        """Return a copy of one of the nights."""
        shutil.copytree(made_once("on the way", _measure) / name, self.folder / name)
        night = Night.for_path(self.folder / name)
        self.addCleanup(night.close)
        return night

    def test_equal_to_the_last_bit_and_nothing_written_between(self) -> None:
        there, here = self.night("copies"), self.night("none")
        self.assertEqual(len(there.products_of("calibrated")), LIGHTS)
        self.assertFalse([f for f in files_under(self.folder / "none") if "calibrated" in f])
        series = here.current_series()
        stacks = [n.products_of("stack", series.key)[series.key] for n in (there, here)]
        for one in (there, here):
            self.assertEqual(len(one.products_of("stack_frame")), LIGHTS)
        np.testing.assert_array_equal(*(read_plane(s.output) for s in stacks))
        # Sky, noise and stars as of calibrated pixels.
        scores = [n.products_of("score", series.key) for n in (there, here)]
        for raw, product in scores[1].items():
            self.assertEqual(product.output, raw)
            for name in ("sky_adu", "noise_adu", "stars", "fwhm_px", "matrix", "expected_noise_adu"):
                self.assertEqual(product.values[name], scores[0][raw].values[name], name)
        tables = [read_series(series_path(n, series)) for n in (there, here)]
        rows = [sorted((r.time_utc_mid, r.name, r.flux, r.flux_error, r.sky, r.flags) for r in t.rows) for t in tables]
        self.assertGreater(len(rows[0]), 3 * LIGHTS)
        np.testing.assert_equal(rows[0], rows[1])

    def test_a_pixels_history_and_a_master_made_anew(self) -> None:
        night = self.night("none")
        series = night.current_series()
        ready = working_of(night, series)
        self.assertEqual((len(ready.calibrations), ready.refused), (LIGHTS, ()))
        stack = night.products_of("stack", series.key)[series.key]
        frames = night.products_of("stack_frame")
        taken = []
        for raw, product in frames.items():
            one = StackedExposure.of(ready.facts[raw], product.values)
            taken.append(replace(one, calibration=ready.calibrations[one.facts.path]))
        v = stack.values
        rejection = replace(STACK_REJECTION, method=Method(v["method"]), low=v["reject_low"], high=v["reject_high"])
        found = pixel_history(taken, 250, 180, (v["height"], v["width"]), rejection, JobContext())
        pixel = float(read_plane(stack.output)[180, 250])
        self.assertAlmostEqual(found.combined_adu, pixel, delta=1e-3)
        # Raw values lie over a bias of some hundred ADU: a history of raw pixels would not come near.
        self.assertLess(max(abs(one.value_adu - pixel) for one in found.values), 60)
        # Another way of calibrating: what was found before does not hold any more.
        prints = {raw: p.values["print"] for raw, p in night.products_of("score").items()}
        settings = night.settings
        settings.calibrate.repair = not settings.calibrate.repair
        night.set_settings(settings)
        run_score(night, JobContext())
        for raw, product in night.products_of("score").items():
            self.assertNotEqual(product.values["print"], prints[raw])

    def test_lights_without_a_safe_master_are_named(self) -> None:
        night = Night.create(self.folder / "some", [*_inputs(), *sorted((small_demo() / "raw" / "lights" / "B").iterdir())[:2]])
        self.addCleanup(night.close)
        context = JobContext()
        run_intake(night, context)
        run_masters(night, context)
        of = {one.filter: one for one in night.series()}
        # B has no flat; it is not stacked raw in silence.
        self.assertEqual(len(working_of(night, of["V"]).facts), LIGHTS)
        result = run_score(night, context, of["B"])
        self.assertIn("has safe masters (see Masters)", result.problem)
        self.assertEqual(night.products_of("score", of["B"].key), {})
        # Taken with what fits, where the setting allows it.
        settings = night.settings
        settings.calibrate.partial = True
        night.set_settings(settings)
        self.assertEqual(run_score(night, context, of["B"]).done, 2)
