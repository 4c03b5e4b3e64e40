"""Curve: the plot is zoomed, moved, measured and brushed; axes and bins; periods are found and folded; noise is shown."""

import math
import shutil
from pathlib import Path
from unittest import mock

import numpy as np
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QWheelEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QFileDialog
from tools.cases import made_once
from tools.window_cases import WindowCase

from tests.desktop.test_together import field_stars, write_exposure
from ulvar.desktop.boards.curve.axes import AXES
from ulvar.desktop.boards.curve.light import LightPage
from ulvar.desktop.boards.curve.model import ModelPage
from ulvar.desktop.boards.curve.noise import NoisePage
from ulvar.desktop.boards.curve.period import PeriodPage
from ulvar.desktop.dialogs import periods
from ulvar.desktop.dialogs.figure import FigurePanel
from ulvar.desktop.parts.plots import Points
from ulvar.desktop.parts.zoomed import ZoomPlot, ruler_between
from ulvar.engine import JobContext
from ulvar.flows import figure_bytes
from ulvar.frames import FrameError
from ulvar.lightcurves import sample_posterior
from ulvar.night import Night
from ulvar.night.stations import run_curve, run_intake, run_measure, run_score
from ulvar.photometry import ListedStar

COUNT = 24


def _draw(folder: Path) -> None:
    """Write exposures of a star with a dip."""
    x, y, steady = field_stars()
    x[0], y[0], x[1], y[1] = 120.0, 90.0, 220.0, 160.0
    steady[:2] = 30000.0, 50000.0
    for k in range(COUNT):
        flux = steady.copy()
        flux[0] *= 1 - 0.3 * math.exp(-0.5 * ((k - 11.5) / 2.5) ** 2)
        write_exposure(folder / f"P0-{k:02d}.fits", x, y, flux, 0, k)


def _measure(folder: Path) -> None:
    """Measure them, with the project beside."""
    night, context = Night.create(folder / "night", [made_once("curve frames", _draw)]), JobContext()
    run_intake(night, context)
    run_score(night, context)
    products = night.products_of("score")
    k = int(next(raw for raw, p in products.items() if p.output == p.values["reference"])[-7:-5])
    x, y, flux = field_stars()
    named = [("T", "target", 120.0, 90.0), ("a", "comparison", 220.0, 160.0)]
    found: list[tuple[float, float]] = [(120.0, 90.0), (220.0, 160.0)]
    for n in np.argsort(-flux):
        near = [np.hypot(x[n] - at_x, y[n] - at_y) for at_x, at_y in found]
        if n > 1 and 40 < x[n] < 260 and 40 < y[n] < 160 and min(near) > 25 and len(named) < 4:
            name, role = ("b", "comparison") if len(named) == 2 else ("k", "check")
            named.append((name, role, float(x[n]), float(y[n])))
            found.append((float(x[n]), float(y[n])))
    night.set_stars([ListedStar(name, role, x=at_x, y=at_y - 0.7 * k) for name, role, at_x, at_y in named])
    run_measure(night, context)
    run_curve(night, context)
    night.close()


class CurveCase(WindowCase):
    """A night of a star with a dip, measured once for all tests; each opens a copy."""

    def setUp(self) -> None:
        super().setUp()
        shutil.copytree(made_once("curve", _measure) / "night", self.folder / "night")
        self.model, self.sky = self.window.model, self.window.sky
        self.model.open(self.folder / "night")
        self.idle()
        self.model.set_station("curve")
        self.board = self.window.board_of["curve"]
        self.until(lambda: self.board.shown is not None and self.board._plots, 60, "the curve")
        self.ready()

    def ready(self) -> None:
        self.until(
            lambda: not self.model.curves.coming and self.board.isVisible() and self.board.shown is not None, 60, "the page",
        )  # fmt: skip
        QApplication.processEvents()

    @property
    def page(self) -> LightPage:
        assert isinstance(self.board.shown, LightPage)
        return self.board.shown

    @property
    def main(self) -> ZoomPlot:
        plot = self.board._plots[0]
        assert isinstance(plot, ZoomPlot)
        return plot

    def wheel(self, plot: ZoomPlot, x: float, y: float, notches: int) -> None:
        place = plot.to_screen(x, y)
        event = QWheelEvent(
            place, QPointF(plot.mapToGlobal(place.toPoint())), QPoint(), QPoint(0, 120 * notches), Qt.MouseButton.NoButton,
            Qt.KeyboardModifier.NoModifier, Qt.ScrollPhase.NoScrollPhase, False,
        )  # fmt: skip
        QApplication.sendEvent(plot, event)


