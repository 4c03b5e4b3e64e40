"""What periods the points know, and the light folded with one."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence

import numpy as np
from PySide6.QtCore import QLocale
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from ulvar.desktop.models.folding import Folding
from ulvar.desktop.parts.fitwords import fine_value
from ulvar.desktop.parts.inputs import Choice, Number, Slide
from ulvar.desktop.parts.plots import Plot, Points
from ulvar.desktop.parts.theme import Theme
from ulvar.desktop.parts.widgets import label
from ulvar.desktop.parts.zoomed import ZoomPlot
from ulvar.engine import Failed, true_minus
from ulvar.lightcurves import LightCurve

_METHODS = (
    ("sine", "by a sine", "Lomb–Scargle with a floating mean: round waves"),
    ("phase", "by scatter in phase", "The least scatter within bins of phase: waves of any form"),
    ("box", "by a box", "A dip of even depth: transits and short eclipses"),
)
# The slider reaches so far to either side, in errors of frequency one over the span, in so many steps.
_SLIDE, _STEPS = 1.0, 400
# A periodogram is drawn by so many points at most.
_SHOWN = 2400


class PeriodView(QWidget):
    """Range and method, periodogram with levels of chance and aliases, the folded light with a slider.

    Parameters
    ----------
    curves : Folding
    theme : Theme
    keys : callable
        Of each point of a curve, what a click on it gives to `on_pick`.
    on_pick : callable, optional
    """

    def __init__(
        self, parent: QWidget, curves: Folding, theme: Theme, keys: Callable[[LightCurve], Sequence[str]], on_pick: Callable[[str], None] | None = None
    ) -> None:  # fmt: skip
        super().__init__(parent)
        self.curves, self.theme, self._keys = curves, theme, keys
        result = curves.curve()
        assert result is not None
        self._curve, self._fit = result.curve, result.fit
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        row = QHBoxLayout()
        span = float(np.ptp(self._curve.time)) or 0.1
        self.shortest, self.longest = self._number(span / 50), self._number(2 * span)
        row.addWidget(label("Between"))
        row.addWidget(self.shortest)
        row.addWidget(label("and"))
        row.addWidget(self.longest)
        self.method = Choice()
        self.method.fill_with(_METHODS, curves.method)
        self.method.setToolTip("How a period is looked for")
        self.method.setAccessibleName("Method")
        row.addWidget(self.method)
        self.go = QPushButton("Find periods")
        self.go.setToolTip("In the points without trends; what is left out does not count")
        self.go.clicked.connect(self._search)
        row.addWidget(self.go)
        row.addStretch(1)
        column.addLayout(row)
        self.words = label("", "value", wrap=True)
        column.addWidget(self.words)
        self.powers = ZoomPlot(theme, x_label="frequency, 1/d", y_label="share of the variance", on_pick=self._take)
        self.powers.empty = "Find periods to see which ones the points know."
        self.powers.setMinimumHeight(120)
        column.addWidget(self.powers, 3)
        slide = QHBoxLayout()
        slide.addWidget(label("Fold with"))
        self.period = self._number(span)
        self.period.setDecimals(8)
        self.period.setFixedWidth(150)
        self.period.setAccessibleName("Period, d")
        self.period.setToolTip("The light is folded with it; type one, click a peak above, or move the slider")
        self.period.editingFinished.connect(lambda: self._fold(self.period.value()))
        slide.addWidget(self.period)
        self.slider = Slide()
        self.slider.setRange(-_STEPS, _STEPS)
        self.slider.setToolTip("Change the period finely: one end is a period off by one cycle over all points")
        self.slider.setAccessibleName("Period, fine")
        self.slider.valueChanged.connect(self._slid)
        slide.addWidget(self.slider, 1)
        self.half, self.double = QPushButton("½"), QPushButton("2×")
        self.half.setToolTip("Half of the period")
        self.double.setToolTip("Double the period: of waves with two minima a sine finds the half")
        self.half.setAccessibleName("Half of the period")
        self.double.setAccessibleName("Double the period")
        for button, factor in ((self.half, 0.5), (self.double, 2.0)):
            button.setFixedWidth(40)
            button.clicked.connect(lambda _=False, f=factor: self._fold(f * self.period.value()))
            slide.addWidget(button)
        column.addLayout(slide)
        self.folded = Plot(theme, x_label="phase", y_label="target − ensemble, mag", y_down=True, on_pick=on_pick)
        self.folded.empty = "Find a period, or type one, to see the light folded."
        self.folded.setMinimumHeight(150)
        self.folded.x_range = (-0.5, 1.5)
        column.addWidget(self.folded, 4)
        self.plots: list[Plot] = [self.powers, self.folded]
        self._base = 0.0
        self._show()

    def _number(self, value: float) -> Number:
        field = Number()
        field.setLocale(QLocale.c())
        field.setRange(1e-6, 1e5)
        field.setDecimals(5)
        field.setSuffix(" d")
        field.setValue(value)
        field.setToolTip("A period, d")
        field.setAccessibleName("Period limit, d")
        return field

    def _search(self) -> None:
        if not self.shortest.value() < self.longest.value():
            self.words.setText("The first period is shorter than the second.")
        elif not self.curves.search(self.shortest.value(), self.longest.value(), str(self.method.currentData())):
            self.words.setText("A search runs already.")

    def _show(self) -> None:
        found = self.curves.found
        if self.curves.searching:
            self.words.setText("Periods are being looked for.")
        elif isinstance(found, Failed):
            self.words.setText(found.reason[:1].upper() + found.reason[1:] + ".")
        elif found is not None:
            chance = (
                "hardly ever" if found.false_alarm < 1e-6 else true_minus(f"in {found.false_alarm:.2g} of such series")
            )
            self.words.setText(
                f"{fine_value(found.period_d, found.period_error_d)} d takes {100 * found.power:.1f} % of the variance; noise alone does so {chance}."
                + (
                    f" As likely by the sampling, or half and double: {', '.join(f'{p:.6g}' for p in found.aliases[:4])} d."
                    if found.aliases
                    else ""
                )
            )
            self.shortest.setValue(1 / float(found.frequencies[-1]))
            self.longest.setValue(1 / float(found.frequencies[0]))
            self._show_powers()
        self._fold(self.curves.fold[0] if self.curves.fold is not None else 0.0)

    def _show_powers(self) -> None:
        found = self.curves.found
        assert found is not None and not isinstance(found, Failed)
        f, p = found.frequencies, found.powers
        if len(f) > _SHOWN:
            # The highest of each stretch: no peak is lost.
            size = math.ceil(len(f) / _SHOWN)
            cut = len(f) // size * size
            at = p[:cut].reshape(-1, size).argmax(axis=1) + size * np.arange(cut // size)
            f, p = f[at], p[at]
        self.powers.series = [Points(f, p, keys=[str(v) for v in f], line=True, token="text")]
        low, high = float(f[0]), float(f[-1])
        self.powers.home = self.powers.x_range = (low, high)
        self.powers.curves = [
            (np.array([low, high]), np.full(2, level), "mute") for chance, level in found.levels.items() if level < 1
        ]
        self.powers.notes = [
            (high, level, f"by chance in {chance:g}", "mute")
            for chance, level in found.levels.items()
            if chance == 0.01
        ]
        self.powers.notes += [(1 / one, found.power * 0.9, f"alias {one:.5g} d", "check") for one in found.aliases[:3]]
        self.powers.marker = 1 / found.period_d

    def _take(self, key: str) -> None:
        self._fold(1 / float(key))

    def _slid(self, place: int) -> None:
        if self._base > 0:
            span = float(np.ptp(self._curve.time)) or 1.0
            self._draw(1 / (1 / self._base + _SLIDE * place / _STEPS / span))

    def _fold(self, period: float) -> None:
        """Fold with a period from now on."""
        if not (math.isfinite(period) and period > 0):
            return
        self._base = period
        self.slider.blockSignals(True)
        self.slider.setValue(0)
        self.slider.blockSignals(False)
        self._draw(period)

    def _draw(self, period: float) -> None:
        self.period.blockSignals(True)
        self.period.setValue(period)
        self.period.blockSignals(False)
        curves = self.curves
        if curves.fold is None or abs(curves.fold[0] / period - 1) > 1e-12:
            curves.fold_with(period)
        assert curves.fold is not None
        _, epoch = curves.fold
        curve, good = self._curve, self._curve.good
        value = curve.magnitude.copy()
        if self._fit is not None:
            value[good] -= self._fit.trend_mag
        phase = (curve.time - epoch) / period % 1
        # One and a half cycles about the minimum: the points of each half stand twice.
        twice = np.concatenate([phase - 1, phase, phase + 1])
        keys = self._keys(curve)
        kinds = ["left_out" if out else "kept" if ok else "other" for out, ok in zip(curve.left_out, good)]
        inside = (twice >= -0.5) & (twice <= 1.5)
        take = (np.flatnonzero(inside) % len(curve)).tolist()
        self.folded.series = [
            Points(
                twice[inside],
                value[take],
                curve.magnitude_error[take],
                [kinds[k] for k in take],
                [keys[k] for k in take],
            )
        ]
        self.folded.x_label = f"phase of {period:.8g} d"
        self.folded.update()
