"""Plate: the distance tool, marks, moving bodies, going to places, and what comes out of them, driven as a user drives them."""

import math
import shutil
from pathlib import Path
from unittest import mock

import fitsio
import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCheckBox, QFileDialog, QInputDialog, QPushButton
from tools.cases import small_demo
from tools.held import unnoted
from tools.window_cases import WindowCase

from tests.desktop.solved import SolvedCase
from ulvar.astrometry import import_stars, load_catalogue, name_catalogue, offset_position, position_angle_deg, separation_deg
from ulvar.astrometry.votable import read_votable
from ulvar.desktop.shell import exports
from ulvar.lightcurves import julian_year
from ulvar.night import Night
from ulvar.night.settings import PlaceSettings
from ulvar.night.stations import pair_rows
from ulvar.simulation import Psf, star_field
from ulvar.simulation.demo_plan import minor_body
from ulvar.stars import measure_pair


class PlateCase(SolvedCase):
    def two_stars(self, apart: float = 60.0) -> tuple[tuple[float, float], tuple[float, float]]:
        """Return two bright lone stars of the exposure on screen, about so far apart [px]."""
        table = self.sky.stars_of(self.model.current)
        clean = [
            k for k in range(60)
            if not table.flags[k] and 60 < table.x[k] < 430 and 60 < table.y[k] < 310
            and np.sort(np.hypot(table.x - table.x[k], table.y - table.y[k]))[1] > 14
        ]  # fmt: skip
        pairs = [(a, b) for a in clean for b in clean if a < b]
        a, b = min(pairs, key=lambda p: abs(math.dist(*((table.x[k], table.y[k]) for k in p)) - apart))
        return (float(table.x[a]), float(table.y[a])), (float(table.x[b]), float(table.y[b]))

    def drag_pair(self, first: tuple[float, float], second: tuple[float, float]) -> None:
        canvas = self.sky.canvas
        self.drag(canvas, canvas.sight.to_screen(*first), canvas.sight.to_screen(*second))
        self.until(lambda: not self.model.sky.measuring, 30, "the pair to be measured")
        self.quiet()

    def truth(self, place: tuple[float, float]) -> tuple[float, float]:
        """Return the catalogue's place [deg] of the star at a place of the exposure on screen."""
        catalogue = load_catalogue(small_demo() / "catalogue.csv")
        ra, dec = self.model.plates()[self.model.current].sky(*place)
        away = separation_deg(catalogue.ra, catalogue.dec, ra, dec)
        k = int(np.argmin(away))
        self.assertLess(3600 * float(away[k]), 2)
        return float(catalogue.ra[k]), float(catalogue.dec[k])


