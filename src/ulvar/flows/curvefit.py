"""What is fitted to a light curve along with its model, and what is made of the fit: trends, the folded minimum, the posterior."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from ulvar.engine import F64Array, Failed, Progress, StopToken, silent
from ulvar.lightcurves import JointFit, LightCurve, Minimum, fold_about

if TYPE_CHECKING:
    from ulvar.lightcurves import Posterior, Shape, TrendChoice

# Words of detrending terms, and the companions behind them.
DETREND = {
    "airmass": "airmass", "fwhm": "fwhm_px", "sky": "sky", "x": "x", "y": "y", "time": "time", "comparisons": "ensemble",
}  # fmt: skip
AUTO = "auto"
# Shallower dips, over the scatter of points, fold onto their noise: then the time stays where it was looked for.
_DEEP = 12.0
# So often made-up noise tells how far it moves a minimum.
_DRAWS = 100


def companion(curve: LightCurve, good: np.ndarray, term: str) -> F64Array | None:
    """Return a companion at the good points; None where it is not known or constant."""
    name = DETREND[term]
    values = curve.time[good] if name == "time" else curve.companions[name][good]
    return values if len(values) and np.isfinite(values).all() and np.ptp(values) > 0 else None


def trend_terms(
    time: F64Array, magnitude: F64Array, error: F64Array, shape: Shape, wanted: tuple[str, ...], model: str, companions: dict[str, F64Array],
    sessions: Sequence[str] | None, notes: list[str],
) -> tuple[tuple[str, ...], list[TrendChoice]]:  # fmt: skip
    """Return the detrending terms, and what was tried where a criterion chooses them."""
    if AUTO not in wanted:
        missing = [term for term in wanted if term not in companions]
        notes += [f"no detrending by {term}: it is unknown or constant" for term in missing]
        return tuple(term for term in wanted if term in companions), []
    from ulvar.lightcurves import choose_trends

    # A polynomial in time is a trend in time already.
    offered = {t: v for t, v in companions.items() if not (t == "time" and model in ("polynomial", "sine"))}
    found = choose_trends(time, magnitude, error, shape, offered, sessions)
    if isinstance(found, Failed):
        return (), []
    chosen, tried = found
    notes.append(f"detrended by {', '.join(chosen)}" if chosen else "no trend is asked for by the points")
    return chosen, tried


def folded(time: F64Array, magnitude: F64Array, error: F64Array, fit: JointFit, notes: list[str]) -> Minimum | None:
    """Time a minimum by folding the detrended points onto themselves."""
    if fit.values["depth_mag"] < _DEEP * fit.rms_mag:
        notes.append("too shallow beside its scatter to be timed by folding")
        return None
    if not fit.noise:
        notes.append("too few points to be timed by folding")
        return None
    flat = fit.values["third_contact"] - fit.values["second_contact"]
    timed = fold_about(
        time, magnitude - fit.trend_mag, fit.at, fit.noise_like(time, error, _DRAWS), near=fit.values["mid"],
        duration_d=fit.values["duration_d"], flat_d=flat if math.isfinite(flat) else 0.0,
    )  # fmt: skip
    if isinstance(timed, Failed):
        notes.append(f"Kwee-van Woerden: {timed.reason}")
        return None
    return timed


def posterior_of(
    curve: LightCurve, fit: JointFit, *, stop: StopToken | None = None, progress: Progress = silent
) -> Posterior:
    """Draw the parameters of a light curve's fit from their posterior.

    Parameters
    ----------
    curve : LightCurve
    fit : JointFit
        Of its good points; of a shape that has parameters.
    stop : StopToken, optional
        Ends it with `StopRequested`.
    progress : Progress

    Raises
    ------
    ValueError
        If the shape has no parameters that are searched for: its errors are exact already.
    """
    from ulvar.lightcurves import sample_posterior

    if not len(fit.parameters):
        raise ValueError(f"of a {fit.kind} everything is linear: its errors are exact")
    good = np.flatnonzero(curve.good)
    trends = {t.name: values for t in fit.trends if (values := companion(curve, good, t.name)) is not None}
    sessions = [curve.sessions[k] for k in good] if curve.sessions else None
    return sample_posterior(
        curve.time[good], curve.magnitude[good], curve.magnitude_error[good], fit, trends, sessions, stop=stop,
        progress=progress,
    )  # fmt: skip
