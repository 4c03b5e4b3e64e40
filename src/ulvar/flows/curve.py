"""Light curves and what is fitted to them."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from ulvar.engine import F64Array, Failed
from ulvar.frames import robust_spread
from ulvar.inspection import Finding, comparison_findings, notice
from ulvar.lightcurves import EclipseFit, LightCurve, Minimum, differential_curve, fit_eclipse, kwee_van_woerden
from ulvar.photometry import SeriesTable

if TYPE_CHECKING:
    from ulvar.lightcurves import PeriodResult

DETREND = {"airmass": "airmass", "fwhm": "fwhm_px", "sky": "sky", "x": "x", "y": "y", "time": "time"}


@dataclass(frozen=True)
class CurveOptions:
    """What is done with a light curve; `files_out` are exposures that are left out, `leave_out` comparison stars."""

    model: str = "none"
    detrend: tuple[str, ...] = ()
    period: tuple[float, float] | None = None
    target: str | None = None
    leave_out: tuple[str, ...] = ()
    files_out: frozenset[str] = frozenset()
    light: str = "aperture"


@dataclass(frozen=True)
class CurveResult:
    """A light curve with its fits and findings."""

    curve: LightCurve
    eclipse: EclipseFit | None
    minimum: Minimum | None
    period: PeriodResult | None
    rms: float
    findings: tuple[Finding, ...]
    notes: tuple[str, ...]

    def as_json(self) -> dict[str, Any]:
        """Return what the command line prints."""
        fit = None
        if self.eclipse is not None:
            fit = {
                "mid_bjd_tdb": self.eclipse.mid, "mid_error_d": self.eclipse.mid_error,
                "depth_mag": self.eclipse.depth_mag, "depth_error_mag": self.eclipse.depth_error_mag,
                "duration_d": self.eclipse.duration_d, "duration_error_d": self.eclipse.duration_error_d,
                "rms_mag": self.eclipse.rms_mag,
            }  # fmt: skip
            if self.minimum is not None:
                fit["kwee_van_woerden_mid"] = self.minimum.time
                fit["kwee_van_woerden_error_d"] = self.minimum.error
        period = None
        if self.period is not None:
            period = {
                "period_d": self.period.period_d, "period_error_d": self.period.period_error_d,
                "method": self.period.method, "false_alarm": self.period.false_alarm,
            }  # fmt: skip
        return {
            "target": self.curve.name, "points": len(self.curve), "rms": self.rms, "fit": fit, "period": period,
            "comparisons": [
                {"name": n, "weight": float(w), "scatter": _plain(s), "expected": _plain(e)}
                for n, w, s, e in zip(
                    self.curve.ensemble.names, self.curve.ensemble.weights, self.curve.ensemble.scatter,
                    self.curve.ensemble.expected,
                )
            ],
            "notes": list(self.notes),
        }  # fmt: skip


def _plain(value: float) -> float | None:
    return float(value) if math.isfinite(value) else None


def make_curve(table: SeriesTable, options: CurveOptions) -> CurveResult | Failed:
    """Make a light curve and fit what is asked for.

    Raises
    ------
    ValueError
        For an unknown model or detrending term, or detrending without a model.
    """
    for term in options.detrend:
        if term not in DETREND:
            raise ValueError(f"'{term}' is not a detrending term; there are {', '.join(DETREND)}")
    if options.model not in ("none", "eclipse"):
        raise ValueError(f"the model '{options.model}' is not there yet; there are none and eclipse")
    curve = differential_curve(
        table, target=options.target, leave_out=options.leave_out, files_out=options.files_out, light=options.light
    )
    if isinstance(curve, Failed):
        return curve
    findings = comparison_findings(curve.ensemble, _effects(table, curve, options))
    notes: list[str] = []
    good = np.flatnonzero(curve.good)
    time, magnitude, error = curve.time[good], curve.magnitude[good], curve.magnitude_error[good]
    trends = _trends(curve, good, options.detrend, notes)
    eclipse = minimum = None
    residual = magnitude
    if options.model == "eclipse":
        fit = fit_eclipse(time, magnitude, error, trends=trends)
        if isinstance(fit, Failed):
            notes.append(fit.reason)
            findings.append(notice("no_fit", "No eclipse was fitted", f"{fit.reason}."))
        else:
            eclipse = fit
            residual = magnitude - fit.model_mag
            timed = kwee_van_woerden(time, magnitude - fit.trend_mag, near=fit.mid, half_width=0.36 * fit.duration_d)
            if isinstance(timed, Failed):
                notes.append(f"Kwee-van Woerden: {timed.reason}")
            else:
                minimum = timed
    elif trends:
        design = np.column_stack([np.ones(len(good)), *[(t - t.mean()) / (np.std(t) or 1.0) for t in trends]])
        solution, *_ = np.linalg.lstsq(design, magnitude, rcond=None)
        residual = magnitude - design @ solution
    period = None
    if options.period is not None:
        from ulvar.lightcurves import find_period

        found = find_period(time, residual, error, shortest_d=options.period[0], longest_d=options.period[1])
        if isinstance(found, Failed):
            notes.append(found.reason)
        else:
            period = found
    if not np.isfinite(curve.magnitude_error).any():
        findings.append(
            notice(
                "no_error_bars", "No error bars", "The gain in electrons per ADU is unknown, so there are no errors."
            )  # fmt: skip
        )
    return CurveResult(
        curve, eclipse, minimum, period, float(np.std(residual)) if len(residual) else math.nan, tuple(findings),
        tuple(notes),
    )  # fmt: skip


def _effects(table: SeriesTable, curve: LightCurve, options: CurveOptions) -> dict[str, tuple[float, float]]:
    """Return what the target scatters by from point to point with and without each star that varies [mag]."""
    found = {}
    for name in curve.ensemble.suspects:
        without = differential_curve(
            table,
            target=options.target,
            leave_out=(*options.leave_out, name),
            files_out=options.files_out,
            light=options.light,
        )
        if not isinstance(without, Failed):
            found[name] = point_to_point(curve.magnitude[curve.good]), point_to_point(without.magnitude[without.good])
    return found


def point_to_point(values: F64Array) -> float:
    """Return the scatter of values by the differences of successive ones, robust: what the star itself does hardly counts."""
    steps = np.diff(values[np.isfinite(values)])
    return robust_spread(steps, about=0.0) / math.sqrt(2) if len(steps) > 2 else math.nan


def _trends(curve: LightCurve, good: np.ndarray, terms: Sequence[str], notes: list[str]) -> list[F64Array]:
    trends = []
    for term in terms:
        name = DETREND[term]
        values = curve.time[good] if name == "time" else curve.companions[name][good]
        if np.isfinite(values).all() and np.ptp(values) > 0:
            trends.append(values)
        else:
            notes.append(f"no detrending by {term}: it is unknown or constant")
    return trends
