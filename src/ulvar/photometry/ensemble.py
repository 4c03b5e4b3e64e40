"""The comparison ensemble: an artificial star of those that are weighed by how steady they are."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ulvar.engine import BoolArray, F64Array
from ulvar.photometry.vetting import Verdict, vet_stars
from ulvar.photometry.weighing import mix, weigh


@dataclass(frozen=True)
class Ensemble:
    """An artificial comparison star.

    Attributes
    ----------
    names : tuple of str
    weights : float64 array, shape (stars,)
        Sum 1.
    flux, error : float64 array, shape (exposures,)
        Ensemble flux on the scale of the sum of the comparisons, and its standard error [ADU]; NaN where no
        comparison was measured.
    scatter : float64 array, shape (stars,)
        Of each star against the rest of the ensemble, relative, robust.
    expected : float64 array, shape (stars,)
        What the errors promise, relative; NaN without errors.
    curves : float64 array, shape (stars, exposures)
        Each star relative to the rest, median 1.
    verdicts : tuple of Verdict
        Whether each star varies, see `vet_stars`.
    """

    names: tuple[str, ...]
    weights: F64Array
    flux: F64Array
    error: F64Array
    scatter: F64Array
    expected: F64Array
    curves: F64Array
    verdicts: tuple[Verdict, ...]

    @property
    def suspects(self) -> tuple[str, ...]:
        """Stars that vary more than their errors and the other comparisons say."""
        return tuple(v.name for v in self.verdicts if v.varies)

    @property
    def von_neumann(self) -> F64Array:
        """Mean squared successive difference of each star over its variance: 2 for white noise, lower for slow changes."""
        return np.array([v.von_neumann for v in self.verdicts])


def build_ensemble(
    names: Sequence[str],
    flux: F64Array,
    error: F64Array,
    *,
    use: BoolArray | None = None,
    hours: F64Array | None = None,
    flipped: BoolArray | None = None,
) -> Ensemble:
    """Weigh comparison stars by inverse variance, iterated with each star's own scatter.

    Broeg et al. 2005, AN 326, 134: every star is compared with the weighted mean of the others; its scatter
    sets its weight; repeated until the weights rest.

    Parameters
    ----------
    names : sequence of str
    flux, error : float64 array, shape (stars, exposures)
        In the order of time [ADU]; NaN where a star was not measured; errors may all be NaN.
    use : bool array, shape (exposures,), optional
        Exposures by which stars are weighed and judged; the others only get the ensemble's flux.
    hours, flipped
        As for `vet_stars`.

    Returns
    -------
    Ensemble

    Raises
    ------
    ValueError
        If there is no comparison star with a measurement.
    """
    weighed = weigh(flux, error, use=use)
    filled = np.where(np.isfinite(weighed.variance), weighed.variance, 0.0)
    value, spread = mix(weighed.relative, filled, weighed.weights)
    total = float(np.nansum(weighed.level))
    judged = slice(None) if use is None else np.asarray(use)
    verdicts = vet_stars(
        names, flux[:, judged], error[:, judged], hours=None if hours is None else hours[judged],
        flipped=None if flipped is None else flipped[judged],
    )  # fmt: skip
    return Ensemble(
        names=tuple(names), weights=weighed.weights, flux=value * total, error=spread * total, scatter=weighed.scatter,
        expected=weighed.expected, curves=weighed.curves, verdicts=verdicts,
    )  # fmt: skip
