"""A night of several series in the window: chosen by click, key and finder, worked on in any order."""

from pathlib import Path

import numpy as np
from bench.made_series import PER_SERIES, WIDTH, interleaved
from PySide6.QtCore import QSettings, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QLabel
from tools.cases import FolderCase
from tools.window_cases import WindowCase

from ulvar.desktop.models.starpick import give_role
from ulvar.desktop.picture.saving import picture_caption
from ulvar.desktop.shell.places import Places
from ulvar.desktop.shell.window import MainWindow
from ulvar.frames.fits_header import header_cards


class SeriesWindow(WindowCase):
    """The night of two fields in three filters, open in the window."""

    def setUp(self) -> None:
        super().setUp()
        self.skies = interleaved(self.write)
        self.window.resize(1280, 800)
        self.model = self.window.model
        self.assertTrue(self.model.open(self.folder / "raw"))
        self.idle()
        self.bar = self.window.line.series
        self.quiet()

    # The made night is written as a folder's test writes.
    write = FolderCase.write

    def choose(self, key: str) -> None:
        self.click(self.bar.buttons[key])
        self.quiet()


class Series(SeriesWindow):
    def dots(self) -> dict[str, int]:
        kinds: dict[str, int] = {}
        for *_, kind in self.window.line.line.state.dots():
            kinds[kind] = kinds.get(kind, 0) + 1
        return kinds

    def test_series_one_after_the_other_in_any_order(self) -> None:
        model, window = self.model, self.window
        keys = [one.key for one in model.all_series()]
        self.assertEqual(list(self.bar.buttons), keys)
        self.assertTrue(all(b.text().endswith(f"   {PER_SERIES}") for b in self.bar.buttons.values()))
        self.assertEqual(model.series_name(), "West Field · V")
        self.key(Qt.Key.Key_4)

        # A click takes everything to the series: the picture, the board, the action.
        self.choose("East-Field-B")
        self.assertTrue(self.bar.buttons["East-Field-B"].isChecked())
        self.assertFalse(self.bar.buttons["West-Field-V"].isChecked())
        self.assertIn(model.current, model.members())
        self.assertIn("East Field · B", window.slip.consequence.text())
        words = " ".join(w.text() for w in window.board_of["combine"].findChildren(QLabel))
        self.assertIn("No exposure of East Field · B is scored yet", words)
        self.assertEqual(self.dots(), {"other": 20, "unscored": 4})
        self.assertIn("Score 4 exposures", window.slip.action.text())
        self.click(window.slip.action)
        self.idle()
        self.quiet()
        self.assertEqual(window.board_of["combine"].count.text(), "4 in the stack, 0 ruled out, 0 left out")
        self.assertEqual(self.dots(), {"other": 20, "kept": 4})
        self.assertEqual({e[2]: e[1] for e in window.line.legend.entries()}, {"in the stack": 4, "of other series": 20})
        self.assertEqual([one.series for one in model.products("score").values()], ["East-Field-B"] * 4)
        self.assertEqual((model.jobs.state("combine"), model.jobs.series_done("combine")), ("done", (1, 6)))

        # Keys go on and back; the station of the next series has nothing yet.
        self.key(Qt.Key.Key_Period)
        self.assertEqual(model.chosen_series().key, "East-Field-R")
        self.assertEqual(model.jobs.state("combine"), "empty")
        self.key(Qt.Key.Key_Comma)
        self.key(Qt.Key.Key_Comma)
        self.assertEqual(model.chosen_series().key, "East-Field-V")
        model.step_series(4)
        self.assertEqual(model.chosen_series().key, keys[1])

        # The finder names them.
        self.key(Qt.Key.Key_K, Qt.KeyboardModifier.ControlModifier)
        QTest.keyClicks(window.finder.field, "series west r")
        QTest.keyClick(window.finder.field, Qt.Key.Key_Return)
        self.assertEqual(model.chosen_series().key, "West-Field-R")

        # All at once; what a series had before is not made again.
        tables = model.night.series_folder("East-Field-B") / "stars"
        before = {p.name: p.stat().st_mtime_ns for p in tables.iterdir()}
        self.assertTrue(window.slip.every.isVisible())
        self.assertIn("every series", window.slip.every.toolTip())
        self.click(window.slip.every)
        self.idle()
        self.quiet()
        self.assertEqual(model.jobs.series_done("combine"), (6, 6))
        stacks = sorted(p.name for p in model.night.products.glob("*/*-stack.fits"))
        self.assertEqual(stacks, sorted(f"{key}-stack.fits" for key in keys))
        self.assertEqual({p.name: p.stat().st_mtime_ns for p in tables.iterdir()}, before)
        self.assertEqual(model.chosen_series().key, "West-Field-R", "the work on all did not change the choice")

        # What is done leads on; the same again stands beside it.
        slip = window.slip
        self.assertEqual(slip.action.text(), "Go on to Plate")
        self.assertEqual(slip.consequence.text(), "Combine is done for West Field · R.")
        self.assertTrue(slip.again.isVisible())
        self.assertIn("Stack 4 exposures once more", slip.again.toolTip())
        stack = Path(model.of_series("stack").output)
        made = stack.stat().st_mtime_ns
        self.click(slip.again)
        self.idle()
        self.quiet()
        self.assertNotEqual(stack.stat().st_mtime_ns, made)
        self.assertEqual(window.sky.product, str(stack), "what was made is what is seen")
        self.assertEqual(window.sky.header.name.text(), "Stack of 4")
        self.click(slip.action)
        self.quiet()
        self.assertEqual(model.station, "plate")
        self.assertFalse(slip.again.isVisible(), "nothing is solved yet")
        self.key(Qt.Key.Key_4)

        # Leaving one out touches its own series.
        self.choose("West-Field-B")
        model.toggle_left_out()
        self.assertEqual(model.jobs.state("combine"), "stale")
        self.assertEqual(self.dots(), {"other": 20, "kept": 3, "left_out": 1})
        self.assertIn("Stack 3", slip.action.text())
        self.choose("West-Field-V")
        self.assertEqual(model.jobs.state("combine"), "done")

        # The choice outlasts the window.
        folder = model.night.folder
        self.choose("East-Field-R")
        self.assertTrue(model.open(folder))
        self.assertEqual(model.chosen_series().key, "East-Field-R")
        self.assertIn(model.current, model.members())

    def test_stars_of_a_field_serve_its_filters_and_undo_finds_their_field(self) -> None:
        model = self.model
        model.jobs.run_station("combine", "score", every=True)
        self.idle()
        self.choose("West-Field-V")
        model.set_station("measure")
        first = int(Path(model.current).stem) // 3
        star = self.skies["West Field"][5]
        give_role(model, (star[0] + 0.7 * first, star[1] - 0.4 * first), "target")
        self.assertEqual([s.role for s in model.night.stars()], ["target"])

        # In the B exposures, which lie upside down, the mark is on the same star.
        self.choose("West-Field-B")
        number = int(Path(model.current).stem) // 3
        ((x, y),) = model.numbers.star_pixels(model.current).values()
        place = (WIDTH - 1 - (star[0] + 0.7 * number), 219 - (star[1] - 0.4 * number))
        self.assertLess(np.hypot(x - place[0], y - place[1]), 0.5)

        self.choose("East-Field-V")
        self.assertEqual(model.night.stars(), [])
        self.assertEqual(model.numbers.star_pixels(model.current), {})
        give_role(model, (100.0, 100.0), "target")
        model.undo.undo()
        self.assertEqual(model.night.stars(), [])
        # The next step back belongs to the other field, wherever one is.
        model.undo.undo()
        self.assertEqual(model.night.stars(model.night.series_of("West-Field-V")), [])
        model.undo.redo()
        self.assertEqual(len(model.night.stars(model.night.series_of("West-Field-B"))), 1)
        self.assertEqual(model.night.stars(), [])

    def test_stepping_stays_in_the_series_where_a_station_works_on_one(self) -> None:
        model = self.model
        numbers = lambda: int(Path(model.current).stem)  # noqa: E731
        self.key(Qt.Key.Key_4)
        self.choose("West-Field-B")
        seen = [numbers()]
        while model.step(1):
            seen.append(numbers())
        self.assertEqual(seen, [1, 4, 7, 10])
        self.key(Qt.Key.Key_Left)
        self.assertEqual(numbers(), 7)
        # From a dot of another series that was clicked, on to the next of this one, or back to the last.
        for stem, by, wanted in (("005", 1, 7), ("011", 1, 10), ("002", -1, 1), ("005", -1, 4)):
            model.set_current(next(f.path for f in model.lights() if Path(f.path).stem == stem))
            model.step(by)
            self.assertEqual(numbers(), wanted)
        self.key(Qt.Key.Key_1)
        model.step(1)
        self.assertEqual(numbers(), 5, "before Combine every light comes")

    def test_a_saved_stack_says_what_it_is(self) -> None:
        model, sky = self.model, self.window.sky
        self.key(Qt.Key.Key_4)
        self.choose("East-Field-R")
        model.jobs.run_station("combine")
        self.idle()
        stack = model.of_series("stack")
        sky.show_file(stack.output, "Stack of 4")
        self.until(lambda: sky.settled, 20, "the stack's picture")
        name, first, second = picture_caption(model, sky.header.name.text(), sky.canvas, sky.product)
        self.assertEqual(name, "East Field, Stack of 4")
        told = [value for key, value, _ in header_cards(stack.output) if key == "HISTORY"]
        self.assertTrue(any("4 exposures of the series East-Field-R" in line for line in told), told)
        # Twelve exposures went before in the other field; every third of these is R, one a minute.
        self.assertEqual(first, "4 exposures, 2 min in all, filter R, 2027-02-11 20:14:00 to 20:23:30 UTC")
        self.assertIn("ADU", second)
        model.set_current(model.lights()[1].path)
        sky.refresh()
        name, first, _ = picture_caption(model, sky.header.name.text(), sky.canvas, sky.product)
        self.assertEqual((name, first), ("West Field, 001", "2027-02-11 20:01:00 UTC, 30 s, filter B"))

    def test_a_job_keeps_to_the_series_it_was_started_for(self) -> None:
        self.key(Qt.Key.Key_4)
        self.choose("East-Field-V")
        self.click(self.window.slip.action)
        self.choose("West-Field-B")
        self.idle()
        self.assertEqual({p.series for p in self.model.products("score").values()}, {"East-Field-V"})
        self.assertEqual(self.model.jobs.state("combine"), "empty")

    def test_two_trails_far_apart_are_two_bars(self) -> None:
        state = self.window.line.line.state
        paths = [f.path for f in self.model.lights()]
        at = state.times()
        # Every third exposure is of one filter: neighbours of a series lie three exposures apart.
        own = [path for path in paths[:12] if Path(path).stem in ("000", "003", "006", "009")]
        self.assertEqual(len(own), 4)
        (run,) = state.runs(own[:3])
        self.assertEqual(run, (state.x(at[own[0]]), state.x(at[own[2]])))
        (run,) = state.runs([own[0], own[2]])
        self.assertEqual(run, (state.x(at[own[0]]), state.x(at[own[2]])), "one between them may lack it")
        self.assertEqual(
            state.runs([own[3], own[0]]), [(state.x(at[own[0]]),) * 2, (state.x(at[own[3]]),) * 2], "two between part them",
        )  # fmt: skip
        self.assertEqual(len(state.runs([own[0], paths[1]])), 2, "another series is another run")
        self.assertEqual(state.runs([]), [])

    def test_many_series_in_a_narrow_window(self) -> None:
        self.window.resize(1024, 700)
        self.quiet()
        self.choose("West-Field-V")
        self.bar.setFixedWidth(330)
        self.quiet()
        shown = [key for key, button in self.bar.buttons.items() if button.isVisible()]
        self.assertIn("West-Field-V", shown)
        self.assertLess(len(shown), 6)
        self.assertEqual(self.bar.more.text(), f"+{6 - len(shown)} ▾")
        self.bar.more.menu().aboutToShow.emit()
        actions = self.bar.more.menu().actions()
        self.assertEqual(len(actions), 6 - len(shown))
        wanted = actions[-1].text()
        actions[-1].trigger()
        self.quiet()
        self.assertEqual(self.model.series_name(), wanted)
        self.assertTrue(self.bar.buttons[self.model.chosen_series().key].isVisible(), "the chosen one is always in sight")
        right = max(b.geometry().right() for b in self.bar.buttons.values() if b.isVisible())
        self.assertLess(right, self.bar.more.geometry().left() + 1)
        self.assertLessEqual(self.bar.more.geometry().right(), self.bar.width())

    def test_the_window_is_found_as_it_was_left(self) -> None:
        settings = QSettings(str(self.folder / "places.ini"), QSettings.Format.IniFormat)
        places = Places(self.window, self.model, settings)
        self.window.resize(1111, 777)
        folder = self.model.night.folder
        self.model.set_station("measure")
        self.choose("East-Field-R")
        places.keep()
        self.assertTrue(self.model.open(folder))
        self.quiet()
        self.assertEqual((self.model.station, self.model.chosen_series().key), ("measure", "East-Field-R"))
        self.model.set_station("combine")
        self.assertEqual(self.model.night.meta("station"), "combine")
        places.deleteLater()
        other = MainWindow("dark")
        self.addCleanup(other.deleteLater)
        self.addCleanup(other.close)
        found = Places(other, other.model, settings)
        self.assertEqual((other.width(), other.height()), (1111, 777))
        other.model.open(folder)
        self.until(lambda: other.model.station == "combine", 10, "the station it was left at")
        found.deleteLater()
