"""What stands in the slip: a finding with its buttons, and what a model tells."""

import unittest
from types import SimpleNamespace
from typing import Any
from unittest import mock

from PySide6.QtWidgets import QCheckBox, QComboBox, QDoubleSpinBox, QLabel, QPushButton, QVBoxLayout, QWidget

from ulvar.desktop.app import make_application
from ulvar.desktop.parts.theme import THEMES
from ulvar.desktop.slip.cards import FindingCard
from ulvar.desktop.slip.editors import Editors
from ulvar.desktop.slip.fields import FIELDS
from ulvar.desktop.slip.slip import Slip as SlipPanel
from ulvar.desktop.slip.told import show_result
from ulvar.inspection import Finding, Mend, Severity
from ulvar.night.settings import NightSettings


class Slip(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.app = make_application()

    def test_each_button_of_a_finding_is_on_its_card(self) -> None:
        mended, shown = [], []
        finding = Finding(Severity.CHECK, "x", "Cloud", "6 lose light.", mend=Mend("Leave out 6", "leave"))
        card = FindingCard(finding, THEMES["dark"], mended.append, shown.append)
        self.assertEqual([w.text() for w in card.findChildren(QPushButton)], ["Leave out 6", "Show"])
        for button in card.findChildren(QPushButton):
            button.click()
        self.assertEqual((mended, shown), ([finding], [finding]))
        self.assertEqual([w.text() for w in card.findChildren(QLabel)], ["Cloud", "Check", "6 lose light."])
        done = FindingCard(finding, THEMES["dark"], mended.append, None, "6 left out")
        self.assertEqual([w.text() for w in done.findChildren(QPushButton)], ["Put back"])
        self.assertEqual([w.text() for w in done.findChildren(QLabel)], ["Cloud", "Done", "6 left out"])
        # What it was is told in passing.
        self.assertEqual([w.findChildren(QLabel)[2].toolTip() for w in (card, done)], ["", "6 lose light."])

    def test_what_a_model_tells(self) -> None:
        told = {"rms_mag": 0.0032, "red_noise_factor": 1.4}
        for model, values, errors, words in (
            ("sine", {"period_d": 0.25}, {"period_d": 0.0004}, ["Period", "d", "0.25000", "± 0.00040 d = 35 s"]),
            (
                "polynomial",
                {"maximum": 2461448.4482},
                {"maximum": 0.02},
                ["Brightest", "BJD_TDB", "2\u2009461\u2009448.448", "± 0.020 d = 28.8 min"],
            ),
        ):
            holder = QWidget()
            large = show_result(QVBoxLayout(holder), {**told, "model": model, "values": values, "errors": errors})
            shown = [w.text() for w in holder.findChildren(QLabel)]
            self.assertEqual(shown, [*words, "Residual scatter", "3.2 mmag", "Errors grow by red noise", "1.4 times"])
            assert large is not None
            self.assertEqual(large.text(), words[2])

    def test_every_setting_shows_its_value_and_stores_another(self) -> None:
        settings, stored = NightSettings(), []
        settings.calibrate.overlays = ["[1:9,2:8]"]
        model = mock.Mock(settings=lambda: settings)
        editors = Editors(QWidget(), model, lambda *what: stored.append(what), lambda: None)
        seen: dict[type, int] = {}
        for field in (field for fields in FIELDS.values() for field in fields):
            holder = QWidget()
            holder.setLayout(editors.row(field))
            value: Any = getattr(getattr(settings, field.section), field.name)
            for widget in holder.findChildren(QWidget):
                stored.clear()
                name = (field.section, field.name)
                if isinstance(widget, QCheckBox):
                    self.assertEqual((widget.text(), widget.isChecked()), (field.title, field.term in value if field.term else value))
                    if not field.term:
                        widget.click()
                        self.assertEqual(stored, [(*name, not value)])
                elif isinstance(widget, QComboBox):
                    keys, words = list(field.told.choices), [text for text, _ in field.told.choices.values()]
                    self.assertEqual([widget.itemText(k) for k in range(widget.count())], words)
                    self.assertEqual(widget.currentIndex(), keys.index(value))
                    widget.activated.emit(len(keys) - 1)
                    self.assertEqual(stored, [(*name, keys[-1])])
                elif isinstance(widget, QDoubleSpinBox):
                    self.assertEqual(widget.suffix().strip(), editors.unit(field))
                elif isinstance(widget, QPushButton) and widget.text() == "1 ×":
                    widget.click()
                    self.assertEqual(stored, [(*name, [])])
                seen[type(widget)] = seen.get(type(widget), 0) + 1
        self.assertGreater(min(seen.values()), 0)

    def test_an_annulus_has_both_of_its_radii_or_none(self) -> None:
        for other, name, value, wanted in (
            (None, "inner_px", 4.0, {"outer_px": 10.0}), (None, "inner_px", 10.0, {"outer_px": 18.0}), (None, "outer_px", 10.0, {"inner_px": 4.0}),
            (None, "outer_px", 20.0, {"inner_px": 11.1}), (7.0, "outer_px", 20.0, {}), (7.0, "inner_px", None, {"outer_px": None}),
        ):  # fmt: skip
            slip = SimpleNamespace(_model=mock.Mock())
            slip._model.settings.return_value.measure = SimpleNamespace(inner_px=other, outer_px=other)
            self.assertEqual(SlipPanel._together(slip, "measure", name, value), {name: value, **wanted})  # type: ignore[arg-type]