class Distance(PlateCase):
    def test_from_a_drag_to_a_table_on_disk(self) -> None:
        first, second = self.two_stars()
        a, b = self.truth(first), self.truth(second)
        apart, angle = 3600 * float(separation_deg(*a, *b)), float(position_angle_deg(*a, *b))
        self.key(Qt.Key.Key_D)
        self.assertTrue(self.sky.tools.pair.isVisible())
        self.assertFalse(self.sky.tools.pair.every.isVisible(), "there is no pair to measure everywhere yet")
        # Beside the stars, as people do.
        self.drag_pair((first[0] + 1.2, first[1] - 0.8), (second[0] - 1.0, second[1] + 1.1))
        row = self.model.sky.pair_here(self.model.current)
        self.assertLess(abs(row.sky.arcsec - apart), 0.15)
        self.assertLess(abs((row.sky.angle_deg - angle + 180) % 360 - 180), 0.1)
        words = self.sky.tools.pair.words.text()
        self.assertIn(f"{row.sky.arcsec:.1f}"[:-1], words)
        self.assertIn("position angle", words)
        (x1, y1), (x2, y2), told = self.sky.canvas.overlay.pair
        self.assertLess(math.dist((x1, y1), first), 0.3)
        self.assertLess(math.dist((x2, y2), second), 0.3)
        self.assertIn("″", told)
        self.assertIsNone(self.sky.canvas.line, "the line of the drag gives way to the pair")
        # To every exposure, by the strip's own button.
        self.click(self.sky.tools.pair.every)
        self.idle()
        self.quiet()
        page = self.board.shown
        self.assertEqual(self.board.page, "pair")
        members = len(self.model.scores())
        self.assertGreater(page.rows.rowCount(), members - 4)
        rows = self.model.sky.pair_rows()
        means = page.means.text()
        self.assertIn(f"Mean of {sum(not r.outlier for r in rows.values())}", means)
        off = [r.sky.arcsec - apart for r in rows.values() if not r.outlier]
        # A tenth of a pixel: the catalogue's own places have errors, too.
        self.assertLess(abs(np.mean(off)), 0.25)
        self.assertEqual(len(page.plot.series[0].x), len(rows))
        np.testing.assert_allclose(page.plot.series[0].y, [r.sky.arcsec for r in rows.values()])
        page.what.setCurrentIndex(page.what.findData("angle"))
        self.assertLess(np.ptp(page.plot.series[0].y), 5)
        self.assertIn("angle", page.plot.y_label)
        # A row goes to its exposure, which tells its own.
        other = list(rows)[5]
        page.table.selectRow(page.rows.row_of(other))
        self.shown()
        self.assertEqual(self.model.current, other)
        self.assertIn(f"{rows[other].sky.arcsec:.2f}"[:-1], page.words.text())
        out = self.folder / "pair.vot"
        with mock.patch.object(QFileDialog, "getSaveFileName", return_value=(str(out), "VOTable (*.vot)")):
            self.click(page.save)
        ((fields, columns),) = read_votable(out)
        self.assertEqual(len(columns["separation"]), len(rows))
        self.assertIn("position_angle", [f.name for f in fields])
        # Left out, it is out of the means.
        self.model.leave_out([other], "by hand")
        self.quiet()
        self.assertNotIn(other, self.model.sky.pair_rows())
        # Undone step by step, the pair is none any more, and its rows are not shown.
        self.model.undo.undo()
        self.model.undo.undo()
        self.quiet()
        self.assertIsNone(self.model.sky.pair)
        self.assertEqual((page.rows.rowCount(), self.sky.canvas.overlay.pair), (0, None))
        self.assertIn("drag from one star", page.words.text())
        self.model.undo.redo()
        self.quiet()
        self.assertEqual(len(self.model.sky.pair_rows()), len(rows), "they come back with it")

    def test_what_is_no_pair(self) -> None:
        self.key(Qt.Key.Key_D)
        first, _ = self.two_stars()
        table = self.sky.stars_of(self.model.current)
        gaps = [(x, y) for x in range(80, 420, 11) for y in range(80, 300, 11) if np.hypot(table.x - x, table.y - y).min() > 20]
        self.drag_pair(first, gaps[0])
        self.assertIsNone(self.model.sky.pair)
        self.assertRegex(self.sky.tools.pair.words.text(), "no second star|One star|no star|No two stars|second star")
        self.assertFalse(self.model.undo.canUndo())

    def test_it_is_followed_to_other_exposures_before_it_is_measured_there(self) -> None:
        self.key(Qt.Key.Key_D)
        first, second = self.two_stars()
        self.drag_pair(first, second)
        before = self.model.sky.pair_here(self.model.current).sky.arcsec
        self.key(Qt.Key.Key_Right)
        self.shown()
        self.until(lambda: self.model.sky.pair_here(self.model.current) is not None, 30)
        self.quiet()
        row = self.model.sky.pair_here(self.model.current)
        self.assertLess(abs(row.sky.arcsec - before), 0.3)
        self.assertIn(f"{row.sky.arcsec:.1f}"[:-1], self.sky.tools.pair.words.text())
        self.window.command("forget pair")
        self.quiet()
        self.assertIsNone(self.sky.canvas.overlay.pair)


