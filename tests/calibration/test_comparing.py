"""Frames of a set held against each other: what is odd is named, what is not is left alone."""

import unittest

import numpy as np
from tools.cases import FolderCase

from ulvar.calibration import Master, build_master, compare_frames, make_thumb
from ulvar.combine import Method, Rejection, combine_stack
from ulvar.engine import Failed
from ulvar.frames import Role, scan_file
from ulvar.simulation import Camera, CameraState


class Held:
    """A frame in memory as a source of rows."""

    def __init__(self, data: np.ndarray) -> None:
        self.data = data.astype(np.float32)
        self.height, self.width = data.shape

    def rows(self, y0: int, y1: int) -> np.ndarray:
        """Return rows."""
        return self.data[y0:y1].copy()


class Comparing(unittest.TestCase):
    """Planted troubles among frames of a made-up camera."""

    def setUp(self) -> None:
        self.rng = np.random.default_rng(8)
        self.camera = Camera(300, 220, seed=5)

    def frames(self, n: int, state: CameraState, light: float = 0.0) -> list[np.ndarray]:
        return [self.camera.expose(self.rng, light * (1 + 0.1 * self.rng.standard_normal()), state).astype(float) for _ in range(n)]

    def odd(self, kind: Role, frames: list[np.ndarray]) -> dict[int, str]:
        return {o.index: o.code for o in compare_frames(kind, [make_thumb(Held(f)) for f in frames]).odd}

    def test_clean_sets_have_no_odd_frame(self) -> None:
        raised = 0
        for _ in range(12):
            raised += len(self.odd(Role.DARK, self.frames(12, CameraState(100, 60.0, -15.0))))
            raised += len(self.odd(Role.FLAT, self.frames(9, CameraState(100, 2.0, -15.0), 40000.0)))
            raised += len(self.odd(Role.BIAS, self.frames(10, CameraState(100, 0.0, -15.0))))
        self.assertEqual(raised, 0)

    def test_light_leak(self) -> None:
        frames = self.frames(10, CameraState(100, 60.0, -15.0))
        frames[6] += np.linspace(0, 30, 300)[None, :]
        self.assertEqual(self.odd(Role.DARK, frames), {6: "light_leak"})
        frames[2] += 12.0
        self.assertEqual(self.odd(Role.DARK, frames), {2: "light_leak", 6: "light_leak"})

    def test_another_level(self) -> None:
        frames = self.frames(10, CameraState(100, 0.0, -15.0))
        frames[3] -= 9.0
        self.assertEqual(self.odd(Role.BIAS, frames), {3: "level"})

    def test_a_darker_quarter(self) -> None:
        frames = self.frames(10, CameraState(100, 60.0, -15.0))
        frames[4][:110, :150] -= 12.0
        self.assertEqual(self.odd(Role.DARK, frames), {4: "pattern"})
        (odd,) = compare_frames(Role.DARK, [make_thumb(Held(f)) for f in frames]).odd
        # Cells of some hundred pixels, each with a noise of 5 ADU.
        self.assertAlmostEqual(odd.amount, 12.0, delta=1.5)
        self.assertEqual(odd.reason, f"its pattern differs by {odd.amount:.1f} ADU")

    def test_cloud_in_a_sky_flat(self) -> None:
        frames = self.frames(8, CameraState(100, 2.0, -15.0), 40000.0)
        y = np.linspace(-1, 1, 220)[:, None]
        frames[5] *= 1 + 0.02 * y
        self.assertEqual(self.odd(Role.FLAT, frames), {5: "pattern"})

    def test_drift_is_told_and_nobody_left_out(self) -> None:
        frames = self.frames(12, CameraState(100, 60.0, -15.0))
        for i, frame in enumerate(frames):
            frame += 1.0 * i
        result = compare_frames(Role.DARK, [make_thumb(Held(f)) for f in frames])
        self.assertEqual(result.odd, ())
        # Levels of single frames wander by 0.25 ADU; over twelve the slope is known to 8 % of the 11 ADU.
        self.assertAlmostEqual(result.drift_adu, 11.0, delta=1.0)

    def test_two_frames_cannot_be_judged_and_blank_ones_are_named(self) -> None:
        frames = self.frames(2, CameraState(100, 60.0, -15.0))
        frames[1] += 50
        self.assertEqual(self.odd(Role.DARK, frames), {})
        self.assertEqual(self.odd(Role.DARK, [frames[0], np.full((220, 300), np.nan)]), {1: "no_pixels"})


