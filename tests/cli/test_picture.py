"""`ulvar picture`: what the eye sees, up is up, words under it, and files that are kept."""

import json

import cv2
import numpy as np
import tifffile

from tests.cli.support import Command
from ulvar.frames import header_of, write_fits
from ulvar.frames.lettering import captioned
from ulvar.stacking import levels_for, stretched, stretched_grey

WIDTH, HEIGHT = 300, 200


class Pictures(Command):
    def setUp(self) -> None:
        super().setUp()
        rng = np.random.default_rng(3)
        self.data = rng.normal(500, 4, (HEIGHT, WIDTH)).astype(np.float32)
        # A bright block at the lower left, a faint one at the upper right.
        self.data[10:30, 20:50] += 3000
        self.data[150:180, 240:280] += 40
        self.path = self.folder / "s.fits"
        cards = {
            "OBJECT": "Tarnholt 12", "NCOMBINE": 7, "EXPTOTAL": 1680.0, "FILTER": "V", "DATE-BEG": "2027-02-11T20:00:00.000",
            "DATE-END": "2027-02-11T20:40:00.000",
        }  # fmt: skip
        write_fits(self.path, self.data, cards=cards)

    def png(self, path: object) -> np.ndarray:
        found = cv2.imread(str(path), cv2.IMREAD_UNCHANGED)
        assert found is not None
        return found

    def test_a_grey_picture_with_words_under_it(self) -> None:
        out = self.folder / "s.png"
        code, told = self.json("picture", self.path, "--out", out)
        self.assertEqual((code, told["frames"][0]["output"]), (0, str(out)))
        picture = self.png(out)
        self.assertEqual((picture.shape[1], picture.ndim), (WIDTH, 2))
        self.assertGreater(picture.shape[0], HEIGHT + 36)
        image, band = picture[:HEIGHT], picture[HEIGHT:]
        # Rows of the file run upwards.
        self.assertEqual(int(np.median(image[HEIGHT - 30 : HEIGHT - 10, 20:50])), 255)
        sky, faint = float(np.median(image[:60, :100])), float(np.median(image[20:50, 240:280]))
        self.assertTrue(10 < sky < 90 and faint > sky + 40, (sky, faint))
        self.assertTrue(band.max() > 200 and np.median(band) < 40)
        # By three lines of words.
        rows = (band > 120).any(axis=1)
        self.assertEqual(int((np.diff(rows.astype(int)) == 1).sum() + rows[0]) >= 3, True)
        plain = self.folder / "p.png"
        self.ulvar("picture", self.path, "--out", plain, "--no-caption")
        np.testing.assert_array_equal(self.png(plain), image)

    def test_levels_and_tiff(self) -> None:
        out = self.folder / "s.tif"
        code, told = self.json("picture", self.path, "--out", out, "--levels", "480,3500")
        self.assertEqual((code, told["frames"][0]["black_adu"], told["frames"][0]["white_adu"]), (0, 480.0, 3500.0))
        picture = tifffile.imread(out)
        self.assertEqual((picture.dtype, picture.shape), (np.uint16, (HEIGHT, WIDTH)))
        self.assertEqual(
            int(picture[HEIGHT - 20, 30]), round(float(stretched_grey(self.data[19:20, 30:31], (480, 3020 / 30, 3500))[0, 0]) * 65535)
        )
        self.assertEqual(json.loads(_described(out))["header"]["OBJECT"], "Tarnholt 12")

    def test_a_colour_picture_is_one(self) -> None:
        cube = np.stack([self.data, self.data, self.data]) - 500
        cube[0, 10:30, 20:50] *= 2
        path = self.folder / "c.fits"
        write_fits(path, cube.astype(np.float32), cards=[("CTYPE3", "COLOUR", ""), ("OBJECT", "Tarnholt 12", "")])
        self.assertEqual(header_of(str(path))["NAXIS3"], 3)
        code, told = self.json("picture", path, "--out", self.folder / "c.png", "--no-caption")
        self.assertEqual((code, len(told["frames"])), (0, 1))
        picture = self.png(self.folder / "c.png")
        # Blue comes first in what was read.
        blue, green, red = (float(np.median(picture[HEIGHT - 30 : HEIGHT - 10, 20:50, k])) for k in range(3))
        self.assertTrue(red > green == blue, (red, green, blue))
        self.ulvar("picture", path, "--out", self.folder / "g.png", "--no-caption", "--saturation", "0")
        grey = self.png(self.folder / "g.png")[HEIGHT - 20, 30]
        self.assertLess(int(grey.max()) - int(grey.min()), 3)

    def test_several_into_a_folder_and_what_is_there_is_kept(self) -> None:
        folder = self.bare(2)
        (self.folder / "broken.fits").write_bytes(b"SIMPLE  = nothing")
        code, told = self.json("picture", folder, self.folder / "broken.fits", self.path, "--out", self.folder / "made")
        self.assertEqual(code, 1)
        self.assertEqual({p.name for p in (self.folder / "made").iterdir()}, {"im0.png", "im1.png", "s.png"})
        before = (self.folder / "made" / "s.png").read_bytes()
        code, told = self.json("picture", self.path, "--out", self.folder / "made")
        self.assertIn("it is kept", told["frames"][0]["reason"])
        self.assertEqual((self.folder / "made" / "s.png").read_bytes(), before)
        for wrong, why in (
            (["--levels", "5"], "takes BLACK,WHITE"), (["--levels", "5,4"], "black lies under white"), (["--saturation", "9"], "from 0 to 5"),
        ):  # fmt: skip
            code, _, problem = self.ulvar("picture", self.path, "--out", self.folder / "w.png", *wrong)
            self.assertEqual((code, why in problem), (2, True), problem)
        code, _, problem = self.ulvar("picture", folder, "--out", self.folder / "w.png")
        self.assertIn("2 pictures need a folder", problem)
        code, _, problem = self.ulvar("picture", self.path, "--out", self.folder / "w.gif")
        self.assertIn("as .png or .tif", problem)

    def test_an_uneven_sky_stays_in_sight(self) -> None:
        x, y = np.meshgrid(np.linspace(-1, 1, WIDTH), np.linspace(-1, 1, HEIGHT))
        path = self.folder / "v.fits"
        write_fits(path, (self.data - 120 * (x**2 + y**2)).astype(np.float32), cards={"IMAGETYP": "light"})
        self.json("picture", path, "--out", self.folder / "v.png", "--no-caption")
        picture = self.png(self.folder / "v.png")
        self.assertLess((picture == 0).mean(), 0.02)