class Bodies(PlateCase):
    def test_table_to_places_on_disk(self) -> None:
        page = self.turn("bodies")
        self.assertIn("Choose a table", page.words.text())
        self.assertFalse(page.every.isVisible())
        self.model.set_setting("plate", "bodies", str(small_demo() / "bodies.csv"))
        self.quiet()
        raw = self.model.current
        wcs = self.model.plates()[raw]
        ra, dec, _ = minor_body(self.model.facts(raw).mid_utc)
        ((name, x, y),) = self.sky.canvas.overlay.bodies
        self.assertEqual(name, "Wisp")
        self.assertLess(math.dist((x, y), tuple(float(v) for v in wcs.pixel(ra, dec))), 0.05)
        self.assertIn("told to be at", page.words.text())
        self.click(page.every)
        self.idle()
        self.quiet()
        rows = self.model.sky.body_rows()["Wisp"]
        self.assertGreater(len(rows), 8)
        self.assertEqual(page.rows.rowCount(), len(rows))
        good = [row for row in rows.values() if not row.outlier]
        pulls = np.array([[row.off[k] / row.error[k] for k in (0, 1)] for row in good])
        self.assertLess(np.abs(np.median(pulls, axis=0)).max(), 1.5)
        self.assertIn("moves 32", page.means.text())
        out = self.folder / "places.csv"
        with mock.patch.object(QFileDialog, "getSaveFileName", return_value=(str(out.with_suffix("")), "CSV (*.csv)")):
            self.click(page.save)
        self.assertEqual(out.read_text().count("\n"), 1 + len(rows))

    def test_measured_along_with_the_stars(self) -> None:
        model = self.model
        model.set_setting("plate", "bodies", str(small_demo() / "bodies.csv"))
        model.set_station("measure")
        self.quiet()
        (name, *at) = self.sky.canvas.overlay.bodies[0]
        self.assertEqual((name, self.sky.canvas.overlay.roles), ("Wisp", []))
        box = next(b for b in self.window.slip.findChildren(QCheckBox) if b.isVisible() and b.text() == "Moving bodies, too")
        self.click(box)
        self.quiet()
        (mark,) = self.sky.canvas.overlay.roles
        self.assertEqual((mark.name, mark.x, mark.y, self.sky.canvas.overlay.bodies), ("Wisp", *at, []))
        self.assertIsNotNone(self.sky.canvas.overlay.aperture)
        self.window.command("run measure")
        self.idle()
        table = model.curves.series()
        rows = table.star("Wisp")
        self.assertGreater(len(rows), 30)
        for row in rows[::8]:
            raw = next(raw for raw, known in model.numbers.measured_names().items() if known == row.file)
            x, y = model.plates()[raw].pixel(*minor_body(model.facts(raw).mid_utc)[:2])
            self.assertLess(math.dist((row.x, row.y), (float(x), float(y))), 0.1)
        # Another table, and what was measured is stale; without bodies the table counts for nothing.
        series = model.chosen_series()
        self.assertEqual(model.night.state("measure", series), "done")
        model.set_setting("plate", "bodies", str(self.folder / "other.csv"))
        self.assertEqual(model.night.state("measure", series), "stale")

    def test_a_table_that_cannot_be_read_is_named(self) -> None:
        page = self.turn("bodies")
        bad = self.folder / "bad.csv"
        bad.write_text("name,ra,dec\na,1,2\n")
        self.model.set_setting("plate", "bodies", str(bad))
        self.quiet()
        self.assertIn("no star in it moves", page.words.text())
        self.assertEqual(self.sky.canvas.overlay.bodies, [])


