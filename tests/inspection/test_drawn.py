"""Nights drawn by chance: what is said of them depends on no order, and stays what it was."""

import math
import unittest
from collections.abc import Callable
from dataclasses import fields, replace
from datetime import timedelta
from itertools import pairwise

import numpy as np
from bench.made_drawn import EVENING, drawn_night

from tests.inspection.test_measured import COUNT, found, night
from ulvar.calibration import Candidate, MatchOptions, match_lights
from ulvar.engine import Failed
from ulvar.frames import Tolerances, group_exposures
from ulvar.inspection import (
    ExposureSummary,
    PixelLook,
    depth_findings,
    find_ceilings,
    intake_findings,
    match_findings,
    series_findings,
    time_findings,
    with_ceilings,
)  # fmt: skip
from ulvar.inspection.pixels import look_band
from ulvar.inspection.roles import role_findings


class Drawn(unittest.TestCase):
    def test_what_is_said_of_a_night_depends_on_no_order(self) -> None:
        rng = np.random.default_rng(77)
        for n in range(40):
            every, looks = drawn_night(rng, int(rng.integers(6, 30)))
            failed = [Failed("raw/x.fits", "cut short: it ends at 40% of its rows"), Failed("raw/y.fits", "no FITS file")][: n % 3]
            said = []
            for order in (every, [every[i] for i in rng.permutation(len(every))]):
                groups = group_exposures(order)
                ceilings = find_ceilings(order, looks)
                told = [
                    *intake_findings(groups, failed, Tolerances(), looks), *role_findings(groups, looks), *depth_findings(order, ceilings, looks),
                    *time_findings(with_ceilings(order, ceilings)),
                ]  # fmt: skip
                said.append(sorted((one.code, tuple(sorted(one.files))) for one in told))
            self.assertEqual(*said)

    def test_masters_fit_in_all_that_is_known(self) -> None:
        """What is chosen differs in no setting that both tell, for lights of any kind, pins and tags."""
        rng = np.random.default_rng(78)
        used = 0
        for n in range(250):
            every, _ = drawn_night(rng, 14)
            light, *others = every
            candidates = [Candidate(one.role, one, int(rng.integers(1, 40)), one.path, [None, 300.0, 900.0][n % 3]) for one in others]
            pin = {("dark", "flat", "bias", "dark_flat")[n % 4]: others[rng.integers(13)].path} if n % 5 == 0 else {}
            options = MatchOptions(scale_darks=n % 2 == 0, bound_tags=("rig", "session")[: n % 3], pins={"g": pin})
            match = match_lights(light, candidates, options=options, key="g")
            match_findings([(group_exposures([light])[0], match)])
            for choice in (match.dark, match.flat, match.bias):
                if choice.usable and not choice.pinned:
                    used += 1
                    both = [
                        (getattr(light, name), getattr(choice.candidate.facts, name))
                        for name in ("gain", "offset", "camera", "readout_mode")
                    ]
                    self.assertEqual([pair for pair in both if pair[0] and pair[1] and pair[0] != pair[1]], [])
                    self.assertEqual(light.binning, choice.candidate.facts.binning)
        self.assertGreater(used, 60)

    def test_looks_come_back_as_they_went(self) -> None:
        for look in drawn_night(np.random.default_rng(79), 60)[1].values():
            for one in (look, replace(look, level_adu=math.nan)):
                again = PixelLook.from_json(one.as_json())
                self.assertEqual(repr(again), repr(one))
                self.assertEqual([f.name for f in fields(one) if one.as_json()[f.name] is None], [] if one is look else ["level_adu"])

    def test_a_band_lies_in_the_frame_on_whole_cells(self) -> None:
        for high in (1, 2, 3, 5, 40, 1001, 4000):
            for wide in (1, 300, 4001, 70_000, 150_000, 500_000):
                first, end = look_band(high, wide)
                self.assertTrue(0 <= first < end <= high and first % 2 == 0 and (end - first) % 2 in (0, high % 2), (high, wide))


class Grows(unittest.TestCase):
    """The larger a trouble, the surer it is told; where it begins to be stays."""

    def begins(self, code: str, told: Callable[[float], list], sizes: np.ndarray) -> None:
        """See that what is told of one size is told of all that are larger."""
        seen = [any(one.code == code for one in told(float(size))) for size in sizes]
        self.assertFalse(seen[0], code)
        self.assertTrue(seen[-1], code)
        self.assertTrue(all(b or not a for a, b in pairwise(seen)), f"{code}: {seen}")

    def test_of_a_series(self) -> None:
        rng = np.random.default_rng(80)
        plain = [
            ExposureSummary(
                f"{e}.fits", EVENING + timedelta(minutes=4 * e), 3 + 0.05 * rng.normal(), 0.1 + 0.01 * rng.normal(), 300 + 2 * rng.normal(),
                0.9**air * (1 + 0.004 * rng.normal()), (0.1 * e + 0.05 * rng.normal(), 0.05 * rng.normal()), 0.01 * rng.normal(), 0.001, 0, air, -40.0 if e < 34 else -15.0,
            )
            for e in range(40)
            for air in [1 + 0.02 * e]
        ]  # fmt: skip

        def less(name: str, of: Callable[[float, float], object], first: int = 15, last: int = 19) -> Callable[[float], list]:
            return lambda size: series_findings(
                [replace(e, **{name: of(getattr(e, name), size)}) if first <= n < last else e for n, e in enumerate(plain)]
            )

        self.assertEqual(series_findings(plain), [])
        small = np.linspace(0, 0.6, 31)
        self.begins("cloud", less("transparency", lambda was, size: was * (1 - size)), small)
        self.begins("focus", less("fwhm_px", lambda was, size: was * (1 + 2 * size), 28, 40), small)
        self.begins("trailing", less("ellipticity", lambda was, size: was + size), small)
        self.begins("jump", less("shift_px", lambda was, size: (was[0] + 400 * size, was[1]), 20, 40), small)
        self.begins("flip", less("rotation_deg", lambda was, size: was + 300 * size, 20, 40), small)
        self.begins("dawn", less("sky_adu", lambda was, size: was * (1 + 4 * size), 36, 40), small)
        self.begins("outliers", less("rejected_high", lambda was, size: was + size / 4, 20, 21), small)

    def test_of_measurements(self) -> None:
        rows = night()

        def changed(name: str, of: Callable[[float, float], object], files: range) -> Callable[[float], list]:
            there = {f"{e}.fits" for e in files}
            return lambda size: found(
                [replace(r, **{name: of(getattr(r, name), size)}) if r.name == "b" and r.file in there else r for r in rows]
            )

        small = np.linspace(0, 1, 25)
        self.begins("centre_jumped", changed("x", lambda was, size: was + 30 * size, range(7, 12)), small)
        # What is told from how many exposures on is held.
        for many in range(1, COUNT, 3):
            changed("x", lambda was, size: was + size, range(many))(12.0)
        rng = np.random.default_rng(81)
        rows = [replace(r, x=r.x + rng.normal(0, 0.6), y=r.y + rng.normal(0, 0.6)) for r in rows]
        self.begins("centre_jumped", changed("y", lambda was, size: was - 30 * size, range(20, 24)), small)
        self.begins("sky_covered", changed("covered", lambda _, size: size, range(COUNT)), small)
        self.begins("small_aperture", changed("fwhm_px", lambda _, size: 3 + 9 * size, range(5)), small)
        for flag in (1, 2, 4, 8, 16, 32, 64):
            for many in range(0, COUNT, 7):
                changed("flags", lambda _, flag: int(flag), range(many))(flag)
