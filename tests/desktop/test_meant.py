"""Nothing changes unless it is meant: wheel, digits, Space, and what undo says and takes back."""

import shutil
import threading
from unittest import mock

from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QWheelEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import (
    QAbstractSpinBox,
    QApplication,
    QComboBox,
    QFileDialog,
    QLabel,
    QLineEdit,
    QMessageBox,
    QPushButton,
    QSlider,
    QTableView,
    QWidget,
)

from tests.desktop.scored import ScoredCase
from ulvar.desktop.dialogs.sites import known_sites, remember_site
from ulvar.desktop.slip.cards import CardButton, FindingCard
from ulvar.engine import JobContext
from ulvar.inspection import Mend, notice
from ulvar.night import StationResult


def turn_wheel(widget: QWidget) -> bool:
    """Turn the wheel over a widget; returns whether it took the turn."""
    middle = QPointF(widget.rect().center())
    event = QWheelEvent(
        middle, widget.mapToGlobal(middle), QPoint(0, -120), QPoint(0, -120), Qt.MouseButton.NoButton,
        Qt.KeyboardModifier.NoModifier, Qt.ScrollPhase.NoScrollPhase, False,
    )  # fmt: skip
    QApplication.sendEvent(widget, event)
    QApplication.processEvents()
    return event.isAccepted()


