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
