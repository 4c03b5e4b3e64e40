"""Stepping and the movie: exposures are there when they are asked for."""

from pathlib import Path
from unittest import mock

from PySide6.QtCore import Qt
from tools.cases import small_demo
from tools.window_cases import WindowCase

from ulvar.desktop.picture import pictures
from ulvar.frames import FrameError
from ulvar.night import Night


class Stepping(WindowCase):
    """Read-ahead and the movie of a night."""

    def setUp(self) -> None:
        super().setUp()
        Night.create(self.folder / "night", [small_demo() / "raw" / "lights" / "V"]).close()
        self.window.model.open(self.folder / "night")
        self.idle()
        self.until(lambda: self.window.sky.settled, 20, "the first exposure")

    def test_neighbours_are_read_ahead(self) -> None:
        model, loader = self.window.model, self.window.sky.loader
        wanted = set(model.neighbours((1, 2)))
        self.assertEqual(len(wanted), 2)
        self.until(lambda: wanted <= set(loader._cache), 20, "the next two exposures in the cache")
        self.key(Qt.Key.Key_Right)
        self.assertTrue(self.window.sky.settled, "it was there already: no waiting for the file")

    def test_movie(self) -> None:
        model, movie = self.window.model, self.window.movie
        paths = [f.path for f in model.lights()]
        model.set_current(paths[-6])
        for _ in range(6):
            self.key(Qt.Key.Key_BracketRight)
        self.assertEqual(movie.speed, 30.0)
        seen = []
        model.current_changed.connect(lambda: seen.append(model.current))
        self.key(Qt.Key.Key_M)
        self.assertTrue(movie.playing)
        self.until(lambda: not movie.playing, 30, "the end of the night")
        self.assertEqual(seen, paths[-5:], "every exposure once, in the order of time")
        self.key(Qt.Key.Key_M)
        # On a busy machine it has gone on by the time that the key is done.
        self.assertEqual(seen[5], paths[0], "at the end it starts from the beginning")
        self.key(Qt.Key.Key_Escape)
        self.assertFalse(movie.playing)
        self.key(Qt.Key.Key_BracketLeft)
        self.assertLess(movie.speed, 30.0)
        # What is looked at in the end does not hang on how far it went.
        model.set_current(paths[0])

    def test_an_unreadable_exposure_does_not_hold_the_movie_up(self) -> None:
        model, movie = self.window.model, self.window.movie
        self.window.sky.canvas.set_picture(None, "it is gone")
        self.assertTrue(self.window.sky.settled)
        movie._tick()
        self.assertEqual(model.current, model.lights()[1].path)

    def test_an_exposure_that_cannot_be_read_says_so_in_the_picture(self) -> None:
        model, canvas = self.window.model, self.window.sky.canvas
        broken, real = model.lights()[-1].path, pictures.make_picture

        def read(path: str) -> pictures.Picture:
            if path == broken:
                raise FrameError(path, "it ends in the middle of its pixels")
            return real(path)

        with mock.patch.object(pictures, "make_picture", read):
            model.set_current(broken)
            self.until(lambda: self.window.sky.settled, 20, "the answer")
        self.assertIsNone(canvas.picture)
        self.assertEqual(canvas.problem, f"{Path(broken).name}: it ends in the middle of its pixels")
        self.assertEqual(self.window.sky.foot.read_out.text(), "")
        model.set_current(model.lights()[0].path)
        self.until(lambda: self.window.sky.settled, 20, "the first exposure")
        self.assertIsNotNone(canvas.picture)
