"""A night of camera raw files, and of TIFF files, from the folder to a stack and measured stars."""

import math
from pathlib import Path

import numpy as np
import tifffile
from bench.made_files import write_dng
from bench.made_mosaics import colour_frame
from tools.cases import FolderCase, remember_stars, stamps

from ulvar.astrometry import wcs_from_header
from ulvar.engine import JobContext
from ulvar.flows import wcs_of
from ulvar.frames import Role, header_of, scan_file
from ulvar.night import Night
from ulvar.night.stations import run_curve, run_intake, run_measure, run_score, run_stack, series_path
from ulvar.photometry import ListedStar, read_series
from ulvar.simulation import Psf, star_field

SHIFTS = ((0.0, 0.0), (1.3, 0.4), (-2.6, 1.9), (0.8, -1.2), (3.1, 2.2))


class NightOfOtherFiles(FolderCase):
    """What is not FITS goes the whole way too, and stays as it is."""

    def setUp(self) -> None:
        super().setUp()
        remember_stars(self)
        rng = np.random.default_rng(77)
        grid = np.array([(x, y) for x in range(50, 460, 60) for y in range(50, 360, 60)], dtype=float)
        self.x, self.y = (grid + rng.uniform(-8, 8, grid.shape)).T
        self.flux = 10 ** rng.uniform(4.3, 5.2, len(self.x))
        self.flux[:4] = (9e4, 1.1e5, 8e4, 1.0e5)
        self.rng = rng

    def go(self, raw: Path) -> tuple[Night, dict[str, np.ndarray]]:
        """Run a folder from intake to the light curve; returns the night and each star's fluxes."""
        before = stamps(raw)
        night, context = Night.create(self.folder / "night", [raw]), JobContext()
        self.addCleanup(night.close)
        run_intake(night, context)
        if any(f.role is not Role.LIGHT for f in night.exposures):
            night.correct([f.path for f in night.exposures], "role", "light")
        self.assertEqual(len([f for f in night.exposures if f.role is Role.LIGHT]), len(SHIFTS))
        self.assertEqual(run_score(night, context).problem, "")
        stacked = run_stack(night, context)
        self.assertEqual(stacked.problem, "")
        reference = next(iter(night.products_of("score").values())).values["reference"]
        dx, dy = SHIFTS[int(Path(reference).stem[-1])]
        night.set_stars(
            [
                ListedStar(name, role, x=float(self.x[k] + dx), y=float(self.y[k] + dy))
                for k, (name, role) in enumerate((("t", "target"), ("a", "comparison"), ("b", "comparison"), ("k", "check")))
            ]
        )
        measured = run_measure(night, context)
        self.assertEqual(measured.problem, "")
        self.assertEqual(run_curve(night, context).problem, "")
        series = read_series(series_path(night, night.current_series()))
        self.assertEqual(stamps(raw), before, "raw files are untouched")
        return night, {n: np.array([row.flux for row in series.star(n)]) for n in ("t", "a", "b", "k")}

    def check_fluxes(self, fluxes: dict[str, np.ndarray], adu_per_e: float) -> None:
        for k, name in enumerate(("t", "a", "b", "k")):
            self.assertEqual(len(fluxes[name]), len(SHIFTS))
            share = fluxes[name] / (self.flux[k] * adu_per_e)
            # A tenth of a magnitude for light outside of the aperture; between exposures what the noise leaves.
            self.assertTrue(((share > 0.9) & (share < 1.04)).all(), f"{name}: {share}")
            self.assertLess(float(share.std()), 0.012)

    def test_camera_raw(self) -> None:
        raw = self.folder / "raw"
        for i, (dx, dy) in enumerate(SHIFTS):
            frame = colour_frame(self.rng, 500, 400, len(self.x), at=(self.x + dx, self.y + dy, self.flux))
            write_dng(raw / f"light{i}.dng", np.clip(0.5 * frame["mosaic"] + 256, 0, 16383))
        night, fluxes = self.go(raw)
        self.check_fluxes(fluxes, 0.5)
        quality = [p.values["fwhm_px"] for p in night.products_of("score").values()]
        np.testing.assert_allclose(quality, 4.0, atol=0.1)
        stack = next(iter(night.products_of("stack").values())).output
        facts = scan_file(stack)
        self.assertEqual((facts.cfa, facts.exposure_s), ("", 30.0))
        self.assertIn("scale of green", Path(stack).read_bytes()[:28800].decode("ascii", "replace"))
        self.assertIsNone(wcs_of(str(raw / "light0.dng")))
        self.assertIsNone(wcs_from_header(header_of(stack)))

    def test_tiff(self) -> None:
        raw = self.folder / "raw"
        raw.mkdir()
        for i, (dx, dy) in enumerate(SHIFTS):
            image = star_field(
                self.rng, width=500, height=400, x=self.x + dx, y=self.y + dy, flux_e=self.flux, psf=Psf.with_fwhm(3.5),
                sky_e=400.0,
            )  # fmt: skip
            tifffile.imwrite(raw / f"light{i}.tif", np.clip(image, 0, 65535).astype(np.uint16))
        night, fluxes = self.go(raw)
        self.check_fluxes(fluxes, 1.0)
        stack = next(iter(night.products_of("stack").values())).output
        noise = [p.values["noise_adu"] for p in night.products_of("score").values()]
        self.assertTrue(math.isclose(float(np.median(noise)), 20.0, rel_tol=0.05))
        self.assertEqual(scan_file(stack).cfa, "")
