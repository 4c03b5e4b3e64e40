"""Small windows, large screens: nothing that is needed is cut, and what does not fit waits in a rail."""

import os
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from PySide6.QtCore import QSettings, Qt
from tools.windows import cut

from tests.desktop.scored import ScoredCase
from ulvar.desktop.shell.sizing import change_size, chosen_percent
from ulvar.night import STATIONS


class Sizes(ScoredCase):
    def test_nothing_is_cut_at_1024_and_at_1280(self) -> None:
        for width, height in ((1024, 700), (1280, 800)):
            self.window.resize(width, height)
            self.quiet()
            self.assertEqual((self.window.width(), self.window.height()), (width, height))
            for station in STATIONS:
                self.model.set_station(station)
                self.quiet()
                with self.subTest(station=station, width=width):
                    self.assertEqual(cut(self.window), [])
            for page in ("rules", "stars", "field", "alignment", "result", "exposures"):
                self.page(page)
                self.quiet()
                with self.subTest(page=page, width=width):
                    self.assertEqual(cut(self.window), [])

    def test_a_wide_board_puts_the_picture_on_a_rail(self) -> None:
        window = self.window
        self.model.set_station("intake")
        self.quiet()
        self.assertTrue(window.sky.isVisible() and not window.rail.isVisible(), "at 1280 both fit")
        window.resize(1024, 700)
        self.quiet()
        self.assertTrue(window.rail.isVisible() and not window.sky.isVisible())
        self.assertGreater(window.boards.width(), 650)
        # F, or a click, brings it up over the board, and the board back.
        self.key(Qt.Key.Key_F)
        self.quiet()
        self.assertTrue(window.sky.isVisible() and not window.boards.isVisible())
        self.assertGreater(window.sky.canvas.width(), 650)
        self.shown()
        self.click(window.rail)
        self.quiet()
        self.assertTrue(window.boards.isVisible() and not window.sky.isVisible())
        # Where both fit there is none, and F fits the picture.
        self.key(Qt.Key.Key_F)
        self.model.set_station("plate")
        self.quiet()
        self.assertTrue(window.boards.isVisible() and window.sky.isVisible() and not window.rail.isVisible())
        window.sky.canvas.zoom(4.0)
        self.key(Qt.Key.Key_F)
        self.assertTrue(window.sky.canvas.fitted)
        # Back at the wide board the board is what is seen.
        self.model.set_station("intake")
        self.quiet()
        self.assertTrue(window.boards.isVisible() and not window.sky.isVisible())
        window.resize(1400, 900)
        self.quiet()
        self.assertTrue(window.sky.isVisible() and window.boards.isVisible())

    def test_a_long_name_is_cut_in_the_middle_and_whole_in_the_tip(self) -> None:
        header = self.window.sky.header
        long = "a_very_long_name_of_an_exposure_" * 6 + "0042"
        header.say(long)
        self.quiet()
        self.assertTrue(header.name.text().endswith("0042") and header.name.text().startswith("a_very"))
        self.assertIn("…", header.name.text())
        self.assertEqual((header.name.toolTip(), header.full_name), (long, long))
        self.assertLessEqual(header.more.geometry().right(), header.width())


class Larger(unittest.TestCase):
    """Text and controls from 85 to 150 %, from the next start on."""

    def ratio(self, folder: str, **more: str) -> float:
        """Return the dots a pixel of an application that is started with stored settings."""
        code = (
            "from PySide6.QtCore import QSettings; "
            f"QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, {folder!r}); "
            "from ulvar.desktop.app import make_application; print(make_application().devicePixelRatio())"
        )
        done = subprocess.run(
            [sys.executable, "-c", code], env={**os.environ, "QT_QPA_PLATFORM": "offscreen", **more}, capture_output=True,
            text=True, check=True,
        )  # fmt: skip
        return float(done.stdout)

    def test_steps(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            settings = QSettings(f"{folder}/s.ini", QSettings.Format.IniFormat)
            self.assertEqual(chosen_percent(settings), 100)
            self.assertIn("115", change_size(settings, 1))
            self.assertEqual([change_size(settings, 1) and chosen_percent(settings) for _ in range(3)], [130, 150, 150])
            self.assertIn("already, the largest", change_size(settings, 1))
            self.assertIn("100", change_size(settings, 0))
            self.assertEqual([change_size(settings, -1) and chosen_percent(settings) for _ in range(2)], [85, 85])
            for odd in ("much", 7, None):
                settings.setValue("text percent", odd)
                self.assertEqual(chosen_percent(settings), 100)

    def test_the_next_start_takes_it(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            self.assertEqual(self.ratio(folder), 1.0)
            place = Path(folder) / "Ulvar" / "Ulvar.conf"
            place.parent.mkdir()
            place.write_text("[General]\ntext%20percent=150\n")
            self.assertEqual(self.ratio(folder), 1.5)
            self.assertEqual(self.ratio(folder, QT_SCALE_FACTOR="2"), 3.0, "on top of the system's own")
