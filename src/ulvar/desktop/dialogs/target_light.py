"""A target over nights, page Light: all points on one axis, and what is fitted to them."""

from __future__ import annotations

import numpy as np
from PySide6.QtWidgets import QHBoxLayout, QToolButton, QVBoxLayout, QWidget

from ulvar.desktop.models.nights import TargetNights
from ulvar.desktop.parts.fitwords import fit_words
from ulvar.desktop.parts.glyphs import SHAPES
from ulvar.desktop.parts.inputs import Choice, Number
from ulvar.desktop.parts.plots import Plot, Points
from ulvar.desktop.parts.theme import Theme, filter_color
from ulvar.desktop.parts.widgets import label
from ulvar.desktop.parts.zoomed import ZoomPlot
from ulvar.engine import true_minus

_AXES = (
    ("days", "days", "Days from the first point on"),
    ("hours", "hours of each night", "Nights one over the other, from the middle of each"),
    ("phase", "phase", "Folded with the period of the page Period"),
)
_MODELS = (
    ("none", "levels only", "Each night and filter has a level of its own"), ("sine", "sine", "A wave with harmonics, of one period"),
    ("eclipse", "eclipse", "One minimum, seen in several filters or from several places"), ("transit", "transit", "One transit"),
    ("polynomial", "polynomial", "One smooth run of light"),
)  # fmt: skip


class TargetLight(QWidget):
    """Axis, model, levels; the points of each night and filter in colours of the filters."""

    axis_name = "days"

    def __init__(self, nights: TargetNights, theme: Theme) -> None:
        super().__init__()
        self._nights, self._theme = nights, theme
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        row = QHBoxLayout()
        self.axis = Choice()
        self.axis.fill_with(_AXES, TargetLight.axis_name)
        self.axis.setToolTip("What runs along the axis")
        self.axis.setAccessibleName("Axis")
        self.axis.activated.connect(self._set_axis)
        self.model = Choice()
        self.model.fill_with(_MODELS, nights.model)
        self.model.setToolTip("What is fitted to all nights at once")
        self.model.setAccessibleName("Model")
        self.model.activated.connect(self._set_model)
        self.terms = Number()
        self.terms.setDecimals(0)
        self.terms.setRange(1, 12)
        self.terms.setValue(nights.terms)
        self.terms.setToolTip("Harmonics of the sine, or the degree of the polynomial")
        self.terms.setAccessibleName("Terms")
        self.terms.setFixedWidth(64)
        self.terms.editingFinished.connect(self._set_terms)
        self.levels = QToolButton()
        self.levels.setText("Own levels")
        self.levels.setCheckable(True)
        self.levels.setChecked(nights.levelled)
        self.levels.setToolTip(
            "Take from each night and filter the level that was fitted; without it magnitudes stand as they were measured"
        )
        self.levels.clicked.connect(self._set_levels)
        for one in (label("Along"), self.axis, label("Fit"), self.model, self.terms, self.levels):
            row.addWidget(one)
        row.addStretch(1)
        column.addLayout(row)
        self.terms.setVisible(nights.model in ("sine", "polynomial"))
        self.words = label("", "value", wrap=True)
        column.addWidget(self.words)
        self.plot = ZoomPlot(theme, y_label="target − ensemble, mag", y_down=True)
        self.plot.setMinimumHeight(240)
        column.addWidget(self.plot, 1)
        self.plots: list[Plot] = [self.plot]
        self._draw()

    def _set_axis(self) -> None:
        TargetLight.axis_name = str(self.axis.currentData())
        self._draw()

    def _set_model(self) -> None:
        self._nights.model = str(self.model.currentData())
        self._nights.fit()

    def _set_terms(self) -> None:
        if int(self.terms.value()) != self._nights.terms:
            self._nights.terms = int(self.terms.value())
            self._nights.fit()

    def _set_levels(self, on: bool) -> None:
        self._nights.levelled = on
        self._nights.changed.emit()

    def _draw(self) -> None:
        result = self._nights.curve()
        assert result is not None
        curve, fit = result.curve, result.fit
        name, fold = str(self.axis.currentData()), self._nights.fold
        self.words.setText(self._words())
        self.words.setVisible(bool(self.words.text()))
        if name == "phase" and fold is None:
            self.words.setText("To see phases, find or type a period on the page Period.")
            self.words.show()
            name = "days"
        time = curve.time
        sessions = np.array(curve.sessions or [part.part.name for part in self._nights.taken()][:1] * len(curve))
        value = curve.magnitude.copy()
        levels = {one: off for one, off, _ in fit.sessions} if fit is not None and self._nights.levelled else {}
        value -= np.array([levels.get(one, 0.0) for one in sessions])
        day = float(np.floor(time.min()))
        if name == "phase" and fold is not None:
            x = (time - fold[1]) / fold[0] % 1
            self.plot.x_label = f"phase of {fold[0]:.8g} d"
        elif name == "hours":
            middle = {one: float(np.median(time[sessions == one])) for one in dict.fromkeys(sessions)}
            x = 24 * (time - np.array([middle[one] for one in sessions]))
            self.plot.x_label = "hours from the middle of each night"
        else:
            x = time - day
            scale = "BJD_TDB" if np.isfinite(curve.bjd_tdb).all() else "JD_UTC"
            self.plot.x_label = f"{scale} − {day:,.0f} d".replace(",", "\u2009")
        self.plot.series = []
        bands = list(dict.fromkeys(part.filter for part in self._nights.taken()))
        named: set[str] = set()
        for one in self._nights.taken():
            mine = sessions == one.part.name
            if not mine.any():
                continue
            kinds = [
                "left_out" if out else "kept" if good else "other"
                for out, good in zip(curve.left_out[mine], curve.good[mine])
            ]
            points = Points(x[mine], value[mine], curve.magnitude_error[mine], kinds, name="")
            points.color = filter_color(self._theme, one.filter)
            points.shape = SHAPES[bands.index(one.filter) % len(SHAPES)]
            if one.filter not in named and len(bands) > 1:
                points.name = one.filter or "no filter"
                named.add(one.filter)
            self.plot.series.append(points)
        low, high = (0.0, 1.0) if name == "phase" else (float(x.min()), float(x.max()))
        pad = 0.0 if name == "phase" else 0.03 * (high - low or 0.01)
        self.plot.home = self.plot.x_range = (low - pad, high + pad)
        self.plot.curves = []
        if fit is not None and result.modelled and name != "hours":
            fine = np.linspace(low, high, 1500)
            at = fold[1] + fold[0] * fine if name == "phase" and fold is not None else fine + day
            if name == "phase" or high - low < 3:
                self.plot.curves = [(fine, fit.at(at), "cur")]
        self.plot.update()

    def _words(self) -> str:
        result = self._nights.curve()
        assert result is not None
        if result.fit is None or not result.modelled:
            return "; ".join(result.notes)
        told = fit_words(result.fit.values, result.fit.errors)
        return true_minus(
            "; ".join(
                [*(f"{words} {text}" for words, text in told), f"residual scatter {1000 * result.fit.rms_mag:.1f} mmag"]
            )
        )