class Light(CurveCase):
    def test_zoom_move_and_all_again(self) -> None:
        plots = [p for p in self.board._plots if isinstance(p, ZoomPlot)]
        points = self.main.series[0]
        low, high = self.main.home
        middle = float(points.x[12])
        at = self.main.to_screen(middle, float(points.y[12])).x()
        self.wheel(self.main, middle, float(points.y[12]), 3)
        ranges = {plot.x_range for plot in plots}
        self.assertEqual(len(ranges), 1, "all strips follow")
        ((first, last),) = ranges
        self.assertAlmostEqual((last - first) / (high - low), 1.25**-3, places=6)
        # What is under the mouse stays there.
        self.assertAlmostEqual(self.main.to_screen(middle, float(points.y[12])).x(), at, delta=1.0)
        shift = Qt.KeyboardModifier.ShiftModifier
        QTest.mousePress(plots[1], Qt.MouseButton.LeftButton, shift, QPoint(200, 20))
        QTest.mouseMove(plots[1], QPoint(150, 20))
        QTest.mouseRelease(plots[1], Qt.MouseButton.LeftButton, shift, QPoint(150, 20))
        moved = self.main.x_range
        self.assertGreater(moved[0], first)
        self.assertAlmostEqual(moved[1] - moved[0], last - first, places=9)
        # Going on with something else does not lose what is in sight.
        self.model.curves.look(bin_min=20.0)
        self.assertAlmostEqual(self.main.x_range[0], moved[0], places=9)
        QTest.mouseDClick(self.main, Qt.MouseButton.LeftButton, pos=QPoint(200, 60))
        self.assertEqual(self.main.x_range, self.main.home)

    def test_axes_flux_and_bins(self) -> None:
        curve = self.model.curves.curve().curve
        for name in AXES[2:4]:
            self.page.axis.setCurrentIndex(self.page.axis.findData(name))
            self.ready()
            x = self.main.series[0].x
            self.assertEqual(self.model.curves.axis, name)
            hours = 24 * (curve.jd_utc - curve.jd_utc[0])
            scale = 1.0 if name == "clock" else 24.0
            np.testing.assert_allclose(scale * (x - x[0]), hours, atol=1e-6)
            end = self.board._plots[-1]
            self.assertTrue(end.show_x and end.x_label)
        # The first exposure began at 20:00 and lasted a minute.
        self.assertAlmostEqual(float(self.main.series[0].x[0]), 20 + 0.5 / 60, places=4)
        # There is no period yet: phase is refused with words.
        self.page.axis.setCurrentIndex(self.page.axis.findData("phase"))
        self.assertEqual(self.model.curves.axis, "clock")
        self.assertIn("period", self.messages[-1])
        self.page.flux.click()
        self.ready()
        y = self.main.series[0].y
        self.assertAlmostEqual(float(np.nanmedian(y)), 1.0, places=6)
        self.assertAlmostEqual(float(y.min()), 0.7, delta=0.04)
        self.assertFalse(self.main.y_down)
        self.page.bins.setValue(12.0)
        self.page.bins.editingFinished.emit()
        self.ready()
        means = self.main.series[1]
        self.assertEqual(len(means.x), 8)
        self.assertAlmostEqual(float(means.y[0]), float(y[:3].mean()), delta=0.003)
        self.assertGreater(float(np.nanmin(means.error)), 0)

    def test_a_ruler_reads_depth_and_duration(self) -> None:
        self.page.ruler.click()
        points = self.main.series[0]
        a, b = (self.main.to_screen(float(points.x[k]), float(points.y[k])).toPoint() for k in (2, 12))
        QTest.mousePress(self.main, Qt.MouseButton.LeftButton, pos=a)
        QTest.mouseMove(self.main, (a + b) / 2)
        QTest.mouseRelease(self.main, Qt.MouseButton.LeftButton, pos=b)
        (ruler,) = self.main.rulers
        self.assertAlmostEqual(24 * 60 * ruler.length, 40.0, delta=0.6)
        self.assertAlmostEqual(ruler.step[0], float(points.y[12] - points.y[2]), delta=1e-6)
        self.assertTrue(self.page.told.isVisible())
        self.assertIn("40", self.page.told.text())
        # Without a gain, and of one point at each end, there is no error to tell.
        self.assertIn("levels of 1 and 1 point", self.page.told.text())
        self.assertNotIn("±", self.page.told.text())
        self.page.ruler.click()
        self.assertEqual(self.main.rulers, [])

    def test_brushed_points_are_left_out_with_why(self) -> None:
        points = self.main.series[0]
        first, last = (self.main.to_screen(float(points.x[k]), float(points.y[k])).toPoint() for k in (3, 5))
        QTest.mousePress(self.main, Qt.MouseButton.LeftButton, pos=first + QPoint(-4, -14))
        QTest.mouseMove(self.main, first)
        QTest.mouseMove(self.main, last + QPoint(4, 14))
        QTest.mouseRelease(self.main, Qt.MouseButton.LeftButton, pos=last + QPoint(4, 14))
        self.assertEqual(len(self.model.brushed), 3)
        self.assertTrue(self.page.leaving.isVisible())
        self.assertIn("3 points", self.page.chosen.text())
        QTest.keyClicks(self.page.why, "aeroplane")
        self.click(self.page.leave)
        self.ready()
        out = self.model.left_out()
        self.assertEqual(sorted(out.values()), ["aeroplane"] * 3)
        self.until(lambda: self.model.curves.curve().curve.left_out.sum() == 3, 30, "the curve without them")
        self.window.command("undo")
        self.ready()
        self.assertEqual(self.model.left_out(), {})

    def test_further_stars_are_shifted_and_drawn_larger(self) -> None:
        curves, table = self.model.curves, self.model.curves.series()

        def drawn(name: str) -> Points:
            return next(p for p in self.main.series if p.name.startswith(f"{name},"))

        curve = curves.curve().curve
        flux = np.array([row.flux for row in table.star("k")])
        wanted = -2.5 * np.log10(flux / curve.ensemble_flux)
        # A check star is there from the beginning, as far below as it needs.
        check = drawn("k")
        np.testing.assert_allclose(check.y - np.median(check.y), wanted - np.median(wanted), atol=1e-9)
        self.assertGreater(np.median(check.y), np.nanmax(curve.magnitude))
        row = self.page.stars
        self.assertEqual((row.which.currentData(), row.stars.itemText(0), row.stars.itemData(0)), ("k", "Stars", ""))
        self.type_into(row.shift, "0.25")
        self.ready()
        np.testing.assert_allclose(drawn("k").y, wanted + 0.25, atol=1e-9)
        self.assertEqual(drawn("k").name, "k, shifted by +0.25 mag")
        self.type_into(self.page.stars.times, "5")
        self.ready()
        np.testing.assert_allclose(drawn("k").y, np.median(wanted) + 5 * (wanted - np.median(wanted)) + 0.25, atol=1e-9)
        self.assertIn("5 times as large", drawn("k").name)
        # A comparison star is told beside the rest of the ensemble; it takes the fields over.
        stars = self.page.stars.stars
        stars.setCurrentIndex(stars.findData("b"))
        stars.activated.emit(stars.currentIndex())
        self.ready()
        rest = np.array([one.flux for one in table.star("b")]) / np.array([one.flux for one in table.star("a")])
        told = 10 ** (-0.4 * (drawn("b").y - np.median(drawn("b").y)))
        np.testing.assert_allclose(told / (rest / np.median(rest)), 1.0, atol=1e-6)
        self.assertEqual((self.page.stars.which.currentData(), self.page.stars.times.value()), ("b", 1.0))
        stars = self.page.stars.stars
        stars.setCurrentIndex(stars.findData("k"))
        stars.activated.emit(stars.currentIndex())
        self.ready()
        self.assertFalse(any(p.name.startswith("k,") for p in self.main.series))

    def type_into(self, field, text: str) -> None:  # type: ignore[no-untyped-def]
        field.setFocus()
        field.selectAll()
        QTest.keyClicks(field, text)
        QTest.keyClick(field, Qt.Key.Key_Return)

    def test_strips_are_chosen(self) -> None:
        self.addCleanup(setattr, LightPage, "strips", LightPage.strips)
        count = len(self.board._plots)
        more = self.page.more
        more.setCurrentIndex(more.findData("ensemble"))
        more.activated.emit(more.currentIndex())
        self.ready()
        self.assertEqual(len(self.board._plots), count + 1)
        # Transparency is that of the exposure that each point is of.
        more = self.page.more
        more.setCurrentIndex(more.findData("transparency"))
        more.activated.emit(more.currentIndex())
        self.ready()
        strip = next(p for p in self.board._plots if p.y_label == "Transparency %")
        scores, points = self.model.scores(), strip.series[0]
        wanted = [100 * scores[key].values["transparency"] for key in points.keys]
        np.testing.assert_allclose(points.y, wanted)
        self.assertGreater(np.ptp(points.y), 0.1)


