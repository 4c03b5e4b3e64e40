"""Curve: what does the star do?"""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
from PySide6.QtCore import QLocale
from PySide6.QtWidgets import QHBoxLayout, QToolButton

from ulvar.desktop.boards.base import Board
from ulvar.desktop.parts.glyphs import SHAPES
from ulvar.desktop.parts.inputs import Number
from ulvar.desktop.parts.plots import Plot, Points
from ulvar.desktop.parts.theme import filter_color
from ulvar.desktop.parts.widgets import decimals_for, empty_state, label
from ulvar.engine import counted
from ulvar.night.stations import Beside

_STRIPS = (("airmass", "Airmass"), ("fwhm_px", "FWHM px"), ("sky", "Sky ADU"))


class CurveBoard(Board):
    """The light curve, its residuals, and companions on one time axis."""

    width_hint = 656
    shows_curve = True

    def fill(self) -> None:
        """Build the plots."""
        result = self.model.curves.curve()
        self.title.setText("Light curve")
        self.count.setText("")
        self._plots: list[Plot] = []
        if self.model.curves.series() is None:
            self.say_empty("No measurements yet.")
            return
        if result is None and self.model.curves.coming:
            self.body.addWidget(empty_state("The light curve is being made."))
            return
        if result is None:
            self.say_empty("The stars are measured.")
            return
        curve, fit = result.curve, result.fit if result.modelled else None
        self.title.setText(curve.name)
        self.count.setText(f"{self.model.series_name()}, {counted(int((~curve.left_out).sum()), 'point')}")
        time = curve.time
        scale = "BJD_TDB" if np.isfinite(curve.bjd_tdb).all() else "JD UTC"
        day = math.floor(float(np.nanmin(time)))
        beside = self.model.curves.beside()
        if any(not np.isfinite(other.curve.bjd_tdb).all() for other in beside):
            # One axis for all: the scale that every curve has.
            scale, time = "JD UTC", curve.jd_utc
            day = math.floor(float(np.nanmin(time)))
        x = time - day
        names = {file: raw for raw, file in self.model.numbers.measured_names().items()}
        keys = [names.get(f, "") for f in curve.files]
        marked = self.model.jobs.files_with_findings()
        kinds = [
            "left_out" if out else "other" if not good else "finding" if key in marked else "kept"
            for out, good, key in zip(curve.left_out, curve.good, keys)
        ]
        times = [x, *((other.curve.jd_utc if scale == "JD UTC" else other.curve.bjd_tdb) - day for other in beside)]
        first, last = min(float(t.min()) for t in times), max(float(t.max()) for t in times)
        pad = 0.03 * (last - first or 0.01)
        limits = (first - pad, last + pad)
        self._add_controls()
        main = self._add(
            Plot(
                self.theme,
                y_label="target − ensemble, mag",
                on_pick=self.model.set_current,
                y_down=True,
                show_x=False,
            ),
            limits,
            6,
        )
        main.series = [Points(x, curve.magnitude, curve.magnitude_error, kinds, keys)]
        if beside:
            own = self.model.chosen_series()
            assert own is not None
            main.series[0].color, main.series[0].shape = filter_color(self.theme, own.filter), SHAPES[0]
            main.series[0].name = own.filter or own.title
            self._others(main, beside, times[1:])
        else:
            self._check_stars(main, result, x)
        if fit is not None:
            self._model_curve(main, fit, day, limits)
            residual = np.full(len(curve), math.nan)
            residual[curve.good] = 1000 * (curve.magnitude[curve.good] - fit.model_mag)
            strip = self._add(self._strip("Residual mmag"), limits, 2)
            strip.series = [Points(x, residual, 1000 * curve.magnitude_error, kinds, keys)]
            strip.curves = [(np.array(limits), np.zeros(2), "cur")]
        shown = [(k, t) for k, t in _STRIPS if np.isfinite(curve.companions[k]).any()]
        for i, (key, text) in enumerate(shown):
            last = i == len(shown) - 1
            strip = self._add(
                self._strip(text, show_x=last, label=f"{scale} − {day:,} d".replace(",", "\u2009")), limits, 2
            )
            strip.series = [Points(x, curve.companions[key], kinds=kinds, keys=keys)]
        if not shown:
            main.show_x = True
            main.x_label = f"{scale} − {day:,} d".replace(",", "\u2009")

    def _add_controls(self) -> None:
        """Put the switch for the field's other series over the plot, if there are any."""
        curves = self.model.curves
        others = curves.others()
        if not others:
            return
        row = QHBoxLayout()
        row.setSpacing(8)
        self.together = QToolButton()
        self.together.setText("All filters")
        self.together.setCheckable(True)
        self.together.setChecked(curves.together)
        self.together.setToolTip("Show the curves of " + ", ".join(one.title for one in others) + " as well")
        self.together.clicked.connect(lambda on: curves.show_together(on, curves.apart_mag))
        row.addWidget(self.together)
        if curves.together:
            row.addWidget(label("Apart by"))
            self.apart = Number()
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
        self.body.addLayout(row)

    def _set_apart(self) -> None:
        wanted = None if self.apart.value() < 0 else self.apart.value()
        if wanted != self.model.curves.apart_mag:
            self.model.curves.show_together(True, wanted)

    def _others(self, plot: Plot, beside: Sequence[Beside], times: Sequence[np.ndarray]) -> None:
        """Draw the curves of other series under the own one, each shifted by the number of magnitudes that is named."""
        own = plot.series[0]
        middle = float(np.nanmedian(own.y))
        apart = self.model.curves.apart_mag
        # Each needs room for what most of its points span.
        reaches = [float(np.ptp(np.nanpercentile(y, (2, 98)))) for y in (own.y, *(o.curve.magnitude for o in beside))]
        place = 0.0
        for k, (other, x) in enumerate(zip(beside, times)):
            place += 0.6 * (reaches[k] + reaches[k + 1]) if apart is None else apart
            shift = middle + place - float(np.nanmedian(other.curve.magnitude))
            name = other.series.filter or other.series.title
            plot.series.append(
                Points(
                    x, other.curve.magnitude + shift, other.curve.magnitude_error,
                    ["left_out" if out else "kept" if good else "other" for out, good in zip(other.curve.left_out, other.curve.good)],
                    [other.raws.get(file, "") for file in other.curve.files],
                    name=f"{name}, shifted by {shift:+.2f} mag".replace("-", "−"),
                    color=filter_color(self.theme, other.series.filter), shape=SHAPES[(k + 1) % len(SHAPES)],
                )
            )  # fmt: skip

    def _strip(self, text: str, *, show_x: bool = False, label: str = "") -> Plot:
        return Plot(self.theme, y_label=text, x_label=label, on_pick=self.model.set_current, show_x=show_x, ticks=3)

    def _add(self, plot: Plot, limits: tuple[float, float], stretch: int) -> Plot:
        plot.x_range = limits
        plot.setMinimumHeight(84 if plot.show_x else 56)
        self._plots.append(plot)
        self.body.addWidget(plot, stretch)
        return plot

    def _check_stars(self, plot: Plot, result, x: np.ndarray) -> None:  # type: ignore[no-untyped-def]
        series = self.model.curves.series()
        if series is None:
            return
        base = float(np.nanmax(result.curve.magnitude))
        for number, name in enumerate(series.names("check")[:2], 1):
            own = {row.file: row.flux for row in series.star(name)}
            values = np.array([own.get(f, math.nan) for f in result.curve.files]) / result.curve.ensemble_flux
            with np.errstate(divide="ignore", invalid="ignore"):
                magnitude = -2.5 * np.log10(values)
            shift = base + 0.06 * number - float(np.nanmedian(magnitude))
            plot.series.append(
                Points(
                    x,
                    magnitude + shift,
                    token="check_star",
                    name=f"{name}, shifted by {shift:+.2f} mag".replace("-", "−"),
                )
            )

    def _model_curve(self, plot: Plot, fit, day: int, limits: tuple[float, float]) -> None:  # type: ignore[no-untyped-def]
        fine = np.linspace(*limits, 500)
        plot.curves = [(fine, fit.at(fine + day), "cur")]
        if "mid" not in fit.values:
            return
        mid, depth, length = (fit.values[name] for name in ("mid", "depth_mag", "duration_d"))
        plot.bands = [(mid - day - length / 2, mid - day + length / 2, "cur")]
        places = decimals_for(fit.errors["mid"])
        text = f"min {mid - day:.{places}f} ± {fit.errors['mid']:.{places}f} d"
        plot.notes = [
            (mid - day, fit.base_mag + 0.35 * depth, text, "cur"),
            (mid - day, fit.base_mag + 0.52 * depth, f"depth {depth:.3f} ± {fit.errors['depth_mag']:.3f} mag", "text"),
            (mid - day, fit.base_mag + 0.69 * depth, f"{24 * length:.2f} h", "text"),
        ]

    def show_current(self, path: str) -> None:
        """Draw the current exposure's line through every strip."""
        for plot in getattr(self, "_plots", []):
            plot.current = path
            there = [(p, list(p.keys).index(path)) for p in plot.series if path in p.keys]
            plot.marker = float(there[0][0].x[there[0][1]]) if there else None
            plot.update()
