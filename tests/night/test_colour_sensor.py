"""A night of a colour sensor alone: a stack of each colour and a colour picture, through the night and on the command line."""

from pathlib import Path

import numpy as np
from bench.made_mosaics import CELL, colour_frame, write_mosaic
from tools.cases import remember_stars

from tests.cli.support import Command
from ulvar.engine import JobContext
from ulvar.frames import Address, read_plane, scan_file
from ulvar.night import Night
from ulvar.night.stations import run_colour, run_intake, run_score, run_stack, what_is_missing
from ulvar.stacking import Colours


class ColourSensor(Command):
    def setUp(self) -> None:
        super().setUp()
        remember_stars(self)
        self.raw = self.folder / "raw"
        self.raw.mkdir()
        for k in range(3):
            self.truth = colour_frame(np.random.default_rng(5))
            noise = np.random.default_rng(50 + k).normal(0, 5, self.truth["mosaic"].shape)
            write_mosaic(self.raw / f"colour{k}.fits", self.truth["mosaic"] + noise, k)

    def light(self, path: str, star: int) -> float:
        x, y = round(self.truth["x"][star]), round(self.truth["y"][star])
        box = read_plane(path)[y - 4 : y + 5, x - 4 : x + 5]
        return float((box - np.nanmedian(read_plane(path))).sum())

    def test_the_night_makes_stacks_and_a_picture(self) -> None:
        night = Night.create(self.folder / "night", [self.raw])
        self.addCleanup(night.close)
        run_intake(night, JobContext())
        run_score(night, JobContext())
        series = night.series()[0]
        self.assertEqual(run_stack(night, JobContext()).problem, "")
        stack = night.products_of("stack")[series.key]
        self.assertEqual(stack.values["planes"], {})
        self.assertIn("stacks through red, green and blue", what_is_missing(night, series))
        settings = night.settings
        settings.combine.colours = Colours.MALVAR
        night.set_settings(settings)
        self.assertEqual(run_stack(night, JobContext()).problem, "")
        stack = night.products_of("stack")[series.key]
        self.assertEqual(sorted(stack.values["planes"]), ["B", "G", "R"])
        for colour, path in stack.values["planes"].items():
            self.assertEqual(scan_file(path).filter, colour)
        red, blue = (stack.values["planes"][c] for c in "RB")
        # The first of the two brightest is red, the second blue: red over blue differs by nine between them.
        ratios = [self.light(red, star) / self.light(blue, star) for star in (0, 1)]
        self.assertAlmostEqual(ratios[0] / ratios[1], 9.0, delta=1.0)
        self.assertEqual(what_is_missing(night, series), "")
        made = run_colour(night, JobContext(), series)
        self.assertEqual(made.problem, "")
        product = night.products_of("colour", series.key)[series.key]
        self.assertEqual(product.values["filters"], {"red": "R", "green": "G", "blue": "B"})
        self.assertGreater(product.values["balance_stars"], 20)
        # Colours as the truth has them, once stars are white on average.
        channel = {c: read_plane(Address(product.output, 0, k).text) for k, c in enumerate("RGB")}
        for star, share in ((0, 3.0), (1, 1 / 3)):
            x, y = round(self.truth["x"][star]), round(self.truth["y"][star])
            seen = {c: float(np.nansum(p[y - 4 : y + 5, x - 4 : x + 5])) for c, p in channel.items()}
            self.assertAlmostEqual(seen["R"] / seen["B"] / share, 1.0, delta=0.15)

    def test_the_command_line(self) -> None:
        out = self.folder / "s.fits"
        code, body = self.json("stack", self.raw, "--out", out, "--colours", "half", "--scale", "0.5")
        self.assertEqual(code, 0)
        planes = body["series"][0]["planes"]
        self.assertEqual([Path(planes[c]["output"]).name for c in "RGB"], ["s-R.fits", "s-G.fits", "s-B.fits"])
        self.assertEqual((body["width"], scan_file(planes["R"]["output"]).width), (300, 300))
        picture = self.folder / "c.fits"
        words = [f"--{name}={planes[c]['output']}" for name, c in (("red", "R"), ("green", "G"), ("blue", "B"))]
        self.assertEqual(self.ulvar("colour", *words, "--out", picture)[0], 0)
        (self.folder / "s-B.fits").write_bytes(b"mine")
        out.unlink()
        code, body = self.json("stack", self.raw, "--out", out, "--colours", "half", "--scale", "0.5")
        self.assertEqual(code, 1)
        self.assertRegex(body["series"][0]["planes"]["B"]["reason"], "is kept|exists")
        self.assertEqual((self.folder / "s-B.fits").read_bytes(), b"mine")
        code, body = self.json("planes", self.raw, "--out", self.folder / "p")
        self.assertEqual((code, len(body["frames"])), (0, 3))
        self.assertEqual(sorted(body["frames"][0]["planes"]), ["B", "G", "R"])
        self.assertEqual(len(list((self.folder / "p").glob("*.fits"))), 9)
        # They are a night of three filters.
        code, body = self.json("sort", self.folder / "p")
        self.assertEqual(sorted(s["filter"] for s in body["series"]), ["B", "G", "R"])
        code, body = self.json("planes", self.folder / "p", "--out", self.folder / "q")
        self.assertEqual(code, 3)
        self.assertIn("no exposure of a colour sensor", body["frames"][0]["reason"])
        self.assertIn(CELL, str(scan_file(str(self.raw / "colour0.fits")).cfa))
