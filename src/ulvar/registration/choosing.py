"""Which kind of map carries one list of stars onto another."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from ulvar.engine import F64Array
from ulvar.registration.bent import Polynomial, Projective, powers
from ulvar.registration.transform import Fit, PixelMap, Transform, fit_transform

# Fewest pairs that carry each kind: of those left out in turn, most must be foretold by enough others.
_FEWEST = {"shift": 1, "similarity": 4, "affine": 8, "projective": 12, "quadratic": 16, "cubic": 30}
# A similarity this close to no change at all may be a shift.
_UNTURNED = 1e-2
_ROUNDS = 10


@dataclass(frozen=True)
class _Trial:
    """A fitted map and how far it misses each star that it was not fitted to, (n, 2) [px]."""

    map: PixelMap
    missed: F64Array


def choose_map(
    source: F64Array, target: F64Array, *, weights: F64Array | None = None, bent: bool = True, mirrored: bool = False
) -> PixelMap:
    """Return the simplest map that foretells positions as well as any: shift, similarity, affine, projective, polynomial.

    Parameters
    ----------
    source, target : float64 array, shape (n, 2)
        Matched positions [px], two or more.
    weights : float64 array, shape (n,), optional
        Inverse variances.
    bent : bool
        Whether it may be more than affine: beyond the stars that it was fitted to a bent map is a guess.
    mirrored : bool
        Whether the target is turned over.

    Raises
    ------
    ValueError
        With too few positions.

    Notes
    -----
    Each kind is judged by its residuals at stars left out of the fit in turn, which for least squares follow from the
    diagonal h of the hat matrix, r / (1 - h) (Allen 1974, Technometrics 16, 125). A kind with more parameters is taken
    where the mean square falls by more than twice the standard error of the fall (after the rule of Breiman et al. 1984,
    Classification and Regression Trees, section 3.4.3).
    """
    n = len(source)
    w = np.ones(n) if weights is None else np.asarray(weights, dtype=np.float64)
    kinds: list[tuple[str, Callable[[], _Trial | None]]] = [
        ("shift", lambda: None if mirrored else _shift(source, target, w)),
        ("similarity", lambda: _linear(source, target, w, "similarity", mirrored)),
        ("affine", lambda: _linear(source, target, w, "affine", mirrored)),
    ]
    if bent:
        kinds += [
            ("projective", lambda: _projective(source, target, w)),
            ("quadratic", lambda: _polynomial(source, target, w, 2)),
            ("cubic", lambda: _polynomial(source, target, w, 3)),
        ]
    chosen: _Trial | None = None
    tried: list[tuple[str, float]] = []
    for kind, make in kinds:
        trial = make() if n >= _FEWEST[kind] else None
        if trial is None:
            continue
        tried.append((kind, math.sqrt(float(np.average((trial.missed**2).mean(axis=1), weights=w)))))
        if chosen is None or _better(trial, chosen, w):
            chosen = trial
    if chosen is None:
        # Two or three pairs leave nothing to judge by.
        chosen = _linear(source, target, w, "similarity", mirrored)
    x, y = chosen.map(*source.T)
    residuals = target - np.column_stack([x, y])
    fit = Fit(float(np.sqrt((residuals**2).mean())), n, None, residuals, tuple(tried))
    return with_fit(chosen.map, fit)


def with_fit(of: PixelMap, fit: Fit) -> PixelMap:
    """Return the map with another account of what it was fitted to."""
    match of:
        case Transform():
            return Transform(of.matrix, fit, of.kind)
        case Projective():
            return Projective(of.matrix, fit)
        case Polynomial():
            return Polynomial(of.coefficients, of.centre, of.half, fit)
    raise ValueError(f"a map of the kind {type(of).__name__} is fitted to nothing")


def _better(more: _Trial, fewer: _Trial, w: F64Array) -> bool:
    gain = ((fewer.missed**2) - (more.missed**2)).mean(axis=1)
    if not np.isfinite(gain).all():
        return False
    share = w / w.sum()
    mean = float(share @ gain)
    error = math.sqrt(float((share**2) @ (gain - mean) ** 2))
    return mean > 2 * error


def _left_out(residuals: F64Array, rows: F64Array, w: F64Array) -> F64Array:
    """Return residuals (n, 2) as they are where each star is left out of a fit with these rows (n, terms)."""
    q, _ = np.linalg.qr(rows * np.sqrt(w)[:, None])
    hat = np.minimum((q**2).sum(axis=1), 1 - 1e-9)
    return residuals / (1 - hat)[:, None]


def _scaled(source: F64Array) -> tuple[F64Array, F64Array, tuple[float, float], float]:
    low, high = source.min(axis=0), source.max(axis=0)
    centre, half = (low + high) / 2, max(float((high - low).max()) / 2, 1.0)
    u, v = ((source - centre) / half).T
    return u, v, (float(centre[0]), float(centre[1])), half


def _shift(source: F64Array, target: F64Array, w: F64Array) -> _Trial | None:
    if len(source) > 1:
        turned = fit_transform(source, target, weights=w, similarity=True)[:, :2] - np.eye(2)
        if np.abs(turned).max() > _UNTURNED:
            return None
    dx, dy = np.average(target - source, axis=0, weights=w)
    found = Transform.shift(float(dx), float(dy))
    return _Trial(found, _left_out(target - source - (dx, dy), np.ones((len(source), 1)), w))


def _linear(source: F64Array, target: F64Array, w: F64Array, kind: str, mirrored: bool) -> _Trial:
    matrix = fit_transform(source, target, weights=w, similarity=kind == "similarity", mirrored=mirrored)
    u, v, _, _ = _scaled(source)
    residuals = target - (source @ matrix[:, :2].T + matrix[:, 2])
    if kind == "affine":
        return _Trial(Transform(matrix, kind=kind), _left_out(residuals, powers(u, v, 1), w))
    # Both axes of a star are left out together: four numbers for two equations a star.
    blocks = np.zeros((len(u), 2, 4))
    blocks[:, 0] = np.column_stack([u, -v, np.ones_like(u), np.zeros_like(u)])
    blocks[:, 1] = np.column_stack([v, u, np.zeros_like(u), np.ones_like(u)])
    return _Trial(Transform(matrix, kind=kind), _left_out_together(residuals, blocks, w))


def _left_out_together(residuals: F64Array, blocks: F64Array, w: F64Array) -> F64Array:
    """As `_left_out` for fits whose axes share parameters; blocks are the rows of each star, (n, 2, terms)."""
    n = len(blocks)
    weighted = blocks * np.sqrt(w)[:, None, None]
    q, _ = np.linalg.qr(weighted.reshape(2 * n, -1))
    q = q.reshape(n, 2, -1)
    hat = q @ q.transpose(0, 2, 1)
    # A star that alone fixes a parameter is foretold by nothing.
    left = np.eye(2) * (1 + 1e-9) - hat
    return np.linalg.solve(left, residuals[:, :, None])[:, :, 0]


def _polynomial(source: F64Array, target: F64Array, w: F64Array, order: int) -> _Trial:
    u, v, centre, half = _scaled(source)
    rows = powers(u, v, order)
    root = np.sqrt(w)[:, None]
    found, *_ = np.linalg.lstsq(rows * root, target * root, rcond=None)
    return _Trial(Polynomial(np.asarray(found.T), centre, half), _left_out(target - rows @ found, rows, w))


def _projective(source: F64Array, target: F64Array, w: F64Array) -> _Trial | None:
    """Least squares of the residuals in pixels by Gauss-Newton steps from the affine fit (Hartley & Zisserman 2004, 4.2)."""
    u, v, (cx, cy), half = _scaled(source)
    middle, size = target.mean(axis=0), max(float(np.ptp(target, axis=0).max()) / 2, 1.0)
    goal = (target - middle) / size
    affine, *_ = np.linalg.lstsq(powers(u, v, 1) * np.sqrt(w)[:, None], goal * np.sqrt(w)[:, None], rcond=None)
    # Eight numbers: X = (p0 u + p1 v + p2) / (p6 u + p7 v + 1), Y likewise with p3 to p5.
    p = np.array([*affine[[1, 2, 0], 0], *affine[[1, 2, 0], 1], 0.0, 0.0])
    one, none = np.ones_like(u), np.zeros_like(u)
    for _ in range(_ROUNDS):
        below = p[6] * u + p[7] * v + 1
        if below.min() < 0.1:
            return None
        x, y = (p[0] * u + p[1] * v + p[2]) / below, (p[3] * u + p[4] * v + p[5]) / below
        blocks = np.stack(
            [
                np.column_stack([u, v, one, none, none, none, -x * u, -x * v]) / below[:, None],
                np.column_stack([none, none, none, u, v, one, -y * u, -y * v]) / below[:, None],
            ],
            axis=1,
        )
        residuals = goal - np.column_stack([x, y])
        root = np.repeat(np.sqrt(w), 2)
        step, *_ = np.linalg.lstsq(blocks.reshape(-1, 8) * root[:, None], residuals.reshape(-1) * root, rcond=None)
        p = p + step
        if np.abs(step).max() < 1e-12:
            break
    to_unit = np.array([[1 / half, 0, -cx / half], [0, 1 / half, -cy / half], [0, 0, 1]])
    from_unit = np.array([[size, 0, middle[0]], [0, size, middle[1]], [0, 0, 1]])
    matrix = from_unit @ np.array([p[:3], p[3:6], [p[6], p[7], 1.0]]) @ to_unit
    return _Trial(Projective(matrix / matrix[2, 2]), size * _left_out_together(residuals, blocks, w))
