"""What tests of light curves share."""

from collections.abc import Sequence
from types import SimpleNamespace
from typing import Any

import numpy as np

from ulvar.engine import Failed
from ulvar.lightcurves import EclipseShape, JointFit, fit_jointly


def named(fit: JointFit | Failed) -> Any:
    """Return a fit with its values and errors as attributes, or the failure."""
    if isinstance(fit, Failed):
        return fit
    return SimpleNamespace(
        **fit.values, mid_error=fit.errors["mid"], depth_error_mag=fit.errors["depth_mag"],
        duration_error_d=fit.errors["duration_d"], base_mag=fit.base_mag, rms_mag=fit.rms_mag,
        chi2_reduced=fit.chi2_reduced, model_mag=fit.model_mag, trend_mag=fit.trend_mag, fit=fit,
    )  # fmt: skip


def fit_eclipse(time: np.ndarray, magnitude: np.ndarray, error: np.ndarray, *, trends: Sequence[np.ndarray] = ()) -> Any:
    """Fit an eclipse with trends of no name."""
    return named(fit_jointly(time, magnitude, error, EclipseShape(), trends={str(k): v for k, v in enumerate(trends)}))
