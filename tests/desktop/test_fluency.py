"""What keeps the window answering: things kept instead of built anew, work beside it, the end of a job in portions."""

import gc
import threading
import time
import unittest
from unittest import mock

from PySide6.QtCore import QEventLoop, QTimer
from PySide6.QtWidgets import QApplication, QDoubleSpinBox, QLabel, QWidget
from tools.window_cases import WindowCase

from tests.desktop.scored import ScoredCase
from ulvar.desktop.app import make_application
from ulvar.desktop.boards.intake.board import GroupCard
from ulvar.desktop.parts import glyphs
from ulvar.desktop.parts.widgets import LazyRows
from ulvar.desktop.work.soon import Soon
from ulvar.desktop.work.sweeping import Sweeper, sweep_when_idle_only
from ulvar.flows import CurveResult
from ulvar.inspection import Severity
from ulvar.night.stations import curve_path, series_path


class EndedJob:
    """A job that is over."""

    finished = True
    state = "done"
    result = None
    error = None
    token = mock.Mock(stopping=False)

    def stop(self) -> None:
        """Nothing runs."""


class Turns(unittest.TestCase):
    """Work for the loop's next turn."""

    def test_once_however_often_it_is_asked_for(self) -> None:
        app, done = make_application(), []
        soon = Soon(app, lambda: done.append(1))
        for _ in range(3):
            soon.ask("whatever", "a signal", "carries")
        self.assertEqual(done, [], "not at once")
        QApplication.processEvents()
        self.assertEqual(done, [1])
        soon.ask()
        QApplication.processEvents()
        self.assertEqual(done, [1, 1])

    def test_others_have_their_turn_between_two_portions(self) -> None:
        """Portions that ask for the next one do not run in one go: whatever else is due comes between."""
        app, ticks, seen, loop = make_application(), [0], [], QEventLoop()

        def tick() -> None:
            ticks[0] += 1

        def portion() -> None:
            seen.append(ticks[0])
            # Long enough for the ticks to be due again.
            time.sleep(0.004)
            if len(seen) < 6:
                soon.ask()
            else:
                loop.quit()

        soon, others = Soon(app, portion), QTimer()
        others.setInterval(1)
        others.timeout.connect(tick)
        others.start()
        soon.ask()
        loop.exec()
        others.stop()
        self.assertEqual(len(set(seen)), 6, f"a turn of others between each two: {seen}")


class TheEndOfAJob(ScoredCase):
    """Views are told one after the other."""

    def setUp(self) -> None:
        super().setUp()
        self.told: list[str] = []
        self.model.told_all.connect(lambda: self.told.append("all"))
        self.model.results_changed.connect(lambda: self.told.append("results"))
        self.model.jobs.job = EndedJob()
        self.model.jobs.station = "combine"
        self.model.jobs._running = True

    def test_told_once_however_often_it_is_said(self) -> None:
        """The last progress may arrive after the end."""
        self.model.jobs._on_event(self.model.jobs.job)
        self.model.jobs._on_event(self.model.jobs.job)
        self.assertTrue(self.model.jobs.busy, "until the last view was told")
        self.assertFalse(self.model.jobs.run_station("combine"), "and nothing else begins before")
        self.idle()
        self.model.jobs._on_event(self.model.jobs.job)
        QApplication.processEvents()
        self.assertEqual(self.told, ["results", "all"])
        self.assertFalse(self.model.still_telling)

    def test_clicks_come_in_between(self) -> None:
        """What the user does while views are told is done, and boards end up in step with it."""
        self.model.jobs._on_event(self.model.jobs.job)
        path = self.model.lights()[3].path
        self.model.leave_out([path], "by hand")
        self.model.set_station("masters")
        self.model.set_station("combine")
        self.idle()
        page = self.window.board_of["combine"].shown
        row = page.rows.row_of(path)
        self.assertIn("∅", page.rows.data(page.rows.index(row, 0)))

    def test_a_view_that_fails_does_not_leave_the_window_busy(self) -> None:
        with mock.patch.object(self.model.looking, "quality", side_effect=RuntimeError("odd")), self.assertLogs("ulvar", "ERROR"):
            self.model.jobs._on_event(self.model.jobs.job)
            self.idle()
        self.assertEqual(self.told[-1], "all")
        # Views that are painted meanwhile meet it too, and Qt tells of it in its own words.
        self.assertTrue(self.wrong and all("odd" in wrong or "RuntimeError" in wrong for wrong in self.wrong))
        self.wrong.clear()

    def test_closing_in_the_middle(self) -> None:
        self.model.jobs._on_event(self.model.jobs.job)
        self.window.close()
        QApplication.processEvents()
        self.assertFalse(self.model.jobs.busy)

    def test_a_failed_job_is_a_finding(self) -> None:
        self.model.jobs.job.state, self.model.jobs.job.error = "failed", ValueError("no such thing")
        self.model.jobs._on_event(self.model.jobs.job)
        self.idle()
        first = self.model.jobs.findings()[0]
        self.assertEqual((first.severity, first.code), (Severity.BLOCKS, "job_failed"))
        self.assertIn("no such thing", first.text)

    def test_a_place_that_is_full_is_named(self) -> None:
        place = str(self.model.night.products / "series.csv")
        self.model.jobs.job.state, self.model.jobs.job.error = "failed", OSError(28, "No space left on device", place)
        self.model.jobs._on_event(self.model.jobs.job)
        self.idle()
        text = self.model.jobs.findings()[0].text
        self.assertTrue(text.startswith(f"{place}: its disk is full ("), text)
        self.assertNotIn("Errno", text)


