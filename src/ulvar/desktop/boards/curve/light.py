"""Curve, page Light curve: the light, what its model leaves, and companions, on one axis that is zoomed, measured and brushed."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import replace

import numpy as np
from PySide6.QtCore import QLocale
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QHBoxLayout, QLineEdit, QPushButton, QToolButton, QVBoxLayout, QWidget

from ulvar.desktop.boards.curve.axes import AXES, Axis, axis_of, binned, to_flux
from ulvar.desktop.boards.curve.beside import add_others, add_stars
from ulvar.desktop.boards.curve.stars import StarsRow
from ulvar.desktop.models.model import Model
from ulvar.desktop.parts.glyphs import SHAPES
from ulvar.desktop.parts.inputs import Choice, Number
from ulvar.desktop.parts.plots import Plot, Points
from ulvar.desktop.parts.theme import Theme, filter_color
from ulvar.desktop.parts.widgets import decimals_for, label
from ulvar.desktop.parts.zoomed import Ruler, Sight, ZoomPlot
from ulvar.engine import counted, true_minus
from ulvar.flows import CurveResult
from ulvar.lightcurves import JointFit, LightCurve

_STRIPS = (
    ("airmass", "Airmass"), ("fwhm_px", "FWHM px"), ("sky", "Sky ADU"), ("transparency", "Transparency %"), ("ensemble", "Comparisons mag"), ("x", "x px"), ("y", "y px"),
)  # fmt: skip
# Heights of the curve, of a strip and of the axis's words, at least [px].
_MAIN, _STRIP, _AXIS = 130, 56, 28
# Strips in sight before anybody chooses.
_FIRST = ("airmass", "fwhm_px", "sky")


class LightPage(QWidget):
    """The light curve, its residuals, and companions on one axis."""

    strips: tuple[str, ...] = _FIRST

    def __init__(
        self, parent: QWidget, model: Model, theme: Theme, command: Callable[[str], object], sight: Sight
    ) -> None:
        super().__init__(parent)
        self.model, self.theme, self._sight, self._command = model, theme, sight, command
        self.plots: list[Plot] = []
        self.together, self.apart = QToolButton(), Number()
        self._column = QVBoxLayout(self)
        self._column.setContentsMargins(0, 0, 0, 0)
        self._column.setSpacing(8)
        result = model.curves.curve()
        assert result is not None
        self.result: CurveResult = result
        self._fill()

    # ---- what stands over the plots

    def _add_controls(self, axis: Axis) -> None:
        curves = self.model.curves
        row = QHBoxLayout()
        row.setSpacing(6)
        self.axis = Choice()
        for name in AXES:
            self.axis.addItem(name, name)
        self.axis.setCurrentIndex(max(0, self.axis.findData(axis.name)))
        self.axis.setToolTip("What runs along the axis; phase needs a period (page Period)")
        self.axis.setAccessibleName("Axis")
        self.axis.currentIndexChanged.connect(self._set_axis)
        row.addWidget(self.axis)
        self.flux = QToolButton()
        self.flux.setText("Flux")
        self.flux.setCheckable(True)
        self.flux.setChecked(curves.in_flux)
        self.flux.setToolTip("Light relative to its median, in the place of magnitudes")
        self.flux.clicked.connect(lambda on: curves.look(in_flux=on))
        row.addWidget(self.flux)
        row.addWidget(label("Means over"))
        self.bins = Number()
        self.bins.setLocale(QLocale.c())
        self.bins.setRange(0, 600)
        self.bins.setDecimals(1)
        self.bins.setSuffix(" min")
        self.bins.setSpecialValueText("no bins")
        self.bins.setValue(curves.bin_min)
        self.bins.setFixedWidth(92)
        self.bins.setToolTip("Weighted means over so many minutes, over the points; 0 for none")
        self.bins.setAccessibleName("Means over, min")
        self.bins.editingFinished.connect(self._set_bins)
        row.addWidget(self.bins)
        self.ruler = QToolButton()
        self.ruler.setText("Ruler")
        self.ruler.setCheckable(True)
        self.ruler.setToolTip(
            "Drag from one place of the curve to another: duration, depth and slope with their errors; two stay"
        )
        self.ruler.clicked.connect(self._set_ruler)
        row.addWidget(self.ruler)
        self.more = Choice()
        self.more.addItem("Strips", "")
        for key, text in _STRIPS:
            self.more.addItem(("✓ " if key in self.strips else "   ") + text, key)
        self.more.setToolTip("Companions below the curve: choose one to add it or to take it away")
        self.more.setAccessibleName("Companions below the curve")
        self.more.activated.connect(self._toggle_strip)
        self.more.setMaximumWidth(120)
        row.addWidget(self.more)
        row.addStretch(1)
        self.figure = QPushButton("Figure…")
        self.figure.setToolTip("A figure for print in a style of your own, and a report about the light curve")
        self.figure.clicked.connect(lambda: self._command("figure"))
        row.addWidget(self.figure)
        self.nights = QPushButton("Nights…")
        self.nights.setToolTip("This star in all nights of a folder: joined, folded, its minima timed")
        self.nights.clicked.connect(lambda: self._command("nights"))
        row.addWidget(self.nights)
        self._column.addLayout(row)
        self._add_others()
        self.stars = StarsRow(curves, self.result.curve)
        self._column.addWidget(self.stars)
        # In flux, and beside other filters, there is no place for them.
        self.stars.setVisible(bool(self.stars.names) and not curves.in_flux and not curves.together)
        self.told = label("", "value", wrap=True)
        self.told.setVisible(False)
        self._column.addWidget(self.told)
        self._add_leaving()

    def _add_others(self) -> None:
        """Put the switch for the field's other series over the plot, if there are any."""
        curves = self.model.curves
        others = curves.others()
        if not others:
            return
        row = QHBoxLayout()
        row.setSpacing(8)
        self.together.setText("All filters")
        self.together.setCheckable(True)
        self.together.setChecked(curves.together)
        self.together.setToolTip("Show the curves of " + ", ".join(one.title for one in others) + " as well")
        self.together.clicked.connect(lambda on: curves.show_together(on, curves.apart_mag))
        row.addWidget(self.together)
        if curves.together:
            row.addWidget(label("Apart by"))
            self.apart.setLocale(QLocale.c())
            self.apart.setRange(-0.01, 9.99)
            self.apart.setDecimals(2)
            self.apart.setSingleStep(0.05)
            self.apart.setSuffix(" mag")
            self.apart.setSpecialValueText("as needed")
            self.apart.setValue(-0.01 if curves.apart_mag is None else curves.apart_mag)
            self.apart.setToolTip("How far below one another the curves stand, mag; 0 puts their medians on one line")
            self.apart.setAccessibleName("Curves apart by, mag")
            self.apart.editingFinished.connect(self._set_apart)
            row.addWidget(self.apart)
        row.addStretch(1)
        self._column.addLayout(row)

    def _add_leaving(self) -> None:
        """Build the line that leaves brushed points out, with why; it comes with a brush."""
        self.leaving = QWidget()
        row = QHBoxLayout(self.leaving)
        row.setContentsMargins(0, 0, 0, 0)
        self.chosen = label("")
        self.why = QLineEdit()
        self.why.setPlaceholderText("why, such as cloud or aeroplane")
        self.why.setToolTip("Stands beside the exposures from now on")
        self.why.setAccessibleName("Why the points are left out")
        self.leave = QPushButton("Leave out")
        self.leave.setToolTip("Leave the selected exposures out, with why; Ctrl+Z takes it back")
        self.leave.clicked.connect(self._leave_out)
        self.why.returnPressed.connect(self._leave_out)
        row.addWidget(self.chosen)
        row.addWidget(self.why, 1)
        row.addWidget(self.leave)
        self.leaving.hide()
        self._column.addWidget(self.leaving)

    def _set_axis(self) -> None:
        name = str(self.axis.currentData())
        if name == "phase" and self.model.curves.fold is None:
            self.model.message.emit("Find a period first (page Period), or fit a sine.")
            self.axis.blockSignals(True)
            self.axis.setCurrentIndex(self.axis.findData(self.model.curves.axis))
            self.axis.blockSignals(False)
            return
        self._sight.clear()
        self.model.curves.look(axis=name)

    def _set_bins(self) -> None:
        if self.bins.value() != self.model.curves.bin_min:
            self.model.curves.look(bin_min=self.bins.value())

    def _set_ruler(self, on: bool) -> None:
        self._main.measuring = on
        if not on:
            self._main.rulers = []
            self.told.setVisible(False)
        self._main.update()

    def _toggle_strip(self) -> None:
        key = str(self.more.currentData())
        if key:
            there = LightPage.strips
            LightPage.strips = tuple(k for k in there if k != key) if key in there else (*there, key)
            self.model.curves.look()

    def _set_apart(self) -> None:
        wanted = None if self.apart.value() < 0 else self.apart.value()
        if wanted != self.model.curves.apart_mag:
            self.model.curves.show_together(True, wanted)

    def _brushed(self, keys: list[str]) -> None:
        paths = [key for key in dict.fromkeys(keys) if key]
        self.model.set_brush(paths)
        for plot in self.plots:
            plot.selected = set(paths)
            plot.update()
        self.chosen.setText(f"{counted(len(paths), 'point')} selected")
        self.leaving.setVisible(bool(paths))

    def _leave_out(self) -> None:
        paths = list(self.model.brushed)
        self.leaving.hide()
        if paths:
            self.model.leave_out(paths, self.why.text().strip() or "by hand")
            self.model.set_brush([])

    # ---- plots

    def _fill(self) -> None:
        result, curves = self.result, self.model.curves
        curve, fit = result.curve, result.fit if result.modelled else None
        beside, beneath = curves.beside(), curves.beneath(curve)
        axis = axis_of(curve, curves.axis, curves.fold, [other.curve for other in beside])
        self._add_controls(axis)
        self._axis = axis
        x = axis.x(curve)
        names = {file: raw for raw, file in self.model.numbers.measured_names().items()}
        keys = [names.get(f, "") for f in curve.files]
        marked = self.model.jobs.files_with_findings()
        kinds = [
            "left_out" if out else "other" if not good else "finding" if key in marked else "kept"
            for out, good, key in zip(curve.left_out, curve.good, keys)
        ]
        times = [x, *(axis.x(other.curve) for other in beside)]
        first, last = min(float(t.min()) for t in times), max(float(t.max()) for t in times)
        pad = 0.03 * (last - first or 0.01)
        self._limits = (0.0, 1.0) if axis.name == "phase" else (first - pad, last + pad)
        value, error, words = self._shown(curve)
        self._main = self._add(
            ZoomPlot(
                self.theme, y_label=words, on_pick=self.model.set_current, y_down=not curves.in_flux, show_x=False, on_range=self._ranged,
                on_ruler=self._ruled, on_brush=self._brushed,
            ),
            6,
        )  # fmt: skip
        main = self._main
        main.ruler_words = self._ruler_words
        main.series = [Points(x, value, error, kinds, keys)]
        if curves.bin_min > 0:
            good = curve.good & np.isfinite(value)
            main.series.append(
                binned(x[good], value[good], error[good], axis.days(curves.bin_min), f"{curves.bin_min:g} min")
            )
        if beside and not curves.in_flux:
            own = self.model.chosen_series()
            assert own is not None
            main.series[0].color, main.series[0].shape = filter_color(self.theme, own.filter), SHAPES[0]
            main.series[0].name = own.filter or own.title
            add_others(main, beneath, beside, times[1:])
        elif beneath and (table := curves.series()) is not None:
            add_stars(main, beneath, table, x)
        if fit is not None:
            self._model_curve(main, fit, axis)
            residual = np.full(len(curve), math.nan)
            residual[curve.good] = 1000 * (curve.magnitude[curve.good] - fit.model_mag)
            strip = self._add(self._strip("Residual mmag"), 2)
            strip.series = [Points(x, residual, 1000 * curve.magnitude_error, kinds, keys)]
            strip.curves = [(np.array(self._limits), np.zeros(2), "cur")]
        companions = curve.companions | {"transparency": self._transparency(keys)}
        shown = [(k, t) for k, t in _STRIPS if k in self.strips and np.isfinite(companions[k]).any()]
        for key, text in shown:
            strip = self._add(self._strip(text), 2)
            strip.series = [Points(x, companions[key], kinds=kinds, keys=keys)]
        for plot in self.plots:
            plot.x_label, plot.x_words = axis.label, axis.words
        self._fit_strips(9999)
        self._ranged(self._sight.get(axis.name))

    def _transparency(self, keys: list[str]) -> np.ndarray:
        """Return what part of the light came through at each exposure, of all its stars [%]."""
        scores = self.model.scores()
        found = [scores[key].values.get("transparency") if key in scores else None for key in keys]
        return np.array([math.nan if value is None else 100 * float(value) for value in found])

    def _fit_strips(self, room: int) -> None:
        """Show as many strips as there is room for beside a curve that can be read; the last one carries the axis."""
        count = max(0, min(len(self.plots) - 1, (room - _MAIN - _AXIS) // (_STRIP + self._column.spacing())))
        for number, plot in enumerate(self.plots):
            plot.setVisible(number <= count)
            plot.show_x = number == count
            plot.setMinimumHeight((_MAIN if number == 0 else _STRIP) + (_AXIS if number == count else 0))

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Let strips give way to the curve."""
        super().resizeEvent(event)
        if self.plots:
            self._fit_strips(self.height() - self.plots[0].y())

    def _shown(self, curve: LightCurve) -> tuple[np.ndarray, np.ndarray, str]:
        if not self.model.curves.in_flux:
            return curve.magnitude, curve.magnitude_error, "target − ensemble, mag"
        value, error = to_flux(curve)
        return value, error, "light over its median"

    def _ranged(self, limits: tuple[float, float] | None) -> None:
        """Show the same part of the axis in all plots."""
        self._sight[self._axis.name] = limits
        for plot in self.plots:
            if isinstance(plot, ZoomPlot):
                plot.show_range(limits)

    def _ruler_words(self, ruler: Ruler) -> str:
        step, _ = ruler.step
        unit = "" if self.model.curves.in_flux else " mag"
        return true_minus(f"{self._axis.length_words(ruler.length)}, {step:+.3f}{unit}")

    def _ruled(self, ruler: Ruler) -> None:
        (step, error), (slope, slope_error) = ruler.step, ruler.slope
        unit = "" if self.model.curves.in_flux else " mag"
        known = math.isfinite(error)
        places = max(3, decimals_for(error)) if known else 3
        text = (
            f"Ruler: {self._axis.length_words(ruler.length)}; {step:+.{places}f}"
            + (f" ± {error:.{places}f}" if known else "")
            + unit
        )
        if self._axis.name != "phase":
            text += f"; {slope / 24:+.4f}" + (f" ± {slope_error / 24:.4f}" if known else "") + f"{unit} an hour"
        self.told.setText(true_minus(f"{text} (levels of {ruler.count0} and {counted(ruler.count1, 'point')})"))
        self.told.setVisible(True)

    def _strip(self, text: str) -> Plot:
        return ZoomPlot(
            self.theme,
            y_label=text,
            on_pick=self.model.set_current,
            show_x=False,
            ticks=3,
            on_range=self._ranged,
            on_brush=self._brushed,
        )

    def _add(self, plot: Plot, stretch: int) -> ZoomPlot:
        assert isinstance(plot, ZoomPlot)
        plot.home = plot.x_range = self._limits
        self.plots.append(plot)
        self._column.addWidget(plot, stretch)
        return plot

    def _model_curve(self, plot: Plot, fit: JointFit, axis: Axis) -> None:
        fine = np.linspace(*self._limits, 700)
        time = axis.back(fine)
        if time is None:
            return
        model = fit.at(time)
        if self.model.curves.in_flux:
            middle = float(np.nanmedian(self.result.curve.magnitude[self.result.curve.good]))
            model = 10 ** (-0.4 * (model - middle))
        plot.curves = [(fine, model, "cur")]
        if "mid" not in fit.values or axis.name == "phase" or self.model.curves.in_flux:
            return
        mid, depth, length = (fit.values[name] for name in ("mid", "depth_mag", "duration_d"))
        here = float(axis.forth(np.array([mid]))[0])
        half = axis.days(1440 * length / 2)
        plot.bands = [(here - half, here + half, "cur")]
        places = decimals_for(fit.errors["mid"])
        days = mid - axis.day
        plot.notes = [
            (here, fit.base_mag + 0.35 * depth, f"min {days:.{places}f} ± {fit.errors['mid']:.{places}f} d", "cur"),
            (here, fit.base_mag + 0.52 * depth, f"depth {depth:.3f} ± {fit.errors['depth_mag']:.3f} mag", "text"),
            (here, fit.base_mag + 0.69 * depth, f"{24 * length:.2f} h", "text"),
        ]
        plot.series = [replace(points) for points in plot.series]
