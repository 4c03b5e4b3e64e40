"""Matching two lists of stars of which somebody points out one or two that are the same."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from ulvar.engine import F64Array, Failed
from ulvar.registration.choosing import with_fit
from ulvar.registration.lookup import Lookup
from ulvar.registration.matching import MatchOptions, verify
from ulvar.registration.refining import LEAST_STARS, refine
from ulvar.registration.transform import Fit, PixelMap, Transform

Pair = tuple[tuple[float, float], tuple[float, float]]

# A place pointed at stands for the star next to it, within this [px].
_POINTED_PX = 6.0
# The brightest stars that turns are looked for with; cells of turn [rad] and of the logarithm of scale.
_BRIGHTEST, _TURN, _SCALE = 150, 0.01, 0.015
# Of the fullest cells so many are looked at.
_TRIED = 40
# What somebody points out makes a match by few stars likely enough.
_CHANCE = 0.01


def match_pointed(
    source: F64Array,
    target: F64Array,
    pairs: Sequence[Pair],
    *,
    source_snr: F64Array | None = None,
    target_snr: F64Array | None = None,
) -> PixelMap | Failed:
    """Find the map that carries source stars onto target stars, some of which are known to be the same.

    Parameters
    ----------
    source, target : float64 array, shape (n, 2) and (m, 2)
        Positions, brightest first [px].
    pairs : sequence of ((x, y), (x, y))
        One or two places of the source and where the target has the same stars [px].
    source_snr, target_snr : float64 array, optional
        Weigh the final fit.

    Returns
    -------
    PixelMap, or Failed with the reason.

    Notes
    -----
    About one star that is known any other one, with any of the target, tells a turn and a scale: the true ones are told by
    many. Two known stars tell both at once; where the rest agrees with them the map follows that, and where there is no rest
    they are believed.
    """
    known = [(_nearest(a, source), _nearest(b, target)) for a, b in pairs]
    if not known:
        return Failed("no common star was pointed out")
    if len(known) > 1:
        return _by_two(known, source, target, source_snr, target_snr)
    candidates, trials = _about(known[0], source, target)
    way = _followed(candidates, trials, known, source, target, source_snr, target_snr)
    if way is None:
        return Failed("about that one star the others do not lie as the reference's do: point out a second one")
    return way


def _nearest(place: tuple[float, float], stars: F64Array) -> F64Array:
    """Return the star next to a place, or the place where there is none."""
    at = np.asarray(place, dtype=np.float64)
    if not len(stars):
        return at
    away = np.hypot(*(stars - at).T)
    return np.asarray(stars[int(away.argmin())] if away.min() <= _POINTED_PX else at)


def _about(pair: tuple[F64Array, F64Array], source: F64Array, target: F64Array) -> tuple[list[F64Array], int]:
    """Return candidate affine matrices that carry one star where it belongs, the most voted first, and of how many."""
    ours, theirs = source[:_BRIGHTEST] - pair[0], target[:_BRIGHTEST] - pair[1]
    ours, theirs = (v[np.hypot(*v.T) > _POINTED_PX] for v in (ours, theirs))
    s, t = (v[:, 0] + 1j * v[:, 1] for v in (ours, theirs))
    if not len(s) or not len(t):
        return [], 1
    options = MatchOptions()
    candidates: list[tuple[int, F64Array]] = []
    trials = 0
    for mirrored in (False, True):
        factor = (t[None, :] / (np.conj(s) if mirrored else s)[:, None]).ravel()
        scale = np.log(np.abs(factor))
        factor, scale = (
            v[(scale >= math.log(options.scale_low)) & (scale <= math.log(options.scale_high))] for v in (factor, scale)
        )
        trials += len(factor)
        # Cells twice, the second time moved by a half: a cluster at an edge of one grid is whole in the other.
        for shift in (0.0, 0.5):
            turn = np.floor(np.angle(factor) / _TURN + shift).astype(np.int64)
            cell = turn * 1000 + np.floor(scale / _SCALE + shift).astype(np.int64)
            _, group, counts = np.unique(cell, return_inverse=True, return_counts=True)
            for fullest in np.argsort(-counts, kind="stable")[:_TRIED]:
                mean = complex(factor[group == fullest].mean())
                candidates.append((int(counts[fullest]), _matrix(mean, pair, mirrored)))
    candidates.sort(key=lambda one: -one[0])
    return [matrix for _, matrix in candidates[: 2 * _TRIED]], trials


def _matrix(factor: complex, pair: tuple[F64Array, F64Array], mirrored: bool) -> F64Array:
    """Return the similarity with a factor (scale and turn) that carries one star where it belongs."""
    a, b, sign = factor.real, factor.imag, -1.0 if mirrored else 1.0
    linear = np.array([[a, -sign * b], [b, sign * a]])
    return np.column_stack([linear, pair[1] - linear @ pair[0]])


def _likeliest(candidates: Sequence[F64Array], trials: int, source: F64Array, target: F64Array) -> F64Array | None:
    """Return the candidate under which the least likely accident brings stars together; None where all may be accidents."""
    if len(source) < LEAST_STARS or len(target) < LEAST_STARS:
        return None
    options = MatchOptions()
    stars = Lookup.of(target, 3 * options.tolerance_px)
    span = np.ptp(target, axis=0)
    area = max(float(span[0] * span[1]), 1.0)
    best: tuple[float, F64Array] | None = None
    for matrix in candidates:
        chance, refined = verify(matrix, source[:200], stars, target, area, options)
        if refined is not None and (best is None or chance < best[0]):
            best = chance, refined
    if best is None or best[0] + math.log(max(trials, 1)) > math.log(_CHANCE):
        return None
    return best[1]


def _by_two(
    known: Sequence[tuple[F64Array, F64Array]],
    source: F64Array,
    target: F64Array,
    source_snr: F64Array | None,
    target_snr: F64Array | None,
) -> PixelMap | Failed:
    (a, b), (c, d) = known[0], known[1]
    ours, theirs = complex(*(c - a)), complex(*(d - b))
    options = MatchOptions()
    if min(abs(ours), abs(theirs)) < 2 * _POINTED_PX:
        return Failed("the two stars lie too close to each other to tell how the exposure is turned")
    scale = abs(theirs) / abs(ours)
    if not options.scale_low <= scale <= options.scale_high:
        return Failed(f"the two stars are {scale:.2f} times as far apart in the reference: they are not the same")
    straight, mirrored = (
        _matrix(theirs / (ours.conjugate() if turned_over else ours), known[0], turned_over)
        for turned_over in (False, True)
    )
    for candidate in (straight, mirrored):
        found = _followed([candidate], 1, known, source, target, source_snr, target_snr)
        if found is not None:
            return found
    way = Transform(straight, kind="similarity")
    places, others = (np.array([pair[k] for pair in known]) for k in (0, 1))
    residuals = others - np.column_stack(way(*places.T))
    # Two stars leave nothing over.
    return with_fit(way, replace(Fit(), rms_px=0.0, matched=2, residuals=residuals))


def _followed(
    candidates: Sequence[F64Array],
    trials: int,
    known: Sequence[tuple[F64Array, F64Array]],
    source: F64Array,
    target: F64Array,
    source_snr: F64Array | None,
    target_snr: F64Array | None,
) -> PixelMap | None:
    """Return the map that the likeliest candidate leads to; None where it may be an accident, or loses what is known."""
    from scipy.spatial import cKDTree

    found = _likeliest(candidates, trials, source, target)
    if found is None:
        return None
    options = MatchOptions()
    way = refine(
        found, source, target, cKDTree(target), source_snr, target_snr, tolerance_px=options.tolerance_px, bent=options.bent
    )  # fmt: skip
    if isinstance(way, Failed):
        return None
    places, others = (np.array([pair[k] for pair in known]) for k in (0, 1))
    missed = np.hypot(*(np.column_stack(way(*places.T)) - others).T)
    return way if missed.max() <= _POINTED_PX else None
