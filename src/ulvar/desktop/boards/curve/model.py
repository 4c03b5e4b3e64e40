"""Curve, page Model: what the model tells with its errors, and its posterior beside them."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from ulvar.desktop.models.model import Model
from ulvar.desktop.parts.fitwords import ALL_ROWS
from ulvar.desktop.parts.plots import Plot, Points
from ulvar.desktop.parts.theme import Theme
from ulvar.desktop.parts.widgets import Rows, decimals_for, label, table
from ulvar.desktop.parts.zoomed import Sight
from ulvar.engine import Failed, true_minus
from ulvar.lightcurves import Posterior

_BINS = 40
# Height of a row of the table [px].
_ROW = 24
# Of times the difference from the fit is drawn in seconds.
_DAY_S = 86400.0


class ModelPage(QWidget):
    """A table of values, a button that draws from the posterior, and the draws of the chosen value."""

    chosen = ""

    def __init__(
        self, parent: QWidget, model: Model, theme: Theme, command: Callable[[str], object], sight: Sight
    ) -> None:
        super().__init__(parent)
        result = model.curves.curve()
        assert result is not None
        self._result, self._sampling = result, model.curves.sampling
        self._fit = result.fit if result.modelled else None
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        row = QHBoxLayout()
        self.draw = QPushButton()
        self.draw.clicked.connect(self._press)
        row.addWidget(self.draw)
        self.busy = label("")
        row.addWidget(self.busy, 1)
        column.addLayout(row)
        self.words = label("", "value", wrap=True)
        column.addWidget(self.words)
        self.rows = Rows(["", "By the fit", "Error", "Median", "below", "above"])
        self.rows.theme = theme
        self.table = table(
            self.rows, "What the model tells", on_row=self._choose,
            tip="By the fit with its error; median and the ends of the central 68 % of the posterior",
        )  # fmt: skip
        column.addWidget(self.table)
        self.plot = Plot(theme, x_label="", y_label="share of the draws, %")
        self.plot.empty = "Draw from the posterior to see how sure each value is, and whether its errors are even."
        self.plot.setMinimumHeight(150)
        column.addWidget(self.plot, 3)
        self.plots: list[Plot] = [self.plot]
        self._sampling.changed.connect(self._show)
        self._sampling.went_on.connect(self._went_on)
        self._show()

    def _press(self) -> None:
        if self._sampling.drawing is not None:
            self._sampling.stop()
        else:
            self._sampling.draw(self._result)

    def _went_on(self, done: int, total: int) -> None:
        if self._sampling.drawing is not None:
            self.busy.setText(f"{100 * done / total:.0f} % of the steps at most")

    def _show(self) -> None:
        fit, found, running = self._fit, self._sampling.found(self._result), self._sampling.drawing is not None
        self.draw.setText("Stop" if running else "Draw from the posterior")
        self.draw.setToolTip(
            "What is drawn so far is lost"
            if running
            else "Walkers explore which parameters suit the points; it takes up to a minute and changes nothing"
        )
        self.draw.setEnabled(running or (fit is not None and len(fit.parameters) > 0))
        if not running:
            self.busy.setText("")
        if fit is None:
            self.words.setText("No model is fitted: choose one on the right.")
        elif isinstance(found, Failed):
            self.words.setText(f"There is no posterior: {found.reason}.")
        elif found is not None:
            words = found.words
            self.words.setText(words[:1].upper() + words[1:] + ".")
        elif not len(fit.parameters):
            self.words.setText("Everything in this model is linear: the errors of the fit are exact.")
        else:
            self.words.setText("Errors by the fit are even on both sides; the posterior tells where they are not.")
        posterior = found if isinstance(found, Posterior) else None
        self._fill(posterior)
        self._draw_values(posterior)

    def _fill(self, posterior: Posterior | None) -> None:
        fit = self._fit
        rows, keys = [], []
        for key, (words, unit, factor) in ALL_ROWS.items() if fit is not None else ():
            assert fit is not None
            value, error = factor * fit.values.get(key, math.nan), factor * fit.errors.get(key, math.nan)
            if not math.isfinite(value):
                continue
            told = posterior.values.get(key) if posterior is not None else None
            sizes = [error] if told is None else [error, factor * told[1], factor * told[2]]
            sizes = [one for one in sizes if math.isfinite(one) and one > 0]
            places = decimals_for(min(sizes)) if sizes else 5

            def shown(one: float, places: int = places) -> str:
                return true_minus(f"{one:,.{places}f}".replace(",", "\u2009")) if math.isfinite(one) else "–"

            rows.append(
                (
                    f"{words}, {unit}" if unit else words, shown(value), shown(error if error > 0 else math.nan),
                    *([shown(factor * told[0]), f"−{shown(factor * told[1])}", f"+{shown(factor * told[2])}"] if told else ["", "", ""]),
                )
            )  # fmt: skip
            keys.append(key)
        self.rows.fill(rows, keys)
        header = self.table.horizontalHeader()
        self.table.setFixedHeight(max(header.height(), header.sizeHint().height()) + _ROW * max(3, len(rows)) + 2)
        if ModelPage.chosen not in keys and keys:
            ModelPage.chosen = keys[0]
        if ModelPage.chosen in keys:
            self.table.selectRow(self.rows.row_of(ModelPage.chosen))

    def _choose(self, key: str) -> None:
        ModelPage.chosen = key
        found = self._sampling.found(self._result)
        self._draw_values(found if isinstance(found, Posterior) else None)

    def _draw_values(self, posterior: Posterior | None) -> None:
        self.plot.series, self.plot.curves, self.plot.notes = [], [], []
        fit, key = self._fit, ModelPage.chosen
        draws = posterior.draws.get(key) if posterior is not None else None
        if fit is None or posterior is None or draws is None or len(draws) < _BINS:
            self.plot.update()
            return
        words, unit, factor = ALL_ROWS[key]
        if unit in ("BJD_TDB", "d"):
            unit, factor = "s", _DAY_S
        off = factor * (draws - fit.values[key])
        low, high = (float(v) for v in np.percentile(off, (0.2, 99.8)))
        counts, edges = np.histogram(off, _BINS, (low, high))
        share = 100 * counts / len(off)
        steps = np.repeat(edges, 2), np.concatenate([[0.0], np.repeat(share, 2), [0.0]])
        self.plot.series = [Points(*steps, line=True, token="text")]
        error = factor * fit.errors.get(key, math.nan)
        top = 1.15 * float(share.max())
        if math.isfinite(error) and error > 0:
            x = np.linspace(low, high, 200)
            bell = 100 * (edges[1] - edges[0]) / (error * math.sqrt(2 * math.pi)) * np.exp(-0.5 * (x / error) ** 2)
            self.plot.curves.append((x, bell, "cur"))
            self.plot.notes.append((low, 0.96 * top, "line: as the fit's error has it", "cur"))
            top = max(top, 1.1 * float(bell.max()))
        middle, below, above = posterior.values[key]
        for end in (middle - below, middle + above):
            place = factor * (end - fit.values[key])
            self.plot.curves.append((np.full(2, place), np.array([0.0, top]), "mute"))
        self.plot.x_label = f"{words.lower() if len(words) > 2 else words} less the fit's" + (
            f", {unit}" if unit else ""
        )
        self.plot.x_range, self.plot.y_range = (low, high), (0.0, top)
        self.plot.update()
