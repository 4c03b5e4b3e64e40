"""Pictures that are renewed while they are read: what was read before is never shown after."""

import threading
from typing import Any
from unittest import mock

import numpy as np
from PySide6.QtCore import QPointF, QRectF
from PySide6.QtWidgets import QApplication
from tools.cases import FolderCase

from tests.desktop.painted import pixels
from ulvar.desktop.app import make_application
from ulvar.desktop.parts.theme import THEMES
from ulvar.desktop.picture import grid, pictures
from ulvar.desktop.picture.canvas import Canvas
from ulvar.desktop.picture.grid import GridLine
from ulvar.desktop.picture.pictures import Picture, PictureLoader
from ulvar.desktop.picture.profile import sample_line
from ulvar.desktop.picture.sight import Sight
from ulvar.desktop.picture.stretch import Sample, Stretch
from ulvar.frames import write_fits
from ulvar.registration import Transform, choose_map


class Renewal(FolderCase):
    """A file is written anew between reading it and telling of it."""

    @classmethod
    def setUpClass(cls) -> None:
        """Make the application."""
        cls.app = make_application()

    def setUp(self) -> None:
        super().setUp()
        self.loader = PictureLoader()
        self.addCleanup(self.loader.close)
        self.got: list[tuple[str, float]] = []
        self.loader.loaded.connect(self._loaded)

    def _loaded(self, path: str, result: Any) -> None:
        self.got.append((path, float(result.levels[0][0, 0])))

    def wait(self, count: int) -> None:
        """Let events pass until so many pictures are there."""
        for _ in range(2000):
            QApplication.processEvents()
            if len(self.got) >= count:
                return
            threading.Event().wait(0.005)
        self.fail(f"{self.got}")

    def test_a_picture_read_before_renewal_is_dropped_and_read_again(self) -> None:
        path = self.write("a.fits", np.full((8, 9), 1.0, np.float32))
        reading, renewed = threading.Event(), threading.Event()
        real = pictures.make_picture

        def slow(name: str) -> Any:
            picture = real(name)
            if not renewed.is_set():
                reading.set()
                renewed.wait(10)
            return picture

        with mock.patch.object(pictures, "make_picture", slow):
            self.loader.request(path)
            self.assertTrue(reading.wait(10))
            self.write("a.fits", np.full((8, 9), 2.0, np.float32))
            self.loader.forget()
            renewed.set()
            self.wait(1)
        self.assertEqual(self.got, [(path, 2.0)], "the old pixels are not shown")
        self.loader.request(path)
        self.wait(2)
        self.assertEqual(self.got[1], (path, 2.0), "nor are they kept")


class OnAnotherGrid(FolderCase):
    def test_a_bent_map_is_followed(self) -> None:
        """Shown aligned, a star stands where the map puts it, in grey and in colour, affine or bent."""
        rng = np.random.default_rng(2)
        places = rng.uniform(0, 1, (120, 2)) * (200, 160)
        away = (places - (100, 80)) / 100
        bent = choose_map(places, places + 6.0 * away * (away**2).sum(axis=1)[:, None] + (4.0, -3.0))
        self.assertEqual(bent.kind, "cubic")
        spot = np.zeros((160, 200), dtype=np.float32)
        yy, xx = np.mgrid[:160, :200]
        spot += 1000 * np.exp(-((xx - 170) ** 2 + (yy - 30) ** 2) / 8).astype(np.float32)
        grey, cube = self.folder / "grey.fits", self.folder / "cube.fits"
        write_fits(grey, spot)
        write_fits(cube, np.stack([spot, 0.5 * spot, 0.2 * spot]))
        for way in (bent, Transform.shift(4.0, -3.0)):
            x, y = (float(v[0]) for v in way(np.array([170.0]), np.array([30.0])))
            for path in (str(grey), pictures.colour_path(f"{cube}[0,0]", "planes")):
                shown, _ = pictures._pixels(pictures.aligned_path(path, way, (160, 200)))
                planes = np.nan_to_num(np.atleast_3d(shown))
                self.assertEqual(planes.shape[:2], (160, 200))
                for k in range(planes.shape[2]):
                    plane = planes[:, :, k]
                    self.assertAlmostEqual((plane * xx).sum() / plane.sum(), x, delta=0.05)
                    self.assertAlmostEqual((plane * yy).sum() / plane.sum(), y, delta=0.05)


