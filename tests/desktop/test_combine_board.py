"""The Combine board: one selection in table, scatter and line; rules; stars; the field; the keyboard alone."""

import csv
from unittest import mock

import numpy as np
from PySide6.QtCore import QItemSelectionModel, QPointF, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QFileDialog

from tests.desktop.scored import ScoredCase
from ulvar.night import Night
from ulvar.night.settings import CombineSettings, NightSettings
from ulvar.stars import QUALITIES


class Exposures(ScoredCase):
    """Table, lines, scatter, night line."""

    def names(self) -> list[str]:
        """Return the table's exposures in their order."""
        rows = self.page("exposures").rows
        return [rows.key(i) for i in range(rows.rowCount())]

    def test_sorting_and_filtering(self) -> None:
        page = self.page("exposures")
        quality = self.model.looking.quality()
        header = page.view.horizontalHeader()
        QTest.mouseClick(
            header.viewport(), Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier,
            QPointF(header.sectionPosition(1) + 10, 10).toPoint(),
        )  # fmt: skip
        shown = [page.rows.key(i) for i in range(page.rows.rowCount())]
        widths = [quality[p]["fwhm_px"] for p in shown]
        self.assertEqual(widths, sorted(widths, reverse=True), "the widest first")
        page.sort_by("fwhm_px")
        self.assertEqual(page.rows.key(0), shown[-1], "again, the other way round")
        page.search.setText("V-00")
        self.assertTrue(0 < page.rows.rowCount() < len(shown))
        self.assertEqual(page.listed.text(), f"{page.rows.rowCount()} of {len(shown)}")
        page.search.clear()
        page.filter_box.setCurrentIndex(page.filter_box.findData("ruled"))
        page.filter_box.activated.emit(0)
        ruled = self.model.looking.stack_plan()[1]
        self.assertEqual({page.rows.key(i) for i in range(page.rows.rowCount())}, set(ruled))
        QTest.mouseClick(page.sparks, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, QPointF(10, 30).toPoint())
        self.assertEqual(page.order[0], "fwhm_px")

    def test_one_selection_everywhere(self) -> None:
        page = self.page("exposures")
        chosen = [page.rows.key(i) for i in (2, 3, 5)]
        selection = page.view.selectionModel()
        flag = QItemSelectionModel.SelectionFlag
        selection.clearSelection()
        for i in (2, 3, 5):
            selection.select(page.rows.index(i, 0), flag.Select | flag.Rows)
        self.assertEqual(set(self.model.brushed), set(chosen))
        self.assertEqual(page.plot.selected, set(chosen))
        # A rectangle over the scatter selects in the table.
        area = page.plot._area()
        self.drag(page.plot, area.topLeft() + QPointF(2, 2), area.bottomRight() - QPointF(2, 2))
        self.assertGreater(len(self.model.brushed), 20)
        self.assertEqual(len(selection.selectedRows()), len(self.model.brushed))
        # X leaves them out together, in table, scatter and line.
        self.model.set_brush(chosen)
        self.key(Qt.Key.Key_X)
        self.assertEqual(set(self.model.left_out()), set(chosen))
        page = self.page("exposures")
        self.assertIn("∅", page.rows._rows[page.rows.row_of(chosen[0])][0])
        kinds = dict(zip(page.plot.series[0].keys, page.plot.series[0].kinds))
        self.assertEqual(kinds[chosen[1]], "left_out")
        self.assertEqual({d[0] for d in self.window.line.line.state.dots() if d[3] == "left_out"}, set(chosen))

    def test_row_scatter_and_line_go_to_the_exposure(self) -> None:
        page = self.page("exposures")
        page.view.selectRow(4)
        self.assertEqual(self.model.current, page.rows.key(4))
        places = page.plot._places()
        # A point by itself: clicks fall on whole pixels, and the nearest point is taken.
        key, place = next((k, p) for k, p in places if all((p - other).manhattanLength() > 4 for name, other in places if name != k))
        self.assertNotEqual(self.model.current, key)
        self.click(page.plot, place.x(), place.y())
        self.assertEqual(self.model.current, key)
        self.assertEqual(page.plot.current, self.model.current)

    def test_every_quality_can_be_on_the_axes_and_on_the_line(self) -> None:
        page = self.page("exposures")
        for box in page.axis_boxes:
            for i in range(box.count()):
                box.setCurrentIndex(i)
                page._axes_chosen()
                page.plot.grab()
        known = [self.window.line.metric_box.itemData(i) for i in range(self.window.line.metric_box.count())]
        for key in ("gradient_adu", "noise_ratio", "shift_px", "saturated", "fwhm_arcsec", "score"):
            self.assertIn(key, known)
        self.model.numbers.set_metric("gradient_adu")
        self.window.line.grab()

    def test_export(self) -> None:
        target = self.folder / "exposures.csv"
        out = self.model.lights()[3].path
        self.model.leave_out([out], "clouds, I think")
        with mock.patch.object(QFileDialog, "getSaveFileName", return_value=(str(target), "")):
            self.key(Qt.Key.Key_E, Qt.KeyboardModifier.ControlModifier)
        rows = list(csv.DictReader(target.read_text().splitlines()))
        self.assertEqual(len(rows), len(self.model.looking.quality()))
        self.assertLessEqual(set(QUALITIES), set(rows[0]))
        gone = next(r for r in rows if r["file"] == self.model.facts(out).name)
        self.assertEqual((gone["kept"], gone["reason"]), ("no", "clouds, I think"))
        ruled = {self.model.facts(p).name for p in self.model.looking.stack_plan()[1]}
        self.assertEqual({r["file"] for r in rows if r["kept"] == "no"}, ruled | {gone["file"]})