class SmallSets(unittest.TestCase):
    """One, two and three frames: what stands far off the noise around goes, nothing else does."""

    def test_cosmic_rays_in_two_and_three(self) -> None:
        rng = np.random.default_rng(2)
        for n in (2, 3):
            stack = rng.normal(300, 5, (n, 60, 512)).astype(np.float32)
            hits = rng.integers(0, 60 * 512, 60)
            stack[0].reshape(-1)[hits] += 400
            clean = np.ones(60 * 512, bool)
            clean[hits] = False
            result = combine_stack(stack, rejection=Rejection(Method.SIGMA, 4, 4, few=True))
            self.assertLess(float(result.data.reshape(-1)[hits].max()), 330)
            # Clean noise loses next to nothing: beyond 4 sigma lies 1 pixel in 16,000 a frame.
            self.assertLess((result.kept.reshape(-1)[clean] < n).mean(), 1e-3)
            plain = combine_stack(stack, rejection=Rejection(Method.SIGMA, 4, 4))
            self.assertTrue((plain.kept == n).all(), "without being asked for nothing is judged")

    def test_constant_frames_reject_nothing(self) -> None:
        stack = np.full((3, 4, 300), 7, np.float32)
        result = combine_stack(stack, rejection=Rejection(few=True))
        self.assertTrue((result.kept == 3).all())


