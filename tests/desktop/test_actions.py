"""Every action of the table: found by its name, in the menu, at its key, and doing what can be seen."""

import time
from collections.abc import Callable
from dataclasses import replace
from typing import Any
from unittest import mock

from PySide6.QtCore import Qt
from PySide6.QtGui import QImage, QKeySequence
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QAbstractButton, QApplication, QWidget

from tests.desktop.scored import ScoredCase
from ulvar.desktop.models.jobs import Jobs
from ulvar.desktop.shell.actions import ACTIONS, ActionSpec
from ulvar.desktop.shell.commands import Commands
from ulvar.night.settings import RuleSettings
from ulvar.photometry import ListedStar

DIALOGS = ("getExistingDirectory", "getSaveFileName", "getOpenFileName", "getOpenFileNames")


class Reached(ScoredCase):
    """Each action can be found by somebody who looks for it."""

    def run_words(self, trigger: Callable[[], object]) -> list[str]:
        """Return the commands that a press or a key runs."""
        words: list[str] = []
        # Space presses the button that the keyboard is on, as everywhere.
        self.window.setFocus()
        with mock.patch.object(Commands, "do", lambda _, word: words.append(word)):
            trigger()
            QApplication.processEvents()
        return words

    def test_the_finder_takes_to_every_action(self) -> None:
        finder = self.window.finder
        open_finder = self.window.commands._find
        for spec in ACTIONS:
            if spec.command == "find":
                continue
            with self.subTest(command=spec.command):

                def take(text: str = spec.text, keys: str = spec.keys) -> None:
                    open_finder()
                    finder.field.insert(text)
                    shown = [finder.list.item(row).text() for row in range(finder.list.count())]
                    wanted = f"{text}    {keys}" if keys else text
                    self.assertIn(wanted, shown)
                    finder.list.setCurrentRow(shown.index(wanted))
                    QTest.keyClick(finder.field, Qt.Key.Key_Return)

                self.assertEqual(self.run_words(take), [spec.command])
                self.assertFalse(finder.isVisible())

    def test_the_menu_and_the_keys(self) -> None:
        menu = self.window.build_menu()
        for spec in ACTIONS:
            with self.subTest(command=spec.command):
                action = self.window.actions_by_command[spec.command]
                places = [type(place).__name__ for place in action.associatedObjects()]
                self.assertEqual(places.count("QMenu"), 1, "it stands in the menu, once")
                self.assertEqual(self.run_words(action.trigger), [spec.command])
                self.assertEqual(action.shortcut(), QKeySequence(spec.keys))
                self.assertEqual((action.text(), action.toolTip()), (spec.text, spec.tip))
        menu.deleteLater()

    def test_every_control_tells_what_it_is(self) -> None:
        """A control has a word on it or beside it, or a tip."""
        for station in ("intake", "masters", "calibrate", "combine", "plate", "measure", "curve"):
            self.model.set_station(station)
            self.shown()
            for button in self.window.findChildren(QAbstractButton):
                if button.isVisible() and isinstance(button, QWidget):
                    told = button.text() or button.toolTip() or button.accessibleName()
                    self.assertTrue(told, f"{station}: {type(button).__name__} {button.objectName()}")