class Places(PlateCase):
    def test_a_mark_where_nothing_is_seen_goes_through_the_night(self) -> None:
        page = self.turn("places")
        self.key(Qt.Key.Key_V)
        canvas = self.sky.canvas
        at = canvas.sight.to_screen(200.0, 150.0)
        self.click(canvas, at.x(), at.y())
        self.quiet()
        there = self.model.plates()[self.model.current].sky(*(float(v) for v in self.model.sky.place_pixels(self.model.current)["place 1"]))
        pressed = canvas.sight.to_image(at)
        self.assertLess(math.dist(self.model.sky.place_pixels(self.model.current)["place 1"], (pressed.x(), pressed.y())), 1.0)
        # The same place of the sky in a far exposure, turned by the flip.
        last = [f.path for f in self.model.lights() if f.path in self.model.scores()][-1]
        self.model.set_current(last)
        self.shown()
        self.quiet()
        ((name, x, y),) = self.sky.canvas.overlay.places
        self.assertEqual(name, "place 1")
        off = separation_deg(*self.model.plates()[last].sky(x, y), *there)
        self.assertLess(3600 * float(off), 1.0)
        row = page.rows.row_of("mark place 1")
        self.assertGreaterEqual(row, 0)
        # Renamed, and taken away by a click on it; each undoes.
        page.table.selectRow(row)
        page._ask_name()
        dialog = page.findChild(QInputDialog)
        self.assertEqual(dialog.textValue(), "place 1")
        dialog.setTextValue("faint one")
        dialog.accept()
        self.quiet()
        self.assertIn("called faint one", self.messages[-1])
        at = canvas.sight.to_screen(*self.model.sky.place_pixels(last)["faint one"])
        self.click(canvas, at.x(), at.y())
        self.assertEqual(self.model.sky.places(), [])
        self.model.undo.undo()
        self.assertEqual([m.name for m in self.model.sky.places()], ["faint one"])
        self.model.undo.undo()
        self.assertEqual([m.name for m in self.model.sky.places()], ["place 1"])
        self.key(Qt.Key.Key_Escape)
        self.assertEqual(self.model.pointing.mode, "")
        self.assertEqual(self.model.night.settings.plate.places[0].name, "place 1")

    def test_typed_coordinates_are_gone_to_and_marked(self) -> None:
        wcs = self.model.plates()[self.model.current]
        ra, dec = (float(v) for v in wcs.sky(310.0, 120.0))
        going = self.window.commands._going
        entries = {e.text.partition(" ")[0]: e for e in going.of_place(f"{ra:.6f} {dec:.6f}")}
        self.assertIn("Mark", entries)
        entries["Go"].run()
        centre = self.sky.canvas.sight.centre
        self.assertLess(math.dist((centre.x(), centre.y()), (310.0, 120.0)), 0.1)
        named = {e.text.partition(" ")[0]: e for e in going.of_place(f"Dim, {ra:.6f}, {dec:.6f}")}
        named["Mark"].run()
        (mark,) = self.model.sky.places()
        self.assertEqual(mark.name, "Dim")
        self.assertAlmostEqual(mark.ra, ra, places=5)
        self.assertIn("Place Dim", [e.text for e in going.named()])
        self.model.sky.mark_sky("", ra + 0.01, dec)
        self.assertEqual([m.name for m in self.model.sky.places()], ["Dim", "place 1"])
        self.model.sky.mark_sky("Dim", ra + 0.02, dec)
        self.assertEqual([m.name for m in self.model.sky.places()], ["place 1", "Dim"], "one of the same name gives way")
        far = {e.text.partition(" ")[0]: e for e in going.of_place(f"{(ra + 40) % 360:.4f} {dec:.4f}")}
        far["Go"].run()
        self.assertIn("not in this exposure", self.messages[-1])

    def test_a_row_goes_there(self) -> None:
        self.model.sky.mark_sky("Dim", *(float(v) for v in self.model.plates()[self.model.current].sky(120.0, 260.0)))
        page = self.turn("places")
        page.table.selectRow(page.rows.row_of("mark Dim"))
        self.quiet()
        centre = self.sky.canvas.sight.centre
        self.assertLess(math.dist((centre.x(), centre.y()), (120.0, 260.0)), 0.1)
        self.assertTrue(page.remove.isEnabled())
        self.click(page.remove)
        self.quiet()
        self.assertEqual(self.model.sky.places(), [])
        self.assertFalse(page.remove.isEnabled())

    def test_chart_on_disk(self) -> None:
        self.model.sky.mark_sky("Dim", *(float(v) for v in self.model.plates()[self.model.current].sky(120.0, 260.0)))
        page = self.turn("places")
        out = self.folder / "chart.pdf"
        with (
            mock.patch.object(QFileDialog, "getSaveFileName", return_value=(str(out.with_suffix("")), "PDF (*.pdf)")),
            mock.patch.object(exports, "write_chart", side_effect=exports.write_chart) as drawn,
        ):
            self.click(page.chart)
            self.until(lambda: any("Saved chart.pdf" in m for m in self.messages), 60, "the chart")
        stars = self.model.night.stars(self.model.series_of_exposure(self.model.current))
        self.assertEqual([(m.name, m.kind) for m in drawn.call_args.args[1].marks], [*((s.name, s.role) for s in stars), ("Dim", "mark")])
        self.assertTrue(out.read_bytes().startswith(b"%PDF"))
        self.model.set_setting("plate", "catalogue", str(self.folder / "none.csv"))
        self.window.exports.save_chart(self.folder / "b.pdf", self.model.facts(self.model.current), self.model.plates()[self.model.current])
        self.until(lambda: any("b.pdf could not be written" in m for m in self.messages), 60)
        self.assertFalse((self.folder / "b.pdf").exists())


