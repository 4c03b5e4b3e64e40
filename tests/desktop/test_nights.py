"""A target over nights: a folder is read, nights left away, minima timed, an ephemeris and a rotation found, files saved."""

import csv
from pathlib import Path
from unittest import mock

import numpy as np
from bench.made_nights import EPOCH, JD0, PERIOD, STAR
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QAbstractButton, QFileDialog
from tools.nights import eclipsing_nights
from tools.window_cases import WindowCase

from ulvar.desktop.dialogs.target import TargetPanel
from ulvar.desktop.dialogs.target_light import TargetLight
from ulvar.lightcurves import Ephemeris
from ulvar.night import Night

V1, B2, V2, V3 = "2027-02-11 V", "2027-02-16 B", "2027-02-16 V", "2027-02-20 V"


def told(path: Path) -> list[dict[str, str]]:
    with path.open() as file:
        return list(csv.DictReader(line for line in file if not line.startswith("#")))


class TargetOverNights(WindowCase):
    """The panel on three nights of an eclipsing star."""

    def setUp(self) -> None:
        super().setUp()
        TargetLight.axis_name = "days"
        self.place = eclipsing_nights(self.folder)
        # What other runs typed into forms stays away.
        self.window.settings.remove("exchange")
        self.window.command("nights")
        panel = self.window.exports.over
        assert isinstance(panel, TargetPanel)
        self.panel, self.nights = panel, panel.nights

    def open(self) -> None:
        with mock.patch.object(QFileDialog, "getExistingDirectory", return_value=str(self.place)):
            self.click(self.panel.choose)
        self.ready()

    def ready(self) -> None:
        self.until(lambda: not self.nights.busy and not self.nights.searching, 60, "the answer")
        self.quiet()
        self.look_at(self.panel)

    def turn(self, page: str):  # type: ignore[no-untyped-def]
        self.click(self.panel.page_buttons[page])
        return self.panel.shown

    def row(self, name: str) -> list[str]:
        at = self.panel.rows.row_of(name)
        return [self.panel.rows.data(self.panel.rows.index(at, k)) for k in range(4)]

    def saved(self, button, name: str) -> Path:  # type: ignore[no-untyped-def]
        path = self.folder / name
        with mock.patch.object(QFileDialog, "getSaveFileName", return_value=(str(path), "")):
            self.click(button)
        return path

    def test_nothing_is_open_yet(self) -> None:
        self.assertEqual(self.panel.place.text(), "No folder is open.")
        self.assertFalse(self.panel.save.isEnabled())
        empty = self.folder / "empty"
        empty.mkdir()
        self.nights.open(empty)
        self.ready()
        self.assertIn("There is no night in this folder", self.nights.problem())

    def test_nights_are_joined_and_left_away(self) -> None:
        self.open()
        self.assertEqual(self.panel.star.currentText(), "T 12 (3 nights)")
        self.assertEqual([self.panel.rows.key(k) for k in range(4)], [V1, B2, V2, V3])
        self.assertAlmostEqual(float(self.row(B2)[2]) - float(self.row(V2)[2]), 0.6, delta=0.05)
        self.assertEqual([self.row(name)[1] for name in (V1, B2, V2, V3)], ["90"] * 4)
        # The night beside the minimum scatters by its noise alone, 3 mmag a star and the ensemble's.
        self.assertLess(float(self.row(V3)[3]), 6.0)
        self.assertGreater(float(self.row(V1)[3]), 50.0)
        plot = self.panel.shown.plot
        self.assertEqual([len(points.x) for points in plot.series], [90] * 4)
        middles = [float(np.median(points.y)) for points in plot.series]
        # Each has its own level taken off: all stand together.
        self.assertLess(np.ptp(middles[:3]), 0.1)
        self.click(self.panel.shown.levels)
        self.quiet()
        points = {id(p): p for p in self.panel.shown.plot.series}.values()
        self.assertGreater(np.ptp([float(np.median(p.y)) for p in points]), 0.5)
        self.click(self.panel.shown.levels)
        self.panel.activateWindow()
        self.panel.list.setFocus()
        self.panel.list.selectRow(1)
        QTest.keyClick(self.panel.list, Qt.Key.Key_Space)
        self.ready()
        self.assertEqual(self.nights.away, {B2})
        self.assertEqual(len(self.panel.shown.plot.series), 3)
        self.assertEqual(self.panel.away.text(), "Take it again")
        path = self.saved(self.panel.save, "curve.csv")
        self.assertEqual([row["session"] for row in told(path)], [V1] * 90 + [V2] * 90 + [V3] * 90)
        self.click(self.panel.away)
        self.ready()
        self.assertEqual((self.nights.away, len(self.panel.shown.plot.series)), (set(), 4))

    def test_minima_and_ephemeris(self) -> None:
        self.open()
        page = self.turn("minima")
        self.assertFalse(page.save.isEnabled())
        self.click(page.go)
        self.ready()
        page = self.panel.shown
        cells = [[page.rows.data(page.rows.index(row, k)) for k in range(7)] for row in range(4)]
        self.assertEqual([row[0] for row in cells], [V1, B2, V2, V3])
        self.assertIn("no dip", cells[3][1])
        self.assertIn(f"3 minima timed. {V3}: no dip", page.words.text())
        self.assertRegex(cells[0][1], "^2\u2009461\u2009[0-9]{3}[.][0-9]{5}$")
        self.click(page.fit)
        self.assertIn("Type a period", page.words.text())
        page.period.setValue(0.712)
        self.click(page.halves)
        self.click(page.fit)
        self.quiet()
        page, found = self.panel.shown, self.nights.ephemeris
        assert isinstance(found, Ephemeris)
        self.assertLess(abs(found.period - PERIOD), 4 * found.period_error)
        off = (found.epoch - EPOCH) / PERIOD
        self.assertLess(abs(off - round(off)) * PERIOD, 4 * found.epoch_error)
        self.assertIn("Minimum at 2", page.words.text())
        self.look_at(self.panel)
        self.assertEqual(len(page.plot.series[0].x), 3)
        np.testing.assert_allclose(page.plot.series[0].y, 1440 * found.linear_off)
        # What was chosen stays.
        self.assertTrue(page.halves.isChecked())
        self.assertTrue(all(button.toolTip() for button in page.findChildren(QAbstractButton) if button.text()))
        # What was saved before is asked about by the dialog: it is replaced.
        (self.folder / "minima.csv").write_text("old")
        times = [float(row["time"]) for row in told(self.saved(page.save, "minima.csv"))]
        self.assertEqual(len(times), 3)
        for time in times:
            cycle = (time - EPOCH) / PERIOD
            self.assertLess(abs(cycle - round(cycle)) * PERIOD, 0.001)
        self.assertTrue(self.saved(page.figure, "off.pdf").read_bytes().startswith(b"%PDF"))

    def test_period_and_phases(self) -> None:
        self.open()
        page = self.panel.shown
        page.axis.setCurrentIndex(page.axis.findData("phase"))
        page._set_axis()
        self.assertIn("find or type a period", self.panel.shown.words.text())
        self.assertEqual(len(self.panel.shown.plot.series[0].x), 90, "along the days until there is one")
        page = self.turn("period")
        # Two minima allow many others further off.
        page.shortest.setValue(0.704)
        page.longest.setValue(0.721)
        page.method.setCurrentIndex(page.method.findData("phase"))
        self.click(page.go)
        self.ready()
        page = self.panel.shown
        self.assertEqual(page.method.currentData(), "phase")
        assert self.nights.fold is not None
        self.assertAlmostEqual(self.nights.fold[0], PERIOD, delta=0.003)
        page = self.turn("light")
        page.axis.setCurrentIndex(page.axis.findData("phase"))
        page._set_axis()
        first = page.plot.series[0]
        period, epoch = self.nights.fold
        curve = self.nights.curve().curve
        np.testing.assert_allclose(first.x, ((curve.time[:90] - epoch) / period) % 1)
        self.assertIn("phase of 0.7", page.plot.x_label)
        page.axis.setCurrentIndex(page.axis.findData("hours"))
        page._set_axis()
        for points in page.plot.series:
            self.assertAlmostEqual(float(np.median(points.x)), 0.0, delta=0.03)
        page.model.setCurrentIndex(page.model.findData("sine"))
        page._set_model()
        self.ready()
        before = self.panel.shown.words.text()
        self.assertIn("Period 0.7", before)
        self.panel.shown.terms.setValue(1)
        QTest.keyClick(self.panel.shown.terms, Qt.Key.Key_Return)
        self.ready()
        self.assertEqual((self.nights.terms, self.panel.shown.words.text() == before), (1, False))

    def test_closed_by_esc_it_opens_again(self) -> None:
        for _ in range(2):
            self.open()
            QTest.keyClick(self.panel, Qt.Key.Key_Escape)
            self.quiet()
            self.window.command("nights")
            self.panel = self.window.exports.over
            self.nights = self.panel.nights

    def test_rotation(self) -> None:
        self.open()
        page = self.turn("rotation")
        page.low.setValue(20)
        page.high.setValue(16)
        self.click(page.go)
        self.assertIn("shorter", page.words.text())
        page.low.setValue(16)
        page.high.setValue(18.5)
        page.order.setCurrentIndex(page.order.findData(6))
        self.click(page.go)
        self.ready()
        page = self.panel.shown
        self.assertIn("6 harmonics", page.words.text())
        self.assertAlmostEqual(self.nights.turned.rotation.period_h, 24 * PERIOD, delta=0.06)
        self.assertEqual(len(page.folded.series[0].x), 360)
        self.assertEqual(page.low.value(), 16.0)
        # An ephemeris over other times does not serve; one over these takes off light time and distance.
        table = self.folder / "body.csv"
        table.write_text("jd,sun_au,earth_au,phase_deg\n2451545,2,1,10\n2451546,2,1,10\n")
        page.path.setText(str(table))
        self.click(page.go)
        self.ready()
        self.assertIn("does not cover", self.panel.shown.words.text())
        before = self.nights.curve().curve.jd_utc
        table.write_text(f"jd,sun_au,earth_au,phase_deg\n{JD0 - 1},2,1,10\n{JD0 + 30},2,1,10\n")
        self.click(self.panel.shown.go)
        self.ready()
        # 1 au is 499.005 s of light's way.
        np.testing.assert_allclose(86400 * (before - np.sort(self.nights.turned.time)), 499.005, atol=0.01)

    def test_an_association_takes_one_filter(self) -> None:
        self.open()
        self.click(self.panel.exchange)
        self.assertIn("one filter at a time", self.panel.problem.text())
        self.nights.take(B2, on=False)
        self.ready()
        self.click(self.panel.exchange)
        asking = self.panel.drawing
        self.assertIn("The form needs the observer's code", asking.problem.text())
        self.assertFalse(asking.action.isEnabled())
        asking.fields["observer"].setText("XYZ")
        self.assertTrue(asking.action.isEnabled())
        self.assertIn("#OBSCODE=XYZ", asking.text.toPlainText())
        path = self.saved(asking.action, "for.txt")
        lines = [line for line in path.read_text().splitlines() if not line.startswith("#")]
        self.assertEqual(len(lines), 270)
        self.assertEqual({line.split(",")[4] for line in lines}, {"V"})
        # The other form asks for other things.
        self.click(self.panel.exchange)
        asking = self.panel.drawing
        self.assertEqual(asking.fields["observer"].text(), "XYZ")
        self.assertFalse(asking.fields["ra"].isVisible())
        asking.form.setCurrentIndex(1)
        self.assertTrue(asking.fields["ra"].isVisible())
        self.assertIn("a contact", asking.problem.text())
        asking.fields["number"].setText("x1")
        self.assertIn("'x1' is no number", asking.problem.text())
        self.look_at(asking)
        asking.close()

    def test_a_night_that_is_damaged_is_told(self) -> None:
        broken = self.place / "2027" / "third" / "night.sqlite"
        broken.write_bytes(b"SQLite format 3\0" + bytes(200))
        self.open()
        self.assertEqual([one.part.name for one in self.nights.parts], [V1, B2, V2])
        self.assertIn("Not read: third", self.panel.unread.text())
        self.assertEqual(self.nights.problem(), "")
        with mock.patch.object(self.nights, "stars", []):
            self.assertEqual(self.nights.problem(), "No night in this folder has measured a target yet.")

    def test_the_star_of_the_open_night_comes_first(self) -> None:
        night = Night(self.place / "2027" / "second")
        self.assertEqual(len(night.series()), 2)
        night.close()
        self.nights.open(self.place, "t12 AGAIN")
        self.ready()
        self.assertEqual(self.nights.star.name, "T 12")
        self.assertAlmostEqual(self.nights.star.place[0], STAR[0], places=6)