class Posterior(CurveCase):
    """Page Model: values with errors, draws beside them."""

    def setUp(self) -> None:
        super().setUp()
        # Enough to see that all is wired; whether draws are right is tested where they are made.
        few = mock.patch.dict(sample_posterior.__kwdefaults__, {"most": 500})
        few.start()
        self.addCleanup(few.stop)
        self.board.turn_to("model")

    @property
    def page(self) -> ModelPage:  # type: ignore[override]
        assert isinstance(self.board.shown, ModelPage)
        return self.board.shown

    def cells(self, row: int) -> list[str]:
        return [self.page.rows.data(self.page.rows.index(row, k)) for k in range(6)]

    def drawn(self) -> None:
        self.until(lambda: self.model.curves.sampling.drawing is None, 60, "the draws")
        self.ready()

    def test_draws_stand_beside_the_fit(self) -> None:
        fit = self.model.curves.curve().fit
        self.assertEqual(self.cells(0)[0], "Middle, BJD_TDB")
        self.assertAlmostEqual(float(self.cells(1)[1]), fit.values["depth_mag"], delta=5e-4)
        self.assertEqual(self.cells(0)[3:], ["", "", ""])
        self.assertEqual(self.page.plot.series, [])
        self.click(self.page.draw)
        self.assertEqual(self.page.draw.text(), "Stop")
        self.until(lambda: "%" in self.page.busy.text(), 30, "how far it is")
        self.drawn()
        found = self.model.curves.sampling.found(self.model.curves.curve())
        self.assertIn("500 steps are", self.page.words.text())
        middle, below, above = found.values["depth_mag"]
        self.assertAlmostEqual(float(self.cells(1)[3]), middle, delta=5e-4)
        self.assertAlmostEqual(float(self.cells(1)[4].replace("−", "")), below, delta=5e-4)
        self.assertAlmostEqual(float(self.cells(1)[5].replace("+", "")), above, delta=5e-4)
        self.page.table.selectRow(1)
        self.quiet()
        self.assertIn("depth less the fit's, mag", self.page.plot.x_label)
        line = self.page.plot.series[0]
        # The steps hold all draws; their middle is the posterior's less the fit's.
        share = line.y[1:-1:2]
        places = (line.x[:-2:2] + line.x[2::2]) / 2
        self.assertAlmostEqual(float(share.sum()), 100.0, delta=1.0)
        off = float((share * places).sum() / share.sum())
        self.assertAlmostEqual(off, middle - fit.values["depth_mag"], delta=0.3 * fit.errors["depth_mag"])
        # Other points have another posterior; theirs comes back with them.
        lights = [f.path for f in self.model.lights()]
        self.model.leave_out(lights[:1], "cloud")
        self.ready()
        self.assertEqual(self.cells(0)[3:], ["", "", ""])
        self.window.command("undo")
        self.ready()
        self.assertNotEqual(self.cells(0)[3:], ["", "", ""])

    def test_it_can_be_stopped(self) -> None:
        self.click(self.page.draw)
        self.until(lambda: "%" in self.page.busy.text(), 30, "how far it is")
        self.click(self.page.draw)
        self.drawn()
        self.assertIn("it was stopped", self.page.words.text())
        self.assertEqual((self.page.draw.text(), self.page.busy.text()), ("Draw from the posterior", ""))

    def test_what_is_linear_needs_none(self) -> None:
        self.assertTrue(self.model.change_settings("curve", {"model": "polynomial"}))
        self.ready()
        self.assertIn("linear", self.page.words.text())
        self.assertFalse(self.page.draw.isEnabled())
        self.assertTrue(self.model.change_settings("curve", {"model": "none"}))
        self.ready()
        self.assertIn("No model", self.board.shown.words.text())