class CatalogueStars(PlateCase):
    def test_as_faint_as_wanted(self) -> None:
        self.window.command("toggle catalogue")
        self.quiet()
        every = len(self.sky.canvas.overlay.catalogue)
        self.model.set_setting("plate", "faintest_mag", 13.0)
        self.quiet()
        shown = self.sky.canvas.overlay.catalogue
        self.assertLess(len(shown), every)
        catalogue = load_catalogue(small_demo() / "catalogue.csv")
        ra, dec = self.model.plates()[self.model.current].sky(shown[:, 0], shown[:, 1])
        for a, d in zip(ra, dec):
            k = int(np.argmin(separation_deg(catalogue.ra, catalogue.dec, a, d)))
            self.assertLessEqual(catalogue.mag[k], 13.0)
        field = self.slip_field("faintest_mag")
        self.assertEqual(field.value(), 13.0)

    def slip_field(self, name: str):  # type: ignore[no-untyped-def]
        """Return the slip's number of a setting."""
        from PySide6.QtWidgets import QDoubleSpinBox

        return next(s for s in self.window.slip.findChildren(QDoubleSpinBox) if "mag" in s.suffix())

    def test_without_a_limit_the_slip_says_so(self) -> None:
        self.assertEqual(self.slip_field("faintest_mag").text(), "the brightest 300")


class Stored(PlateCase):
    def test_rows_survive_the_night_being_closed(self) -> None:
        self.key(Qt.Key.Key_D)
        self.drag_pair(*self.two_stars())
        self.window.command("run pair")
        self.idle()
        rows = self.model.sky.pair_rows()
        self.model.close_night()
        night = Night.for_path(self.folder / "night")
        self.addCleanup(night.close)
        again = pair_rows(night, night.series()[0])
        self.assertEqual(list(again), list(rows))
        for raw, row in rows.items():
            self.assertEqual(again[raw].sky, row.sky)
            self.assertEqual(again[raw].outlier, row.outlier)
            np.testing.assert_array_equal(again[raw].fit.covariance, row.fit.covariance)
            self.assertEqual(again[raw].time_utc_mid, row.time_utc_mid)
        # Rows of another pair are not taken for this one's.
        settings = night.settings
        settings.plate.pair.first = PlaceSettings(name="other", ra=1.0, dec=2.0)
        night.set_settings(settings)
        self.assertEqual(pair_rows(night, night.series()[0]), {})


class Failures(PlateCase):
    def test_in_one_list_and_tried_again_by_one_click(self) -> None:
        model = self.model
        lost = [f.path for f in model.lights() if f.path in model.scores()][3]
        model.set_setting("plate", "seconds", 0.5)
        with (
            mock.patch("ulvar.night.stations.plate.solve_files", side_effect=self._failing({Path(lost).name})),
            mock.patch("ulvar.night.stations.plate._carried", side_effect=lambda night, outcomes, *_: list(outcomes)),
        ):
            self.window.command("run plate")
            self.idle()
        self.quiet()
        page = self.board.shown
        self.assertEqual(page.rows.key(0), lost, "what is not solved stands first")
        model.set_current(lost)
        self.quiet()
        self.assertIn("too few stars were made up", page._numbers.text().lower())
        self.assertTrue(page.harder.isVisible())
        self.assertIn("Try 1 again", page.harder.text())
        before = {raw: p.output for raw, p in model.of_members("plate").items()}
        stamps = {raw: Path(output).stat().st_mtime_ns for raw, output in before.items()}
        asked: list[object] = []
        with mock.patch("ulvar.night.stations.plate.solve_files", side_effect=self._watched(asked)):
            self.click(page.harder)
            self.idle()
        self.quiet()
        options, files = asked[0]
        self.assertTrue(options.blind)
        self.assertEqual((options.seconds, options.scale), (3.0, None))
        self.assertEqual([Path(f).name for f in files], [Path(lost).name], "only what failed is tried")
        self.assertIn(lost, model.of_members("plate"))
        self.assertEqual({raw: Path(o).stat().st_mtime_ns for raw, o in before.items()}, stamps)
        self.assertFalse(self.board.shown.harder.isVisible())
        # The usual run does nothing anew.
        asked.clear()
        with mock.patch("ulvar.night.stations.plate.solve_files", side_effect=self._watched(asked)):
            self.window.command("run plate")
            self.idle()
        self.assertEqual(asked[0][1], [])

    @staticmethod
    def _failing(names: set[str]):  # type: ignore[no-untyped-def]
        from ulvar.flows import Outcome, solve_files

        def solved(exposures, catalogue, context, **more):  # type: ignore[no-untyped-def]
            outcomes = solve_files([f for f in exposures if Path(f.path).name not in names], catalogue, context, **more)
            lost = [f for f in exposures if Path(f.path).name in names]
            return outcomes + [Outcome(f.path, False, "too few stars were made up") for f in lost]

        return solved

    @staticmethod
    def _watched(asked: list):  # type: ignore[no-untyped-def]
        from ulvar.flows import solve_files

        def solved(exposures, catalogue, context, *, options, **more):  # type: ignore[no-untyped-def]
            if "stars" in more:
                asked.append((options, [f.path for f in exposures]))
            return solve_files(exposures, catalogue, context, options=options, **more)

        return solved