class Looks(FolderCase):
    """What is read of a file for the screen, and which of its pixels are shown."""

    @classmethod
    def setUpClass(cls) -> None:
        """Make the application."""
        cls.app = make_application()

    def test_every_pixel_is_seen_at_large_scale_and_means_of_them_at_a_small_one(self) -> None:
        rng = np.random.default_rng(4)
        data = (rng.random((900, 1500)) > 0.5).astype(np.float32)
        levels = (data, data.reshape(450, 2, 750, 2).mean(axis=(1, 3)), data.reshape(225, 4, 375, 4).mean(axis=(1, 3)))
        canvas = Canvas(THEMES["dark"])
        self.addCleanup(canvas.deleteLater)
        canvas.resize(300, 200)
        canvas.stretch = Stretch("Linear", 0.0, 1.0)
        canvas.set_picture(Picture("p", levels, Sample.of(data[::5, ::5]), data.shape))
        # A fitted picture would be taken in view whole again.
        canvas.fitted = False
        for scale, block in ((5.0, 1), (1.0, 1), (0.5, 2), (0.25, 4)):
            canvas.sight.scale, canvas.sight.centre = scale, QPointF(699.5, 499.5)
            grey = pixels(canvas.grab().toImage()).mean(axis=-1)
            y, x = np.mgrid[488:512:block, 688:712:block] + (block - 1) / 2
            at = [canvas.sight.to_screen(a, b) for a, b in zip(x.ravel(), y.ravel())]
            seen = np.array([grey[round(p.y() - 0.5), round(p.x() - 0.5)] for p in at])
            true = data[488:512, 688:712].reshape(24 // block, block, 24 // block, block).mean(axis=(1, 3)).ravel()
            self.assertGreater(np.corrcoef(seen, true)[0, 1], 0.95, scale)

    def test_of_a_large_plain_file_some_rows_are_shown_at_once(self) -> None:
        path = self.write("large.fits", np.arange(40 * 60, dtype=np.float32).reshape(40, 60))
        self.assertIsNone(pictures.quick_look(path), "the whole is there as soon")
        with mock.patch.object(pictures, "_LARGE", 1000):
            look = pictures.quick_look(path)
        assert look is not None
        self.assertEqual((look.shape, look.quick), ((40, 60), True))
        np.testing.assert_array_equal(look.data, np.arange(40 * 60).reshape(40, 60)[::2, ::2])

    def test_lines_and_counts_of_values(self) -> None:
        distance, values = sample_line(np.arange(12.0, dtype=np.float32).reshape(3, 4), (-1.0, 1.0), (4.0, 1.0))
        np.testing.assert_allclose(distance, np.arange(6.0))
        np.testing.assert_allclose(values, [np.nan, 4, 5, 6, 7, np.nan])
        edge = sample_line(np.ones((3, 4), np.float32), (-0.7, 1.0), (0.3, 1.0))[1]
        np.testing.assert_array_equal(np.isnan(edge), [True, False])
        edge = sample_line(np.ones((3, 4), np.float32), (2.7, 1.0), (3.7, 1.0))[1]
        np.testing.assert_array_equal(np.isnan(edge), [False, True])
        edge = sample_line(np.ones((3, 4), np.float32), (1.0, -0.7), (1.0, 2.3))[1]
        np.testing.assert_array_equal(np.isnan(edge), [True, False, False, False])
        edge = sample_line(np.ones((3, 4), np.float32), (1.0, 1.7), (1.0, 2.7))[1]
        np.testing.assert_array_equal(np.isnan(edge), [False, True])
        sample = Sample.of(np.array([[0.5, 1.5, 1.6, 2.5], [3.5, 3.6, 3.7, 9.0]], dtype=np.float32))
        self.assertEqual(sample.histogram(0.0, 4.0, 4).tolist(), [1, 2, 1, 3])

    def test_some_hot_pixels_are_no_stars(self) -> None:
        rng = np.random.default_rng(5)
        for share, even in ((0.0022, True), (0.01, False)):
            dark = rng.normal(100, 5, (300, 300)).astype(np.float32)
            dark.flat[rng.permutation(dark.size)[: round(share * dark.size)]] = 9000.0
            sample = Sample.of(dark)
            self.assertEqual((sample.even, sample.ceiling > 200), (even, not even), share)

    def test_names_of_the_grid_begin_at_one_side(self) -> None:
        view = QRectF(0, 0, 100, 80)
        corner = tuple(QPointF(x, y) for x, y in ((-10, 30), (20, 60), (50, 90)))
        for piece in (corner, corner[::-1]):
            for of_ra in (False, True):
                found = grid._entries(GridLine("a", of_ra, (piece,)), view)
                edges = ["left" if p.x() == 0 else "bottom" if p.y() == 80 else "" for p in found]
                self.assertEqual(edges, ["bottom", "left"] if of_ra else ["left", "bottom"])

    def test_a_picture_fits_turned_and_mirrored(self) -> None:
        sight = Sight()
        self.assertEqual((sight.scale, sight.turn_deg, sight.mirrored), (1.0, 0.0, False))
        sight.width, sight.height = 300.0, 200.0
        for turn, scale in ((0.0, 200 / 400), (90.0, 300 / 400), (180.0, 200 / 400)):
            sight.turn_deg = turn
            sight.fit(200, 400)
            self.assertAlmostEqual(sight.scale, scale)
            middle = sight.to_screen(99.5, 199.5)
            self.assertEqual((round(middle.x(), 6), round(middle.y(), 6)), (150.0, 100.0))
