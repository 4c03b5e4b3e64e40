"""Intake, Masters and Calibrate in the real window: what the user does, sees, and finds on disk."""

from pathlib import Path
from unittest import mock

import numpy as np
from PySide6.QtCore import QMimeData, QPointF, Qt, QUrl
from PySide6.QtGui import QDropEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QCheckBox, QComboBox, QLineEdit, QPushButton
from tools.cases import FolderCase, small_demo, stamps
from tools.window_cases import WindowCase

from ulvar.desktop.boards.calibrate.board import CalibrateBoard
from ulvar.desktop.boards.intake.board import GroupCard, IntakeBoard
from ulvar.desktop.boards.masters.board import MastersBoard
from ulvar.desktop.boards.masters.cells import MatchCell
from ulvar.desktop.parts.widgets import number
from ulvar.desktop.picture.profile import sample_line
from ulvar.frames import Role, read_frame, write_fits
from ulvar.night import Night


class Stations(WindowCase):
    """One night in the window, with a library of its own."""

    def open_demo(self, *parts: str) -> None:
        raw = small_demo() / "raw"
        night = Night.create(self.folder / "night", [raw / part for part in parts] or [raw])
        night.set_meta("library", str(self.folder / "library"))
        night.close()
        self.window.model.open(self.folder / "night")
        self.idle()

    def drop(self, *paths: Path) -> None:
        """Drop folders on the window."""
        data = QMimeData()
        data.setUrls([QUrl.fromLocalFile(str(p)) for p in paths])
        event = QDropEvent(QPointF(300, 300), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier)
        self.window.dropEvent(event)
        self.idle()

    def front(self) -> None:
        """Bring the window back to the front after a small one was closed, as a window manager does."""
        QApplication.processEvents()
        self.window.activateWindow()
        QApplication.processEvents()

    @property
    def intake(self) -> IntakeBoard:
        board = self.window.board_of["intake"]
        assert isinstance(board, IntakeBoard)
        return board

    @property
    def masters(self) -> MastersBoard:
        board = self.window.board_of["masters"]
        assert isinstance(board, MastersBoard)
        return board

    @property
    def calibrate(self) -> CalibrateBoard:
        board = self.window.board_of["calibrate"]
        assert isinstance(board, CalibrateBoard)
        return board