class Catalogues(PlateCase):
    def setUp(self) -> None:
        super().setUp()
        self.sets = self.folder / "sets"
        table = self.folder / "named.csv"
        ra, dec = (float(v) for v in self.model.plates()[self.model.current].sky(150.0, 220.0))
        # A tenth of an arcsecond a year to the east: 1.1 arcsec by the time of the night.
        table.write_text(
            f"name,ra,dec,mag,epoch,pmra,pmdec\nFaint 7,{ra:.7f},{dec:.7f},12,2016,100000,0\nOther,{ra + 0.1:.7f},{dec:.7f},13,2016,0,0\n"
        )
        import_stars(table, self.sets / "mine")
        name_catalogue(self.sets / "mine", name="Mine", licence="Free", origin="named.csv")
        far = self.folder / "far.csv"
        far.write_text("ra,dec,mag\n10,-80,9\n20,-80,9\n")
        import_stars(far, self.sets / "south")
        self.model.set_setting("plate", "catalogue", str(self.sets / "mine"))

    def test_side_by_side_and_chosen(self) -> None:
        with mock.patch("ulvar.desktop.dialogs.catalogues.catalogues_folder", lambda: self.folder / "nowhere"):
            self.turn("solutions")
            self.click(self.board.shown.catalogues)
            panel = self.window.chores.panel
            self.until(lambda: len(panel.found) == 2, 20, "two catalogues")
        self.assertEqual([one.name for one in panel.found], ["Mine", "south"])
        self.assertEqual(panel.rows.key(panel.table.currentIndex().row()), str(self.sets / "mine"))
        self.assertIn("Licence: Free", panel.words.text())
        self.assertIn("proper motions", panel.words.text())
        # The field lies on the tile that is drawn.
        self.assertLess(math.dist(panel.map.here, panel.found[0].places[0][:2]), 8)
        self.look_at(panel)
        panel.map.here = None
        image = panel.map.grab().toImage()
        tile = panel.map.place(*panel.found[0].places[0][:2])
        self.assertEqual(image.pixelColor(tile.toPoint()).name(), panel.map.theme.color("good").name())
        panel.table.selectRow(1)
        self.assertIn("not told", panel.words.text())
        self.look_at(panel)
        self.click(panel.action)
        self.assertTrue(panel.isVisible(), "it does not cover the field")
        self.assertEqual(self.model.settings().plate.catalogue, str(self.sets / "mine"))
        panel.reject()
        for name in ("mine", "south"):
            shutil.rmtree(self.sets / name)
        self.click(self.board.shown.catalogues)
        panel = self.window.chores.panel
        self.assertEqual(panel.words.text(), "There is none yet.")
        # While the thread that describes them has not told of any.
        panel._waiting = 1
        panel._fill()
        self.assertEqual(panel.words.text(), "Looking…")
        panel.reject()

    def test_a_star_by_its_name(self) -> None:
        going = self.window.commands._going
        self.assertEqual(going.of_place("ab"), [])
        (entry,) = going.of_place("faint 7")
        entry.run()
        self.until(lambda: any("Faint 7 is at" in m for m in self.messages), 20, "the star")
        centre = self.sky.canvas.sight.centre
        # East by 1111 arcsec in 11.11 years: what moves is not where it was.
        wcs = self.model.plates()[self.model.current]
        self.assertFalse(any("has no star" in m for m in self.messages))
        moved = 100.0 * (julian_year(self.model.facts(self.model.current).mid_utc) - 2016)
        before = wcs.sky(150.0, 220.0)
        there = offset_position(float(before[0]), float(before[1]), moved / 3600, 0.0)
        x, y = (float(v) for v in wcs.pixel(*there))
        inside = 0 <= x < 500 and 0 <= y < 375
        if inside:
            self.assertLess(math.dist((centre.x(), centre.y()), (x, y)), 1.0)
        else:
            self.assertIn("not in this exposure", self.messages[-1])
        (entry,) = going.of_place("nobody 99")
        entry.run()
        self.until(lambda: any("no star nobody 99" in m for m in self.messages), 20)

    def test_files_of_other_settings_are_no_catalogues(self) -> None:
        bodies = str(small_demo() / "bodies.csv")
        button = next(b for b in self.window.slip.findChildren(QPushButton) if b.text() == "Choose…" and b.isVisible())
        with mock.patch.object(QFileDialog, "getOpenFileName", return_value=(bodies, "")):
            self.click(button)
        self.quiet()
        self.assertEqual(self.model.settings().plate.bodies, bodies)
        self.assertEqual(self.model.settings().plate.catalogue, str(self.sets / "mine"))
        back = next(b for b in self.window.slip.findChildren(QPushButton) if b.text() == "×" and b.isVisible())
        self.click(back)
        self.quiet()
        self.assertEqual(self.model.settings().plate.bodies, "")


