"""Fast series: a film is opened by dropping it, stars are clicked, frames measured, the table saved."""

from dataclasses import replace
from pathlib import Path
from unittest import mock

from PySide6.QtCore import QMimeData, QPointF, Qt, QUrl
from PySide6.QtGui import QDropEvent
from PySide6.QtTest import QTest
from tools.window_cases import WindowCase

from ulvar.desktop.dialogs.fast import FastPanel
from ulvar.desktop.work.films import MeasuredFilm
from ulvar.engine import Failed
from ulvar.photometry import read_series
from ulvar.simulation import MadeUpFilm, write_ser


class FastSeries(WindowCase):
    """The panel on a small film."""

    def setUp(self) -> None:
        super().setUp()
        self.film = self.folder / "film.ser"
        write_ser(self.film, MadeUpFilm(frames=250, out_s=4.213, back_s=5.713, missing=(30,)))

    def _dropped(self, path: Path) -> FastPanel:
        data = QMimeData()
        data.setUrls([QUrl.fromLocalFile(str(path))])
        self.window.dropEvent(
            QDropEvent(QPointF(5, 5), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier)
        )
        panel = self.window.chores.panel
        assert isinstance(panel, FastPanel)
        self.addCleanup(panel.close)
        return panel

    def _click(self, panel: FastPanel, x: float, y: float) -> None:
        QTest.mouseClick(panel.picture, Qt.MouseButton.LeftButton, pos=panel.picture.to_screen(x, y).toPoint())

    def test_from_drop_to_table(self) -> None:
        panel = self._dropped(self.film)
        self.until(lambda: panel.film, what="the film is open")
        self.assertIn("250 frames of 320 × 240 px", panel.about.text())
        self.assertEqual((panel.action.isEnabled(), panel.cancel.text()), (False, "Close"))
        with mock.patch.object(panel.picture, "update") as painted:
            panel.inner.setValue(9.0)
        self.assertTrue(painted.called, "rings are drawn anew")
        panel.inner.setValue(0.0)
        self._click(panel, 151.0, 121.0)
        self.assertFalse(panel.action.isEnabled())
        self.assertIn("star to follow", panel.told.text())
        self._click(panel, 221.0, 91.0)
        self._click(panel, 20.0, 20.0)
        self.assertEqual([star.name for star in panel.stars], ["target", "tracking 1", "tracking 2"])
        # A click on a mark takes it away.
        self._click(panel, 21.0, 21.0)
        self.assertEqual([star.name for star in panel.stars], ["target", "tracking"])
        self.assertAlmostEqual(panel.stars[0].x or 0, 151.0, delta=1.0)
        self.look_at(panel)
        panel.first.setText("2026-03-14T22:00:00")
        self.assertEqual(panel.offset.value(), 0.0)
        panel.offset.setValue(0.25)
        QTest.mouseClick(panel.action, Qt.MouseButton.LeftButton)
        self.until(lambda: panel.series, what="the frames are measured")
        self.assertIn("The light went at 2026-03-14T22:00:04.4", panel.told.text())
        self.assertIn("Frames are missing", panel.told.text())
        self.assertEqual(len(panel.plot.series[0].x), 250)
        self.assertEqual(len(panel.plot.curves), 1)
        self.look_at(panel)
        out = self.folder / "light.csv"
        with mock.patch("ulvar.desktop.dialogs.fast.QFileDialog.getSaveFileName", return_value=(str(out), "")):
            QTest.mouseClick(panel.save, Qt.MouseButton.LeftButton)
        rows = read_series(out)
        self.assertEqual(rows.names(), ["target", "tracking", "blank sky"])
        self.assertEqual(len(rows), 750)
        # A film without times, and without an event.
        panel._show_light(MeasuredFilm(replace(panel.series, times=replace(panel.series.times, dated=False)), Failed("no dip was found")))
        self.assertEqual((panel.plot.x_label, len(panel.plot.curves)), ("seconds after the middle of the first frame", 0))
        self.assertTrue(panel.told.text().startswith("No dip was found.\n\n"))
        # Another star makes the light that was shown no longer that of these stars.
        self._click(panel, 81.0, 181.0)
        self.assertFalse(panel.save.isEnabled())

    def test_what_is_wrong_is_said_and_can_be_put_right(self) -> None:
        bad = self.folder / "bad.ser"
        bad.write_bytes(b"nothing")
        panel = self._dropped(bad)
        self.until(lambda: panel.problem.isVisible(), what="the reason is told")
        self.assertIn("bad.ser: this is not a SER file", panel.problem.text())
        panel.open_film([str(self.film)])
        self.until(lambda: panel.film, what="the film is open")
        self.assertFalse(panel.problem.isVisible())
        self._click(panel, 151.0, 121.0)
        self._click(panel, 221.0, 91.0)
        panel.first.setText("yesterday")
        QTest.mouseClick(panel.action, Qt.MouseButton.LeftButton)
        self.assertIn("'yesterday' is not a time", panel.problem.text())
        panel.first.clear()
        panel.inner.setValue(2.0)
        panel.outer.setValue(9.0)
        self.assertIn("inside the aperture", panel.problem.text())
        self.assertIsNone(panel.picture.rings)
        panel.inner.setValue(7.0)
        assert panel.picture.rings is not None
        self.assertEqual(panel.picture.rings[1:], (7.0, 9.0))

    def test_it_is_reached_from_measure_and_closes_while_it_reads(self) -> None:
        self.window.commands.do("fast")
        panel = self.window.chores.panel
        assert isinstance(panel, FastPanel)
        self.assertFalse(panel.action.isEnabled())
        with mock.patch("ulvar.desktop.dialogs.fast.QFileDialog.getExistingDirectory", return_value=str(self.folder)):
            panel.folder.click()
        panel.close()
