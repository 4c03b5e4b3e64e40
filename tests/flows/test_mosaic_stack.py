"""Stacks of a colour sensor: the errors that their headers stand for."""

import math
from dataclasses import replace
from pathlib import Path

import numpy as np
from bench.made_mosaics import CELL, SENSITIVITY, colour_frame
from tools.cases import FolderCase, remember_stars

from ulvar.astrometry import Wcs, wcs_from_header
from ulvar.engine import JobContext
from ulvar.flows import StackOptions, stack_exposures, stack_planes, write_planes
from ulvar.frames import CELL_SITES, Demosaic, ExposureFacts, Plane, header_of, plane_origin, read_frame, read_plane, scan_file, write_fits
from ulvar.photometry import ApertureResult, measure_apertures
from ulvar.stacking import Colours, GridOptions, Weighting

COUNT, GAIN, READ = 3, 0.8, 9.0


class Planes(FolderCase):
    """Each colour by itself: light, places and errors."""

    def setUp(self) -> None:
        super().setUp()
        remember_stars(self)
        self.rng = np.random.default_rng(77)
        self.stars = 120
        self.x, self.y = self.rng.uniform(25, 575, self.stars), self.rng.uniform(25, 375, self.stars)
        self.flux = 10 ** self.rng.uniform(4.9, 5.6, self.stars)

    def write(self, name: str, count: int = COUNT, trail: bool = False) -> list[ExposureFacts]:
        exposures = []
        for k in range(count):
            mosaic = colour_frame(self.rng, stars=self.stars, at=(self.x + 1.3 * k, self.y + 0.6 * k, self.flux))["mosaic"]
            path = self.folder / f"{name}-{k}.fits"
            cards = {
                "IMAGETYP": "light", "EXPTIME": 60.0, "BAYERPAT": CELL, "EGAIN": GAIN, "RDNOISE": READ, "XPIXSZ": 3.0,
                "PIXSCALE": 1.2, "DATE-OBS": f"2027-02-11T20:0{k}:00",
            }  # fmt: skip
            # The sky brightens from exposure to exposure, and more in blue.
            light = np.zeros(mosaic.shape)
            for site, colour in zip(CELL_SITES, CELL):
                light[site] = 40 * k * (3 if colour == "B" else 1)
            data = ((mosaic + light + self.rng.normal(0, READ, mosaic.shape)) / GAIN).astype(np.float32)
            write_fits(path, data, cards=cards)
            exposures.append(scan_file(str(path)))
        return exposures

    def measured(self, path: str, scale: float = 1.0, at: tuple[float, float] = (0.0, 0.0)) -> ApertureResult:
        facts = scan_file(path)
        x, y = (self.x - at[0]) * scale, (self.y - at[1]) * scale
        frame = read_frame(facts)
        return measure_apertures(
            frame.data, x, y, radius_px=7 * scale, inner_px=12 * scale, outer_px=20 * scale, gain_e_per_adu=facts.gain_e_per_adu,
            noise_correlation=facts.noise_correlation or 1.0,
        )  # fmt: skip

    def test_stacks_of_each_colour(self) -> None:
        nights = [self.write("one"), self.write("two")]
        for how, scale in ((Colours.MALVAR, 1.0), (Colours.BILINEAR, 1.0), (Colours.HALF, 1.0), (Colours.HALF, 0.5)):
            options = StackOptions(weighting=Weighting.EQUAL, colours=how, grid=GridOptions(scale=scale))
            found = []
            for k, exposures in enumerate(nights):
                own = replace(options, reference=exposures[0].path)
                grey = stack_exposures(exposures, self.folder / f"stack{k}.fits", JobContext(), options=own, replace=True)
                found.append(stack_planes(grey, JobContext(), options=own, replace_existing=True))
            for colour in "RGB":
                with self.subTest(f"{how} {colour} {scale}"):
                    first, second = (night[colour] for night in found)
                    self.assertEqual(Path(first.output).name, f"stack0-{colour}.fits")
                    header = header_of(first.output)
                    self.assertEqual(header["FILTER"], colour)
                    self.assertNotIn("BAYERPAT", header)
                    self.assertAlmostEqual(header["EGAIN"], GAIN * COUNT * (0.5 if colour == "G" else 0.25), places=3)
                    one, two = (self.measured(r.output, scale, (0.5, 0.5) if scale < 1 else (0.0, 0.0)) for r in (first, second))
                    share = one.flux * GAIN / (self.flux * SENSITIVITY[colour])
                    good = np.isfinite(share) & (one.flags == 0)
                    self.assertGreater(good.sum(), 60)
                    # The exposures' sky differs from band to band: each was brought to its own.
                    # The aperture holds 0.99 of a star, and a little less where interpolation widened it.
                    self.assertAlmostEqual(float(np.median(share[good])), 0.984, delta=0.009)
                    self.assertLess(max(o.values["rejected_fraction"] for o in first.frames), 0.03)
                    apart = (one.flux - two.flux) / np.hypot(one.flux_error, two.flux_error)
                    apart = apart[good & np.isfinite(apart)]
                    apart -= np.median(apart)
                    spread = 1.4826 * float(np.median(np.abs(apart)))
                    # Within 15 %, and 3 deviations of a spread from so many stars.
                    self.assertAlmostEqual(spread, 1.0, delta=0.15 + 3 / math.sqrt(2 * len(apart)))
        self.assertEqual(stack_planes(grey, JobContext(), options=replace(own, colours=Colours.MIXED)), {})

    def test_planes_are_exposures_of_three_filters(self) -> None:
        exposures = self.write("one", 2)
        sky = Wcs(84.0, 41.0, 300.0, 200.0, np.array([[-3e-4, 1e-5], [1e-5, 3e-4]]))
        data = read_plane(exposures[1].path)
        write_fits(Path(exposures[1].path), data, like=exposures[1].path, cards=sky.cards(), replace=True)
        exposures[1] = scan_file(exposures[1].path)
        grey = self.folder / "grey.fits"
        write_fits(grey, data, cards={"IMAGETYP": "light"})
        out = self.folder / "planes"
        done = write_planes([*exposures, scan_file(str(grey))], out, JobContext())
        self.assertEqual([o.ok for o in done], [True, True, False])
        self.assertIn("no exposure of a colour sensor", done[2].reason)
        for colour, share in (("R", 1.0), ("G", 2.0), ("B", 1.0)):
            facts = scan_file(str(out / f"one-0-{colour}.fits"))
            self.assertEqual((facts.filter, facts.cfa, facts.width, facts.height), (colour, "", 300, 200))
            self.assertAlmostEqual(facts.gain_e_per_adu, GAIN * share)
            self.assertAlmostEqual(facts.read_noise_e, READ * math.sqrt(share), places=6)
            self.assertAlmostEqual(facts.pixel_size_um, 6.0)
            self.assertAlmostEqual(facts.scale_arcsec_px, 2.4)
            at = plane_origin(CELL, Plane(colour, Demosaic.HALF))
            found = self.measured(facts.path, 0.5, at)
            share_of = 4 * found.flux * GAIN / (self.flux * SENSITIVITY[colour])
            self.assertAlmostEqual(float(np.nanmedian(share_of)), 1.0, delta=0.02)
            solved = wcs_from_header(header_of(str(out / f"one-1-{colour}.fits")))
            assert solved is not None
            np.testing.assert_allclose(solved.sky(50.0, 60.0), sky.sky(100.0 + at[0], 120.0 + at[1]), atol=1e-9)
        for shape, value, reason in (((1, 300), 5.0, "too small"), ((40, 50), np.nan, "none of its pixels")):
            path = self.folder / "odd.fits"
            write_fits(path, np.full(shape, value, np.float32), cards={"BAYERPAT": CELL}, replace=True)
            odd = write_planes([scan_file(str(path))], out, JobContext())
            self.assertIn(reason, odd[0].reason)
        self.assertFalse(list(out.glob("odd*")))
        again = write_planes(exposures, out, JobContext())
        self.assertTrue(all(o.ok and o.skipped for o in again))
        other = write_planes(exposures, out, JobContext(), method=Demosaic.BILINEAR)
        self.assertTrue(all("is kept" in o.reason for o in other))
        self.assertTrue(all(o.ok for o in write_planes(exposures, out, JobContext(), method=Demosaic.BILINEAR, replace_existing=True)))
        self.assertEqual(scan_file(str(out / "one-0-R.fits")).width, 600)