class Sorting(Stations):
    """Many folders, sessions by example, facts corrected."""

    def test_many_folders_by_drop_and_more_later(self) -> None:
        raw = small_demo() / "raw"
        Night.create(self.folder / "night", [raw / "lights" / "V"]).close()
        self.drop(self.folder / "night")
        self.assertEqual({g.role for g in self.window.model.groups()}, {Role.LIGHT})
        self.drop(raw / "darks", raw / "bias")
        self.assertEqual({g.role for g in self.window.model.groups()}, {Role.LIGHT, Role.DARK, Role.BIAS})
        count = len(self.window.model.exposures())
        self.drop(raw / "darks")
        self.assertEqual(len(self.window.model.exposures()), count)
        self.assertIn("in the night already", self.window.toast.text())

    def test_facts_of_a_group_are_corrected_undoably(self) -> None:
        self.open_demo("bias", "dark flats")
        before = stamps(small_demo() / "raw")
        model = self.window.model
        card = next(c for c in self.intake.findChildren(GroupCard) if c.group.role is Role.BIAS)
        self.intake.edit_facts(card.group)
        panel = self.intake.panel
        gain, role = panel.fields["gain"], panel.fields["role"]
        assert isinstance(gain, QLineEdit) and isinstance(role, QComboBox)
        self.assertEqual(gain.text(), "100")
        gain.setText("many")
        self.click(panel.action)
        self.assertTrue(panel.isVisible() and "cannot be read" in panel.problem.text())
        gain.setText("120")
        role.setCurrentIndex(role.findData("dark_flat"))
        self.click(panel.action)
        self.assertFalse(any(g.role is Role.BIAS for g in model.groups()))
        self.assertEqual({f.gain for f in model.exposures() if "bias" in f.path}, {120.0})
        self.front()
        self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        self.assertTrue(any(g.role is Role.BIAS for g in model.groups()))
        self.assertEqual({f.gain for f in model.exposures() if "bias" in f.path}, {100.0})
        self.assertEqual(stamps(small_demo() / "raw"), before)

    def test_sessions_by_example(self) -> None:
        self.open_demo()
        model = self.window.model
        self.window.command("sessions")
        panel = self.window.chores.panel
        buttons = {b.text(): b for b in panel.part_buttons}
        self.assertIn("lights", buttons)
        self.click(buttons["lights"])
        self.assertEqual(panel.pattern.text(), "{}")
        self.look_at(panel)
        shown = {panel.rows.key(i): panel.rows.data(panel.rows.index(i, 1)) for i in range(panel.rows.rowCount())}
        lights = sum("/lights/" in f.path for f in model.exposures())
        self.assertEqual(shown["lights"], str(lights), "how all files would fall, before anything is changed")
        self.assertEqual({f.session for f in model.exposures()}, {"2027-02-11"})
        panel.pattern.setText("{}/{}")
        self.assertTrue(panel.problem.isVisible())
        panel.pattern.setText("{}")
        panel.means.setCurrentIndex(panel.means.findText("other calibration frames"))
        self.click(panel.action)
        self.assertEqual({f.session for f in model.exposures()}, {"lights", "flats", "dark flats", "darks", "bias"})
        self.assertTrue(all(m.dark.candidate is None for _, m in model.matching.matches()))
        self.front()
        self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        self.assertEqual({f.session for f in model.exposures()}, {"2027-02-11"})
        self.assertTrue(any(m.dark.candidate is not None for _, m in model.matching.matches()))

    def test_a_finding_mends_a_role(self) -> None:
        raw = self.folder / "raw"
        raw.mkdir()
        demo = small_demo() / "raw"
        for i, path in enumerate(sorted((demo / "lights" / "V").glob("*.fits"))[:3]):
            (raw / f"dark-{i}.fits").write_bytes(path.read_bytes().replace(b"'Light Frame'", b"'Dark Frame '"))
        Night.create(self.folder / "night", [raw]).close()
        self.window.model.open(self.folder / "night")
        self.idle()
        self.assertIn("dark_has_stars", {f.code for f in self.window.model.jobs.findings()})
        button = next(b for b in self.window.slip.findChildren(QPushButton) if b.text() == "Make 3 lights")
        self.click(button)
        self.assertEqual(len(self.window.model.lights()), 3)
        self.assertNotIn("dark_has_stars", {f.code for f in self.window.model.jobs.findings()})