class Doing(ScoredCase):
    """Each action changes something on screen, on disk, or asks for something."""

    def setUp(self) -> None:
        super().setUp()
        self.asked: list[str] = []
        self.runs: list[tuple[str, ...]] = []

        def asks(name: str) -> Any:
            def ask(parent: QWidget, title: str, *more: str) -> Any:
                self.assertIsInstance(parent, QWidget)
                # A sentence, where to begin, and the endings of files.
                self.assertRegex(title, "^[A-Z][^/*]+$")
                self.assertEqual(["(*." in said for said in more], [False, True][: len(more)])
                self.asked.append(name)
                return "" if "Directory" in name else ("", "")

            return ask

        for module in ("commands", "chores"):
            for name in DIALOGS:
                patch = mock.patch(f"ulvar.desktop.shell.{module}.QFileDialog.{name}", asks(name))
                patch.start()
                self.addCleanup(patch.stop)
        patch_run = mock.patch.object(Jobs, "run_station", lambda _, *what, **more: (self.runs.append((*what, *more)), True)[1])
        patch_run.start()
        self.addCleanup(patch_run.stop)
        self.wanted: list[str] = []
        self.model.region_wanted.connect(self.wanted.append)

    def other_levels(self) -> None:
        histogram = self.sky.foot.histogram
        histogram.changed.emit(replace(histogram.stretch, ceiling=histogram.stretch.ceiling + 5000))

    def quiet(self) -> None:
        """Wait until the picture is there and portions and timers have had their turn."""
        self.shown()
        end = time.monotonic() + 0.12
        while time.monotonic() < end:
            QApplication.processEvents()
            time.sleep(0.005)
        self.shown()

    def seen(self) -> QImage:
        return self.window.grab().toImage()

    def told(self) -> tuple[Any, ...]:
        """Return what is not on screen: what was stored, asked for, run, opened."""
        night = self.model.night
        panel = self.window.chores.panel
        return (
            night.settings.model_dump() if night else None, dict(self.model.left_out()), self.model.current,
            self.model.station, self.model.brushed, self.model.undo.index(), len(self.asked), len(self.runs),
            len(self.wanted), len(self.messages), self.window.theme.name, panel is not None and panel.isVisible(),
            self.window.sky.foot.keep.isChecked(),
            [w.metaObject().className() for w in QApplication.topLevelWidgets() if w.isVisible()],
        )  # fmt: skip

    def before(self, command: str) -> None:
        """Bring the window where the action has something to do."""
        model = self.model
        lights = [f.path for f in model.lights()]
        model.set_current(lights[5])
        if self.window.movie.playing:
            self.window.command("movie")
        if self.window.finder.isVisible():
            self.window.finder.hide()
        if self.window.chores.panel is not None:
            self.window.chores.panel.close()
            self.window.chores.panel = None
        model.set_station("calibrate" if command == "station combine" else "combine")
        steps: dict[str, Callable[[], object]] = {
            "undo": lambda: model.leave_out(lights[:2], "cloud"),
            "redo": lambda: (model.leave_out(lights[2:4], "cloud"), model.undo.undo()),
            "stop": lambda: model.set_brush(lights[:3]),
            "page exposures": lambda: self.page("rules"),
            "theme dark": lambda: self.window.command("theme light"),
            "regions back": lambda: model.looking.add_region("circle", [(20.0, 30.0), (25.0, 30.0)]),
            "movie faster": lambda: self.window.command("movie"),
            "movie slower": lambda: self.window.command("movie"),
            "toggle regions": lambda: model.looking.add_region("circle", [(120.0, 130.0), (165.0, 130.0)]),
            "toggle apertures": lambda: (
                model.set_station("measure"),
                model.matching.set_stars([ListedStar("t", "target", x=100.0, y=120.0)], "Mark the target"),
            ),
            "auto": self.other_levels,
            "toggle fit": lambda: self.window.command("zoom in"),
            "propose": lambda: model.set_station("measure"),
        }
        steps.get(command, lambda: None)()
        self.window.setFocus()
        self.window.toast.hide()
        self.quiet()
        self.window.toast.hide()

    def does(self, spec: ActionSpec) -> bool:
        self.before(spec.command)
        seen, told = self.seen(), self.told()
        self.window.actions_by_command[spec.command].trigger()
        if self.told() != told:
            return True
        self.quiet()
        return self.told() != told or self.seen() != seen

    def test_all(self) -> None:
        idle = [spec.command for spec in ACTIONS if spec.command != "quit" and not self.does(spec)]
        self.assertEqual(idle, [])
        self.assertEqual(
            sorted({what[0] for what in self.runs}),
            ["calibrate", "combine", "curve", "intake", "measure", "plate"],
            "what jobs were asked for",
        )
        self.window.actions_by_command["quit"].trigger()
        self.until(lambda: not self.window.isVisible(), 10)

    def test_nothing_changes_by_itself(self) -> None:
        """What makes the test above worth something: a quiet window looks the same twice."""
        self.before("nothing")
        seen, told = self.seen(), self.told()
        self.quiet()
        self.assertEqual((self.told(), self.seen() == seen), (told, True))


class Effects(ScoredCase):
    """Actions whose effect is a number or a file, checked by that."""

    def test_rules_and_left_out(self) -> None:
        model = self.model
        lights = [f.path for f in model.lights()]
        model.looking.set_rules([RuleSettings(quality="fwhm_px", side="over", limit=3.1)], "Add a rule")
        model.set_current(lights[4])
        self.key(Qt.Key.Key_X)
        self.assertIn(lights[4], model.left_out())
        self.key(Qt.Key.Key_X)
        self.assertNotIn(lights[4], model.left_out())
        self.key(Qt.Key.Key_Left)
        self.assertEqual(model.current, lights[3])
        self.key(Qt.Key.Key_Right)
        self.assertEqual(model.current, lights[4])

    def test_zoom_and_levels(self) -> None:
        canvas = self.sky.canvas
        self.window.command("one to one")
        self.assertEqual(canvas.sight.scale, 1.0)
        self.window.command("zoom in")
        self.assertEqual(canvas.sight.scale, 2.0)
        self.window.command("zoom out")
        self.assertEqual(canvas.sight.scale, 1.0)
        self.window.command("toggle fit")
        self.assertTrue(canvas.fitted)
        self.assertNotEqual(canvas.sight.scale, 1.0)
