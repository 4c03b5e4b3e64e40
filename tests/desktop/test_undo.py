"""Undo and redo, compared with the whole state of the night before and after each change."""

from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QDoubleSpinBox, QLineEdit

from tests.desktop.scored import ScoredCase
from ulvar.night import Night
from ulvar.night.settings import RuleSettings, TagSettings
from ulvar.photometry import ListedStar


class Undo(ScoredCase):
    """Every kind of change is one step; undoing it restores all that was before, and nothing else."""

    def state(self) -> dict[str, Any]:
        """Return what a user can change of a night, as it is on disk."""
        night = Night(self.model.night.folder)
        try:
            return {
                "settings": night.settings.model_dump(), "left out": night.left_out, "stars": night.stars(),
                "roles": night.corrections("role"), "filters": night.corrections("filter"),
            }  # fmt: skip
        finally:
            night.close()

    def test_each_step_back_and_forth_restores_the_whole_state(self) -> None:
        model = self.model
        lights = [f.path for f in model.lights()]
        rule = RuleSettings(quality="fwhm_px", side="over", limit=3.1)
        changes = [
            lambda: model.set_setting("measure", "radius", 2.25),
            lambda: model.leave_out(lights[:3], "cloud"),
            lambda: model.looking.set_rules([rule], "Add a rule"),
            lambda: model.set_setting("plate", "catalogue", "stars.csv"),
            # Two of these are out already, with a reason of their own.
            lambda: (model.set_brush(lights[1:6]), model.toggle_left_out()),
            lambda: model.matching.set_stars([ListedStar("t", "target", x=10.0, y=20.0)], "Mark the target"),
            lambda: model.put_back(lights[2:4]),
            lambda: model.correct(lights[:2], "filter", "R"),
            lambda: model.matching.pin("V", "dark", "none"),
            lambda: model.change_settings("combine", {"threshold": 6.5, "low": 3.25}),
            lambda: model.matching.set_tags([TagSettings(name="rig", pattern="{}/*")]),
            lambda: model.looking.set_blend({"stars": 2.0}),
            lambda: model.looking.add_region("circle", [(20.0, 30.0), (25.0, 30.0)]),
            lambda: model.set_setting("curve", "detrend", ["airmass"]),
        ]
        states = [self.state()]
        for number, change in enumerate(changes):
            change()
            states.append(self.state())
            self.assertNotEqual(states[-1], states[-2], f"change {number} does nothing")
        self.assertEqual(states[5]["left out"][lights[1]], "cloud", "its first reason stays")
        self.assertEqual(model.undo.count(), len(changes), "each is one step")
        named = self.window.actions_by_command["undo"]
        self.assertEqual(named.text(), f"Undo: {model.undo.text(len(changes) - 1)}")
        for index in reversed(range(len(changes))):
            self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
            self.assertEqual(self.state(), states[index], f"after undoing change {index}")
        self.assertEqual(named.text(), "Undo")
        for index in range(len(changes)):
            self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
            self.assertEqual(self.state(), states[index + 1], f"after doing change {index} again")

    def test_the_fields_follow_undo(self) -> None:
        self.model.set_station("measure")
        self.until(lambda: self.spin("measure.radius") is not None, 10)
        self.model.set_setting("measure", "radius", 2.25)
        self.assertEqual(self.spin("measure.radius").value(), 2.25)
        self.model.undo.undo()
        self.assertEqual(self.spin("measure.radius").value(), self.model.settings().measure.radius)

    def spin(self, name: str) -> QDoubleSpinBox:
        found = [w for w in self.window.slip.findChildren(QDoubleSpinBox, name) if w.isVisible()]
        return found[-1] if found else None  # type: ignore[return-value]

    def test_going_through_the_fields_changes_nothing(self) -> None:
        settings = self.model.settings()
        settings.combine.low, settings.combine.high = 4.25, 0.75
        settings.measure.radius = 1.725
        settings.calibrate.linearity = [0.0123456789, -0.00345678912]
        self.model.night.set_settings(settings)
        self.model.drop()
        before = self.model.settings()
        for station in ("masters", "calibrate", "combine", "plate", "measure"):
            self.model.set_station(station)
            self.until(lambda: not self.window.slip._soon.isActive(), 10)
            if not self.window.slip._unfolded:
                self.click(self.window.slip.fold)
            fields = [
                w for w in self.window.slip.findChildren(QDoubleSpinBox) + self.window.slip.findChildren(QLineEdit)
                if w.isVisible() and w.objectName().startswith(station)
            ]  # fmt: skip
            for field in fields:
                field.setFocus()
                QTest.keyClick(field, Qt.Key.Key_Tab)
                QTest.keyClick(field, Qt.Key.Key_Return)
                QApplication.processEvents()
        self.assertEqual(self.model.settings(), before)
        self.assertEqual(self.model.undo.count(), 0)

    def test_a_typed_value_is_stored_and_shown_as_typed(self) -> None:
        self.window.slip._unfolded = True
        self.window.slip.rebuild()
        spin = self.spin("combine.low")
        spin.setFocus()
        spin.selectAll()
        QTest.keyClicks(spin, "3.5")
        QTest.keyClick(spin, Qt.Key.Key_Return)
        self.assertEqual(self.model.settings().combine.low, 3.5)
        self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        self.assertNotEqual(self.model.settings().combine.low, 3.5)

    def test_changes_of_one_setting_without_a_pause_are_one_step(self) -> None:
        model, count = self.model, self.model.undo.count
        before = self.state()
        for radius in (2.25, 2.5, 2.75):
            model.set_setting("measure", "radius", radius)
        self.assertEqual(count(), 1)
        self.assertRegex(model.undo.undoText(), rf"(?i)^aperture radius {before['settings']['measure']['radius']:g} to 2\.75")
        # A pause, another setting or two at once are steps of their own.
        self.passed_s += 0.75
        model.set_setting("measure", "radius", 3.0)
        model.set_setting("measure", "inner_px", 9.25)
        model.change_settings("measure", {"radius": 3.25, "inner_px": 9.5})
        self.assertEqual(count(), 4)
        # A change that is taken back at once is none; one that ends there after a pause is.
        model.set_setting("combine", "low", 3.25)
        model.set_setting("combine", "low", before["settings"]["combine"]["low"])
        self.assertEqual((count(), self.window.actions_by_command["undo"].text()), (4, f"Undo: {model.undo.text(3)}"))
        for _ in range(4):
            self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        self.assertEqual((self.state(), model.undo.canUndo()), (before, False))