class Matching(Stations):
    """The match board, the library and the shooting list."""

    def test_pin_library_list(self) -> None:
        self.open_demo()
        model = self.window.model
        self.key(Qt.Key.Key_2)
        cells = self.masters.findChildren(MatchCell)
        cell = next(c for c in cells if c.group.filter == "B" and c.choice.kind is Role.DARK)
        self.assertEqual(cell.lines()[0], "nothing safe")
        menu = self.masters.pin_menu(cell)
        action = next(a for a in menu.actions() if "180 s" in a.text())
        self.assertIn("too short", action.text())
        action.trigger()
        menu.close()
        QApplication.processEvents()
        (_, match) = next((g, m) for g, m in model.matching.matches() if g.filter == "B")
        self.assertTrue(match.dark.pinned and match.dark.candidate is not None)

        def cells_in_sight() -> list[MatchCell]:
            found = self.masters.findChildren(MatchCell)
            return [c for c in found if c.isVisible() and c.group.filter == "B" and c.choice.kind is Role.DARK]

        self.until(lambda: any(c.choice.pinned for c in cells_in_sight()), 5, "the board built anew")
        cell = cells_in_sight()[0]
        self.assertIn("by hand", cell.lines()[1])
        painted: list[MatchCell] = []
        with mock.patch.object(MatchCell, "update", lambda cell: painted.append(cell)):
            self.masters.choose(cell, show=False)
        self.assertIn(cell, painted)
        self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        self.assertFalse(next(m for g, m in model.matching.matches() if g.filter == "B").dark.pinned)

        # What is missing stands in the map and on the list.
        self.assertTrue(any(c.missing for c in self.masters.map.cells))
        path = self.folder / "list.csv"
        with mock.patch("ulvar.desktop.shell.chores.QFileDialog.getSaveFileName", return_value=(str(path), "")) as asked:
            self.click(next(b for b in self.masters.findChildren(QPushButton) if b.isVisible() and b.text() == "Write list…"))
        self.assertIn("300", path.read_text())
        self.assertEqual(asked.call_args.args[1:3], ("Write the shooting list", str(model.night.folder / "shooting-list.html")))

        # Masters are made and kept in the library, and one is retired from the map.
        self.click(self.window.slip.action)
        self.idle()
        self.click(self.masters.page_buttons["made"])
        made = [product.values for product in model.products("master").values()]
        rows = self.masters._rows
        for k, v in enumerate(made):
            noise = (
                "–" if v.get("noise_adu") is None else f"{100 * v['noise_adu']:.2f} %" if v["kind"] == "flat" else number(v["noise_adu"], 2)
            )
            self.assertEqual(rows.data(rows.index(k, 4)), noise)
        self.click(next(b for b in self.masters.findChildren(QPushButton) if b.isVisible() and b.text() == "Copy to library"))
        library = model.matching.library()
        assert library is not None
        kept = len(library.entries())
        self.assertEqual(kept, len(model.products("master")))
        self.assertIn(f"{kept} masters copied into the library.", self.messages)
        self.masters.turn_to("bias")
        name = next(e.name for e in library.entries() if e.facts.role is Role.BIAS)
        self.masters.map.retire(name)
        self.assertEqual(len(library.entries()), kept - 1)
        menu = self.masters.map.menu_at(1, 1)
        next(a for a in menu.actions() if name in a.text()).trigger()
        self.assertEqual(len(library.entries()), kept)
        menu.close()
        self.masters.show_rejected(next(p for p, m in model.products("master").items() if m.values["rejected_fraction"] > 0))
        self.until(lambda: self.window.sky.canvas.picture is not None and self.window.sky.canvas.picture.path.endswith("[1]"), 20)

    def test_masters_made_elsewhere_are_asked_about(self) -> None:
        self.open_demo("lights/V")
        shape = (375, 500)
        rng = np.random.default_rng(1)
        dark, flat = (
            FolderCase.write(self, name, data.astype(np.float32), GAIN=100, OFFSET=30, INSTRUME="Kvist 6M", **more)  # type: ignore[arg-type]
            for name, data, more in (
                ("D.fits", rng.normal(305, 2, shape), {"EXPTIME": 240.0, "CCD_TEMP": -15.0}),
                ("F.fits", rng.normal(20000, 20, shape), {"EXPTIME": 2.0, "FILTER": "V"}),
            )
        )
        with mock.patch("ulvar.desktop.shell.chores.QFileDialog.getOpenFileNames", lambda *_: ([dark, flat], "")):
            self.window.command("add masters")
        panel = self.window.chores.panel
        self.click(panel.action)
        self.assertIn("choose what it is a master of", panel.problem.text())
        for line, role in zip(panel.lines, ("dark", "flat")):
            line[2].setCurrentIndex(line[2].findData(role))
            line[3].setText("20")
        self.look_at(panel)
        self.click(panel.action)
        self.front()
        library = self.window.model.matching.library()
        assert library is not None
        self.assertEqual(sorted((e.facts.role.value, e.facts.count) for e in library.entries()), [("dark", 20), ("flat", 20)])
        (_, match) = self.window.model.matching.matches()[0]
        self.assertTrue(match.dark.usable and match.flat.usable and match.safe)
        self.key(Qt.Key.Key_3)
        self.key(Qt.Key.Key_R, Qt.KeyboardModifier.ControlModifier)
        self.idle()
        self.assertEqual(len(self.window.model.products("calibrated")), len(self.window.model.lights()))

    def test_flats_are_planned(self) -> None:
        # A cap was left on before the flat of a fourth filter.
        dim = self.folder / "dim"
        dim.mkdir()
        write_fits(dim / "flat.fits", np.full((60, 80), 300, np.float32), cards={"IMAGETYP": "Flat", "FILTER": "H", "EXPTIME": 2.0})
        self.open_demo("flats", "dark flats", "bias", str(dim))
        self.window.command("plan flats")
        panel = self.window.chores.panel
        rows = {panel.rows.key(i): [panel.rows.data(panel.rows.index(i, c)) for c in range(6)] for i in range(panel.rows.rowCount())}
        self.assertEqual(set(rows), {"B", "H", "R", "V"})
        self.assertEqual(rows["H"], ["H", "2.00", "300", "–", "–", "–"])
        self.assertIn("H: no test saw light: take one ten times longer.", panel.warnings.text().splitlines())
        self.look_at(panel)
        half = float(rows["V"][3])
        panel.level.setValue(25)
        quarter = float(panel.rows.data(panel.rows.index(3, 3)))
        # Each level is planned by the test nearest to it, and the lamp of these flats wanders by 5 %.
        self.assertAlmostEqual(quarter / half, (0.25 * 65535 - 300) / (0.5 * 65535 - 300), delta=0.07)
        panel.close()