class Kept(ScoredCase):
    """Nothing is built twice for nothing."""

    @staticmethod
    def words_on(widget: QWidget) -> list[str]:
        """Return what a user reads on it."""
        return [w.text() for w in widget.findChildren(QLabel) if w.isVisible()]

    def test_dots_are_drawn_anew_only_when_they_change(self) -> None:
        page = self.page("exposures")
        QApplication.processEvents()
        with mock.patch.object(glyphs, "draw_dots", wraps=glyphs.draw_dots) as drawn:
            page.plot.repaint()
            self.window.line.line.repaint()
            self.model.step(1)
            QApplication.processEvents()
            self.assertEqual(drawn.call_count, 0)
            before = page.plot.grab().toImage()
            self.model.leave_out([self.model.current], "by hand")
            QApplication.processEvents()
            self.assertEqual(drawn.call_count, 2, "scatter and night line")
        self.assertNotEqual(page.plot.grab().toImage(), before)

    def test_pages_are_kept_and_follow(self) -> None:
        board = self.window.board_of["combine"]
        exposures = self.page("exposures")
        rules = self.page("rules")
        self.assertIs(self.page("exposures"), exposures)
        self.assertIs(self.page("rules"), rules)
        # What changes meanwhile is seen on turning back.
        before, path = len(self.model.looking.comparable()), self.model.lights()[2].path
        self.model.leave_out([path], "by hand")
        self.assertIs(self.page("exposures"), exposures)
        self.assertIn("∅", exposures.rows.data(exposures.rows.index(exposures.rows.row_of(path), 0)))
        keep, ruled = self.model.looking.stack_plan()
        self.assertEqual(len(keep) + len(ruled), before - 1)
        self.assertEqual(board.count.text(), f"{len(keep)} in the stack, {len(ruled)} ruled out, {len(self.model.left_out())} left out")
        # Search and order of the table outlast it.
        exposures.search.setText("01")
        exposures.sort_by("fwhm_px", True)
        count = exposures.rows.rowCount()
        self.model.put_back([path])
        self.assertEqual((exposures.search.text(), exposures.order), ("01", ("fwhm_px", True)))
        self.assertGreaterEqual(exposures.rows.rowCount(), count)
        # Another theme wants other colours.
        self.window.command("theme light")
        self.until(lambda: board.shown is not None, 10, "the page in other colours")
        self.assertIsNot(board.shown, exposures)
        self.assertEqual(board.shown.plot.theme.name, "light")

    def test_pages_are_built_beforehand(self) -> None:
        board = self.window.board_of["combine"]
        self.until(lambda: len(board._built) == 4, 10, "all four pages")
        self.assertEqual(board.page, "exposures")
        self.assertTrue(board._built["exposures"].isVisible())
        self.assertFalse(board._built["rules"].isVisible())
        kept = board._built["stars"]
        self.assertIs(self.page("stars"), kept)
        self.model.step(2)
        self.assertGreater(kept.rows.rowCount(), 20)

    def test_pages_are_built_before_there_is_anything_to_show(self) -> None:
        board = self.window.board_of["combine"]
        self.model.drop()
        with mock.patch.object(self.model, "products", side_effect=lambda kind: {}):
            board.mark_stale()
            QApplication.processEvents()
            self.assertIsNone(board.shown)
            self.assertTrue(any("scored yet" in text for text in self.words_on(board)))
            self.until(lambda: len(board._built) == 4, 10, "all four pages")
            self.assertIsNone(board.shown)
            self.window.command("add rule")
            self.assertIn("Score the exposures first", self.window.toast.text())
        self.model.drop()
        waiting = board._built["exposures"]
        self.assertFalse(waiting.isVisible())
        board.mark_stale()
        self.until(waiting.isVisible, 10, "the page in sight")
        self.assertIs(self.page("exposures"), waiting)
        self.assertTrue(waiting.isVisible())
        self.assertEqual(waiting.rows.rowCount(), len(self.model.looking.comparable()))
        self.assertGreater(self.page("rules").new_quality.count(), 5)
        self.assertFalse(any("scored yet" in text for text in self.words_on(board)))
        # Choices that were empty when they came in sight have room for their words.
        for page, boxes in (("exposures", waiting.axis_boxes), ("rules", [self.page("rules").new_quality])):
            self.page(page)
            QApplication.processEvents()
            for box in boxes:
                self.assertGreater(box.width(), box.fontMetrics().horizontalAdvance(box.currentText()) + 16)

    def test_a_board_that_comes_in_sight_shows_the_current_exposure(self) -> None:
        page = self.page("exposures")
        self.model.set_station("intake")
        self.model.step(4)
        self.model.set_station("combine")
        self.assertEqual(page.rows.key(page.view.currentIndex().row()), self.model.current)
        self.assertEqual(page._members[page.sparks.current], self.model.current)
        # A board that is built anew scrolls to it.
        self.model.set_station("intake")
        self.model.set_current(self.model.lights()[-1].path)
        self.window.board_of["combine"].set_theme(self.window.theme)
        self.model.set_station("combine")
        self.until(lambda: self.window.board_of["combine"].shown not in (None, page), 10, "the page")
        self.idle()
        view = self.window.board_of["combine"].shown.view
        place = view.visualRect(view.currentIndex())
        self.assertFalse(place.isEmpty())
        self.assertTrue(view.viewport().rect().contains(place), f"{place}")
        stars = self.page("stars")
        self.model.set_station("intake")
        self.model.step(-2)
        self.window.command("page stars")
        self.until(stars.isVisible, 10, "the page in sight")
        self.assertEqual(stars._raw, self.model.current)

    def test_turning_to_a_page_from_another_station(self) -> None:
        """The page is filled first, then comes in sight; who goes elsewhere in between is not fetched back."""
        page = self.page("exposures")
        self.page("rules")
        self.model.set_station("intake")
        gone = self.model.lights()[1].path
        self.model.leave_out([gone], "by hand")
        self.window.command("page exposures")
        self.assertEqual(self.model.station, "intake")
        self.assertIn("∅", self._cells(page, gone))
        self.window.command("station measure")
        self.idle()
        self.assertEqual(self.model.station, "measure")
        self.window.command("page exposures")
        self.until(page.isVisible, 10, "the page in sight")
        self.assertEqual(self.model.station, "combine")

    def test_a_station_comes_in_sight_before_its_page_is_filled(self) -> None:
        page = self.page("exposures")
        self.model.set_station("intake")
        gone = self.model.lights()[1].path
        self.model.leave_out([gone], "by hand")
        self.model.set_station("combine")
        self.assertTrue(page.isVisible())
        self.until(lambda: "∅" in self._cells(page, gone), 10, "the page brought up to date")

    @staticmethod
    def _cells(page, path: str) -> str:  # type: ignore[no-untyped-def]
        model = page.view.model()
        row = next(r for r in range(model.rowCount()) if page.rows.key(r) == path)
        return " ".join(str(model.index(row, c).data()) for c in range(model.columnCount()))

    def test_cards_are_kept_until_they_would_say_otherwise(self) -> None:
        self.model.set_station("intake")
        QApplication.processEvents()
        board = self.window.board_of["intake"]

        def cards() -> list[GroupCard]:
            return [c for c in board.findChildren(GroupCard) if c.isVisible()]

        before, path = cards(), self.model.lights()[2].path
        self.assertTrue(before)
        self.model.results_changed.emit()
        looks = before[0].grab().toImage()
        self.model.leave_out([path], "by hand")
        self.assertEqual(cards(), before)
        self.assertNotEqual(before[0].grab().toImage(), looks, "what a card paints is up to date")
        self.model.correct([path], "filter", "R")
        QApplication.processEvents()
        self.assertEqual(len(cards()), len(before) + 1)
        before = cards()
        self.window.command("theme light")
        QApplication.processEvents()
        self.assertNotIn(before[0], cards())

    def test_limits_follow_the_settings(self) -> None:
        page = self.page("stars")
        self.page("exposures")
        self.model.set_setting("combine", "threshold", 8.0)
        self.assertEqual(self.page("stars").sliders["threshold"].value(), 80)
        self.assertFalse(page.keep.isEnabled())
        # Limits that are tried stay; once they are used, they follow again.
        page.sliders["threshold"].setValue(90)
        page.keep.click()
        self.assertFalse(page.keep.isEnabled())
        self.model.set_setting("combine", "threshold", 6.0)
        self.assertEqual(page.sliders["threshold"].value(), 60)

    def test_limits_that_were_only_tried_are_taken_back(self) -> None:
        page = self.page("stars")
        before = page.sliders["threshold"].value()
        page.sliders["threshold"].setValue(before + 60)
        self.until(lambda: self.model.looking.tuned_stars is not None, 30, "the preview")
        self.page("field")
        self.assertIsNone(self.model.looking.tuned_stars)
        self.assertEqual(self.page("stars").sliders["threshold"].value(), before)

    def test_settings_panels_are_kept_and_follow(self) -> None:
        slip = self.window.slip

        def field(name: str) -> QDoubleSpinBox:
            self.window.model.set_station("measure")
            QApplication.processEvents()
            return next(w for w in slip.findChildren(QDoubleSpinBox, name) if w.isVisible())

        first = field("measure.radius")
        self.model.set_station("combine")
        self.assertIs(field("measure.radius"), first)
        self.model.set_station("combine")
        self.model.set_setting("measure", "radius", 2.5)
        self.assertEqual(field("measure.radius").value(), 2.5)
        # A value that is refused does not stay in the field.
        radius = field("measure.radius")
        with mock.patch.object(self.model, "change_settings", return_value=False):
            radius.setValue(4.0)
            radius.editingFinished.emit()
        self.model.set_station("combine")
        self.assertEqual(field("measure.radius").value(), 2.5)

    def test_another_metric_leaves_the_picture_alone(self) -> None:
        asked: list[str] = []
        with mock.patch.object(self.sky.loader, "request", side_effect=lambda *names: asked.append(names[0])):
            self.model.numbers.set_metric("sky_adu")
        QApplication.processEvents()
        self.assertEqual(asked, [])
        self.assertEqual(self.window.line.metric_box.currentData(), "sky_adu")

    def test_star_tables_are_read_ahead(self) -> None:
        paths = [f.path for f in self.model.lights()[5:8]]
        self.model.looking.read_tables_ahead(paths)
        keys = [f"star table {p}" for p in paths]
        self.until(lambda: all(k in self.model.caches for k in keys), 10, "the tables")
        for path, key in zip(paths, keys):
            self.assertIs(self.model.looking.star_table(path), self.model.caches[key])
            self.assertEqual(len(self.model.looking.star_table(path)), self.model.looking.quality()[path]["stars"])
            self.assertGreater(self.model.looking.field_map(path).count.sum(), 20)
        # What was asked for before everything changed is not kept.
        self.model.drop()
        order = self.model.order
        self.model.looking.read_tables_ahead(paths[:1])
        self.model.drop()
        self.model.looking._table_arrived((order, paths[0]), (self.model.looking.star_table(paths[1]), None))
        QApplication.processEvents()
        self.assertNotIn(keys[0], self.model.caches)

    def test_own_settings_are_a_copy(self) -> None:
        mine = self.model.own_settings()
        mine.combine.blend = {"fwhm_px": 3.0}
        self.assertNotEqual(self.model.settings().combine.blend, mine.combine.blend)