class Errors(FolderCase):
    def test_gain_and_read_noise_foretell_by_what_two_stacks_differ(self) -> None:
        rng = np.random.default_rng(31)
        stars = 240
        x, y, flux = rng.uniform(20, 580, stars), rng.uniform(20, 380, stars), 10 ** rng.uniform(5.2, 5.7, stars)
        measured = []
        for night in range(2):
            exposures = []
            for k in range(COUNT):
                mosaic = colour_frame(rng, stars=stars, at=(x + 0.3 * k, y, flux))["mosaic"]
                path = self.folder / f"{night}-{k}.fits"
                cards = {"IMAGETYP": "light", "EXPTIME": 60.0, "BAYERPAT": CELL, "EGAIN": GAIN, "RDNOISE": READ}
                data = ((mosaic + rng.normal(0, READ, mosaic.shape)) / GAIN).astype(np.float32)
                write_fits(path, data, cards=cards)
                exposures.append(scan_file(str(path)))
            options = StackOptions(weighting=Weighting.EQUAL, reference=exposures[0].path)
            result = stack_exposures(exposures, self.folder / f"stack-{night}.fits", JobContext(), options=options)
            header = header_of(result.output)
            # White stars: what each band is multiplied with, on the average of the cell.
            mixed = 4 / sum(1 / SENSITIVITY[band] for band in CELL)
            self.assertAlmostEqual(header["EGAIN"] / (GAIN * mixed * COUNT), 1.0, delta=0.04)
            self.assertAlmostEqual(header["RDNOISE"], READ * math.sqrt(COUNT), places=6)
            self.assertEqual(header["EXPTIME"], 60.0)
            measured.append(
                measure_apertures(
                    read_plane(result.output), x, y, radius_px=6, inner_px=12, outer_px=20, gain_e_per_adu=header["EGAIN"]
                )
            )  # fmt: skip
        first, second = measured
        apart = (first.flux - second.flux) / np.hypot(first.flux_error, second.flux_error)
        good = np.isfinite(apart)
        self.assertGreater(good.sum(), 200)
        # Transparency is brought to that of the reference: a common factor is no noise of a star.
        apart -= np.median(apart[good])
        self.assertAlmostEqual(1.4826 * np.median(np.abs(apart[good])), 1.0, delta=4 / math.sqrt(2 * good.sum()))
