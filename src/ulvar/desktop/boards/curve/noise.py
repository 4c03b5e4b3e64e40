"""Curve, page Noise: scatter of means over time beside that of independent points, and which trends the points ask for."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtWidgets import QVBoxLayout, QWidget

from ulvar.desktop.models.model import Model
from ulvar.desktop.parts.plots import Plot, Points
from ulvar.desktop.parts.theme import Theme
from ulvar.desktop.parts.ticks import log_ticks
from ulvar.desktop.parts.widgets import Rows, label, table
from ulvar.desktop.parts.zoomed import Sight
from ulvar.engine import true_minus


class NoisePage(QWidget):
    """The time-averaging plot, words on red noise, trends with coefficients, and what the criterion says of others."""

    def __init__(
        self, parent: QWidget, model: Model, theme: Theme, command: Callable[[str], object], sight: Sight
    ) -> None:
        super().__init__(parent)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        self.words = label("", "value", wrap=True)
        column.addWidget(self.words)
        self.plot = Plot(theme, x_label="means over, minutes", y_label="scatter of the means, mmag")
        self.plot.empty = "Fit a model or trends to see what they leave."
        self.plot.setMinimumHeight(150)
        self.plots: list[Plot] = [self.plot]
        column.addWidget(self.plot, 3)
        self.rows = Rows(["Trends", "BIC\ngained", "Scatter\nmmag", ""])
        self.rows.theme = theme
        self.table = table(
            self.rows, "Sets of trends and what a criterion says of them", on_row=lambda key: None,
            tip="How much Schwarz's criterion falls by fitting these along: more than 2 speaks for them, more than 10 clearly",
        )  # fmt: skip
        self.table.setMinimumHeight(120)
        column.addWidget(self.table, 2)
        self.fitted = label("", wrap=True)
        column.addWidget(self.fitted)
        self._show(model)

    def _show(self, model: Model) -> None:
        result = model.curves.curve()
        assert result is not None
        fit = result.fit
        if fit is None:
            self.words.setText("Nothing is fitted: choose a model, or trends, on the right.")
        else:
            red = fit.red
            if len(red.minutes):
                x = np.log10(red.minutes)
                self.plot.series = [Points(x, np.log10(1000 * red.scatter), name="what the fit leaves", token="target")]
                self.plot.curves = [(x, np.log10(1000 * red.white), "text")]
                self.plot.places_of = log_ticks
                self.plot.x_words = self.plot.y_words = lambda value, step: f"{10**value:.3g}"
                self.plot.notes = [(float(x[-1]), float(np.log10(1000 * red.white[-1])), "independent points", "text")]
            self.words.setText(
                f"Scatter that lasts {red.minutes_long:.0f} min: errors are {red.factor:.1f} times what independent points would give."
                if red.share > 0
                else "The scatter is that of independent points: errors need not grow."
            )
        chosen = {trend.name for trend in fit.trends} if fit is not None else set()
        rows = [
            (
                ", ".join(one.names) or "none", true_minus(f"{one.gain:+.1f}"), f"{1000 * one.rms_mag:.2f}",
                "fitted" if set(one.names) == chosen else "",
            )
            for one in result.tried[:12]
        ]  # fmt: skip
        self.rows.fill(rows, [str(k) for k in range(len(rows))])
        self.table.setVisible(bool(rows))
        trends = (
            [f"{t.name} {1000 * t.coefficient_mag:+.2f} ± {1000 * t.error_mag:.2f} mmag" for t in fit.trends]
            if fit
            else []
        )
        words = "Fitted along, for one standard deviation of each: " + "; ".join(trends) + "." if trends else ""
        if not rows:
            words = (words + " Switch on Trends that the points ask for, to see what a criterion says of each.").strip()
        self.fitted.setText(true_minus(words))