class TheCurveBeside(ScoredCase):
    """The light curve is made in another thread."""

    def setUp(self) -> None:
        super().setUp()
        night = self.model.night
        for path in (curve_path(night, night.current_series()), series_path(night, night.current_series())):
            path.parent.mkdir(parents=True, exist_ok=True)
            path.touch()
        self.go = threading.Event()
        self.made: list[CurveResult] = []
        self.changed: list[bool] = []
        self.model.curves.changed.connect(lambda: self.changed.append(True))
        # The boards would ask a measured series for more than this night has.
        self.model.set_station("masters")
        self.addCleanup(self.go.set)

    def make(self, _night: object, _series: object) -> CurveResult:
        """Stand in for the fit: ends when it is let."""
        self.go.wait(20)
        result = object.__new__(CurveResult)
        self.made.append(result)
        return result

    def test_it_comes_later_and_the_last_one_counts(self) -> None:
        with (
            mock.patch("ulvar.desktop.models.curves.night_curve", self.make),
            mock.patch.object(self.model.curves, "series", return_value=None),
        ):
            self.model.drop()
            self.assertIsNone(self.model.curves.curve())
            self.assertTrue(self.model.curves.coming)
            self.assertIsNone(self.model.curves.curve(), "asked for once only")
            # Something changes while it is made: that one is not the answer any more.
            self.model.drop()
            self.assertIsNone(self.model.curves.curve())
            self.go.set()
            self.until(lambda: self.changed, 10, "the curve")
            self.assertEqual(len(self.made), 2)
            self.assertIs(self.model.curves.curve(), self.made[1])
            self.assertFalse(self.model.curves.coming)
            self.assertEqual(len(self.changed), 1)
            # Until the next is there the last one is shown.
            self.go.clear()
            self.model.drop()
            self.assertIs(self.model.curves.curve(), self.made[1])
            self.go.set()
            self.until(lambda: len(self.changed) == 2, 10, "the next curve")

    def test_a_fit_that_fails_ends_the_waiting(self) -> None:
        with (
            mock.patch("ulvar.desktop.models.curves.night_curve", side_effect=ZeroDivisionError("odd")),
            mock.patch.object(self.model.curves, "series", return_value=None),
            self.assertLogs("ulvar", "ERROR"),
        ):
            self.model.drop()
            self.model.curves.curve()
            self.until(lambda: self.changed, 10, "the answer")
        self.assertIsNone(self.model.curves.curve())
        self.assertFalse(self.model.curves.coming)


