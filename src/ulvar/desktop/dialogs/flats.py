"""Planning flats: from test flats to the exposure that gives the wanted level, filter by filter."""

from __future__ import annotations

from PySide6.QtCore import QLocale
from PySide6.QtWidgets import QHBoxLayout, QWidget

from ulvar.calibration import FlatPlan
from ulvar.desktop.dialogs.base import Panel
from ulvar.desktop.models.model import Model
from ulvar.desktop.parts.inputs import Number
from ulvar.desktop.parts.widgets import Rows, label, number, table
from ulvar.night.stations.camera import plan_flats


class FlatsPanel(Panel):
    """A table: filter, test, exposure to set, and a warning where one is due."""

    def __init__(self, parent: QWidget, model: Model) -> None:
        super().__init__(
            parent, "Plan flats",
            "Take one flat through each filter, at any exposure, and open them with the night. The exposure below gives "
            "the wanted level with the same light; or change the light by the factor.",
        )  # fmt: skip
        self.setMinimumWidth(620)
        self._model = model
        row = QHBoxLayout()
        row.addWidget(label("Wanted level"))
        self.level = Number()
        self.level.setLocale(QLocale.c())
        self.level.setRange(5, 95)
        self.level.setDecimals(0)
        self.level.setSuffix(" %")
        self.level.setValue(50)
        self.level.setToolTip("Part of the camera's true full range that the flats shall reach")
        self.level.setAccessibleName("Wanted level")
        self.level.valueChanged.connect(self.fill)
        row.addWidget(self.level)
        row.addWidget(label("of the true full range"))
        row.addStretch(1)
        self.body.addLayout(row)
        self.rows = Rows(["Filter", "Test\ns", "Level\nADU", "Use\ns", "or light by ×", "Level then\nADU"])
        self.rows.theme = getattr(parent, "theme", None)
        view = table(self.rows, "Flats by filter, and what to set")
        view.setFixedHeight(170)
        self.body.addWidget(view)
        self.warnings = label("", "check", wrap=True)
        self.body.addWidget(self.warnings)
        self.fill()

    def fill(self) -> None:
        """Plan anew for the level that is set."""
        rows, keys, warnings = [], [], []
        for name, (tests, plan) in plan_flats(self._model.night, self.level.value() / 100).items():
            exposure, level = tests[0]
            if isinstance(plan, FlatPlan):
                rows.append(
                    (name, number(exposure, 2), number(level, 0), number(plan.exposure_s, 2),
                     number(plan.level_factor, 2), number(plan.wanted_adu, 0))
                )  # fmt: skip
                warnings += [f"{name}: {w}." for w in plan.warnings]
            else:
                rows.append((name, number(exposure, 2), number(level, 0), "–", "–", "–"))
                warnings.append(f"{name}: {plan.reason}.")
            keys.append(name)
        self.rows.fill(rows, keys)
        self.warnings.setText("\n".join(warnings) if rows else "There are no flats in this night to plan by.")
