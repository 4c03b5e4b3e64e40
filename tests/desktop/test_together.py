"""A mosaic of a night's fields by its button, and a stack that grows while exposures arrive."""

from datetime import UTC, datetime, timedelta
from pathlib import Path

import numpy as np
from PySide6.QtCore import Qt
from tools.window_cases import WindowCase

from ulvar.frames import header_of, read_plane, write_fits
from ulvar.photometry import ListedStar, measure_apertures
from ulvar.simulation import Psf, add_stars

WIDTH, HEIGHT, STEP, SKY, NOISE = 380, 280, 230, 150.0, 4.0
START = datetime(2027, 2, 11, 20, 0, tzinfo=UTC)


def field_stars() -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Return x, y [px] and flux [ADU] of the stars of two fields beside each other."""
    rng = np.random.default_rng(17)
    x, y = rng.uniform(-20, WIDTH + STEP + 20, 130), rng.uniform(-20, HEIGHT + 20, 130)
    return x, y, 10 ** rng.uniform(3.4, 4.7, 130)


def write_exposure(path: Path, x: np.ndarray, y: np.ndarray, flux: np.ndarray, field: int, k: int) -> None:
    """Write an exposure of a field."""
    image = np.full((HEIGHT, WIDTH), SKY)
    add_stars(image, x - STEP * field, y - 0.7 * k, flux, Psf(1.3))
    image += np.random.default_rng(10 * field + k).normal(0, NOISE, image.shape)
    when = START + timedelta(minutes=30 * field + 4 * k)
    cards = {
        "IMAGETYP": "light", "EXPTIME": 60.0, "GAIN": 1.0, "FILTER": "V", "OBJECT": f"Part {field + 1}",
        "RA": 120.0 + 0.5 * field, "DEC": 20.0, "DATE-OBS": f"{when:%Y-%m-%dT%H:%M:%S}",
    }  # fmt: skip
    write_fits(path, image.astype(np.float32), cards=cards)


class TogetherCase(WindowCase):
    def setUp(self) -> None:
        super().setUp()
        self.x, self.y, self.flux = field_stars()
        self.raw = self.folder / "raw"
        self.raw.mkdir()
        self.model, self.sky = self.window.model, self.window.sky

    def write(self, name: str, field: int, k: int, *, moved: float = 0.0) -> Path:
        """Write an exposure of a field; fields lie beside each other."""
        write_exposure(self.raw / name, self.x + moved, self.y, self.flux, field, k)
        return self.raw / name

    def open(self) -> None:
        self.model.open(self.raw)
        self.idle()
        self.model.set_station("combine")

    def result(self):  # type: ignore[no-untyped-def]
        self.window.command("page result")
        return self.window.board_of["combine"].shown  # type: ignore[attr-defined]


class Mosaics(TogetherCase):
    def test_fields_beside_each_other(self) -> None:
        for field in (0, 1):
            for k in range(3):
                self.write(f"P{field}-{k}.fits", field, k)
        self.open()
        self.assertEqual(len(self.model.all_series()), 2)
        self.window.command("run score")
        self.idle()
        page = self.result()
        self.assertEqual((page.make_mosaic.text(), page.make_mosaic.isEnabled()), ("Make a mosaic of 2 fields", False))
        self.assertIn("Score Part", page.make_mosaic.toolTip())
        self.window.command("run mosaic")
        self.idle()
        self.assertIn("Score Part", self.messages[-1])
        self.model.step_series(1)
        self.window.command("run score")
        self.idle()
        page = self.result()
        self.assertTrue(page.make_mosaic.isEnabled())
        self.click(page.make_mosaic)
        self.idle()
        made = self.model.stacks.mosaic
        self.assertEqual(made[1], "Mosaic of 6 exposures")
        self.until(lambda: self.sky.product == made[0] and self.sky.settled, 20, "the mosaic on screen")
        header = header_of(made[0])
        self.assertGreater(header["NAXIS1"], WIDTH + STEP - 12)
        self.assertEqual(header["NCOMBINE"], 6)
        # Stars that only one field shows lie as far apart as on the sky, whichever exposure is the plane.
        data = read_plane(made[0])
        left = next(k for k in np.argsort(-self.flux) if 30 < self.x[k] < STEP - 20 and 40 < self.y[k] < HEIGHT - 40)
        right = next(k for k in np.argsort(-self.flux) if WIDTH + 20 < self.x[k] < WIDTH + STEP - 30 and 40 < self.y[k] < HEIGHT - 40)
        found = {}
        for k in (left, right):
            x, y = np.meshgrid(np.arange(-16.0, 17.0), np.arange(-16.0, 17.0))
            one = measure_apertures(
                np.nan_to_num(data, nan=SKY), (self.x[k] + x).ravel(), (self.y[k] + y).ravel(), radius_px=3.0, inner_px=5.0, outer_px=9.0,
            )  # fmt: skip
            best = int(np.argmax(one.flux))
            found[k] = (self.x[k] + x).ravel()[best], (self.y[k] + y).ravel()[best], one.flux[best]
        apart = [found[right][axis] - found[left][axis] for axis in (0, 1)]
        self.assertLess(abs(apart[0] - (self.x[right] - self.x[left])), 1.5)
        self.assertLess(abs(apart[1] - (self.y[right] - self.y[left])), 1.5)
        self.assertAlmostEqual(
            found[right][2] / found[left][2], self.flux[right] / self.flux[left], delta=0.06 * self.flux[right] / self.flux[left],
        )  # fmt: skip
        page = self.result()
        self.assertEqual(page.make_mosaic.text(), "Mosaic anew")
        self.model.set_current(self.model.lights()[0].path)
        self.click(page.show_mosaic)
        self.assertEqual(self.sky.product, made[0])

    def test_one_field_offers_none(self) -> None:
        for k in range(3):
            self.write(f"P0-{k}.fits", 0, k)
        self.open()
        self.window.command("run score")
        self.idle()
        page = self.result()
        self.assertFalse(page.make_mosaic.isVisible() or page.show_mosaic.isVisible())


class Growing(TogetherCase):
    def test_exposures_that_arrive_are_added_until_esc(self) -> None:
        for k in range(2):
            self.write(f"P0-{k}.fits", 0, k)
        self.open()
        seen: list[tuple[str, str]] = []
        self.model.jobs.seen.connect(lambda path, title: seen.append((path, title)))
        self.window.command("run watch")
        self.until(lambda: len(seen) >= 2, 60, "both that were there")
        self.write("P0-2.fits", 0, 2)
        self.until(lambda: len(seen) >= 3, 60, "the one that came")
        self.assertIn("3 exposures, noise", seen[-1][1])
        self.until(lambda: self.sky.product == seen[-1][0] and self.sky.settled, 20, "the running stack on screen")
        self.assertEqual(self.sky.canvas.picture.shape, (HEIGHT, WIDTH))
        self.key(Qt.Key.Key_Escape)
        self.until(lambda: self.model.jobs.job.finished, 60, "the end")
        self.idle()
        stack = Path(seen[-1][0])
        self.assertEqual((stack.name, header_of(str(stack))["NCOMBINE"]), ("V.fits", 3))
        self.assertTrue(any("V.fits: 3 exposures" in text for text in self.messages), self.messages)
        # The night takes up what came.
        self.until(lambda: len(self.model.lights()) == 3, 30, "the night knows it")
        self.idle()
        self.assertFalse(list(stack.parent.glob(".*scratch*")))
        # It stays on screen when it ends, and is found again on the page of results.
        self.until(lambda: self.sky.product == str(stack), 10, "the stack on screen again")
        self.model.set_current(self.model.lights()[0].path)
        board = self.window.board_of["combine"]
        self.assertTrue(board.show_running.isVisible())
        self.click(board.show_running)
        self.assertEqual(self.sky.product, str(stack))
        self.window.command("run score")
        self.idle()
        self.model.set_current(self.model.lights()[0].path)
        page = self.result()
        self.assertFalse(page.growth.isVisible() or page.pixel.isVisible(), "of no stack there is nothing to draw")
        self.click(page.show_running)
        self.until(lambda: self.sky.product == str(stack) and self.sky.settled, 10, "the stack by its button")

    def test_exposures_that_arrive_are_measured_and_the_curve_grows_until_esc(self) -> None:
        for k in range(3):
            self.write(f"P0-{k}.fits", 0, k)
        self.open()
        self.window.command("run score")
        self.idle()
        stars = [ListedStar("T", "target", x=60.0, y=50.0), ListedStar("a", "comparison", x=90.0, y=70.0)]
        self.model.matching.set_stars(stars, "Stars")
        self.model.set_station("curve")
        self.model.set_current(self.model.lights()[-1].path)

        def points() -> int:
            result = self.model.curves.curve()
            return 0 if result is None else len(result.curve)

        self.window.command("run follow")
        self.until(lambda: points() == 3, 60, "the curve of what was there")
        self.assertTrue(self.model.jobs.busy)
        for k in (3, 4):
            self.write(f"P0-{k}.fits", 0, k)
            self.until(lambda k=k: points() == k + 1, 60, "one more point")
        # The window shows the new exposure, for it showed the last one.
        self.until(lambda: Path(self.model.current).name == "P0-4.fits", 10, "the last exposure")
        self.until(lambda: self.window.board_of["curve"].count.text().endswith("5 points"), 10, "the board follows")
        self.assertEqual(self.model.jobs.state("curve"), "running")
        self.key(Qt.Key.Key_Escape)
        self.until(lambda: not self.model.jobs.busy, 60, "the end")
        self.idle()
        self.assertEqual((points(), len(self.model.lights())), (5, 5))

    def test_of_two_fields_each_has_its_running_stack(self) -> None:
        for field in (0, 1):
            for k in range(2):
                self.write(f"P{field}-{k}.fits", field, k)
        self.open()
        seen: list[str] = []
        self.model.jobs.seen.connect(lambda path, title: seen.append(Path(path).name))
        self.window.command("run watch")
        self.until(lambda: len(seen) >= 4, 60, "all four")
        self.key(Qt.Key.Key_Escape)
        self.until(lambda: self.model.jobs.job.finished, 60, "the end")
        self.idle()
        shown = []
        for _ in (0, 1):
            self.click(self.window.board_of["combine"].show_running)
            shown.append(
                (
                    self.model.chosen_series().field.name, Path(self.sky.product).name, header_of(self.sky.product)["NCOMBINE"],
                )
            )  # fmt: skip
            self.model.step_series(1)
        self.assertEqual(sorted(shown), [("Part 1", "V.fits", 2), ("Part 2", "Part-2-V.fits", 2)])
