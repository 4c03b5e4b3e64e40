"""The flat check: the calibrated sky held against the flat."""

from __future__ import annotations

from typing import Any

import numpy as np
from PySide6.QtWidgets import QVBoxLayout, QWidget

from ulvar.desktop.models.model import Model
from ulvar.desktop.parts.inputs import Choice
from ulvar.desktop.parts.plots import Plot, Points
from ulvar.desktop.parts.theme import Theme
from ulvar.desktop.parts.widgets import label
from ulvar.engine import counted, true_minus
from ulvar.inspection.flatcheck import FlatCheck


class FlatPage(QWidget):
    """The calibrated sky against the flat: a level cloud fits, a slope tells of too much or too little."""

    def __init__(self, model: Model, theme: Theme) -> None:
        super().__init__()
        self._model, self.theme = model, theme
        self.checks = model.products("flat_check")
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        if not self.checks:
            column.addWidget(label("The flats are checked when lights have been calibrated with them.", wrap=True))
            column.addStretch(1)
            return
        self.box = Choice()
        for path, product in self.checks.items():
            self.box.addItem(f"Flat {product.values['filter']}, {counted(product.values['lights'], 'light')}", path)
        self.box.setAccessibleName("Flat")
        self.box.setToolTip("Which flat is held against the sky of its lights")
        self.box.currentIndexChanged.connect(lambda _: self._show())
        column.addWidget(self.box)
        self.verdict = label("", "value", wrap=True)
        column.addWidget(self.verdict)
        self.plot = Plot(theme, x_label="flat: darker  ←  → brighter, %", y_label="calibrated sky, %")
        self.plot.setMinimumHeight(220)
        column.addWidget(self.plot, 1)
        self.causes = label("", wrap=True)
        column.addWidget(self.causes)
        column.addWidget(
            label(
                "Gradients of moonlight and twilight are taken out. A cloud without slope means that the flat fits.",
                "unit",
                wrap=True,
            )
        )
        self._show()

    def check(self) -> FlatCheck:
        """Return the check that is shown."""
        values = self.checks[self.box.currentData()].values
        fields = FlatCheck.__dataclass_fields__
        body: dict[str, Any] = {
            k: np.array(v, dtype=float) if k.endswith("_log") else v for k, v in values.items() if k in fields
        }
        known: dict[str, Any] = {k: float("nan") if v is None else v for k, v in body.items()}
        return FlatCheck(**known)

    def _show(self) -> None:
        check = self.check()
        words = {
            "fits": "The flat fits.",
            "over": "The flat corrects too much.",
            "under": "The flat corrects too little.",
        }
        off = true_minus(f"{check.corner_percent:+.2f} %")
        self.verdict.setText(f"{words[check.verdict]}  Where it is darkest the sky is {off} off.")
        x = 100 * (np.exp(check.flat_log) - 1)
        y = 100 * (np.exp(check.sky_log - np.median(check.sky_log)) - 1)
        line = np.linspace(float(np.percentile(x, 1)), float(np.percentile(x, 99)), 20)
        fit = 100 * (np.exp(check.slope * (np.log1p(line / 100) - float(np.median(check.flat_log)))) - 1)
        self.plot.series = [Points(x, y, token="comparison")]
        self.plot.curves = [(line, fit, "cur")]
        reach = max(1.0, float(np.percentile(np.abs(y), 99)) * 1.3, float(np.abs(fit).max()) * 1.2)
        self.plot.y_range = (-reach, reach)
        self.plot.update()
        slope = true_minus(f"slope {check.slope:+.4f} ± {check.slope_error:.4f}")
        if check.causes:
            self.causes.setText("Likely: " + "; or ".join(check.causes) + f".  ({slope})")
        else:
            small = abs(check.corner_percent) < 0.5
            why = "below half a per cent of the sky" if small else "within five of its errors"
            self.causes.setText(f"{slope}: what is left of the flat's pattern is {why}.")
