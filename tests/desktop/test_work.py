"""What goes on beside the window, alone: the movie's pace and its order, films that are opened."""

import unittest
from types import SimpleNamespace
from unittest import mock

from PySide6.QtCore import QObject
from tools.cases import FolderCase

from ulvar.desktop.app import make_application
from ulvar.desktop.work.films import MeasuredFilm, measure_and_time, open_and_look
from ulvar.desktop.work.movie import Movie
from ulvar.engine import Failed, StopRequested, StopToken
from ulvar.simulation import MadeUpFilm, write_ser


class Movies(unittest.TestCase):
    def setUp(self) -> None:
        make_application()
        self.reel = mock.Mock(brushed=[], current="c")
        self.reel.lights.return_value = [SimpleNamespace(path=p) for p in "abcd"]
        self.reel.step.return_value = True
        self.settled, self.said = True, []
        self.parent = QObject()
        self.movie = Movie(self.parent, self.reel, settled=lambda: self.settled, say=self.said.append)
        self.addCleanup(self.movie.stop)

    def test_its_pace(self) -> None:
        self.movie.toggle()
        self.assertEqual((self.movie.playing, self.movie._timer.interval()), (True, 200))
        self.assertEqual(self.said, ["5.0 exposures a second; ] faster, [ slower, M stops."])
        for factor, speed, interval in ((2.0, 10.0, 100), (100.0, 30.0, 33), (1e-4, 0.5, 2000)):
            self.movie.change_speed(factor)
            self.assertEqual(
                (self.movie.speed, self.movie._timer.interval(), self.said[-1]), (speed, interval, f"{speed} exposures a second.")
            )
        self.movie.toggle()
        self.assertFalse(self.movie.playing)
        self.movie.change_speed(2.0)
        self.assertFalse(self.movie.playing, "another pace does not start it")

    def test_it_waits_for_what_is_not_on_screen_and_ends_with_the_night(self) -> None:
        self.movie.toggle()
        self.reel.step.assert_not_called()
        self.settled = False
        self.movie._tick()
        self.reel.step.assert_not_called()
        self.settled = True
        self.movie._tick()
        self.reel.step.assert_called_once_with(1)
        self.reel.step.return_value = False
        self.movie._tick()
        self.assertFalse(self.movie.playing)

    def test_at_the_end_it_begins_anew_but_not_with_a_selection(self) -> None:
        self.reel.neighbours.side_effect = lambda steps: [] if tuple(steps) == (1,) else ["x"]
        self.movie.toggle()
        self.reel.step.assert_called_once_with(-1_000_000)
        self.movie.toggle()
        self.reel.brushed = ["a", "b"]
        self.movie.toggle()
        self.reel.step.assert_called_once()

    def test_a_selection_goes_round_and_round(self) -> None:
        self.reel.brushed = ["d", "a", "b"]
        for current, after in (("c", "a"), ("a", "b"), ("b", "d"), ("d", "a")):
            self.reel.current = current
            self.movie._tick()
            self.reel.set_current.assert_called_with(after)
        self.reel.step.assert_not_called()
        self.reel.brushed = ["d"]
        self.movie._tick()
        self.reel.step.assert_called_once_with(1)

    def test_without_a_night_it_says_so(self) -> None:
        self.reel.exposures.return_value = []
        self.movie.toggle()
        self.assertEqual((self.movie.playing, self.said), (False, ["Open a folder first."]))


class Films(FolderCase):
    def test_a_file_or_a_folder_is_opened(self) -> None:
        film = MadeUpFilm(width=48, height=32, frames=20, stars=((20.0, 15.0, 800.0),), out_s=1e9, back_s=1e9)
        write_ser(self.folder / "one.SER", film)
        self.assertEqual(open_and_look([str(self.folder / "one.SER")]).film.count, 20)
        for k in range(3):
            self.write(f"cube/f{k}.fits", next(iter(film.pictures())), DATE_OBS=f"2027-02-11T20:00:0{k}")
        self.assertEqual(open_and_look([str(self.folder / "cube")]).film.count, 3)

    def test_what_becomes_of_measuring(self) -> None:
        failed, given = Failed("x", "no star"), (None, None, [], None, None, 1.0, StopToken())
        with (
            mock.patch("ulvar.desktop.work.films.measure_film") as measure,
            mock.patch("ulvar.desktop.work.films.time_occultation") as time,
        ):
            self.assertEqual(measure_and_time(*given), MeasuredFilm(measure.return_value, time.return_value))
            time.assert_called_once_with(measure.return_value)
            measure.return_value = failed
            self.assertIs(measure_and_time(*given), failed)
            measure.side_effect = StopRequested
            self.assertIsNone(measure_and_time(*given))
