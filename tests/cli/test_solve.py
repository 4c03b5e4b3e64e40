"""ulvar solve and ulvar catalogue index, on frames of which nothing is known, or something wrong."""

import math
from pathlib import Path

import numpy as np

from tests.cli.support import Command
from ulvar.astrometry import StarCatalogue, Wcs, separation_deg, wcs_from_header, write_tiles
from ulvar.flows.platesky import PlateOptions, hinted_cone, pixel_aspect
from ulvar.flows.wcsfile import read_wcs_file
from ulvar.frames import ExposureFacts, header_of, read_plane, write_fits
from ulvar.simulation import Psf, add_stars

WIDTH, HEIGHT, SCALE = 500, 380, 9.0


class Solving(Command):
    def setUp(self) -> None:
        super().setUp()
        rng = np.random.default_rng(31)
        count = 6000
        # A part of the sky on both sides of RA 0.
        self.ra = (359.0 + rng.uniform(-6, 6, count) / math.cos(math.radians(30))) % 360
        self.dec = rng.uniform(22, 38, count)
        self.mag = 9 + 2 * np.log10(rng.uniform(1e-3, 1, count))
        none = np.zeros(count)
        self.tiles = self.folder / "tiles"
        write_tiles([StarCatalogue(self.ra, self.dec, none + 2016.0, none, none, self.mag)], self.tiles)

    def frame(self, name: str, ra: float, dec: float, turn: float, seed: int = 0, **cards: object) -> tuple[Path, Wcs]:
        """Write a frame of the sky; its header tells what `cards` tell and nothing else of its place."""
        c, s = math.cos(math.radians(turn)), math.sin(math.radians(turn))
        cd = np.array([[-c, -s], [-s, c]]) * SCALE / 3600
        wcs = Wcs(ra, dec, (WIDTH - 1) / 2, (HEIGHT - 1) / 2, cd)
        near = separation_deg(self.ra, self.dec, ra, dec) < 2
        x, y = wcs.pixel(self.ra[near], self.dec[near])
        image = np.full((HEIGHT, WIDTH), 200.0)
        add_stars(image, x, y, 10 ** (-0.4 * (self.mag[near] - 9)) * 4000, Psf(1.3))
        image += np.random.default_rng(seed).normal(0, 4, image.shape)
        path = self.folder / name
        write_fits(
            path, image.astype(np.float32), cards={"IMAGETYP": "light", "EXPTIME": 30.0, "DATE-OBS": "2027-02-11T20:00:00"} | cards,
        )  # fmt: skip
        return path, wcs

    def assert_same(self, found: Wcs, wcs: Wcs) -> None:
        px, py = np.array([0.0, WIDTH - 1, 250]), np.array([0.0, HEIGHT - 1, 190])
        off = separation_deg(*found.sky(px, py), *wcs.sky(px, py)) * 3600 / SCALE
        self.assertLess(float(off.max()), 0.5)

    def test_nothing_known(self) -> None:
        made = [self.frame("a.fits", 0.2, 30.0, 20.0), self.frame("b.fits", 355.0, 36.0, 230.0, 1)]
        starless = self.folder / "none.fits"
        write_fits(
            starless, np.random.default_rng(5).normal(200, 4, (HEIGHT, WIDTH)).astype(np.float32), cards={"IMAGETYP": "light"},
        )  # fmt: skip
        out = self.folder / "out"
        code, body = self.json("solve", *(p for p, _ in made), starless, "--catalogue", self.tiles, "--blind", "--out", out)
        self.assertEqual(code, 1)
        self.assertEqual([f["solved"] for f in body["frames"]], [True, True, False])
        self.assertIn("too few stars", body["frames"][2]["reason"])
        for (path, wcs), frame in zip(made, body["frames"]):
            found = wcs_from_header(header_of(str(out / path.name)))
            assert found is not None
            self.assert_same(found, wcs)
            self.assertAlmostEqual(frame["scale_arcsec_px"], SCALE, delta=0.01)
            self.assertAlmostEqual(frame["rotation_deg"], found.rotation_deg, places=6)
            self.assertGreater(frame["matched"], 15)
        # The sky was indexed on the way, and is not again.
        index = self.tiles / "index" / "index.json"
        before = index.stat().st_mtime_ns
        code, body = self.json("solve", made[0][0], "--catalogue", self.tiles, "--blind", "--seconds", "5")
        self.assertEqual((code, index.stat().st_mtime_ns), (0, before))
        beside = read_wcs_file(self.folder / "a.wcs")
        assert beside is not None
        self.assert_same(beside, made[0][1])

    def test_a_header_that_is_wrong(self) -> None:
        path, wcs = self.frame("far.fits", 358.0, 25.0, 100.0, 2, RA=178.0, DEC=-24.0, PIXSCALE=4.5)
        code, body = self.json("solve", path, "--catalogue", self.tiles)
        self.assertEqual(code, 0, body)
        found = read_wcs_file(self.folder / "far.wcs")
        assert found is not None
        self.assert_same(found, wcs)
        # What the user says is kept to.
        code, body = self.json("solve", path, "--catalogue", self.tiles, "--again", "--scale", "4,5")
        self.assertEqual(code, 3)
        self.assertRegex(
            body["frames"][0]["reason"], r"its scale is 9 arcsec/px \(at RA 358.00 Dec \+25.00\), which is outside of the 4 to 5 asked for"
        )

    def test_what_a_header_states_is_believed_only_where_the_catalogue_agrees(self) -> None:
        path, wcs = self.frame("good.fits", 358.0, 30.0, 15.0, 3)
        near = Wcs(wcs.ra0 + 1.5 / 3600, wcs.dec0, wcs.x0, wcs.y0, wcs.cd)
        far = Wcs(wcs.ra0 + 0.5, wcs.dec0 - 0.4, wcs.x0, wcs.y0, wcs.cd)
        frames = []
        for name, stated in (("near", near), ("far", far)):
            frames.append(self.folder / f"{name}.fits")
            cards = [("IMAGETYP", "light", ""), *stated.cards()]
            write_fits(frames[-1], read_plane(str(path)), cards=cards)
        code, out, _ = self.ulvar("solve", *frames, "--catalogue", self.tiles)
        self.assertEqual(code, 0)
        first, second = out.splitlines()[:2]
        self.assertNotIn("wrong", first)
        wrong = separation_deg(far.ra0, far.dec0, wcs.ra0, wcs.dec0) * 3600
        self.assertIn(f"its header's own solution is wrong by {float(wrong):.0f} arcsec", second)
        _, body = self.json("solve", *frames, path, "--catalogue", self.tiles, "--again")
        self.assertEqual([f["stated"] for f in body["frames"]], ["confirmed", "wrong", None])
        self.assertAlmostEqual(body["frames"][0]["stated_off_arcsec"], 1.5 * math.cos(math.radians(30)), delta=0.6)
        for frame in body["frames"]:
            found = read_wcs_file(Path(frame["output"]))
            assert found is not None
            self.assert_same(found, wcs)

    def test_pixels_that_are_not_square(self) -> None:
        path, wcs = self.frame("tall.fits", 358.5, 31.0, 70.0, 4)
        pairs = read_plane(str(path))[: HEIGHT // 2 * 2].reshape(HEIGHT // 2, 2, WIDTH).sum(axis=1)
        tall = self.folder / "binned.fits"
        write_fits(tall, pairs, cards={"IMAGETYP": "light", "XBINNING": 1, "YBINNING": 2})
        code, body = self.json("solve", tall, "--catalogue", self.tiles, "--blind")
        self.assertEqual(code, 0, body)
        found = read_wcs_file(self.folder / "binned.wcs")
        assert found is not None
        for x, y in ((0.0, 0.0), (499.0, 0.0), (250.0, 180.0)):
            # The middle of a pair of rows.
            off = separation_deg(*found.sky(x, y), *wcs.sky(x, 2 * y + 0.5)) * 3600 / SCALE
            self.assertLess(float(off), 0.5)
        self.assertEqual(
            [
                pixel_aspect(h)
                for h in (
                    {}, {"XPIXSZ": 4.0, "YPIXSZ": 6.0}, {"XBINNING": 0, "YBINNING": 1}, {"XPIXSZ": "?", "YPIXSZ": 1},
                )
            ],
            [1.0, 1.5, 1.0, 1.0],
        )  # fmt: skip

    def test_stars_are_wanted_out_to_the_corners_of_a_wide_field(self) -> None:
        wide = ExposureFacts("w.fits", width=6000, height=4000, ra_deg=80.0, dec_deg=-10.0, scale_arcsec_px=20.0)
        half = math.degrees(math.atan(math.radians(0.5 * math.hypot(6000, 4000) * 20 / 3600)))
        ra, dec, reach = hinted_cone(wide, PlateOptions()) or (0.0, 0.0, 0.0)
        self.assertEqual((ra, dec), (80.0, -10.0))
        self.assertGreater(reach, 1.0 + half)
        self.assertGreater((hinted_cone(wide, PlateOptions(at=(1.0, 2.0), scale=(30.0, 40.0))) or (0, 0, 0))[2], 1.5 * half)
        self.assertEqual((hinted_cone(ExposureFacts("n.fits", ra_deg=80.0, dec_deg=-10.0), PlateOptions()) or (0, 0, 0))[2], 5.0)
        self.assertIsNone(hinted_cone(wide, PlateOptions(blind=True)))

    def test_index(self) -> None:
        code, out, _ = self.ulvar("catalogue", "index", self.tiles)
        self.assertEqual(code, 0)
        self.assertRegex(out, r"^\d+ patterns of \d+ stars$")
        code, _, err = self.ulvar("catalogue", "index", self.folder / "nowhere")
        self.assertEqual(code, 2)
        self.assertIn("there is no such folder", err)
        empty = self.folder / "empty"
        empty.mkdir()
        code, body = self.json("catalogue", "index", empty)
        self.assertEqual(code, 3)
        self.assertIn("holds no catalogue tiles", body["reason"])
