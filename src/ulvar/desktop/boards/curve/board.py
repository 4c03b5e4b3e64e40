"""Curve: what does the star do?"""

from __future__ import annotations

import math

import numpy as np

from ulvar.desktop.boards.base import Board
from ulvar.desktop.parts.plots import Plot, Points
from ulvar.desktop.parts.widgets import empty_state
from ulvar.engine import counted
from ulvar.lightcurves import eclipse_template

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
            self.body.addWidget(
                empty_state("No measurements yet.", "Go to Measure", lambda: self.command("station measure"))
            )
            return
        if result is None and self.model.curves.coming:
            self.body.addWidget(empty_state("The light curve is being made."))
            return
        if result is None:
            self.body.addWidget(
                empty_state("The stars are measured.", "Make the light curve", lambda: self.command("run curve"))
            )
            return
        curve, fit = result.curve, result.eclipse
        self.title.setText(curve.name)
        self.count.setText(f"{self.model.series_name()}, {counted(int((~curve.left_out).sum()), 'point')}")
        time = curve.time
        scale = "BJD_TDB" if np.isfinite(curve.bjd_tdb).all() else "JD UTC"
        day = math.floor(float(np.nanmin(time)))
        x = time - day
        names = {file: raw for raw, file in self.model.numbers.measured_names().items()}
        keys = [names.get(f, "") for f in curve.files]
        marked = self.model.jobs.files_with_findings()
        kinds = [
            "left_out" if out else "other" if not good else "finding" if key in marked else "kept"
            for out, good, key in zip(curve.left_out, curve.good, keys)
        ]
        pad = 0.03 * float(np.ptp(x))
        limits = (float(x.min()) - pad, float(x.max()) + pad)
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
            main.x_label = f"{scale} − {day} d"

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
                Points(x, magnitude + shift, token="check_star", name=f"{name} {shift:+.2f}".replace("-", "−"))
            )

    def _model_curve(self, plot: Plot, fit, day: int, limits: tuple[float, float]) -> None:  # type: ignore[no-untyped-def]
        fine = np.linspace(*limits, 500)
        plot.curves = [(fine, fit.base_mag + eclipse_template(fine + day, fit.shape), "cur")]
        half = fit.duration_d / 2
        plot.bands = [(fit.mid - day - half, fit.mid - day + half, "cur")]
        text = f"min {fit.mid - day:.5f} ± {fit.mid_error:.5f} d"
        plot.notes = [
            (fit.mid - day, fit.base_mag + 0.35 * fit.depth_mag, text, "cur"),
            (
                fit.mid - day,
                fit.base_mag + 0.52 * fit.depth_mag,
                f"depth {fit.depth_mag:.3f} ± {fit.depth_error_mag:.3f} mag",
                "text",
            ),
            (fit.mid - day, fit.base_mag + 0.69 * fit.depth_mag, f"{24 * fit.duration_d:.2f} h", "text"),
        ]

    def show_current(self, path: str) -> None:
        """Draw the current exposure's line through every strip."""
        for plot in getattr(self, "_plots", []):
            plot.current = path
            points = plot.series[0] if plot.series else None
            plot.marker = (
                float(points.x[list(points.keys).index(path)]) if points is not None and path in points.keys else None
            )
            plot.update()
