"""Measure's pages: an aperture is proposed and taken, candidates get roles, the whole field is searched."""

from unittest import mock

from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QFileDialog
from tools.cases import small_demo

from tests.desktop.solved import SolvedCase
from ulvar.astrometry import read_rows
from ulvar.photometry import ListedStar, read_star_list


class Pages(SolvedCase):
    """The window at Measure, on a solved night."""

    def setUp(self) -> None:
        super().setUp()
        listed = read_star_list(small_demo() / "stars.csv")
        self.model.matching.set_stars([s for s in listed if s.role == "target"], "the target")
        self.model.set_station("measure")
        self.shown()
        self.quiet()

    @property
    def board(self):  # type: ignore[no-untyped-def]
        """The board of Measure."""
        return self.window.board_of["measure"]

    def done(self) -> None:
        """Wait until what runs has ended."""
        self.idle()
        self.quiet()

    def test_an_aperture_is_tried_proposed_taken_and_given_back(self) -> None:
        page = self.turn("aperture")
        self.assertFalse(page.take.isEnabled())
        self.assertFalse(page.snr.series)
        before = self.model.settings().measure
        self.click(page.run)
        self.done()
        page = self.board.shown
        growths = self.model.field.growths()
        self.assertGreaterEqual(len(growths), 2)
        widths = [g.fwhm_px for g in growths.values()]
        self.assertEqual(widths, sorted(widths))
        proposal = self.model.field.proposal()
        self.assertIn(f"Proposed: {proposal.radius_fwhm:g} FWHM", page.why.text())
        # What is plotted is what was measured.
        first = next(iter(growths.values()))
        self.assertEqual(page.share.series[0].y.tolist(), (100 * first.share).tolist())
        self.assertAlmostEqual(float(page.snr.series[0].y.max()), 100.0)
        self.assertEqual(page.snr.marker, before.radius)
        self.assertEqual(page.rows.rowCount(), len(growths))
        self.click(page.take)
        self.quiet()
        now = self.model.settings().measure
        self.assertEqual((now.radius, now.inner_px, now.outer_px), (proposal.radius_fwhm, proposal.inner_px, proposal.outer_px))
        self.assertEqual(self.board.shown.snr.marker, proposal.radius_fwhm)
        # The rings on the picture are those of the setting.
        fwhm = float(self.model.scores()[self.model.current].values["fwhm_px"])
        self.assertAlmostEqual(self.window.sky.canvas.overlay.aperture[0], proposal.radius_fwhm * fwhm, places=6)
        self.model.undo.undo()
        self.quiet()
        self.assertEqual(self.model.settings().measure, before)

    def test_a_row_goes_to_its_exposure(self) -> None:
        page = self.turn("aperture")
        self.click(page.run)
        self.done()
        page = self.board.shown
        raws = list(self.model.field.growths())
        other = next(raw for raw in raws if raw != self.model.current)
        row = page.rows.row_of(other)
        rect = page.table.visualRect(page.rows.index(row, 0))
        QTest.mouseClick(page.table.viewport(), Qt.MouseButton.LeftButton, pos=rect.center())
        self.quiet()
        self.assertEqual(self.model.current, other)

    def test_candidates_are_given_a_role_and_lose_it(self) -> None:
        page = self.turn("comparisons")
        self.until(lambda: self.model.field.candidates() is not None)
        self.quiet()
        page = self.board.shown
        found = self.model.field.candidates()
        self.assertIn(f"{sum(c.good for c in found.found)} of {len(found.found)} stars", page.words.text())
        self.assertIn("colour", page.words.text())
        self.assertFalse(page.add.isEnabled())
        # The best one without a role, chosen with the mouse and added with Enter.
        row = next(r for r in range(page.rows.rowCount()) if not page.rows.index(r, 1).data() and page.rows.index(r, 6).data() == "nothing")
        name = page.rows.key(row)
        page.table.scrollTo(page.rows.index(row, 0))
        rect = page.table.visualRect(page.rows.index(row, 0))
        QTest.mouseClick(page.table.viewport(), Qt.MouseButton.LeftButton, pos=rect.center())
        self.quiet()
        self.assertTrue(page.add.isEnabled())
        self.assertEqual(self.model.field.chosen, name)
        marks = {mark[0]: mark for mark in self.window.sky.canvas.overlay.candidates}
        self.assertTrue(marks[name][4])
        self.assertEqual(marks[name][3], "good")
        # The mark stands on a star of the picture.
        table = self.window.sky.stars_of(self.model.current)
        away = ((table.x - marks[name][1]) ** 2 + (table.y - marks[name][2]) ** 2) ** 0.5
        self.assertLess(float(away.min()), 1.0)
        before = self.model.night.stars()
        page.table.setFocus()
        QTest.keyClick(page.table, Qt.Key.Key_Return)
        self.quiet()
        after = self.model.night.stars()
        (new,) = [s for s in after if s.name not in {b.name for b in before}]
        self.assertEqual(new.role, "comparison")
        place = self.model.numbers.star_pixels(self.model.current)[new.name]
        self.assertLess(((place[0] - marks[name][1]) ** 2 + (place[1] - marks[name][2]) ** 2) ** 0.5, 0.1)
        self.until(lambda: self.model.field.candidates() is not None)
        self.quiet()
        page = self.board.shown
        row = page.rows.row_of(name)
        self.assertEqual(page.rows.index(row, 1).data(), f"{new.name}, comparison")
        page.table.selectRow(row)
        page.table.setFocus()
        QTest.keyClick(page.table, Qt.Key.Key_Delete)
        self.quiet()
        self.assertEqual(self.model.night.stars(), before)
        self.model.undo.undo()
        self.assertEqual(self.model.night.stars(), after)
        # At another page, and another station, nothing of it is marked.
        self.turn("measured")
        self.assertEqual(self.window.sky.canvas.overlay.candidates, [])
        self.turn("comparisons")
        shown = self.window.sky.canvas.overlay.candidates
        self.assertGreater(len(shown), 5)
        self.model.set_station("curve")
        self.assertEqual(self.window.sky.canvas.overlay.candidates, [])
        self.model.set_station("measure")
        self.assertEqual(self.window.sky.canvas.overlay.candidates, shown)

    def test_the_best_are_proposed_from_any_page(self) -> None:
        before = self.model.night.stars()
        self.window.command("propose")
        self.until(lambda: len(self.model.night.stars()) > len(before))
        self.quiet()
        found = self.model.field.candidates()
        good = [c for c in found.found if c.good]
        added = self.model.night.stars()[len(before) :]
        self.assertEqual([s.role for s in added], (["comparison"] * 3 + ["check"] + ["comparison"] * 3)[: len(added)])
        self.assertEqual(len(added), min(7, len(good)))
        self.assertIn("stars proposed", self.messages[-1])
        places = self.model.numbers.star_pixels(self.model.current)
        best = self.model.numbers.places_in_origin(
            self.model.current, [(str(k), ListedStar("", "", x=c.x, y=c.y)) for k, c in enumerate(good[: len(added)])]
        )
        for star, place in zip(added, best.values()):
            self.assertLess(abs(places[star.name][0] - place[0]) + abs(places[star.name][1] - place[1]), 0.1)
        # Asked again, others are added: those that have a role are not taken twice.
        self.until(lambda: self.model.field.candidates() is not None)
        self.window.command("propose")
        self.quiet()
        names = [s.name for s in self.model.night.stars()]
        self.assertEqual(len(set(names)), len(names))
        self.model.undo.undo()
        if self.model.night.stars() != before:
            self.model.undo.undo()
        self.assertEqual(self.model.night.stars(), before)

    def test_the_field_is_searched_and_shown(self) -> None:
        page = self.turn("whole")
        self.assertIn("target and comparison at once", page.words.text())
        self.assertFalse(page.save.isVisible())
        self.click(page.run)
        self.done()
        page = self.board.shown
        search = self.model.field.field()
        self.assertGreater(len(search.stars), 20)
        self.assertIn(f"{len(search.stars)} stars", page.words.text())
        shown = sum(len(points.x) for points in page.plot.series)
        self.assertEqual(shown, sum(s.verdict.scatter > 0 for s in search.stars))
        # The sum's line is the noise model's.
        self.assertEqual(
            {token for *_, token in page.plot.curves}, {"comparison", "mute", "soft", "check", "text"} & {t for *_, t in page.plot.curves}
        )
        self.assertIn("text", {token for *_, token in page.plot.curves})
        # A click on a point goes to the star, which is marked on the picture.
        points = page.plot.series[0]
        at = page.plot.to_screen(float(points.x[3]), float(points.y[3]))
        QTest.mouseClick(page.plot, Qt.MouseButton.LeftButton, pos=QPoint(round(at.x()), round(at.y())))
        self.quiet()
        chosen = self.model.field.chosen
        self.assertTrue(chosen)
        star = next(s for s in search.stars if s.verdict.name == chosen)
        mark = next(m for m in self.window.sky.canvas.overlay.candidates if m[0] == chosen)
        place = self.model.field.place(chosen, self.model.current)
        self.assertLess(abs(mark[1] - place[0]) + abs(mark[2] - place[1]), 1e-6)
        self.assertGreater(star.measured, 3)
        # Its marks are there again on coming back.
        marks = self.window.sky.canvas.overlay.candidates
        self.model.set_station("curve")
        self.assertEqual(self.window.sky.canvas.overlay.candidates, [])
        self.model.set_station("measure")
        self.assertEqual(self.window.sky.canvas.overlay.candidates, marks)
        out = self.folder / "field.csv"
        with mock.patch.object(QFileDialog, "getSaveFileName", return_value=(str(out), "")):
            self.click(page.save)
        self.assertEqual(out.read_text().count("\n"), len(search.stars) + 1)
        other = self.folder / "field.fits"
        with mock.patch.object(QFileDialog, "getSaveFileName", return_value=(str(other), "")):
            self.click(page.save)
        names, rows = read_rows(other)
        self.assertIn("flux", " ".join(names))
        self.assertEqual(len(list(rows)), len(search.stars))

    def test_words_reach_all_of_it(self) -> None:
        for word, page in (
            ("page aperture", "aperture"), ("page whole", "whole"), ("page comparisons", "comparisons"), ("page measured", "measured"),
        ):  # fmt: skip
            self.window.command(word)
            self.quiet()
            self.assertEqual((self.model.station, self.board.page), ("measure", page))