class Pages(CurveCase):
    def test_a_period_is_found_folded_and_taken_as_the_axis(self) -> None:
        self.board.turn_to("period")
        page = self.board.shown
        assert isinstance(page, PeriodPage)
        page.shortest.setValue(0.03)
        page.longest.setValue(0.2)
        self.click(page.go)
        self.until(lambda: not self.model.curves.searching and self.model.curves.found is not None, 30, "the period")
        self.ready()
        page = self.board.shown
        assert isinstance(page, PeriodPage)
        found = self.model.curves.found
        self.assertIn(f"{found.period_d:.4f} ± ", page.words.text())
        self.assertAlmostEqual(page.period.value(), found.period_d, places=6)
        self.assertTrue(page.powers.series and page.folded.series)
        before = page.folded.series[0].x.copy()
        page.slider.setValue(200)
        # The slider's ends are so many cycles over the series away.
        span = float(np.ptp(self.model.curves.curve().curve.time))
        moved = periods._SLIDE * 200 / periods._STEPS / span
        self.assertAlmostEqual(moved, 0.5 / span)
        self.assertAlmostEqual(self.model.curves.fold[0], 1 / (1 / found.period_d + moved), places=12)
        self.assertAlmostEqual(page.period.value(), self.model.curves.fold[0], places=5)
        self.assertAlmostEqual(1 / page.period.value(), 1 / found.period_d + moved, places=3)
        self.assertGreater(moved, 0.05)
        self.assertFalse(np.array_equal(before, page.folded.series[0].x))
        self.click(page.double)
        self.assertAlmostEqual(self.model.curves.fold[0], 2 * page._base / 2, places=9)
        place = page.powers.series[0]
        at = page.powers.to_screen(float(place.x[40]), float(place.y[40])).toPoint()
        QTest.mouseClick(page.powers, Qt.MouseButton.LeftButton, pos=at)
        self.assertAlmostEqual(1 / page.period.value(), float(place.x[40]), delta=0.6)
        # The faintest point is at phase 0.
        folded = page.folded.series[0]
        near = np.abs(folded.x) < 0.08
        self.assertGreater(float(folded.y[near].max()), float(np.nanmax(folded.y)) - 0.02)
        self.board.turn_to("light")
        self.page.axis.setCurrentIndex(self.page.axis.findData("phase"))
        self.ready()
        self.assertEqual(self.model.curves.axis, "phase")
        self.assertTrue(((self.main.series[0].x >= 0) & (self.main.series[0].x < 1)).all())

    def test_models_and_noise(self) -> None:
        self.model.change_settings("curve", {"model": "polynomial", "degree": 6, "detrend": ["auto"]})
        self.board.turn_to("noise")
        self.until(lambda: self.model.curves.curve() is not None and self.model.curves.curve().tried, 60, "the fit")
        self.ready()
        page = self.board.shown
        assert isinstance(page, NoisePage)
        self.assertTrue(page.plot.series)
        self.assertGreater(page.rows.rowCount(), 1)
        self.assertIn("catter", page.words.text())
        run_curve(self.model.night, JobContext())
        self.model.drop()
        self.model.results_changed.emit()
        self.window.slip.rebuild()
        self.assertIn("448", self.window.slip.result.text())
        for model in ("transit", "sine", "none"):
            self.model.change_settings("curve", {"model": model})
            self.board.turn_to("light")
            self.until(lambda m=model: (self.model.curves.curve() or False) and not self.model.curves.coming, 60, model)
            self.ready()
            result = self.model.curves.curve()
            self.assertEqual(result.fit.kind if result.modelled else "none", model)
            self.assertEqual(bool(self.main.curves), model != "none")
            if model == "transit":
                # As light a dip goes down to seven tenths.
                self.board.shown.flux.click()
                self.ready()
                self.assertAlmostEqual(float(np.min(self.main.curves[0][1])), 0.72, delta=0.06)
                self.board.shown.flux.click()