class Sweeping(WindowCase):
    """Garbage is collected while nobody clicks."""

    def test_python_never_walks_everything_by_itself(self) -> None:
        sweep_when_idle_only()
        self.assertGreater(gc.get_threshold()[2], 1_000_000)
        self.assertGreater(gc.get_threshold()[0], 0, "small collections go on")
        self.assertGreater(gc.get_freeze_count(), 10_000)

    def test_only_when_left_alone_and_once(self) -> None:
        sweeper = Sweeper(self.window, self.window.use, lambda: self.window.occupied)
        with mock.patch("ulvar.desktop.work.sweeping.gc.collect") as collect:
            self.assertFalse(sweeper.look(), "it may have been used just now")
            self.assertTrue(sweeper.look())
            self.assertFalse(sweeper.look(), "nothing happened since")
            self.window.model.set_station("combine")
            self.assertFalse(sweeper.look())
            self.assertTrue(sweeper.look())
            self.window.model.jobs._running = True
            self.assertFalse(sweeper.look())
            self.assertFalse(sweeper.look(), "a job runs")
            self.window.model.jobs._running = False
        self.assertEqual(collect.call_count, 2)
        sweeper._timer.stop()


class Rows(unittest.TestCase):
    """Rows made when they come in sight."""

    def test_lazy_rows(self) -> None:
        made: list[int] = []

        def make(i: int) -> list[str]:
            made.append(i)
            return [str(i)]

        rows = LazyRows(make, 1000)
        self.assertEqual((len(rows), made), (1000, []))
        self.assertEqual(rows[7], ["7"])
        self.assertEqual(rows[7], ["7"])
        self.assertEqual(made, [7], "each once")
        self.assertEqual(rows[998:], [["998"], ["999"]])
        for beyond in (1000, -1):
            with self.assertRaises(IndexError):
                rows[beyond]