class Rules(ScoredCase):
    """Rules and score, live and undoable."""

    def test_add_change_remove_and_undo(self) -> None:
        page = self.page("rules")
        before = len(self.model.looking.stack_plan()[0])
        self.assertEqual(page.new_quality.accessibleName(), "Quality of the new rule")
        page.new_quality.setCurrentIndex(page.new_quality.findData("fwhm_px"))
        page.new_limit.setValue(3.3)
        self.click(page.add)
        rules = self.model.settings().combine.rules
        self.assertEqual((rules[-1].quality, rules[-1].side, rules[-1].limit), ("fwhm_px", "over", 3.3))
        wide = [p for p, r in self.model.looking.comparable().items() if r["fwhm_px"] > 3.3]
        self.assertGreater(len(wide), 0)
        self.assertEqual(self.model.looking.rule_counts()[-1].takes, len(wide))
        self.assertLess(len(self.model.looking.stack_plan()[0]), before)
        self.assertIn(f"{len(self.model.looking.stack_plan()[0])} in the stack", self.window.board_of["combine"].count.text())
        words = page.outlook.text()
        self.assertIn(f"{len(self.model.looking.stack_plan()[0])} stay", words)
        self.assertIn("FWHM", words)
        stored = Night(self.model.night.folder)
        self.assertEqual(len(stored.settings.combine.rules), 3, "kept in the night")
        stored.close()
        page._rules.itemAtPosition(2, 2).widget().setValue(9.0)
        changed = self.model.settings().combine.rules
        self.assertEqual([(r.quality, r.limit) for r in changed], [*((r.quality, r.limit) for r in rules[:2]), ("fwhm_px", 9.0)])
        self.assertEqual(rules[-1].limit, 3.3, "who has read the settings before keeps what was read")
        self.assertEqual(self.model.looking.rule_counts()[-1].takes, 0)
        self.click(page._rules.itemAtPosition(2, 4).widget())
        self.assertEqual(self.model.settings().combine.rules, rules[:2])
        for _ in range(3):
            self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        self.assertEqual(len(self.model.settings().combine.rules), 2)
        self.assertEqual(len(self.model.looking.stack_plan()[0]), before)

    def test_blend_changes_the_scores(self) -> None:
        page = self.page("rules")
        before = {p: r["score"] for p, r in self.model.looking.quality().items()}
        for key, spin in page.weights.items():
            spin.setValue(1.0 if key == "stars" else 0.0)
        counts = {p: r["stars"] for p, r in self.model.looking.quality().items()}
        after = {p: r["score"] for p, r in self.model.looking.quality().items()}
        self.assertNotEqual(before, after)
        best = max(counts, key=lambda p: counts[p])
        self.assertEqual(after[best], 1.0)
        self.assertIn("Score = stars,", page.score_words.text())
        self.click(page.reset)
        self.assertIn("transparency / (FWHM × noise)", page.score_words.text())
        self.assertEqual({p: r["score"] for p, r in self.model.looking.quality().items()}, before)

    def test_nights_of_older_versions_keep_their_rules(self) -> None:
        old = {"combine": {"fwhm_over": 4.2, "transparency_under": None, "ellipticity_over": 0.3, "low": 3.0}}
        rules = NightSettings.model_validate(old).combine.rules
        self.assertEqual([(r.quality, r.side, r.limit) for r in rules], [("fwhm_px", "over", 4.2), ("ellipticity", "over", 0.3)])
        for wrong in ({"rules": [{"quality": "beauty", "side": "over", "limit": 1}]}, {"blend": {"beauty": 1.0}},
                      {"blend": {"stars": -1.0}}, {"regions": [{"kind": "polygon", "points": [[0, 0]]}]}):  # fmt: skip
            with self.assertRaises(ValueError):
                CombineSettings.model_validate(wrong)