class Masters(FolderCase):
    """What a master says of its set."""

    def setUp(self) -> None:
        super().setUp()
        self.rng = np.random.default_rng(8)
        self.camera = Camera(200, 150, seed=5)

    def exposures(self, n: int, state: CameraState, light: float = 0.0, cfa: str = "", **change: object) -> list:
        found = []
        for i in range(n):
            pixels = self.camera.expose(self.rng, light, state)
            for name, function in change.items():
                if int(name.removeprefix("f")) == i:
                    pixels = function(pixels)  # type: ignore[operator]
            cards = {"BAYERPAT": cfa} if cfa else {}
            found.append(
                scan_file(
                    self.write(
                        f"d/{light:g}-{i}.fits", pixels, IMAGETYP="dark" if not light else "flat", EXPTIME=state.exposure_s, **cards,
                    )
                )
            )  # fmt: skip
        return found

    def test_a_leaking_dark_is_left_out_with_its_reason(self) -> None:
        leak = np.linspace(0, 60, 200).astype(np.uint16)[None, :]
        frames = self.exposures(8, CameraState(100, 60.0, -15.0), f3=lambda p: p + leak)
        master = build_master(Role.DARK, frames)
        assert isinstance(master, Master)
        self.assertEqual((master.count, [f.code for f in master.left_out]), (7, ["light_leak"]))
        self.assertTrue(master.left_out[0].file.endswith("-3.fits"))
        self.assertEqual(len(master.levels_adu), 8)
        blind = build_master(Role.DARK, frames, compare=False)
        assert isinstance(blind, Master)
        self.assertEqual(blind.count, 8)

    def test_rejected_pixels_are_a_picture(self) -> None:
        def hit(pixels: np.ndarray) -> np.ndarray:
            pixels = pixels.copy()
            pixels[40, 50:60] += 5000
            return pixels

        master = build_master(Role.DARK, self.exposures(8, CameraState(100, 10.0, -15.0), f2=hit))
        assert isinstance(master, Master) and master.rejected is not None
        self.assertTrue((master.rejected[40, 50:60] == 1).all())
        self.assertLess(master.rejected.mean(), 0.02)
        self.assertLess(abs(float(master.data[40, 55]) - float(np.median(master.data))), 20)

    def test_small_sets_say_so(self) -> None:
        frames = self.exposures(3, CameraState(100, 10.0, -15.0))
        for n, word in ((1, "its own master"), (2, "2 frames"), (3, "3 frames")):
            master = build_master(Role.DARK, frames[:n])
            assert isinstance(master, Master)
            self.assertIn(word, master.caution)
        self.assertEqual(build_master(Role.DARK, self.exposures(5, CameraState(100, 10.0, -15.0))).caution, "")  # type: ignore[union-attr]

    def test_flats_of_a_mosaic_keep_the_colours(self) -> None:
        tint = np.ones((150, 200))
        tint[::2, ::2], tint[1::2, 1::2] = 0.5, 1.4
        frames = []
        for i in range(6):
            light = 30000.0 * (1 + 0.1 * i) * tint
            pixels = self.camera.expose(self.rng, light, CameraState(100, 2.0, -15.0))
            frames.append(scan_file(self.write(f"f/{i}.fits", pixels, IMAGETYP="flat", EXPTIME=2.0, BAYERPAT="RGGB")))
        zero = (self.camera.offset_adu + self.camera.bias_pattern).astype(np.float32)
        master = build_master(Role.FLAT, frames, subtract=zero)
        assert isinstance(master, Master)
        for dy in (0, 1):
            for dx in (0, 1):
                self.assertAlmostEqual(float(np.median(master.data[dy::2, dx::2])), 1.0, delta=0.002)
        truth = self.camera.flat.copy()
        for dy in (0, 1):
            for dx in (0, 1):
                truth[dy::2, dx::2] /= np.median(truth[dy::2, dx::2])
        # The weakest colour has 15,000 electrons in six frames: 0.33 %.
        self.assertLess(float((master.data / truth - 1).std()), 0.004)

    def test_the_size_of_the_set_is_that_of_most(self) -> None:
        odd = scan_file(self.write("d/0.fits", np.ones((20, 30), np.uint16), IMAGETYP="dark"))
        master = build_master(Role.DARK, [odd, *self.exposures(4, CameraState(100, 1.0, -15.0))])
        assert isinstance(master, Master)
        self.assertEqual((master.count, master.data.shape), (4, (150, 200)))
        self.assertIn("differs from the set", master.left_out[0].reason)

    def test_nothing_usable(self) -> None:
        blank = scan_file(self.write("d/nan.fits", np.full((20, 30), np.nan, np.float32), IMAGETYP="dark"))
        self.assertIsInstance(build_master(Role.DARK, [blank]), Failed)


class Thumbs(unittest.TestCase):
    def test_cells_are_medians_of_their_own_pixels(self) -> None:
        frame = np.random.default_rng(5).normal(500, 3, (97, 203)).astype(np.float32)
        frame += np.linspace(0, 300, 203, dtype=np.float32) + np.linspace(0, 100, 97, dtype=np.float32)[:, None]
        frame[10:40, 60:75] = np.nan
        subtracted = np.linspace(5, 9, frame.size, dtype=np.float32).reshape(frame.shape)
        cells = make_thumb(Held(frame), subtracted).cells
        rows = 4
        edges = np.linspace(0, 203, cells.shape[1] + 1).astype(int)
        starts = np.linspace(0, 97 - rows, cells.shape[0]).astype(int) // 2 * 2
        for j, top in enumerate(starts):
            for i, (left, right) in enumerate(zip(edges, edges[1:])):
                part = (frame - subtracted)[top : top + rows, left:right]
                wanted = np.nanmedian(part) if np.isfinite(part).any() else np.nan
                np.testing.assert_allclose(cells[j, i], wanted, rtol=1e-6, err_msg=f"{j}, {i}")
