"""Pictures, plots and results as files: as large as was asked, at the place that was chosen, and true."""

import shutil
from pathlib import Path
from unittest import mock

import numpy as np
from PySide6.QtCore import QSettings, Qt
from PySide6.QtGui import QImage
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QFileDialog
from tools.window_cases import WindowCase

from tests.desktop.scored import ScoredCase
from ulvar.astrometry import read_rows
from ulvar.desktop.models.starpick import give_role
from ulvar.engine import JobContext
from ulvar.night import STATIONS
from ulvar.night.stations import run_curve, run_measure

CTRL, SHIFT = Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.ShiftModifier


def grey(image: QImage) -> np.ndarray:
    """Return the brightness of a picture, top row first."""
    image = image.convertToFormat(QImage.Format.Format_Grayscale8)
    rows = np.frombuffer(image.constBits(), np.uint8).reshape(image.height(), image.bytesPerLine())
    return rows[:, : image.width()].copy()


class Exports(ScoredCase):
    def setUp(self) -> None:
        super().setUp()
        self.place = self.folder / "chosen"
        self.place.mkdir()

    def ask(self, name: str, kind: str = "PNG (*.png)"):  # type: ignore[no-untyped-def]
        """Answer the file dialog."""
        return mock.patch.object(QFileDialog, "getSaveFileName", return_value=(str(self.place / name) if name else "", kind))

    def save(self, size: str, name: str, *, marks: bool = True, caption: bool = True, what: str = "") -> Path:
        """Open the small window with its key, choose, and save."""
        self.key(Qt.Key.Key_S, CTRL | SHIFT)
        panel = self.window.exports.panel
        assert panel is not None
        if what:
            panel.what.setCurrentIndex(panel.what.findText(what))
        panel.sizes.setCurrentIndex(panel.sizes.findText(size, Qt.MatchFlag.MatchStartsWith))
        for box, on in ((panel.marks, marks), (panel.caption, caption)):
            if box.isChecked() != on:
                QTest.mouseClick(box, Qt.MouseButton.LeftButton, pos=box.rect().center() / 8)
                if box.isChecked() != on:
                    box.click()
        self.messages.clear()
        with self.ask(name):
            self.click(panel.action)
        self.until(lambda: any("Saved" in m or "could not" in m for m in self.messages), 30, "the file")
        return self.place / name

    def test_every_pixel_of_the_data_is_in_the_picture(self) -> None:
        canvas = self.sky.canvas
        picture = canvas.picture
        canvas.zoom(3.0)
        path = self.save("Whole picture, every pixel", "full.png", marks=False, caption=False)
        found = grey(QImage(str(path)))
        self.assertEqual(found.shape, picture.shape)
        # Rows of the data run upwards, of a picture downwards; the levels are those on screen.
        wanted = canvas.stretch.apply(picture.data, picture.sample.values)[::-1]
        np.testing.assert_array_equal(found, wanted)
        self.assertAlmostEqual(canvas.sight.scale, canvas.sight.scale)

        half = QImage(str(self.save("Whole picture, half", "half.png", caption=False)))
        self.assertEqual((half.width(), half.height()), (-(-picture.shape[1] // 2), -(-picture.shape[0] // 2)))

    def test_marks_and_caption_are_there_when_they_are_wanted(self) -> None:
        self.key(Qt.Key.Key_S)
        self.assertGreater(len(self.sky.canvas.overlay.detections), 10)
        bare = grey(QImage(str(self.save("Whole picture, every pixel", "a.png", marks=False, caption=False))))
        marked = grey(QImage(str(self.save("Whole picture, every pixel", "b.png", caption=False))))
        self.assertEqual(bare.shape, marked.shape)
        changed = (bare != marked).mean()
        self.assertTrue(0.003 < changed < 0.3, f"{changed}")
        image = QImage(str(self.save("Whole picture, every pixel", "c.png", marks=False)))
        told = grey(image)
        self.assertEqual(told.shape[1], bare.shape[1])
        self.assertGreater(told.shape[0], bare.shape[0] + 30)
        np.testing.assert_array_equal(told[: bare.shape[0]], bare)
        self.assertGreater(np.ptp(told[bare.shape[0] :]), 120, "with words in it")
        self.assertIn("1 dots a pixel", image.text("Description"))
        self.assertIn("filter V", image.text("Description"))

    def test_as_on_screen_and_for_print(self) -> None:
        canvas = self.sky.canvas
        screen = QImage(str(self.save("As on screen (", "s.png")))
        self.assertEqual(screen.width(), canvas.width())
        self.assertGreater(screen.height(), canvas.height() + 30, "a caption is under it")
        large = QImage(str(self.save("As on screen, for print", "p.png")))
        self.assertEqual((large.width(), large.height()), (3 * screen.width(), 3 * screen.height()))
        # The same view: shrunk again it is the same picture.
        small = large.scaled(screen.size(), Qt.AspectRatioMode.IgnoreAspectRatio, Qt.TransformationMode.SmoothTransformation)
        both = np.corrcoef(grey(small).ravel(), grey(screen).ravel())[0, 1]
        self.assertGreater(both, 0.9)

    def test_the_place_is_remembered_and_problems_are_told(self) -> None:
        self.save("As on screen (", "s.png")
        self.assertEqual(QSettings("Ulvar", "Ulvar").value("exports"), str(self.place))
        self.key(Qt.Key.Key_S, CTRL | SHIFT)
        with mock.patch.object(QFileDialog, "getSaveFileName", return_value=("", "")) as asked:
            self.click(self.window.exports.panel.action)
        self.assertEqual(Path(asked.call_args.args[2]).parent, self.place)
        self.assertTrue(self.window.exports.panel.isVisible(), "called off: the choice stays open")
        self.window.exports.panel.reject()
        self.place.joinpath("file").write_text("")
        self.save("As on screen (", "file/below.png")
        self.assertTrue(any("below.png could not be written" in m for m in self.messages), self.messages)

    def measured(self) -> None:
        """Measure three stars and make their curve."""
        table = self.sky.stars_of(self.model.current)
        alone = [k for k in range(len(table)) if np.sort(np.hypot(table.x - table.x[k], table.y - table.y[k]))[1] > 16]
        for k, role in zip(alone[:3], ("target", "comparison", "comparison")):
            give_role(self.model, (float(table.x[k]), float(table.y[k])), role)
        for run in (run_measure, run_curve):
            self.assertEqual(run(self.model.night, JobContext()).problem, "")
        self.model.drop()
        self.model.results_changed.emit()

    def test_at_curve_the_plot_is_saved(self) -> None:
        self.measured()
        self.key(Qt.Key.Key_7)
        board = self.window.board_of["curve"]
        self.until(lambda: board._plots and board._plots[0].isVisible(), 30, "the plot")
        path = self.save("For print", "curve.png")
        image = QImage(str(path))
        self.assertEqual(image.width(), 3 * (board._plots[0].width() + 28))
        self.assertGreater(image.pixelColor(2, 2).lightness(), 230, "on white")
        self.assertIn(self.model.series_name(), image.text("Description"))
        count = len(self.model.curves.curve().curve)
        self.assertIn(f"{count} points", image.text("Description"))
        # Its points are there: as many dark places as the plot has.
        plot = board._plots[0]
        top = image.height() - 3 * (14 + sum(p.height() for p in board._plots))
        for x, y in list(zip(plot.series[0].x, plot.series[0].y))[::9]:
            at = plot.to_screen(float(x), float(y))
            self.assertLess(image.pixelColor(round(3 * (at.x() + 14)), round(top + 3 * at.y())).lightness(), 110)
        self.assertEqual((plot.theme.name, plot.exporting), ("dark", False), "the window's own plot is as it was")

        screen = QImage(str(self.save("As on screen", "screen.png")))
        self.assertLess(screen.pixelColor(2, 2).lightness(), 60)
        pdf = self.save("For print", "curve.pdf")
        self.assertEqual(pdf.read_bytes()[:5], b"%PDF-")
        # The picture can be saved here too.
        self.assertEqual(QImage(str(self.save("As on screen (", "sky.png", what="The picture"))).width(), self.sky.canvas.width())

    def test_results_are_copied_to_a_place_of_ones_own(self) -> None:
        self.key(Qt.Key.Key_S, CTRL)
        self.assertIn("no result", self.messages[-1])
        self.model.jobs.run_station("combine", "stack")
        self.idle()
        stack = Path(self.model.of_series("stack").output)
        with self.ask("deepest"):
            self.key(Qt.Key.Key_S, CTRL)
        copy = self.place / "deepest.fits"
        self.until(copy.exists, 20, "the copy")
        self.until(lambda: any("Saved deepest.fits" in m for m in self.messages), 20)
        self.assertEqual(copy.read_bytes(), stack.read_bytes())
        with mock.patch.object(QFileDialog, "getSaveFileName", return_value=(str(stack), "")):
            self.key(Qt.Key.Key_S, CTRL)
        self.assertIn("is the result itself", self.messages[-1])
        self.measured()
        for station, name in (("measure", "series"), ("curve", "curve")):
            self.model.set_station(station)
            source = self.window.exports.result_file()
            with self.ask(f"{name}.csv"):
                self.key(Qt.Key.Key_S, CTRL)
            made = self.place / f"{name}.csv"
            self.until(lambda made=made: any(made.name in m for m in self.messages), 20)
            self.assertEqual(made.read_bytes(), source.read_bytes())
            with self.ask(f"{name}.vot"):
                self.key(Qt.Key.Key_S, CTRL)
            other = self.place / f"{name}.vot"
            self.until(lambda other=other: any(other.name in m for m in self.messages), 20)
            (names, rows), (again, twins) = read_rows(source), read_rows(other)
            own, same = list(rows), list(twins)
            self.assertEqual((names, len(own)), (again, len(same)))
            for row, twin in zip(own, same):
                self.assertEqual({k: v for k, v in row.items() if v}, {k: v for k, v in twin.items() if v})
        shutil.rmtree(self.place)
        with self.ask("gone.csv"):
            self.key(Qt.Key.Key_S, CTRL)
        self.until(lambda: any("gone.csv" in m for m in self.messages), 20)


class NoNight(WindowCase):
    def test_there_is_no_result_of_any_station(self) -> None:
        for station in STATIONS:
            self.window.model.set_station(station)
            self.assertIsNone(self.window.exports.result_file(), station)