class Calibrating(Stations):
    """Steps, defects live, before and after, flat check, camera."""

    def test_the_whole_board(self) -> None:
        self.open_demo()
        window, model = self.window, self.window.model
        self.key(Qt.Key.Key_2)
        self.click(window.slip.action)
        self.idle()
        self.key(Qt.Key.Key_3)

        # Defects: the count follows the slider, marks follow the count, the threshold is stored.
        self.click(self.calibrate.page_buttons["defects"])
        page = self.calibrate.defects
        assert page is not None
        self.until(lambda: page.suspects is not None, 20, "the masters were looked at")
        page.hot.setValue(60)
        many = len(model.matching.preview)
        self.assertIn("hot", page.counts.text())
        page.hot.setValue(200)
        few = len(model.matching.preview)
        self.assertLess(few, many)
        self.assertEqual(model.settings().calibrate.hot_sigma, 20.0)
        self.key(Qt.Key.Key_H)
        self.assertEqual(len(window.sky.canvas.overlay.defects), few)
        window.grab()
        self.key(Qt.Key.Key_H)
        self.assertEqual(len(window.sky.canvas.overlay.defects), 0)
        self.click(page.keep)
        library = model.matching.library()
        assert library is not None
        self.assertTrue(list((library.folder / "defects").glob("*.csv")))

        # Repair is on, as the slip says; calibrating obeys.
        box = next(b for b in window.slip.findChildren(QCheckBox) if b.text() == "Repair defective pixels")
        self.assertTrue(box.isChecked())
        box.click()
        self.assertFalse(model.settings().calibrate.repair)
        box.click()
        self.assertTrue(model.settings().calibrate.repair)
        self.click(self.calibrate.page_buttons["lights"])
        self.assertIn("Calibrate", window.slip.action.text())
        self.click(window.slip.action)
        self.idle()
        done = model.products("calibrated")
        frame = read_frame(next(iter(done.values())).output)
        assert frame.mask is not None
        self.assertGreater(int(((frame.mask & 256) > 0).sum()), 100)

        self._before_and_after(done)

        # The flat check has its plot and its word.
        self.click(self.calibrate.page_buttons["flat"])
        self.assertIn("flat", self.calibrate.flat.verdict.text().lower())
        self.assertGreater(len(self.calibrate.flat.plot.series[0].x), 100)
        window.grab()

        # The camera is measured and remembered.
        self.click(self.calibrate.page_buttons["camera"])
        self.click(self.calibrate.camera.measure)
        self.idle()
        self.assertEqual(self.calibrate.page, "camera")
        gains = [p.values["gain_e_per_adu"] for p in model.products("camera").values()]
        # Six flats are three pairs in each of two filters, each of 90,000 pixels.
        self.assertTrue(any(abs(g / 1.3 - 1) < 0.02 for g in gains), gains)
        self.click(self.calibrate.camera.uses[0])
        self.assertTrue(library.camera_numbers())

    def _before_and_after(self, done: dict) -> None:
        window, model = self.window, self.window.model
        sky, canvas = window.sky, window.sky.canvas
        model.set_current(next(iter(done)))
        output = done[model.current].output
        self.until(lambda: canvas.picture is not None and canvas.picture.path == output, 20, "the calibrated light")
        self.key(Qt.Key.Key_W)
        self.until(lambda: canvas.second is not None, 20, "the raw light beside it")
        self.assertEqual(canvas.second.path, model.current)
        middle = canvas.border * canvas.width()
        self.drag(canvas, QPointF(middle, 40), QPointF(middle - 80, 40))
        self.assertLess(canvas.border, 0.45)
        window.grab()
        self.key(Qt.Key.Key_P)
        self.drag(canvas, QPointF(60, 60), QPointF(200, 120))
        self.assertEqual([s.name for s in sky.tools.line.plot.series], ["before", "after"])
        self.assertTrue(sky.tools.line.isVisible())
        window.grab()
        self.key(Qt.Key.Key_P)
        self.key(Qt.Key.Key_Space, Qt.KeyboardModifier.ShiftModifier)
        self.until(lambda: canvas.picture is not None and "\n" in canvas.picture.path, 20, "the difference")
        raw, calibrated = read_frame(model.current).data, read_frame(output).data
        np.testing.assert_allclose(canvas.picture.data, raw - calibrated, atol=1e-3)
        self.assertIsNone(canvas.second, "one way of comparing at a time")
        self.key(Qt.Key.Key_Space, Qt.KeyboardModifier.ShiftModifier)
        self.key(Qt.Key.Key_Space)
        self.until(lambda: canvas.picture is not None and canvas.picture.path == model.current, 20, "the raw light")
        self.key(Qt.Key.Key_Space)

    def test_regions_are_drawn_and_typed(self) -> None:
        self.open_demo("lights/V")
        window, model = self.window, self.window.model
        canvas = window.sky.canvas
        self.until(lambda: canvas.picture is not None, 20)
        self.key(Qt.Key.Key_3)
        self.click(window.slip.fold)
        typed = next(w for w in window.slip.findChildren(QLineEdit) if w.placeholderText() == "[x1:x2,y1:y2]")
        typed.setText("nonsense")
        typed.editingFinished.emit()
        self.assertEqual(model.settings().calibrate.overscan, "")
        self.assertIn("no region", self.messages[-1])
        model.region_wanted.emit("overlays")
        a, b = canvas.sight.to_screen(20, 30), canvas.sight.to_screen(90, 60)
        self.drag(canvas, a, b)
        (text,) = model.settings().calibrate.overlays
        from ulvar.calibration import parse_region

        region = parse_region(text)
        # A drag is as exact as the screen: a pixel and a half of the picture at this zoom.
        for have, want in zip((region.x0, region.y0, region.x1, region.y1), (20, 30, 91, 61)):
            self.assertAlmostEqual(have, want, delta=2)
        model.region_wanted.emit("trim")
        self.key(Qt.Key.Key_Escape)
        self.assertEqual(canvas.mode, "pan")

    def test_line_sampling(self) -> None:
        data = np.arange(100, dtype=np.float32).reshape(10, 10)
        distance, values = sample_line(data, (0, 0), (9, 0))
        np.testing.assert_allclose(values, np.arange(10))
        self.assertEqual(distance[-1], 9)
        self.assertTrue(np.isnan(sample_line(data, (-5, 0), (5, 0))[1][0]))

    def test_keys_reach_everything(self) -> None:
        self.open_demo("lights/V", "flats/V")
        for station in (1, 2, 3):
            self.key(Qt.Key(Qt.Key.Key_0 + station))
            for _ in range(12):
                QTest.keyClick(self.window, Qt.Key.Key_Tab)
            QApplication.processEvents()
            self.assertIsNotNone(QApplication.focusWidget())


