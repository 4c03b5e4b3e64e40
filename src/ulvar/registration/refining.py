"""From a first guess of which star is which to all pairs, and the map that follows them best."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np

from ulvar.engine import F64Array, Failed
from ulvar.registration.choosing import choose_map, with_fit
from ulvar.registration.transform import Fit, PixelMap, Transform, fit_transform

if TYPE_CHECKING:
    from scipy.spatial import cKDTree

# With fewer stars no pattern is more than an accident.
LEAST_STARS = 4
# Fewer pairs than this are carried by a similarity.
FEW = 8
# Over so much of the field's width and height stars must be paired in the end for a map that bends, and over so much
# while it grows outwards from where an affine map does.
_COVERED, _GROWING = 0.7, 0.3


def partners(way: PixelMap, points: F64Array, tree: cKDTree, reach: float) -> tuple[np.ndarray, np.ndarray]:
    """Return which points a map brings within reach of a star of the tree, and which star: each to one, the nearest."""
    mapped = np.column_stack(way(*points.T))
    distance, index = tree.query(mapped, distance_upper_bound=reach)
    near = np.flatnonzero(np.isfinite(distance))
    # One target star takes one source star: the nearest.
    order = near[np.argsort(distance[near], kind="stable")]
    _, first = np.unique(index[order], return_index=True)
    keep = np.sort(order[first])
    return keep, index[keep]


def refine(
    matrix: F64Array,
    source: F64Array,
    target: F64Array,
    tree: cKDTree,
    source_snr: F64Array | None,
    target_snr: F64Array | None,
    *,
    tolerance_px: float,
    bent: bool,
) -> PixelMap | Failed:
    """Return the map that the pairs choose which a first guess, an affine matrix, brings near each other.

    Parameters
    ----------
    matrix : float64 array, shape (2, 3)
    source, target : float64 array, shape (n, 2) and (m, 2)
    tree : cKDTree
        Of the target.
    source_snr, target_snr : float64 array, optional
        Weigh the fit.
    tolerance_px : float
        How far a star may fall from its partner at first.
    bent : bool
        Whether the map may be more than affine.
    """
    reach = tolerance_px
    mirrored = bool(np.linalg.det(matrix[:, :2]) < 0)
    way: PixelMap = Transform(matrix)

    def weights(keep: np.ndarray, partner: np.ndarray) -> F64Array:
        if source_snr is None or target_snr is None:
            return np.ones(len(keep))
        # Centroid variance goes as 1/SNR^2; a floor stands for what the map cannot follow.
        variance = 1 / source_snr[keep] ** 2 + 1 / target_snr[partner] ** 2
        return np.asarray(1 / (variance + np.median(variance) + 1e-6))

    for _ in range(8):
        keep, partner = partners(way, source, tree, reach)
        if len(keep) < LEAST_STARS:
            break
        pairs = source[keep], target[partner]
        few = len(keep) < FEW
        way = Transform(fit_transform(*pairs, weights=weights(keep, partner), similarity=few, mirrored=mirrored))
        new_reach = _reach(way, *pairs, tolerance_px)
        if abs(new_reach - reach) < 1e-3:
            break
        reach = new_reach
    # A map that follows the field better finds stars at its edges that the affine one missed, and they tell more of it.
    reach = tolerance_px
    for _ in range(6):
        keep, partner = partners(way, source, tree, reach)
        if len(keep) < LEAST_STARS:
            return Failed(f"only {len(keep)} of its {len(source)} stars fall on the reference's")
        pairs = source[keep], target[partner]
        way = choose_map(
            *pairs,
            weights=weights(keep, partner),
            bent=bent and _spread(pairs[0], source, _GROWING),
            mirrored=mirrored,
        )
        new_reach = _reach(way, *pairs, tolerance_px)
        if abs(new_reach - reach) < 1e-3:
            break
        reach = new_reach
    if not isinstance(way, Transform) and not _spread(source[keep], source, _COVERED):
        return refine(matrix, source, target, tree, source_snr, target_snr, tolerance_px=tolerance_px, bent=False)
    bright: Any = slice(None)
    if source_snr is not None and (source_snr[keep] > 50).sum() >= 8:
        bright = source_snr[keep] > 50
    residuals = way.fit.residuals
    assert residuals is not None
    rms = float(np.sqrt((residuals[bright] ** 2).mean()))
    fit = replace(way.fit, rms_px=rms, pairs=np.column_stack([keep, partner]))
    return with_fit(way, fit)


def pair_stars(way: PixelMap, source: F64Array, target: F64Array, reach_px: float) -> Fit:
    """Return which stars fall on each other under a map that was not found by them.

    Parameters
    ----------
    way : PixelMap
    source, target : float64 array, shape (n, 2) and (m, 2)
        Positions [px].
    reach_px : float
        How far a star may fall from its partner.
    """
    from scipy.spatial import cKDTree

    if not len(source) or not len(target):
        return Fit()
    keep, partner = partners(way, source, cKDTree(target), reach_px)
    residuals = target[partner] - np.column_stack(way(*source[keep].T))
    rms = float(np.sqrt((residuals**2).mean())) if len(keep) else math.nan
    return Fit(rms, len(keep), np.column_stack([keep, partner]), residuals)


def _reach(found: PixelMap, source: F64Array, target: F64Array, tolerance_px: float) -> float:
    """Return how far a star may fall from its partner, from how far pairs do."""
    residual = target - np.column_stack(found(*source.T))
    spread = 1.4826 * float(np.median(np.abs(residual - np.median(residual, axis=0))))
    return min(tolerance_px, max(4.5 * spread, 0.15))


def _spread(paired: F64Array, source: F64Array, share: float) -> bool:
    """Whether pairs reach over so much of the field's width and height: where there are none, a bent map is a guess."""
    return bool((np.ptp(paired, axis=0) >= share * np.ptp(source, axis=0)).all())
