"""The way on: no empty board contradicts what is loaded, and none sends in a circle."""

import shutil
import threading
from unittest import mock

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QLabel, QPushButton
from tools.cases import small_demo
from tools.window_cases import WindowCase

from ulvar.desktop.models import jobs as jobs_model
from ulvar.desktop.models.plan import plan_action
from ulvar.night import STATIONS, StationResult


class WayOn(WindowCase):
    def setUp(self) -> None:
        super().setUp()
        self.model = self.window.model

    def open(self, *kinds: str, count: int = 3) -> None:
        """Open a night of a few files of each folder of the demo."""
        raw = self.folder / "-".join(kind.replace("/", "_") for kind in kinds)
        for kind in kinds:
            (raw / kind).mkdir(parents=True)
            for path in sorted((small_demo() / "raw" / kind).rglob("*.fits*"))[:count]:
                shutil.copy(path, raw / kind)
        self.assertTrue(self.model.open(raw))
        self.idle()
        self.quiet()

    def walk(self) -> dict[str, list[str]]:
        """Follow the amber button from each station while it only leads elsewhere; returns the ways."""
        ways = {}
        for start in STATIONS:
            way, station = [start], start
            while True:
                self.model.set_station(station)
                command = plan_action(self.model)[2]
                if not command.startswith("go "):
                    way.append(command or "nothing")
                    break
                station = command.removeprefix("go ")
                self.assertNotIn(station, way, f"{way} goes in a circle")
                way.append(station)
            ways[start] = way
        return ways

    def words(self) -> tuple[str, list[str]]:
        """Return what the board in sight says, and its buttons."""
        board = self.window.boards.currentWidget()
        said = " ".join(w.text() for w in board.findChildren(QLabel) if w.isVisible())
        return said, [b.text() for b in board.findChildren(QPushButton) if b.isVisible()]

    def boards_agree(self) -> None:
        """An empty board's button does what the action does."""
        for station in STATIONS:
            self.model.set_station(station)
            self.quiet()
            said, buttons = self.words()
            text, _, command = plan_action(self.model)
            if command.startswith("go ") and station not in ("intake", "masters"):
                self.assertIn(text, buttons, f"{station}: {said}")
            self.assertEqual(self.window.slip.action.text().split("   ")[0], text)

    def test_lights_alone(self) -> None:
        self.open("lights/V")
        ways = self.walk()
        self.assertEqual(ways["masters"], ["masters", "combine", "run score"])
        self.assertEqual(ways["calibrate"], ["calibrate", "combine", "run score"])
        self.assertEqual(ways["curve"], ["curve", "measure", "combine", "run score"])
        self.boards_agree()
        self.model.set_station("calibrate")
        self.quiet()
        self.assertIn("No calibration frames in this night", self.words()[0])

    def test_calibration_frames_alone(self) -> None:
        self.open("darks", "bias")
        ways = self.walk()
        self.assertEqual(ways["intake"][-1], "run masters")
        for station in STATIONS[2:]:
            self.assertEqual(ways[station], [station, "add folder"])
        self.model.set_station("masters")
        self.quiet()
        self.assertIn("No lights in this night", self.words()[0])
        self.assertIn("Masters can be made", self.words()[0])
        self.model.jobs.run_station("masters")
        self.idle()
        self.walk()

    def test_lights_without_safe_masters(self) -> None:
        self.open("lights/R", "darks")
        self.walk()
        self.model.jobs.run_station("masters")
        self.idle()
        self.quiet()
        ways = self.walk()
        self.assertNotIn("masters", ways["calibrate"][1:], "masters are made: they are not the way on")
        self.boards_agree()

    def test_all_left_out_and_nothing_at_all(self) -> None:
        self.walk()
        self.open("lights/V")
        self.model.leave_out([f.path for f in self.model.lights()], "by hand")
        ways = self.walk()
        self.assertEqual(ways["combine"], ["combine", "add folder"])
        self.model.set_station("combine")
        self.quiet()
        self.assertIn("every light is left out", self.window.slip.consequence.text())

    def test_while_files_are_read_the_boards_say_so(self) -> None:
        go = threading.Event()
        self.addCleanup(go.set)

        def slow(night, context, series=None):  # type: ignore[no-untyped-def]
            go.wait(20)
            return StationResult("intake", "read")

        raw = self.folder / "raw"
        shutil.copytree(next(iter([small_demo() / "raw" / "lights" / "V"])), raw)
        with mock.patch.dict(jobs_model.RUNNERS, {"intake": slow}):
            self.assertTrue(self.model.open(raw))
            for station in ("intake", "masters", "combine", "measure"):
                self.key(Qt.Key(Qt.Key.Key_1 + STATIONS.index(station)))
                self.quiet()
                said, buttons = self.words()
                self.assertIn("being read", said, station)
                self.assertEqual(buttons, [], station)
            go.set()
            self.idle()
        self.quiet()
        self.assertNotIn("being read", self.words()[0])

    def test_a_folder_is_opened_from_every_empty_board(self) -> None:
        asked: list[str] = []
        with mock.patch.object(self.window.commands, "choose_folder", side_effect=lambda: asked.append(self.model.station)):
            for station in STATIONS:
                self.model.set_station(station)
                self.quiet()
                button = next(b for b in self.window.boards.currentWidget().findChildren(QPushButton) if b.text() == "Open a folder")
                self.click(button)
        self.assertEqual(asked, list(STATIONS))