class Meant(ScoredCase):
    def setUp(self) -> None:
        super().setUp()
        self.canvas = self.window.sky.canvas

    def inputs(self) -> list[QWidget]:
        kinds = (QComboBox, QAbstractSpinBox, QSlider)
        return [w for kind in kinds for w in self.window.findChildren(kind) if w.isVisible() and w.isEnabled()]

    def test_the_wheel_changes_only_what_has_the_keyboard(self) -> None:
        seen = 0
        for station in ("masters", "calibrate", "combine", "plate", "measure", "curve"):
            self.model.set_station(station)
            self.quiet()
            self.window.slip._unfolded = True
            self.window.slip.rebuild()
            if station == "combine":
                self.window.command("page rules")
                self.quiet()
            before = self.model.settings()
            for widget in self.inputs():
                self.canvas.setFocus()
                self.assertFalse(turn_wheel(widget), f"{station}: {widget.objectName() or widget.accessibleName()}")
                self.assertFalse(widget.hasFocus())
                seen += 1
            self.assertEqual(self.model.settings(), before)
        self.assertGreater(seen, 25)
        # With the keyboard in it a field may be turned.
        self.model.set_station("combine")
        self.quiet()
        box = next(w for w in self.inputs() if w.objectName() == "combine.method")
        box.setFocus()
        self.assertTrue(turn_wheel(box))

    def test_the_keyboard_goes_back_to_the_picture(self) -> None:
        self.model.set_station("combine")
        self.quiet()
        self.assertIs(QApplication.focusWidget(), self.canvas)
        # From a field by a click into the table,
        spin = next(w for w in self.inputs() if isinstance(w, QComboBox) and w.objectName())
        spin.setFocus()
        view = next(v for v in self.window.board_of["combine"].findChildren(QTableView) if v.isVisible())
        place = view.visualRect(view.model().index(3, 0)).center()
        QTest.mouseClick(view.viewport(), Qt.MouseButton.LeftButton, pos=place)
        self.quiet()
        self.assertIs(QApplication.focusWidget(), self.canvas)
        row = view.model().index(3, 0).row()
        self.assertEqual(view.model().key(row), self.model.current, "and the click still does its work")
        # by a button that is clicked,
        spin.setFocus()
        self.click(self.window.slip.fold)
        self.quiet()
        self.assertIs(QApplication.focusWidget(), self.canvas)
        self.assertTrue(self.window.slip._unfolded)
        # and on the way to another station.
        next(w for w in self.inputs() if w.objectName()).setFocus()
        self.model.set_station("measure")
        self.quiet()
        self.assertIs(QApplication.focusWidget(), self.canvas)
        # A digit is a station then, not a number in a field.
        before = self.model.settings()
        self.key(Qt.Key.Key_4)
        self.assertEqual((self.model.station, self.model.settings()), ("combine", before))
        # Who types keeps the keyboard.
        search = next(w for w in self.window.board_of["combine"].findChildren(QLineEdit) if w.isVisible())
        QTest.mouseClick(search, Qt.MouseButton.LeftButton)
        QTest.keyClicks(search, "01")
        self.quiet()
        self.assertEqual(search.text(), "01")
        self.assertIs(QApplication.focusWidget(), search)

    def test_space_never_presses_the_button_of_a_finding(self) -> None:
        self.model.set_station("combine")
        self.quiet()
        buttons = [b for b in self.window.slip.findChildren(CardButton) if b.isVisible()]
        self.assertTrue(buttons)
        out, brushed, steps = dict(self.model.left_out()), self.model.brushed, self.model.undo.count()
        for button in buttons:
            button.setFocus(Qt.FocusReason.TabFocusReason)
            self.quiet()
            QTest.keyClick(button, Qt.Key.Key_Space)
            self.window._by_key_or_menu(next(a for a in self.window_actions() if a.keys == "Space"))
            self.quiet()
        self.assertEqual((dict(self.model.left_out()), self.model.brushed, self.model.undo.count()), (out, brushed, steps))
        shown = next(b for b in buttons if b.text() == "Show")
        shown.setFocus(Qt.FocusReason.TabFocusReason)
        QTest.keyClick(shown, Qt.Key.Key_Return)
        self.assertNotEqual(self.model.brushed, brushed, "Enter does")

    def window_actions(self) -> tuple:
        from ulvar.desktop.shell.actions import ACTIONS

        return ACTIONS

    def test_undo_says_what_it_takes_back(self) -> None:
        undo = self.window.actions_by_command["undo"]
        redo = self.window.actions_by_command["redo"]
        self.assertEqual(undo.text(), "Undo")
        radius = self.model.settings().measure.radius
        self.model.set_setting("measure", "radius", 4.7)
        self.assertRegex(undo.text(), rf"^Undo: aperture.* {radius:g}.* to 4\.7")
        self.model.undo.undo()
        self.assertEqual(undo.text(), "Undo")
        self.assertRegex(redo.text(), r"^Redo: aperture")
        self.model.set_setting("combine", "method", "median")
        self.assertRegex(undo.text(), "(?i)^Undo: reject .* to median")
        self.model.leave_out([self.model.lights()[0].path], "x")
        self.assertEqual(undo.text(), "Undo: leave out 1")

    def test_a_folder_that_was_added_is_taken_back(self) -> None:
        night = self.model.night
        before = [str(p) for p in night.raw_paths]
        count = len(self.model.exposures())
        more = self.folder / "more"
        more.mkdir()
        source = self.model.lights()[0].path
        shutil.copy(source, more / "extra.fits")
        self.assertTrue(self.model.jobs.add_folders([more]))
        self.idle()
        self.assertEqual(len(self.model.exposures()), count + 1)
        self.assertEqual(self.window.actions_by_command["undo"].text(), "Undo: add more")
        with mock.patch.object(QFileDialog, "getExistingDirectory", return_value=str(more)):
            self.window.command("add folder")
        self.assertEqual(self.messages[-1], "This folder is in the night already, or something runs.")
        self.model.undo.undo()
        self.idle()
        self.assertEqual(len(self.model.exposures()), count)
        self.assertEqual([str(p) for p in night.raw_paths], before)
        self.assertTrue((more / "extra.fits").exists())
        self.model.undo.redo()
        self.idle()
        self.assertEqual(len(self.model.exposures()), count + 1)

    def test_facts_of_place_and_pointing_are_corrected(self) -> None:
        path = self.model.current
        before = self.model.facts(path)
        # What other runs typed stays away.
        self.window.settings.remove("sites")
        self.addCleanup(self.window.settings.remove, "sites")
        self.window.command("facts")
        panel = self.window.chores.panel
        self.assertIsNone(panel.fields["site"].completer())
        self.assertEqual(panel.fields["object"].text(), before.object)
        self.assertEqual(panel.fields["site"].text(), ", ".join(f"{v:.6g}" for v in before.site))
        for name, text in (("site", "Hill: 48.1, -11.6, 520"), ("ra_deg", "07 42 10.5"), ("dec_deg", "-12 30 00"), ("object", "Elsewhere")):
            panel.fields[name].setText(text)
        self.click(panel.action)
        self.quiet()
        facts = self.model.facts(path)
        self.assertEqual(facts.site, (48.1, -11.6, 520.0))
        self.assertAlmostEqual(facts.ra_deg, 115.54375, places=6)
        self.assertEqual((facts.dec_deg, facts.object), (-12.5, "Elsewhere"))
        self.assertEqual(self.model.series_of_exposure(path).field.name, "Elsewhere")
        self.model.undo.undo()
        self.assertEqual(self.model.facts(path), before)
        # The site is offered by its name from now on; typed without one it keeps it.
        remember_site(self.window.settings, "-30.5, 20, 1800")
        remember_site(self.window.settings, "48.1, -11.6, 520")
        self.assertEqual(known_sites(self.window.settings), ["Hill: 48.1, -11.6, 520", "-30.5, 20, 1800"])
        self.window.command("facts")
        field = self.window.chores.panel.fields["site"]
        field.offer()
        offered = field.completer()
        self.assertEqual(offered.completionCount(), 2)
        field.clear()
        QTest.keyClicks(field, "hill")
        self.assertEqual(offered.completionCount(), 1)
        self.assertEqual(offered.currentCompletion(), "Hill: 48.1, -11.6, 520")
        self.window.chores.panel.close()

    def test_long_names_never_widen_the_slip(self) -> None:
        name = "light_" + "0123456789" * 12 + "_V_0007.fits"
        known, gone = self.model.lights()[0].path, "/nowhere/x.fits"
        night = self.model.night
        night.set_findings("combine", [
            notice("not_scored", f"{name} was not scored", f"{name}: it has no pixels.", (known,), station="combine"),
            notice("not_aligned", "Gone", "It is not there.", (gone,), station="combine"),
        ], self.model.chosen_series().key)  # fmt: skip
        self.model.set_station("combine")
        self.model.drop()
        self.model.findings_changed.emit()
        self.quiet()
        slip = self.window.slip
        inside = slip._scroll.widget()
        self.assertLessEqual(inside.width(), slip._scroll.viewport().width())
        self.assertEqual(slip._scroll.horizontalScrollBar().maximum(), 0)
        texts = [w.text() for w in slip.findChildren(QLabel) if w.isVisible() and "…" in w.text()]
        self.assertTrue(any(t.startswith("light_") and "0007.fits" in t for t in texts), texts)
        self.assertTrue(any(name in w.toolTip() for w in slip.findChildren(QLabel)))
        cards = {c.findChild(QLabel).text(): c for c in slip.findChildren(FindingCard) if c.isVisible()}
        shows = {t: any(b.text() == "Show" for b in c.findChildren(CardButton)) for t, c in cards.items()}
        self.assertEqual([on for t, on in shows.items() if t == "Gone"], [False], "there is nothing to show")
        self.assertTrue(any(on for t, on in shows.items() if t.startswith("light_")))

    def test_a_wrong_catalogue_is_refused_when_it_is_chosen(self) -> None:
        self.model.set_station("plate")
        self.quiet()
        right = self.model.settings().plate.catalogue
        ra, dec = self.model.facts(self.model.current).ra_deg, self.model.facts(self.model.current).dec_deg
        for name, text, told in (
            ("picture.png", b"\x89PNG\xff\xfe", "not a text table"),
            ("other.csv", b"name,x,y\na,1,2\n", "no ra and dec columns"),
            ("empty.csv", b"ra,dec,mag\n", "no row has a usable position"),
            ("far.csv", f"ra,dec,mag\n{(ra + 180) % 360},{-dec},9\n".encode(), f"RA {ra:.1f}"),
        ):
            path = self.folder / name
            path.write_bytes(text)
            with mock.patch.object(QFileDialog, "getOpenFileName", return_value=(str(path), "")):
                self.choose_button().click()
            self.quiet()
            self.assertIn(told, self.messages[-1])
            self.assertEqual(self.model.settings().plate.catalogue, right, name)
        near = self.folder / "near.csv"
        near.write_text(f"ra,dec,mag\n{ra},{dec},9\n")
        with mock.patch.object(QFileDialog, "getOpenFileName", return_value=(str(near), "")):
            self.choose_button().click()
        self.assertEqual(self.model.settings().plate.catalogue, str(near))
        self.model.undo.undo()
        self.assertEqual(self.model.settings().plate.catalogue, right)

    def choose_button(self) -> QPushButton:
        return next(b for b in self.window.slip.findChildren(QPushButton, "plate.catalogue") if b.isVisible())

    def test_other_stations_findings_are_one_line(self) -> None:
        night = self.model.night
        path = self.model.lights()[0].path
        for station in ("intake", "masters", "calibrate", "combine"):
            night.set_findings(station, [], self.model.chosen_series().key)
            night.set_findings(station, [])
        night.set_findings("masters", [notice("no_safe_dark", "No dark", "None fits.", (path,), station="masters")])
        night.set_findings("intake", [notice("truncated", "Cut short", "It ends early.", (path,), station="intake")])
        self.model.set_station("combine")
        self.model.drop()
        self.model.findings_changed.emit()
        self.quiet()
        slip = self.window.slip
        self.assertEqual([c for c in slip.findChildren(FindingCard) if c.isVisible()], [])
        (line,) = [b for b in slip.findChildren(CardButton) if b.isVisible()]
        self.assertRegex(line.text(), r"^Elsewhere: .*(blocking|to check)")
        self.assertIn("Masters: No dark", line.toolTip())
        worst = min(night.findings(), key=lambda f: f.severity)
        self.click(line)
        self.quiet()
        self.assertEqual(self.model.station, worst.station)
        titles = [c.findChild(QLabel).text() for c in slip.findChildren(FindingCard) if c.isVisible()]
        self.assertEqual(titles, [worst.title])

    def cards(self) -> dict[str, FindingCard]:
        """Findings in sight by their titles."""
        return {
            c.findChild(QLabel).text(): c for c in self.window.slip.findChildren(FindingCard) if c.isVisible()
        }  # fmt: skip

    def test_a_mend_leaves_its_trace_and_can_be_taken_back(self) -> None:
        slip = self.window.slip
        find = lambda: next(f for f in self.model.jobs.findings() if f.code == "cloud")  # noqa: E731
        cloud = find()
        words = lambda card: [w.text() for w in card.findChildren(QLabel) if w.isVisible()]  # noqa: E731

        def heading():
            return [w.text() for w in slip.findChildren(QLabel) if w.property("kind") == "unit" and w.isVisible()]

        # Cards follow in a later turn.
        self.until(lambda: cloud.title in self.cards(), 20, "the card of the cloud")
        card = self.cards()[cloud.title]
        before = sum(f.station == "combine" for f in self.model.jobs.findings())
        self.assertIn(str(before), heading())
        self.assertEqual(card.mend.text(), f"Leave out {len(cloud.files)}")
        self.click(card.mend)
        self.quiet()
        self.assertLessEqual(set(cloud.files), set(self.model.left_out()))
        card = self.cards()[cloud.title]
        self.assertIn(f"{len(cloud.files)} exposures left out.", words(card))
        self.assertIn("Done", words(card))
        self.assertEqual(card.mend.text(), "Put back")
        self.assertIn(str(before - 1) if before > 1 else "none open", heading())

        # In part put back by hand, the offer stands again.
        self.model.put_back([cloud.files[0]])
        self.quiet()
        self.assertEqual(self.cards()[cloud.title].mend.text(), f"Leave out {len(cloud.files)}")
        self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        self.quiet()
        self.assertEqual(self.cards()[cloud.title].mend.text(), "Put back")

        # Elsewhere it is not told any more.
        self.model.set_station("plate")
        self.quiet()
        told = [b.toolTip() for b in slip.findChildren(CardButton) if b.isVisible()]
        self.assertNotIn(cloud.title, " ".join(told))
        self.model.set_station("combine")
        self.quiet()
        self.click(self.cards()[cloud.title].mend)
        self.quiet()
        self.assertFalse(set(cloud.files) & set(self.model.left_out()))
        self.assertEqual(self.cards()[cloud.title].mend.text(), f"Leave out {len(cloud.files)}")
        self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        self.assertLessEqual(set(cloud.files), set(self.model.left_out()), "putting back is a step of undo too")

    def test_a_station_does_not_call_for_what_was_put_right(self) -> None:
        night, path = self.model.night, self.model.lights()[3].path
        blocked = notice("light_is_dark", "One light is dark", "No sky.", (path,), mend=Mend.leave_out([path]))
        night.set_findings("intake", [blocked])
        night.mark_run("intake", "attention")
        self.model.drop()
        self.model.states_changed.emit()
        self.assertEqual(self.model.jobs.state("intake"), "attention")
        self.model.mend(blocked)
        self.assertEqual(self.model.jobs.state("intake"), "done")
        self.model.undo.undo()
        self.assertEqual(self.model.jobs.state("intake"), "attention")

    def test_another_field_becomes_a_series_of_its_own(self) -> None:
        night, series = self.model.night, self.model.chosen_series()
        files = tuple(f.path for f in series.members[:3])
        before = {one.key: one.files for one in night.series()}
        other = notice("other_field", "Another field", "3 agree.", files, mend=Mend("Make a series of 3", "object:West 2", files))
        night.set_findings("combine", [other], series.key)
        self.model.drop()
        self.model.findings_changed.emit()
        self.model.set_station("combine")
        self.quiet()
        self.click(self.cards()["Another field"].mend)
        self.quiet()
        self.assertEqual({night.facts(path).object for path in files}, {"West 2"})
        made = [one for one in night.series() if one.field.name == "West 2"]
        self.assertEqual([sorted(one.files) for one in made], [sorted(files)])
        self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        self.assertEqual({one.key: one.files for one in night.series()}, before)

    def test_closing_while_something_runs_is_asked_about(self) -> None:
        go = threading.Event()
        self.addCleanup(go.set)

        def wait(night: object, context: JobContext, series: object) -> StationResult:
            while not context.stop.stopping and not go.wait(0.02):
                pass
            context.stop.check()
            return StationResult("combine", "done")

        with mock.patch("ulvar.desktop.models.jobs.run_score", wait):
            self.assertTrue(self.model.jobs.run_station("combine", "score"))
        with mock.patch.object(QMessageBox, "question", return_value=QMessageBox.StandardButton.Cancel) as asked:
            self.assertFalse(self.window.close())
        self.assertTrue(self.window.isVisible() and self.model.jobs.busy)
        (_, _, words, offered, first) = asked.call_args.args
        self.assertIn("What is finished is kept", words)
        self.assertEqual((offered, first), (QMessageBox.StandardButton.Close | first, QMessageBox.StandardButton.Cancel))
        with mock.patch.object(QMessageBox, "question", lambda *_: QMessageBox.StandardButton.Close):
            self.assertTrue(self.window.close())
        self.assertEqual(self.model.jobs.job.state, "stopped")
