"""Pictures that are renewed while they are read: what was read before is never shown after."""

from __future__ import annotations

import threading
from typing import Any
from unittest import mock

import numpy as np
from PySide6.QtWidgets import QApplication

from tests.support import FolderCase
from ulvar.desktop.app import make_application
from ulvar.desktop.picture import pictures
from ulvar.desktop.picture.pictures import PictureLoader
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
