"""A target over nights, page Minima: each night's minimum, and how they follow each other."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QLocale
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QToolButton, QVBoxLayout, QWidget

from ulvar.desktop.models.nights import TargetNights, Timed
from ulvar.desktop.parts.fitwords import fine_value, told_value
from ulvar.desktop.parts.inputs import Choice, Number
from ulvar.desktop.parts.plots import Plot, Points
from ulvar.desktop.parts.theme import Theme
from ulvar.desktop.parts.widgets import Rows, label, number, table
from ulvar.engine import Failed, told_chi2, true_minus
from ulvar.lightcurves import Ephemeris


class TargetMinima(QWidget):
    """Times of minima with errors, an ephemeris, and what each is off it."""

    shape = "eclipse"
    halves_on = quadratic_on = False

    def __init__(
        self, nights: TargetNights, theme: Theme, save: Callable[[], object], save_figure: Callable[[], object]
    ) -> None:  # fmt: skip
        super().__init__()
        self._nights = nights
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        self.model = Choice()
        self.model.addItem("eclipses", "eclipse")
        self.model.addItem("transits", "transit")
        self.model.setCurrentIndex(max(0, self.model.findData(TargetMinima.shape)))
        self.model.setToolTip("What shape is fitted to each night by itself")
        self.model.setAccessibleName("Shape of the minima")
        self.go = QPushButton("Time the minima")
        self.go.setToolTip("Fit each night and filter by itself; those without a minimum are told with why")
        self.go.clicked.connect(self._time)
        self.period = Number()
        self.period.setLocale(QLocale.c())
        self.period.setRange(0, 1e5)
        self.period.setDecimals(8)
        self.period.setSuffix(" d")
        self.period.setSpecialValueText("not known")
        self.period.setValue(nights.fold[0] if nights.fold is not None else 0.0)
        self.period.setFixedWidth(150)
        self.period.setToolTip("A period that is good enough to count cycles, d")
        self.period.setAccessibleName("Period, d")
        self.halves = self._switch(
            "Half cycles", "Secondary minima, half a cycle later, are among them", TargetMinima.halves_on
        )
        self.quadratic = self._switch("Changing period", "The period may change evenly", TargetMinima.quadratic_on)
        self.fit = QPushButton("Fit an ephemeris")
        self.fit.setToolTip("Epoch and period through the minima, by their errors")
        self.fit.clicked.connect(self._fit)
        for parts in ((self.model, self.go), (label("Period"), self.period, self.halves, self.quadratic, self.fit)):
            row = QHBoxLayout()
            for one in parts:
                row.addWidget(one)
            row.addStretch(1)
            column.addLayout(row)
        self.words = label("", "value", wrap=True)
        column.addWidget(self.words)
        self.rows = Rows(
            ["Night and filter", "Minimum\nBJD_TDB", "Error\nd", "By folding\ns off", "Depth\nmag", "Cycle", "Off\nmin"]
        )
        self.rows.theme = theme
        self.table = table(
            self.rows, "Minima of nights", tip="Times by the fitted shape; beside them what folding says"
        )
        self.table.setMinimumHeight(140)
        column.addWidget(self.table, 2)
        self.plot = Plot(theme, x_label="cycle", y_label="observed less told, min")
        self.plot.empty = "Time the minima and fit an ephemeris to see what each is off."
        self.plot.setMinimumHeight(150)
        column.addWidget(self.plot, 3)
        self.plots: list[Plot] = [self.plot]
        foot = QHBoxLayout()
        foot.addStretch(1)
        self.figure = QPushButton("Save the figure…")
        self.figure.setToolTip("What the minima are off over the cycles: PDF, SVG or PNG")
        self.figure.clicked.connect(save_figure)
        self.save = QPushButton("Save the minima…")
        self.save.setToolTip("Times, errors, depths: CSV, VOTable, FITS or Parquet")
        self.save.clicked.connect(save)
        foot.addWidget(self.figure)
        foot.addWidget(self.save)
        column.addLayout(foot)
        self._show()

    def _switch(self, words: str, tip: str, on: bool) -> QToolButton:
        button = QToolButton()
        button.setText(words)
        button.setToolTip(tip)
        button.setCheckable(True)
        button.setChecked(on)
        return button

    def _time(self) -> None:
        TargetMinima.shape = str(self.model.currentData())
        self._nights.time(TargetMinima.shape)

    def _fit(self) -> None:
        TargetMinima.halves_on, TargetMinima.quadratic_on = self.halves.isChecked(), self.quadratic.isChecked()
        if self.period.value() <= 0:
            self.words.setText("Type a period that is good enough to count cycles.")
            return
        if self._nights.fold is None or self._nights.fold[0] != self.period.value():
            self._nights.fold_with(self.period.value())
        self._nights.tell_ephemeris(
            self.period.value(), halves=self.halves.isChecked(), quadratic=self.quadratic.isChecked()
        )

    def _show(self) -> None:
        timed, found = self._nights.minima, self._nights.ephemeris
        self.save.setEnabled(isinstance(timed, Timed) and bool(timed.minima))
        self.fit.setEnabled(self.save.isEnabled())
        self.figure.setEnabled(isinstance(found, Ephemeris))
        if isinstance(timed, Failed):
            self.words.setText(timed.reason[:1].upper() + timed.reason[1:] + ".")
        if not isinstance(timed, Timed):
            return
        told = found if isinstance(found, Ephemeris) else None
        rows = [
            (
                one.name, f"{one.time:,.5f}".replace(",", "\u2009"), f"{one.error:.5f}",
                number(86400 * (one.folded - one.time), 0) if math.isfinite(one.folded) else "–", f"{one.depth_mag:.3f}",
                true_minus(f"{told.cycles[k] + 0.0:g}") if told else "–", number(1440 * told.off[k], 2) if told else "–",
            )
            for k, one in enumerate(timed.minima)
        ]  # fmt: skip
        rows += [(name, why, "", "", "", "", "") for name, why in timed.missing]
        self.rows.fill(
            rows,
            [one.name for one in timed.minima] + [name for name, _ in timed.missing],
            dim=set(range(len(timed.minima), len(rows))),
        )
        words = f"{len(timed.minima)} {'minimum' if len(timed.minima) == 1 else 'minima'} timed."
        if timed.missing:
            words += f" {timed.missing[0][0]}: {timed.missing[0][1]}" + (
                f"; and {len(timed.missing) - 1} more." if len(timed.missing) > 1 else "."
            )
        if isinstance(found, Failed):
            words = found.reason[:1].upper() + found.reason[1:] + "."
        if told is not None:
            words = f"Minimum at {told_value(told.epoch, told.epoch_error, '')} + E × {fine_value(told.period, told.period_error)} d"
            if math.isfinite(told.change):
                words += f" + E² × ({told.change:.2g} ± {told.change_error:.1g}) d"
            if math.isfinite(told.chi2_reduced):
                words += f"; reduced χ² {told_chi2(told.chi2_reduced)}"
            self._draw(told, timed)
        self.words.setText(true_minus(words))

    def _draw(self, told: Ephemeris, timed: Timed) -> None:
        self.plot.series = [
            Points(told.cycles, 1440 * told.linear_off, 1440 * told.error, keys=[one.name for one in timed.minima])
        ]
        low, high = float(told.cycles.min()), float(told.cycles.max())
        fine = np.linspace(low - 0.05 * (high - low + 1), high + 0.05 * (high - low + 1), 200)
        bend = told.change * fine**2 if math.isfinite(told.change) else 0 * fine
        self.plot.curves = [(fine, 1440 * bend, "cur")]
        # Error bars are in sight to their ends.
        about = np.nan_to_num(told.error)
        ends = 1440 * np.r_[told.linear_off - about, told.linear_off + about, bend]
        pad = 0.15 * (float(np.ptp(ends)) or 1.0)
        self.plot.y_range = float(ends.min()) - pad, float(ends.max()) + pad
        self.plot.update()