class Alone(WindowCase):
    """Frames that show a merged pair and nothing else, and of which nothing else is known."""

    def test_named_and_measured_in_all(self) -> None:
        raw = self.folder / "raw"
        raw.mkdir()
        rng = np.random.default_rng(1)
        for i in range(3):
            x, y = np.array([60.0, 62.9]) + 2 * i, np.array([50.0, 51.6]) - i
            image = star_field(rng, width=120, height=100, x=x, y=y, flux_e=np.array([6e4, 4e4]), psf=Psf.with_fwhm(3.4))
            cards = [
                {"name": "IMAGETYP", "value": "light"}, {"name": "EXPTIME", "value": 1.0},
                {"name": "DATE-OBS", "value": f"2027-02-11T20:0{i}:00"},
            ]  # fmt: skip
            fitsio.write(str(raw / f"p{i}.fits"), image.astype(np.uint16), header=cards)
        # On a machine that has not done so yet this is compiled here, not while the window is waited for.
        unnoted(measure_pair)(image.astype(np.float32), (64.0, 48.0), (66.9, 49.6), fwhm_px=3.4)
        model = self.window.model
        model.open(raw)
        self.idle()
        model.set_station("plate")
        model.sky.draw_pair(model.current, (59.5, 49.5), (63.2, 52.0))
        self.until(lambda: not model.sky.measuring, 30)
        self.assertIn("Score the exposures", model.sky.problem)
        self.assertIn("3.3", model.sky.problem)
        self.window.command("run score")
        self.idle()
        self.quiet()
        model.sky.draw_pair(model.current, (59.5, 49.5), (63.2, 52.0))
        self.until(lambda: not model.sky.measuring, 30)
        self.assertEqual(model.sky.problem, "")
        last = model.lights()[-1].path
        (x1, y1), (x2, y2) = model.sky.pair_pixels(last)[last]
        np.testing.assert_allclose([x1, y1, x2, y2], [64.0, 48.0, 66.9, 49.6], atol=0.6)
        self.window.command("run pair")
        self.idle()
        rows = model.sky.pair_rows()
        self.assertEqual(len(rows), 3)
        for row in rows.values():
            self.assertLess(abs(row.fit.separation_px[0] - math.hypot(2.9, 1.6)), 4 * row.fit.separation_px[1])
