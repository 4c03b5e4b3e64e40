"""Looks at pixels: what a frame is, how deep its values go, and what contradicts its role."""

import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from tools.same import kept

from ulvar.frames import ExposureFacts, Role, group_exposures
from ulvar.inspection import (
    PixelLook,
    Severity,
    depth_findings,
    find_ceilings,
    intake_findings,
    look_at,
    look_band,
    role_findings,
    with_ceilings,
    zero_levels,
)
from ulvar.inspection.pixels import LOOK_PIXELS
from ulvar.simulation import Camera, CameraState, Psf, star_field


class Looking(unittest.TestCase):
    """One look tells a dark from a light."""

    def setUp(self) -> None:
        self.rng = np.random.default_rng(4)
        self.camera = Camera(500, 400, seed=3, hot_fraction=0.004)

    def expose(self, light: object, seconds: float, temperature: float = -15.0) -> np.ndarray:
        state = CameraState(100, seconds, temperature)
        return self.camera.expose(self.rng, light, state, cosmic_rays=0.05 * seconds).astype(np.float32)  # type: ignore[arg-type]

    def sky(self, n: int = 150) -> np.ndarray:
        x, y = self.rng.uniform(10, 490, n), self.rng.uniform(10, 390, n)
        return star_field(
            self.rng, width=500, height=400, x=x, y=y, flux_e=10 ** self.rng.uniform(3.3, 5, n), psf=Psf.with_fwhm(2.8),
            sky_e=120.0,
        )  # fmt: skip

    def test_stars_are_seen_and_hot_pixels_are_not(self) -> None:
        for seconds, temperature in ((10.0, -15.0), (300.0, -15.0), (300.0, -3.0)):
            with self.subTest(seconds=seconds, temperature=temperature):
                self.assertLessEqual(look_at(self.expose(0.0, seconds, temperature)).stars, 2)
        self.assertEqual(look_at(self.expose(40000.0, 2.0)).stars, 0)
        self.assertGreater(look_at(self.expose(np.maximum(self.sky(), 0), 60.0)).stars, 60)

    def test_levels_are_known_to_a_part_of_a_step(self) -> None:
        for truth in (300.0, 300.3, 300.5, 300.9):
            frame = np.rint(self.rng.normal(truth, 2.0, (300, 400))).astype(np.float32)
            # 40,000 pixels of noise 2: the median scatters by 0.0125.
            self.assertAlmostEqual(look_at(frame).level_adu, truth, delta=0.06)
            self.assertAlmostEqual(look_at(frame * 16).level_adu, 16 * truth, delta=1.0)

    def test_stars_are_counted(self) -> None:
        x, y = (v.ravel() for v in np.meshgrid(np.arange(40.0, 480, 60), np.arange(40.0, 380, 60)))
        frame = star_field(self.rng, width=500, height=400, x=x, y=y, flux_e=np.full(len(x), 2e4), psf=Psf.with_fwhm(2.8), sky_e=120.0)
        self.assertEqual(look_at(frame.astype(np.float32)).stars, len(x))

    def test_the_step_of_values(self) -> None:
        whole = np.rint(self.rng.normal(300.0, 4.0, (120, 400))).astype(np.float32)
        for frame, step in ((whole, 1), (16 * whole + 5, 16), (whole + 0.5, 0), (np.full_like(whole, 7), 0)):
            self.assertEqual(look_at(frame).step_adu, step)
        # Steps are four, but for one value late in the frame.
        odd = 4 * whole
        odd[100, 350] += 1
        self.assertEqual(look_at(odd).step_adu, 1)

    def test_a_mosaic_is_no_field_of_stars(self) -> None:
        tint = np.ones((400, 500))
        tint[::2, ::2], tint[1::2, 1::2] = 0.4, 1.6
        flat = self.expose(30000.0 * tint, 2.0)
        self.assertEqual(look_at(flat, mosaic=True).stars, 0)
        # Same-colour neighbours: the pattern is no noise.
        self.assertLess(look_at(flat, mosaic=True).noise_adu, 300)

    def test_degenerate_frames(self) -> None:
        blank = look_at(np.full((20, 30), np.nan, np.float32))
        self.assertEqual((blank.finite, blank.stars, blank.constant), (0.0, 0, False))
        even = look_at(np.full((40, 50), 7, np.float32))
        self.assertTrue(even.constant)
        self.assertEqual((even.step_adu, even.stars), (0, 0))
        self.assertEqual(look_at(np.zeros((2, 3), np.float32)).stars, 0)
        again = PixelLook.from_json(blank.as_json())
        assert again is not None
        self.assertIsNone(PixelLook.from_json({**blank.as_json(), "version": 1}), "another version is looked at anew")
        whole = blank.as_json()
        renamed = {("at_maxinum" if k == "at_maximum" else k): v for k, v in whole.items()}
        for spoiled in (renamed, {**whole, "more": 1}, {**whole, "stars": "many"}, {**whole, "finite": [1.0]}):
            self.assertIsNone(PixelLook.from_json(spoiled))
        self.assertIsNotNone(PixelLook.from_json(whole))
        self.assertTrue(np.isnan(again.level_adu) and again.pixels == 600)

    @given(st.integers(1, 9000), st.integers(1, 9000))
    @settings(max_examples=60, deadline=None)
    def test_the_band_lies_inside(self, height: int, width: int) -> None:
        y0, y1 = look_band(height, width)
        self.assertTrue(0 <= y0 < y1 <= height and y0 % 2 == 0)
        # Not less than is asked for, but for what makes the number even.
        self.assertGreaterEqual(y1 - y0, min(height - y0 - 1, LOOK_PIXELS // width - 1))


class Depth(unittest.TestCase):
    """12 and 14 bits in 16-bit files."""

    def facts(self, i: int, **changes: object) -> ExposureFacts:
        return ExposureFacts(f"f{i}", Role.LIGHT, camera="Kvist", gain=100.0, bitpix=16, saturation_adu=65535.0, **changes)  # type: ignore[arg-type]

    def looks(self, shift: int, top: int, n: int = 4) -> tuple[list[ExposureFacts], dict[str, PixelLook]]:
        rng = np.random.default_rng(1)
        exposures = [self.facts(i) for i in range(n)]
        frames = [np.clip(rng.normal(900, 60, (100, 200)).astype(int), 0, top) for _ in exposures]
        for frame in frames:
            frame[:5, :20] = top
        return exposures, {f.path: look_at((frame << shift).astype(np.float32)) for f, frame in zip(exposures, frames)}

    def test_shifted_up(self) -> None:
        for shift, bits in ((4, 12), (2, 14)):
            exposures, looks = self.looks(shift, 2**bits - 1)
            (ceiling,) = find_ceilings(exposures, looks).values()
            self.assertEqual((ceiling.bits, ceiling.saturation_adu), (bits, (2**bits - 1) * 2**shift))
            deep = with_ceilings(exposures, find_ceilings(exposures, looks))
            self.assertEqual(deep[0].origins["saturation_adu"], "measured")
            (finding,) = depth_findings(exposures, find_ceilings(exposures, looks), looks)
            self.assertEqual((finding.code, finding.severity), ("bit_depth", Severity.NOTE))
            self.assertIn(f"{bits} bits", finding.title)
        kept(self, exposures, looks, ceiling, finding)

    def test_low_in_the_range(self) -> None:
        exposures, looks = self.looks(0, 4095)
        (ceiling,) = find_ceilings(exposures, looks).values()
        self.assertEqual((ceiling.bits, ceiling.saturation_adu), (12, 4095.0))

    def test_sixteen_bits_say_nothing(self) -> None:
        exposures, looks = self.looks(0, 60000)
        for look in looks.values():
            self.assertEqual(look.step_adu, 1)
        self.assertEqual(depth_findings(exposures, find_ceilings(exposures, looks), looks), [])
        kept(self, exposures, looks)

    def test_the_users_level_stays(self) -> None:
        exposures, looks = self.looks(4, 4095)
        mine = [
            ExposureFacts(
                "f0", Role.LIGHT, camera="Kvist", gain=100.0, bitpix=16, saturation_adu=60000.0, origins={"saturation_adu": "user"},
            )
        ]  # fmt: skip
        self.assertEqual(with_ceilings(mine, find_ceilings(exposures, looks))[0].saturation_adu, 60000.0)

    def test_mixed_depths_are_told(self) -> None:
        exposures, looks = self.looks(4, 4095, 6)
        rng = np.random.default_rng(2)
        odd = self.facts(9)
        looks["f9"] = look_at(rng.normal(900, 60, (100, 200)).astype(int).astype(np.float32))
        found = {f.code: f for f in depth_findings([*exposures, odd], {}, looks)}
        self.assertEqual(found["mixed_depth"].files, ("f9",))


class Roles(unittest.TestCase):
    """Names against pixels."""

    def look(self, level: float = 300.0, stars: int = 0, noise: float = 5.0, **changes: object) -> PixelLook:
        base = {"level_adu": level, "noise_adu": noise, "low_adu": level - 10, "high_adu": level + 10, "maximum_adu": level + 30,
                "at_maximum": 1, "step_adu": 1, "stars": stars, "pixels": 400_000, "finite": 1.0}  # fmt: skip
        return PixelLook(**{**base, **changes})  # type: ignore[arg-type]

    def codes(self, *entries: tuple[Role, PixelLook, dict]) -> dict[str, tuple[str, ...]]:
        exposures, looks = [], {}
        clean: list[tuple[Role, PixelLook, dict]] = [(Role.LIGHT, self.look(420, 60, 9), {}) for _ in range(6)]
        clean += [(Role.DARK, self.look(306), {}) for _ in range(6)] + [(Role.BIAS, self.look(300), {"exposure_s": 0.0}) for _ in range(6)]
        clean += [(Role.FLAT, self.look(31000, 0, 150), {"exposure_s": 2.0}) for _ in range(6)]
        for i, (role, look, changes) in enumerate([*clean, *entries]):
            base = {
                "exposure_s": 60.0, "gain": 100.0, "width": 10, "height": 10, "camera": "Kvist", "saturation_adu": 65535.0,
            }  # fmt: skip
            exposures.append(ExposureFacts(f"{role.value}{i}", role, **{**base, **changes}))  # type: ignore[arg-type]
            looks[exposures[-1].path] = look
        self.paths = [f.path for f in exposures[len(clean) :]]
        return {f.code: f.files for f in role_findings(group_exposures(exposures), looks)}

    def test_clean(self) -> None:
        self.assertEqual(self.codes(), {})

    def test_each(self) -> None:
        cases = {
            "dark_has_stars": (Role.DARK, self.look(430, 55, 9), {}),
            "bias_exposed": (Role.BIAS, self.look(302), {"exposure_s": 30.0}),
            "flat_no_light": (Role.FLAT, self.look(305), {"exposure_s": 2.0}),
            "flat_too_bright": (Role.FLAT, self.look(60000, 0, 150, high_adu=64000.0), {"exposure_s": 2.0}),
            "light_is_dark": (Role.LIGHT, self.look(304), {}),
            "light_no_stars": (Role.LIGHT, self.look(390, 0, 8), {}),
            "constant": (Role.DARK, self.look(7, noise=0.0, low_adu=7.0, high_adu=7.0, maximum_adu=7.0), {}),
            "no_pixels": (Role.DARK, self.look(finite=0.0), {}),
        }  # fmt: skip
        for code, entry in cases.items():
            with self.subTest(code=code):
                found = self.codes(entry)
                self.assertEqual(set(found), {code})
                self.assertEqual(found[code], tuple(self.paths))

    def test_mends_offer_the_role_that_fits(self) -> None:
        exposures = [ExposureFacts(f"d{i}", Role.DARK, exposure_s=60.0) for i in range(3)]
        looks = {f.path: self.look(430, 55) for f in exposures}
        (finding,) = role_findings(group_exposures(exposures), looks)
        assert finding.mend is not None
        self.assertEqual((finding.mend.action, finding.mend.files), ("role:light", ("d0", "d1", "d2")))
        kept(self, exposures, looks, finding)

    def test_zero_levels_do_not_come_from_starry_darks(self) -> None:
        exposures = [ExposureFacts("a", Role.DARK), ExposureFacts("b", Role.DARK), ExposureFacts("c", Role.DARK)]
        looks = {"a": self.look(306), "b": self.look(120, 50), "c": self.look(308)}
        self.assertEqual(list(zero_levels(exposures, looks).values()), [307.0])


class Settings(unittest.TestCase):
    """Gain, offset, program and driver, with the levels as evidence."""

    def found(self, right: int = 0, **changes: object) -> dict[str, str]:
        """Return what is told of three darks with changed headers, beside so many with the lights' own."""
        base = {"exposure_s": 60.0, "gain": 100.0, "offset": 30.0, "width": 10, "height": 10, "software": "Fangst 2", "driver": "1.4",
                "gain_e_per_adu": 1.0, "site_latitude_deg": 1.0, "site_longitude_deg": 1.0, "filter": "V"}  # fmt: skip
        start = __import__("datetime").datetime(2027, 2, 11, 22, tzinfo=__import__("datetime").UTC)
        lights = [ExposureFacts(f"l{i}", Role.LIGHT, start_utc=start, **base) for i in range(3)]  # type: ignore[arg-type]
        darks = [ExposureFacts(f"d{i}", Role.DARK, start_utc=start, **{**base, **changes}) for i in range(3)]  # type: ignore[arg-type]
        good = [ExposureFacts(f"g{i}", Role.DARK, start_utc=start, **base) for i in range(right)]  # type: ignore[arg-type]
        role = Roles()
        looks = (
            {f.path: role.look(400, 40) for f in lights} | {f.path: role.look(350) for f in darks} | {f.path: role.look(380) for f in good}
        )
        return {f.code: f.text for f in intake_findings(group_exposures(lights + darks + good), (), None, looks)}

    def test_each(self) -> None:
        self.assertEqual(self.found(), {})
        for name, value, code in (
            ("gain", 0.0, "dark_gain"), ("offset", 50.0, "dark_offset"), ("software", "Skjerm 9", "other_software"), ("driver", "1.9", "other_driver"),
        ):  # fmt: skip
            with self.subTest(name=name):
                found = self.found(**{name: value})
                self.assertEqual(set(found), {code})
                self.assertIn("350 ADU", found[code])
                self.assertIn("390", found[code], "the darkest pixels of the lights")
        self.assertIn("level is \N{MINUS SIGN}30 ADU from like frames", self.found(3, gain=0.0)["dark_gain"])
