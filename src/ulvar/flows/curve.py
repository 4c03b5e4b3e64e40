"""Light curves and what is fitted to them."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from ulvar.engine import F64Array, Failed
from ulvar.flows.curvefit import AUTO, DETREND, companion, folded, posterior_of, trend_terms
from ulvar.frames import robust_spread
from ulvar.inspection import Finding, comparison_findings, notice
from ulvar.lightcurves import (
    JointFit,
    LightCurve,
    Minimum,
    differential_curve,
    fit_jointly,
    join_curves,
)
from ulvar.photometry import SeriesTable

if TYPE_CHECKING:
    from ulvar.lightcurves import PeriodResult, Posterior, Shape, TrendChoice

MODELS = ("none", "eclipse", "transit", "sine", "polynomial")


@dataclass(frozen=True)
class CurveOptions:
    """What is done with a light curve.

    Attributes
    ----------
    model : str
        One of `MODELS`.
    detrend : tuple of str
        Keys of `DETREND`; `AUTO` alone has them chosen by a criterion.
    period : (float, float), optional
        Range in which a period is looked for [d].
    target : str, optional
    leave_out : tuple of str
        Comparison stars not to use.
    files_out : frozenset of str
        Exposures that are left out.
    light : str
        ``aperture`` or ``profile``.
    method : str
        How a period is looked for: ``sine``, ``phase`` or ``box``.
    harmonics, degree : int
        Of the sine, and of the polynomial.
    period_d : float, optional
        A sine's period to begin with [d].
    law : (float, float)
        Limb darkening of a transit.
    free_law : bool
        Whether it is fitted.
    sample : bool
        Whether the posterior of the model's parameters is drawn from.
    """

    model: str = "none"
    detrend: tuple[str, ...] = ()
    period: tuple[float, float] | None = None
    target: str | None = None
    leave_out: tuple[str, ...] = ()
    files_out: frozenset[str] = frozenset()
    light: str = "aperture"
    method: str = "sine"
    harmonics: int = 2
    degree: int = 4
    period_d: float | None = None
    law: tuple[float, float] = (0.4, 0.25)
    free_law: bool = False
    sample: bool = False


@dataclass(frozen=True)
class CurvePart:
    """What one night, or filter, gives to a light curve of several.

    Attributes
    ----------
    name : str
        Its session, unlike those of the others.
    table : SeriesTable
    target : str, optional
        What the star is called in it; by default as the options say.
    leave_out : tuple of str
        Comparison stars not to use in it, beside those of the options.
    files_out : frozenset of str
        Its exposures that are left out, beside those of the options.
    """

    name: str
    table: SeriesTable
    target: str | None = None
    leave_out: tuple[str, ...] = ()
    files_out: frozenset[str] = frozenset()


@dataclass(frozen=True)
class CurveResult:
    """A light curve with its fits and findings.

    Attributes
    ----------
    curve : LightCurve
    fit : JointFit or None
        The model with trends and sessions; of no model the trends alone, if there are any.
    minimum : Minimum or None
        Time of a minimum by folding.
    period : PeriodResult or None
    rms : float
        Scatter of what the fit leaves, or of the curve [mag].
    findings : tuple of Finding
    notes : tuple of str
    tried : tuple of TrendChoice
        What the criterion says of sets of trends, where they were chosen by it; the best first.
    posterior : Posterior or None
    """

    curve: LightCurve
    fit: JointFit | None
    minimum: Minimum | None
    period: PeriodResult | None
    rms: float
    findings: tuple[Finding, ...]
    notes: tuple[str, ...]
    tried: tuple[TrendChoice, ...] = ()
    posterior: Posterior | None = None

    @property
    def modelled(self) -> bool:
        """Whether a model was fitted, not trends alone."""
        return self.fit is not None and self.fit.kind != "none"

    def as_json(self) -> dict[str, Any]:
        """Return what the command line prints."""
        curve = self.curve
        period = None
        if self.period is not None:
            period = {
                "period_d": self.period.period_d, "period_error_d": self.period.period_error_d,
                "method": self.period.method, "false_alarm": self.period.false_alarm, "aliases_d": list(self.period.aliases),
            }  # fmt: skip
        return {
            "target": curve.name, "points": len(curve), "rms": self.rms, "fit": self._fit_json(), "period": period,
            "detrend": [] if self.fit is None else [
                {"term": t.name, "coefficient_mag": t.coefficient_mag, "error_mag": t.error_mag} for t in self.fit.trends
            ],
            "detrend_tried": [{"terms": list(t.names), "gain": t.gain, "rms_mag": t.rms_mag} for t in self.tried],
            "comparisons": [
                {"name": n, "weight": float(w), "scatter": _plain(s), "expected": _plain(e)}
                for n, w, s, e in zip(
                    curve.ensemble.names, curve.ensemble.weights, curve.ensemble.scatter, curve.ensemble.expected
                )
            ],
            "notes": list(self.notes),
        }  # fmt: skip

    def _fit_json(self) -> dict[str, Any] | None:
        if self.fit is None or not self.modelled:
            return None
        fit = self.fit
        told: dict[str, Any] = {
            "model": fit.kind, "values": {k: _plain(v) for k, v in fit.values.items()},
            "errors": {k: _plain(v) for k, v in fit.errors.items()}, "rms_mag": fit.rms_mag,
            "chi2_reduced": _plain(fit.chi2_reduced), "bic": fit.bic, "red_noise_factor": fit.red.factor,
            "red_noise_minutes": _plain(fit.red.minutes_long),
            "sessions": [{"name": n, "offset_mag": o, "error_mag": e} for n, o, e in fit.sessions],
        }  # fmt: skip
        if "mid" in fit.values:
            told |= {
                "mid_bjd_tdb": fit.values["mid"], "mid_error_d": fit.errors["mid"], "depth_mag": fit.values["depth_mag"],
                "depth_error_mag": fit.errors["depth_mag"], "duration_d": fit.values["duration_d"],
                "duration_error_d": fit.errors["duration_d"],
            }  # fmt: skip
        if self.minimum is not None:
            told["kwee_van_woerden_mid"] = self.minimum.time
            told["kwee_van_woerden_error_d"] = self.minimum.error
        if self.posterior is not None:
            told["posterior"] = self.posterior.as_json()
        return told


def _plain(value: float) -> float | None:
    return float(value) if math.isfinite(value) else None


def shape_of(options: CurveOptions) -> Shape:
    """Return the shape that a model's name stands for.

    Raises
    ------
    ValueError
        For an unknown model, or numbers that it cannot have.
    """
    from ulvar.lightcurves import EclipseShape, NoShape, PolynomialShape, SineShape, TransitShape

    if options.model not in MODELS:
        raise ValueError(f"'{options.model}' is no model; there are {', '.join(MODELS)}")
    if not 1 <= options.harmonics <= 12:
        raise ValueError("a sine has 1 to 12 harmonics")
    if not 1 <= options.degree <= 15:
        raise ValueError("a polynomial has a degree of 1 to 15")
    if options.period_d is not None and not options.period_d > 0:
        raise ValueError("a period is above 0 d")
    u1, u2 = options.law
    if not (u1 + u2 <= 1 and u1 >= 0 and u1 + 2 * u2 >= 0):
        raise ValueError(
            f"limb darkening {u1:g}, {u2:g} would make the limb dark below nothing, or brighter than the middle"
        )
    shapes: dict[str, Shape] = {
        "none": NoShape(), "eclipse": EclipseShape(), "transit": TransitShape(options.law, options.free_law),
        "sine": SineShape(options.harmonics, options.period_d), "polynomial": PolynomialShape(options.degree),
    }  # fmt: skip
    return shapes[options.model]


def make_curve(table: SeriesTable | Sequence[CurvePart], options: CurveOptions) -> CurveResult | Failed:
    """Make a light curve and fit what is asked for.

    Parameters
    ----------
    table : SeriesTable, or sequence of CurvePart
        Of several nights or filters: their curves are joined, each with a level of its own in every fit.
    options : CurveOptions

    Raises
    ------
    ValueError
        For an unknown model or detrending term, or numbers that they cannot have.
    """
    unknown = [term for term in options.detrend if term not in DETREND and term != AUTO]
    if unknown:
        raise ValueError(f"'{unknown[0]}' is not a detrending term; there are {', '.join([*DETREND, AUTO])}")
    shape = shape_of(options)
    parts = [CurvePart("", table)] if isinstance(table, SeriesTable) else list(table)
    curves: list[tuple[str, LightCurve]] = []
    findings: list[Finding] = []
    for part in parts:
        made = part_curve(part, options)
        if isinstance(made, Failed):
            return Failed(f"{part.name}: {made.reason}" if part.name else made.reason)
        curves.append((part.name, made))
        findings += comparison_findings(made.ensemble, _effects(part, made, options))
    return _fitted(join_curves(curves), shape, options, findings)


def part_curve(part: CurvePart, options: CurveOptions, without: str | None = None) -> LightCurve | Failed:
    """Return the light curve of one part alone, by its own names and those of the options; perhaps without one comparison star more."""
    return differential_curve(
        part.table, target=part.target or options.target,
        leave_out=(*options.leave_out, *part.leave_out, *([without] if without else [])),
        files_out=options.files_out | part.files_out, light=options.light,
    )  # fmt: skip


def _fitted(curve: LightCurve, shape: Shape, options: CurveOptions, findings: list[Finding]) -> CurveResult:
    notes: list[str] = []
    good = np.flatnonzero(curve.good)
    time, magnitude, error = curve.time[good], curve.magnitude[good], curve.magnitude_error[good]
    sessions = [curve.sessions[k] for k in good] if curve.sessions else None
    companions = {term: values for term in DETREND if (values := companion(curve, good, term)) is not None}
    wanted, tried = trend_terms(
        time, magnitude, error, shape, options.detrend, options.model, companions, sessions, notes
    )
    fit: JointFit | None = None
    minimum = None
    if options.model != "none" or wanted or sessions is not None:
        made = fit_jointly(
            time, magnitude, error, shape, trends={term: companions[term] for term in wanted}, sessions=sessions
        )
        if isinstance(made, Failed):
            notes.append(made.reason)
            if options.model != "none":
                findings.append(notice("no_fit", f"No {_WORDS[options.model]} was fitted", f"{made.reason}."))
        else:
            fit = made
            if "mid" in fit.values:
                minimum = folded(time, magnitude, error, fit, notes)
    residual = magnitude if fit is None else magnitude - fit.model_mag
    posterior = posterior_of(curve, fit) if options.sample and fit is not None and len(fit.parameters) else None
    period = None
    if options.period is not None:
        from ulvar.lightcurves import find_period

        # What a model without a period explains is gone; a sine stays to be found.
        values = residual if fit is None or fit.kind != "sine" else magnitude - fit.trend_mag
        found = find_period(
            time, values, error, shortest_d=options.period[0], longest_d=options.period[1], method=options.method
        )
        if isinstance(found, Failed):
            notes.append(found.reason)
        else:
            period = found
    if not np.isfinite(curve.magnitude_error).any():
        findings.append(
            notice("no_error_bars", "No error bars", "The gain in electrons per ADU is unknown, so there are no errors.")
        )  # fmt: skip
    return CurveResult(
        curve, fit, minimum, period, float(np.std(residual)) if len(residual) else math.nan, tuple(findings), tuple(notes),
        tuple(tried), posterior,
    )  # fmt: skip


_WORDS = {"eclipse": "eclipse", "transit": "transit", "sine": "sine", "polynomial": "polynomial"}


def _effects(part: CurvePart, curve: LightCurve, options: CurveOptions) -> dict[str, tuple[float, float]]:
    """Return what the target scatters by from point to point with and without each star that varies [mag]."""
    found = {}
    for name in curve.ensemble.suspects:
        without = part_curve(part, options, name)
        if not isinstance(without, Failed):
            found[name] = point_to_point(curve.magnitude[curve.good]), point_to_point(without.magnitude[without.good])
    return found


def point_to_point(values: F64Array) -> float:
    """Return the scatter of values by the differences of successive ones, robust: what the star itself does hardly counts."""
    steps = np.diff(values[np.isfinite(values)])
    return robust_spread(steps, about=0.0) / math.sqrt(2) if len(steps) > 2 else math.nan