class StarPages(ScoredCase):
    """Star table and field map follow the exposure, and the picture."""

    def test_table_and_picture_are_one(self) -> None:
        self.key(Qt.Key.Key_S)
        page = self.page("stars")
        table = self.sky.stars_of(self.model.current)
        self.assertEqual(page.rows.rowCount(), len(table))
        page.view.selectRow(6)
        self.assertEqual(self.model.looking.chosen_star, (float(table.x[6]), float(table.y[6])))
        self.assertEqual(self.sky.canvas.overlay.chosen, self.model.looking.chosen_star, "ringed on the picture")
        place = self.sky.canvas.sight.to_screen(table.x[2], table.y[2])
        self.click(self.sky.canvas, place.x(), place.y())
        self.assertEqual(page.view.currentIndex().row(), 2, "and back")
        self.key(Qt.Key.Key_Right)
        self.assertIsNone(self.model.looking.chosen_star)
        self.assertIn(str(len(self.sky.stars_of(self.model.current))), page.words.text())

    def test_limits_are_live(self) -> None:
        self.key(Qt.Key.Key_S)
        page = self.page("stars")
        stored = len(self.sky.canvas.overlay.detections)
        page.sliders["threshold"].setValue(150)
        self.until(lambda: self.model.looking.tuned_stars is not None, 60, "stars with open limits")
        self.assertIn("within the limits", page.words.text())
        self.assertLess(len(self.sky.canvas.overlay.detections), stored)
        self.assertTrue((page._listed.snr >= 15).all())
        counts = []
        for value in (60, 100, 200):
            page.sliders["threshold"].setValue(value)
            counts.append(len(self.model.looking.tuned_stars))
        self.assertEqual(counts, sorted(counts, reverse=True))
        self.click(page.keep)
        self.assertEqual(self.model.settings().combine.threshold, 20.0)
        self.assertEqual(self.model.jobs.state("combine"), "stale", "the scores were made with other limits")
        self.page("exposures")
        self.assertIsNone(self.model.looking.tuned_stars)

    def test_field_map(self) -> None:
        page = self.page("field")
        self.assertIsNotNone(page.plot.map)
        self.assertIn("in the middle", page.words.text())
        page.plot.grab()
        fwhm = self.model.products("score")[self.model.current].values["fwhm_px"]
        self.assertLess(abs(page.plot.map.middle_px / fwhm - 1), 0.05)
        trailed = max(self.model.looking.quality(), key=lambda p: self.model.looking.quality()[p]["ellipticity"])
        self.model.set_current(trailed)
        if page.plot.map is not None and self.model.looking.quality()[trailed]["ellipticity"] > 0.15:
            self.assertIn("long", page.words.text())


class KeyboardOnly(ScoredCase):
    """Open, step, leave out, undo, rule, export: no mouse."""

    def test_path_through_a_night(self) -> None:
        key, model = self.key, self.model
        with mock.patch.object(QFileDialog, "getExistingDirectory", return_value=str(model.night.folder)):
            key(Qt.Key.Key_O, Qt.KeyboardModifier.ControlModifier)
        self.idle()
        key(Qt.Key.Key_4)
        self.assertEqual(model.station, "combine")
        first = model.current
        key(Qt.Key.Key_Right)
        second = model.current
        self.assertNotEqual(first, second)
        key(Qt.Key.Key_X)
        self.assertEqual(set(model.left_out()), {second})
        key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        self.assertEqual(model.left_out(), {})
        # A rule: Ctrl+L goes to it, Tab from field to field, typed numbers, Space on the button.
        key(Qt.Key.Key_L, Qt.KeyboardModifier.ControlModifier)
        page = self.window.board_of["combine"].shown
        self.until(lambda: QApplication.focusWidget() is page.new_quality, 5, "the new rule under the keyboard")
        for _ in range(2):
            QTest.keyClick(QApplication.focusWidget(), Qt.Key.Key_Tab)
        self.assertIs(QApplication.focusWidget(), page.new_limit)
        page.new_limit.selectAll()
        QTest.keyClicks(page.new_limit, "3.25")
        QTest.keyClick(page.new_limit, Qt.Key.Key_Tab)
        self.assertIs(QApplication.focusWidget(), page.add)
        QTest.keyClick(page.add, Qt.Key.Key_Space)
        self.assertEqual(model.settings().combine.rules[-1].limit, 3.25)
        # The finder reaches what has no key.
        key(Qt.Key.Key_K, Qt.KeyboardModifier.ControlModifier)
        finder = self.window.finder
        QTest.keyClicks(finder.field, "stars of this")
        QTest.keyClick(finder.field, Qt.Key.Key_Return)
        self.assertEqual(self.window.board_of["combine"].page, "stars")
        target = self.folder / "night.csv"
        with mock.patch.object(QFileDialog, "getSaveFileName", return_value=(str(target), "")):
            key(Qt.Key.Key_E, Qt.KeyboardModifier.ControlModifier)
        self.assertEqual(len(target.read_text().splitlines()), 1 + len(model.looking.quality()))
        out = {r["file"] for r in csv.DictReader(target.read_text().splitlines()) if "FWHM" in r["reason"]}
        self.assertEqual(len(out), sum(r["fwhm_px"] > 3.25 for r in model.looking.quality().values() if r["transparency"] >= 0.8))
        self.assertTrue(np.isfinite([r["score"] for r in model.looking.quality().values()]).all())
