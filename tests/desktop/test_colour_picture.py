"""From exposures through three filters to a colour picture, by the buttons of the page Result."""

from pathlib import Path

import numpy as np
import tifffile
from tools.window_cases import WindowCase

from tests.flows.test_colour import HEIGHT, WIDTH, Sky
from ulvar.engine import JobContext
from ulvar.frames import read_plane, write_fits
from ulvar.night import Night
from ulvar.night.stations import run_colour, run_intake, run_score, run_stack


class Pressed(WindowCase):
    def setUp(self) -> None:
        super().setUp()
        raw = self.folder / "raw"
        raw.mkdir()
        (self.folder / "made").mkdir()
        sky = Sky(self.folder / "made")
        rng = np.random.default_rng(7)
        for name, band in (("red", "R"), ("green", "V"), ("blue", "B")):
            data = read_plane(sky.write(name).path)
            for k in range(3):
                cards = {
                    "IMAGETYP": "Light", "EXPTIME": 60.0, "GAIN": 1.0, "FILTER": band, "OBJECT": "Tarnholt", "RA": 115.0, "DEC": 41.0,
                    "DATE-OBS": f"2027-02-11T2{k}:{'RVB'.index(band) * 10 + 10}:00",
                }  # fmt: skip
                write_fits(raw / f"{band}{k}.fits", data + rng.normal(0, 1, data.shape).astype(np.float32), cards=cards)
        night = Night.create(self.folder / "night", [raw])
        run_intake(night, JobContext())
        for series in night.series():
            run_score(night, JobContext(), series)
            if series.filter != "B":
                run_stack(night, JobContext(), series)
        self.assertIn("needs a stack through blue", run_colour(night, JobContext(), night.series()[0]).problem)
        night.close()
        self.window.model.open(self.folder / "night")
        self.idle()
        self.model, self.sky = self.window.model, self.window.sky
        self.model.set_station("combine")

    def go_to(self, band: str) -> None:
        """Choose the series of a filter."""
        self.model.go_to_series(next(one.key for one in self.model.all_series() if one.filter == band))
        self.window.command("page result")

    def test_a_colour_picture(self) -> None:
        self.go_to("B")
        page = self.window.board_of["combine"].shown  # type: ignore[attr-defined]
        self.assertFalse(page.make_colour.isEnabled())
        self.assertIn("blue", page.colour_words.text())
        self.assertFalse(page.show_colour.isVisible())
        self.window.command("run stack")
        self.idle()
        self.assertTrue(page.make_colour.isEnabled())
        self.click(page.make_colour)
        self.idle()
        self.until(lambda: self.sky.settled and "Colour picture" in self.sky.header.full_name, 30, "the picture")
        picture = self.sky.canvas.picture.levels[0]
        self.assertEqual(picture.shape, (HEIGHT, WIDTH, 3))
        self.assertIn("red R, green V, blue B", self.sky.header.full_name)
        # The bright red star and the blue one, as they stand in the file that is on screen.
        sky = Sky(self.folder / "made")
        for star, most, least in ((10, 0, 2), (20, 2, 0)):
            x, y = round(sky.x[star]), round(sky.y[star])
            seen = np.nansum(picture[y - 3 : y + 4, x - 3 : x + 4], axis=(0, 1))
            self.assertGreater(seen[most], 1.3 * seen[least])
        product = self.model.of_series("colour")
        self.assertEqual(tifffile.imread(product.values["picture"]).shape, (HEIGHT, WIDTH, 3))
        self.assertGreater(product.values["balance_stars"], 20)
        # It belongs to every series of the field, and is offered there.
        for band in "RV":
            self.go_to(band)
            self.assertEqual(Path(self.model.of_series("colour").output), Path(product.output))
        self.window.sky.refresh()
        self.click(self.window.board_of["combine"].shown.show_colour)  # type: ignore[attr-defined]
        self.until(lambda: self.sky.settled, 30, "the picture again")
        self.assertIn("Colour picture", self.sky.header.full_name)
