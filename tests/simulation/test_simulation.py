"""The made-up night: reproducible, within its bounds, with its troubles planted."""

import hashlib
import json
import math
import unittest
from pathlib import Path

import numpy as np
from scipy.stats import norm
from tools.cases import FolderCase, small_demo

from ulvar.frames import FrameError, Role, open_film, scan_file
from ulvar.simulation import (
    Camera,
    CameraState,
    DemoSize,
    EclipsingBinary,
    MadeUpFilm,
    Psf,
    add_stars,
    make_demo_night,
    recorded_fwhm,
    write_ser,
)  # fmt: skip

TINY = DemoSize(width=120, height=90, cycles=2, visual=2, bias=3, darks=9, flats=3)


class Films(FolderCase):
    def test_a_star_shakes_about_its_place_and_is_cut_by_the_edge(self) -> None:
        stars = ((30.0, 20.0, 80_000.0), (1.0, 8.0, 80_000.0))
        film = MadeUpFilm(
            width=60, height=40, frames=100, stars=stars, sky=0.0, noise=1.0, shake_px=0.4, drift_px=0.0, out_s=1e9, back_s=1e9
        )
        pictures = np.stack(list(film.pictures())).astype(float)
        y, x = np.mgrid[:40, :60]
        one = pictures[:, 10:31, 18:43]
        places = [(one * v[10:31, 18:43]).sum((1, 2)) / one.sum((1, 2)) for v in (x, y)]
        # Of 100: the mean is known to 0.04, the scatter to a fourteenth.
        np.testing.assert_allclose(np.mean(places, axis=1), (30, 20), atol=0.16)
        np.testing.assert_allclose(np.std(places, axis=1), 0.4, atol=0.1)
        self.assertAlmostEqual(float(one.sum((1, 2)).mean()), 80_000, delta=100)
        # A sigma and a half of it lie beside the picture.
        self.assertAlmostEqual(float(pictures[:, :20, :12].sum((1, 2)).mean()) / 80_000, norm.cdf(1.5 / (3.2 / 2.3548)), delta=0.03)
        write_ser(self.folder / "full.ser", film)
        self.assertEqual(open_film([str(self.folder / "full.ser")]).read(0, 1).max(), 255)


class Pieces(unittest.TestCase):
    """Light and sensor."""

    def test_stars_keep_their_flux_and_width(self) -> None:
        for fwhm in (1.5, 3.0, 6.0):
            psf = Psf.with_fwhm(fwhm)
            self.assertAlmostEqual(recorded_fwhm(psf), fwhm, places=4)
            image = np.zeros((101, 101))
            add_stars(image, np.array([50.3]), np.array([49.6]), np.array([1e4]), psf)
            # Five sigma of the wings hold all but 1e-6 of each Gaussian along an axis.
            self.assertAlmostEqual(image.sum() / 1e4, 1.0, places=4)
            # The stamp is centred on a whole pixel, so a little more of one wing than of the other is cut.
            y, x = np.mgrid[:101, :101]
            self.assertAlmostEqual((image * x).sum() / image.sum(), 50.3, delta=2e-3)
            self.assertAlmostEqual((image * y).sum() / image.sum(), 49.6, delta=2e-3)

    def test_eclipse(self) -> None:
        binary = EclipsingBinary(100.0)
        time = 100 + np.linspace(-0.1, 0.1, 201)
        flux = binary.flux(time)
        np.testing.assert_allclose(flux, flux[::-1], atol=1e-12)
        self.assertEqual(flux[0], 1.0)
        self.assertEqual(int(np.argmin(flux)), 100)
        self.assertAlmostEqual(-2.5 * math.log10(flux[100]), binary.depth_mag)
        total = EclipsingBinary(100.0, radius_ratio=1.2, impact=0.1, light_share=0.6).flux(np.array([100.0]))[0]
        self.assertAlmostEqual(total, 0.4, places=9)

    def test_camera(self) -> None:
        camera = Camera(80, 60, seed=1)
        rng = np.random.default_rng(2)
        state = CameraState(100, 10.0, -15.0)
        pixels = np.stack([camera.expose(rng, 500.0, state) for _ in range(60)]).astype(float)
        expected = camera.offset_adu + camera.bias_pattern + (500 * camera.flat + camera.dark_rate * 10) / 1.3
        # Sixty frames of about 18 ADU: the mean of a pixel is known to 2.4 ADU.
        self.assertLess(np.abs(np.median(pixels.mean(axis=0) - expected)), 0.3)
        self.assertLess((pixels.mean(axis=0) - expected).std(), 3.2)
        warm = camera.expose(rng, 0.0, CameraState(100, 300.0, -8.7)).astype(float) - camera.offset_adu
        cold = camera.expose(rng, 0.0, CameraState(100, 300.0, -15.0)).astype(float) - camera.offset_adu
        hot = camera.dark_rate > np.percentile(camera.dark_rate, 99)
        self.assertLess(abs(np.median(warm[hot] / cold[hot]) - 2), 0.2)


class Night(FolderCase):
    """The files."""

    def digest(self, folder: Path) -> dict[str, str]:
        return {str(p.relative_to(folder)): hashlib.sha256(p.read_bytes()).hexdigest() for p in sorted(folder.rglob("*")) if p.is_file()}

    def test_the_same_seed_gives_the_same_files_and_a_second_call_makes_none(self) -> None:
        truth = make_demo_night(self.folder / "a", TINY)
        make_demo_night(self.folder / "b", TINY)
        first = self.digest(self.folder / "a")
        self.assertEqual(first, self.digest(self.folder / "b"))
        times = {p: p.stat().st_mtime_ns for p in (self.folder / "a").rglob("*.fits*")}
        self.assertEqual(make_demo_night(self.folder / "a", TINY), json.loads(json.dumps(truth)))
        self.assertEqual({p: p.stat().st_mtime_ns for p in (self.folder / "a").rglob("*.fits*")}, times)

    def test_every_trouble_is_planted_and_dialects_differ(self) -> None:
        demo = small_demo()
        truth = json.loads((demo / "truth.json").read_text())
        self.assertLessEqual(
            {"truncated", "flat_gain", "dark_temperature", "short_dark", "cloud", "focus", "jump", "flip", "trail"}, set(truth["planted"])
        )
        for name, files in truth["planted"].items():
            self.assertTrue(files, name)
            for file in files:
                self.assertTrue((demo / "raw" / file).exists(), file)
        with self.assertRaisesRegex(FrameError, "cut short"):
            scan_file(str(demo / "raw" / truth["planted"]["truncated"][0]))
        origins = {scan_file(str(next((demo / "raw" / "lights" / band).glob("*001*")))).origins["exposure_s"] for band in "VBR"}
        self.assertEqual(origins, {"header EXPTIME", "header EXPOSURE"})
        unsaid = scan_file(str(next((demo / "raw" / "dark flats" / "R").glob("*"))))
        self.assertEqual((unsaid.role, unsaid.gain, unsaid.origins["role"]), (Role.DARK_FLAT, None, "path"))