class Figures(CurveCase):
    def test_the_style_is_changed_and_figure_and_report_are_saved(self) -> None:
        # What a run left that broke off in the middle.
        self.window.settings.remove("figure style")
        with mock.patch("ulvar.desktop.dialogs.figure.figure_bytes", wraps=figure_bytes) as drawing:
            self.click(self.page.figure)
            panel = self.window.exports.drawing
            assert isinstance(panel, FigurePanel)
            self.until(lambda: not panel.preview.pixmap().isNull(), 30, "the preview")
            self.until(lambda: not panel._soon.isActive(), 10, "the pause after which it would be drawn again")
            self.assertEqual(drawing.call_count, 1)
        before = panel.preview.pixmap().toImage()
        text = panel.lines.toPlainText()
        panel.lines.setPlainText(text.replace('points = "#20262b"', 'points = "#cc0000"'))
        self.until(lambda: panel.preview.pixmap().toImage() != before, 30, "another preview")
        self.look_at(panel)
        # What could not be drawn is tried again.
        red = panel.preview.pixmap().toImage()
        with mock.patch("ulvar.desktop.dialogs.figure.figure_bytes", side_effect=FrameError("a", "no such letters")):
            panel.lines.setPlainText(text.replace("grid = false", "grid = true"))
            self.until(lambda: panel.problem.text() == "no such letters.", 10, "why")
        panel.lines.setPlainText(panel.lines.toPlainText() + "\n")
        self.until(lambda: panel.preview.pixmap().toImage() != red, 30, "the same style again")
        panel.lines.setPlainText(text.replace("width_cm = 18.0", "width_cm = 8.0").replace("height_cm = 12.0", "height_cm = 25.0"))
        self.until(lambda: panel.preview.pixmap().height() == panel.preview.height(), 30, "all of a tall figure")
        panel.lines.setPlainText(text.replace("width_cm = 18.0", "width_cm = 1.0"))
        self.until(lambda: panel.problem.isVisible(), 10, "what is wrong")
        self.assertIn("width_cm", panel.problem.text())
        self.assertFalse(panel.action.isEnabled())
        panel.plain.click()
        self.until(lambda: panel.action.isEnabled(), 10, "the style of the beginning")
        self.assertFalse(panel.problem.isVisible())
        report = self.folder / "r.html"
        with mock.patch.object(QFileDialog, "getSaveFileName", return_value=(str(report), "")):
            self.click(panel.report)
        text = report.read_text()
        for words in ("<svg", "T: light curve", "comparison", "To repeat it", "curve"):
            self.assertIn(words, text)
        self.window.command("figure")
        panel = self.window.exports.drawing
        figure = self.folder / "f.svg"
        with mock.patch.object(QFileDialog, "getSaveFileName", return_value=(str(figure), "")):
            self.click(panel.action)
        self.assertIn("target − comparisons, mag", figure.read_text())
        # What stands under the curve in the plot stands there in figure and report, too.
        under = [series.name for series in self.main.series if "shifted" in series.name]
        self.assertEqual(len(under), 1)
        self.assertIn(under[0], figure.read_text())
        self.assertIn(under[0], report.read_text())
        with mock.patch("ulvar.desktop.dialogs.figure.ExchangePanel") as telling:
            panel._exchange()
        self.assertEqual(telling.call_args.args[0::4], (panel, "V"))
        self.assertIs(telling.call_args.args[1], panel._result.curve)


class Rulers(CurveCase):
    def setUp(self) -> None:  # no window is needed
        pass

    def test_levels_are_means_with_errors(self) -> None:
        rng = np.random.default_rng(1)
        x = np.linspace(0, 1, 400)
        points = Points(x, np.where(x < 0.5, 1.0, 1.2) + rng.normal(0, 0.01, 400), np.full(400, 0.01))
        ruler = ruler_between(points, 0.2, 5.0, 0.8, 5.0, 0.05)
        self.assertEqual((ruler.count0, ruler.count1), (40, 40))
        step, error = ruler.step
        self.assertLess(abs(step - 0.2), 4 * error)
        self.assertAlmostEqual(error, 0.01 * math.sqrt(2 / 40), delta=0.0006)
        back = ruler_between(points, 0.8, 5.0, 0.2, 5.0, 0.05)
        self.assertAlmostEqual(back.step[0], step, places=12)
        self.assertAlmostEqual(back.slope[0], step / 0.6, places=12)
        nothing = ruler_between(points, 2.0, 5.0, 3.0, 6.0, 0.05)
        self.assertEqual((nothing.y0, nothing.count0), (5.0, 0))
        self.assertTrue(math.isnan(nothing.step[1]))