class Line(Stations):
    """Calibration frames on the night line."""

    def test_a_light_leak_stands_out(self) -> None:
        import fitsio

        raw = self.folder / "raw"
        for path in sorted((small_demo() / "raw" / "darks").glob("Dark-240*")):
            data, header = fitsio.read(str(path), ext=1, header=True)
            name = path.name.removesuffix(".fz")
            if name == "Dark-240-004.fits":
                data = (data + np.linspace(0, 90, data.shape[1])[None, :]).astype(np.uint16)
            raw.mkdir(exist_ok=True)
            fitsio.write(str(raw / name), data, header=header)
        Night.create(self.folder / "night", [raw]).close()
        model = self.window.model
        model.open(self.folder / "night")
        self.idle()
        self.key(Qt.Key.Key_2)
        self.assertEqual(model.numbers.metric, "set_level")
        dots = {Path(path).stem: (y, kind) for path, _, y, kind in self.window.line.line.state.dots()}
        self.assertEqual(len(dots), 9)
        leak = dots.pop("Dark-240-004")
        self.assertLess(leak[0], min(y for y, _ in dots.values()) - 20, "higher on the screen than all others")
        model.jobs.run_station("masters")
        self.idle()
        self.assertEqual({f.code for f in model.jobs.findings() if f.station == "masters"} - {"no_lights"}, {"light_leak"})
        kinds = {Path(path).stem: kind for path, _, _, kind in self.window.line.line.state.dots()}
        self.assertEqual([name for name, kind in kinds.items() if kind == "finding"], ["Dark-240-004"])
        self.window.grab()