class Parts(Command):
    def test_a_grey_picture_is_what_three_equal_planes_are(self) -> None:
        data = np.random.default_rng(2).normal(0, 3, (80, 90)).astype(np.float32)
        data[30:40, 30:40] += 200
        data[0, 0] = np.nan
        grey = stretched_grey(data, levels_for(data, 3.0))
        colour = stretched(np.stack([data] * 3), 3.0)
        # In colour what lies at the black level is held a little over it.
        np.testing.assert_allclose(grey[1:], colour[0, 1:], atol=0.01)
        self.assertEqual(grey[0, 0], 0)

    def test_long_words_are_written_smaller(self) -> None:
        picture = np.zeros((50, 200), np.uint8)
        once, long = captioned(picture, ["a few words"]), captioned(picture, ["many words " * 8])
        self.assertTrue((once[-50:] == picture).all() and (long[-50:] == picture).all())
        for made in (once, long):
            band = made[:-50]
            self.assertTrue((band[:, -3:] < 40).all() and band.max() > 150)
        self.assertIs(captioned(picture, ["", ""]), picture)
        self.assertEqual(captioned(np.zeros((3, 50, 200), np.uint8), ["words"]).shape[0], 3)


def _described(path: object) -> str:
    with tifffile.TiffFile(path) as file:
        return str(file.pages[0].description)
