"""The path bar: a click goes to a station, the running job tells how far it is; and what is pointed at in an aligned picture."""

from types import SimpleNamespace
from unittest import mock

import numpy as np
from PySide6.QtCore import QEvent, QPoint, QRect, Qt
from PySide6.QtGui import QHelpEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QToolTip, QWhatsThis, QWidget
from tools.held import note

from tests.desktop.scored import ScoredCase
from ulvar.desktop.picture.stretch import COLOURS, STRETCHES
from ulvar.registration import Transform


class PathBar(ScoredCase):
    def test_a_click_goes_to_the_station_under_it(self) -> None:
        beads = self.window.path_bar.stations
        for index, station in enumerate(("intake", "masters", "calibrate", "combine", "plate", "measure", "curve")):
            self.click(beads, beads._x(index), 20)
            self.assertEqual(self.model.station, station)
        self.assertIsNone(beads.station_at(beads._x(7)))
        self.assertIsNone(beads.station_at(-5.0))

    def test_a_bead_says_its_state_and_help_what_is_pointed_at(self) -> None:
        beads, place = self.window.path_bar.stations, QPoint(7, 9)
        with mock.patch.object(QToolTip, "showText") as shown:
            for x in (beads._x(3), -5.0):
                beads.event(QHelpEvent(QEvent.Type.ToolTip, QPoint(int(x), 20), place))
        shown.assert_called_once_with(place, "Combine: done. Key 4", beads)
        find, inside = self.window.path_bar.find_button, QWidget(self.window.path_bar.find_button)
        for under, told in ((inside, find.toolTip()), (None, "")):
            with (
                mock.patch.object(QApplication, "widgetAt", lambda _, under=under: under),
                mock.patch.object(QToolTip, "showText") as tip,
                mock.patch.object(QWhatsThis, "showText") as whats,
            ):
                self.window.command("help")
            self.assertEqual([call.args[1:] for call in tip.call_args_list], [(told, find)] if told else [])
            self.assertEqual(["Ctrl+K" in call.args[1] for call in whats.call_args_list], [] if told else [True])

    def test_what_is_said_stands_over_the_picture(self) -> None:
        self.model.message.emit("Words for who is at work")
        toast, canvas = self.window.toast, self.sky.canvas
        self.assertTrue(toast.isVisible())
        self.assertEqual(toast.text(), "Words for who is at work")
        corner = toast.mapTo(self.window, QPoint(0, 0)) - canvas.mapTo(self.window, QPoint(0, 0))
        self.assertTrue(canvas.rect().contains(QRect(corner, toast.size())))
        self.model.message.emit("")
        self.assertEqual(toast.text(), "Words for who is at work")

    def test_the_running_job(self) -> None:
        bar = self.window.path_bar
        job = SimpleNamespace(finished=False, token=SimpleNamespace(stopping=False), text="Aligning", total=10, done=4, seconds_left=75.0)
        for left, words in ((75.0, "4 of 10, 75 s left"), (240.0, "4 of 10, 4 min left"), (None, "4 of 10")):
            job.seconds_left = left
            with mock.patch.object(self.model.jobs, "job", job):
                bar._job()
            self.assertEqual(
                (bar.job_name.text(), bar.job_bar.value(), bar.job_bar.maximum(), bar.job_left.text()), ("Aligning", 4, 10, words)
            )
        self.assertTrue(bar.job.isVisible())
        self.look_at(bar.job)
        bar._job()
        self.assertFalse(bar.job.isVisible())
        self.assertIn("Ctrl+K", bar.find_button.text())

    def test_a_place_in_an_aligned_picture_is_that_of_the_exposure(self) -> None:
        shift, clicked = Transform(np.array([[1.0, 0.0, 3.0], [0.0, 1.0, -5.0]])), []
        with (
            mock.patch.object(self.sky.naming, "grid_of", lambda _: shift),
            mock.patch.object(self.model.pointing, "click", lambda _, place: (clicked.append(place), "")[1]),
        ):
            for star in (None, (7.0, 8.0)):
                self.window.commands._pointed(50.0, 60.0, star)
        self.assertEqual(clicked, [(47.0, 65.0), (7.0, 8.0)])

    def test_the_finder_is_gone_through_by_arrows(self) -> None:
        finder = self.window.finder
        self.window.command("find")
        rows, seen = finder.list.count(), []
        for key in (Qt.Key.Key_Up, Qt.Key.Key_Down, Qt.Key.Key_Down, Qt.Key.Key_Up):
            QTest.keyClick(finder.field, key)
            seen.append(finder.list.currentRow())
        self.assertEqual(seen, [0, 1, 2, 1])
        finder.list.setCurrentRow(rows - 1)
        QTest.keyClick(finder.field, Qt.Key.Key_Down)
        self.assertEqual(finder.list.currentRow(), rows - 1)
        finder.hide()
        note("known", [(entry.text, entry.keys, entry.tip) for entry in finder._known if not entry.text.startswith("Open recent")])
        known, foot = {entry.text: entry.run for entry in finder._known}, self.sky.foot
        for words, names, box in (("Stretch", STRETCHES, foot.stretch_box), ("Colour table", COLOURS, foot.colour_box)):
            for name in reversed(names):
                known[f"{words}: {name}"]()
                self.assertEqual(box.currentText(), name)

    def test_a_place_half_a_pixel_beyond_the_edge_is_not_in_the_exposure(self) -> None:
        wide, high = (getattr(self.model.facts(self.model.current), side) for side in ("width", "height"))
        with (
            mock.patch.object(type(self.sky), "plate", SimpleNamespace(pixel=lambda *place: place)),
            mock.patch.object(self.window.commands._going, "_show") as shown,
        ):
            for off in (-0.6, -0.4):
                for place in ((off, 5.0), (wide + off, 5.0), (5.0, off), (5.0, high + off)):
                    self.window.commands._going.to_sky(*place)
        self.assertEqual([call.args for call in shown.call_args_list], [(wide - 0.6, 5.0), (5.0, high - 0.6), (-0.4, 5.0), (5.0, -0.4)])

    def test_the_brush_grows_both_ways_and_curves_need_others(self) -> None:
        with mock.patch.object(self.model, "stretch_brush") as stretched:
            self.window.command("brush on")
            self.window.command("brush back")
        self.assertEqual([call.args for call in stretched.call_args_list], [(1,), (-1,)])
        self.window.command("curve together")
        self.assertIn("No other series", self.messages[-1])
        self.assertEqual(self.model.station, "combine")
        with mock.patch.object(self.model.curves, "others", lambda: ["one"]):
            self.window.command("curve together")
        self.assertEqual((self.model.station, self.model.curves.together), ("curve", True))
