"""What compiled routines do, worked out by hand: slow, and plain enough to be read."""

from __future__ import annotations

import math

import numpy as np
from scipy.integrate import quad

from ulvar.registration import Transform


def taps_by_hand(distance: np.ndarray, order: int, stretch: float = 1.0) -> np.ndarray:
    """Return a windowed sinc at taps (n, taps) this far from places, with the least change that gives back parabolas."""
    lobes = order
    weights = np.sinc(distance / stretch) * np.sinc(distance / stretch / lobes)
    weights *= (np.abs(distance) < lobes * stretch) / stretch
    order = distance.shape[1] // 2
    loose = np.exp(-(distance**2) / (4.0 * order**2))
    powers = np.stack([distance**0, distance, distance**2], axis=1)
    missing = np.array([[1.0], [0.0], [0.0]]) - powers @ weights[:, :, None]
    # The shortest change that does it, by its normal equations: a pseudo-inverse for each pixel takes twenty times as long.
    rows = powers * loose[:, None, :]
    across = rows.transpose(0, 2, 1)
    return weights + loose * (across @ np.linalg.solve(rows @ across, missing))[:, :, 0]


def lanczos_by_hand(data: np.ndarray, transform: Transform, shape: tuple[int, int], order: int) -> np.ndarray:
    """Resample tap by tap in float64; missing taps drop out while 0.6 of the kernel's weight is left."""
    inverse = transform.inverse().matrix
    factor = abs(np.linalg.det(inverse[:, :2]))
    stretch = round(math.sqrt(factor), 2) if factor > 1.21 else 1.0
    height, width = data.shape
    out = np.full(shape, np.nan)
    reach = math.ceil(order * stretch)
    taps = np.arange(-reach + 1, reach + 1)
    for j in range(shape[0]):
        x, y = inverse @ np.stack([np.arange(shape[1]), np.full(shape[1], j), np.ones(shape[1])])
        xs, ys = np.floor(x).astype(int)[:, None] + taps, np.floor(y).astype(int)[:, None] + taps
        wx, wy = (taps_by_hand(c - at[:, None], order, stretch) for at, c in ((x, xs), (y, ys)))
        weights = wy[:, :, None] * wx[:, None, :]
        values = data[ys.clip(0, height - 1)[:, :, None], xs.clip(0, width - 1)[:, None, :]].astype(float)
        inside = ((ys >= 0) & (ys < height))[:, :, None] & ((xs >= 0) & (xs < width))[:, None, :]
        use = np.where(inside & np.isfinite(values), weights, 0.0)
        total = use.sum(axis=(1, 2))
        good = (total > 0.6) & (x >= -0.5) & (x <= width - 0.5) & (y >= -0.5) & (y <= height - 0.5)
        sums = (use * np.nan_to_num(values)).sum(axis=(1, 2))
        out[j, good] = factor * sums[good] / total[good]
    return out


def bilinear_by_hand(mosaic: np.ndarray, cfa: str, colour: str) -> np.ndarray:
    """Return the mean of what is nearest of the colour, pixel by pixel, within the picture."""
    height, width = mosaic.shape
    out = np.full(mosaic.shape, np.nan)
    own = np.array([[cfa[(y % 2) * 2 + x % 2] == colour for x in range(width)] for y in range(height)])
    for y in range(height):
        for x in range(width):
            if own[y, x] and np.isfinite(mosaic[y, x]):
                out[y, x] = mosaic[y, x]
                continue
            steps = [(0, 1), (1, 0), (0, -1), (-1, 0)]
            steps += [(1, 1), (1, -1), (-1, 1), (-1, -1)] if colour != "G" else []
            near = [(y + a, x + b) for a, b in steps if 0 <= y + a < height and 0 <= x + b < width]
            values = [mosaic[p] for p in near if own[p] and np.isfinite(mosaic[p])]
            if values:
                out[y, x] = np.mean(values)
    return out


def overlap_by_hand(corners: np.ndarray) -> float:
    """Return the area of a quadrilateral within the unit square, clipped side by side."""
    points = [tuple(c) for c in corners]
    for axis, limit, sign in ((0, 0.0, 1), (0, 1.0, -1), (1, 0.0, 1), (1, 1.0, -1)):
        kept: list[tuple[float, float]] = []
        for one, two in zip(points, points[1:] + points[:1]):
            inside = [sign * (p[axis] - limit) >= 0 for p in (one, two)]
            if inside[0]:
                kept.append(one)
            if inside[0] != inside[1]:
                t = (limit - one[axis]) / (two[axis] - one[axis])
                kept.append((one[0] + t * (two[0] - one[0]), one[1] + t * (two[1] - one[1])))
        points = kept
    x, y = (np.array([p[k] for p in points]) for k in (0, 1))
    return abs(float(np.dot(x, np.roll(y, -1)) - np.dot(y, np.roll(x, -1)))) / 2 if len(points) > 2 else 0.0


def light_by_integral(z: float, p: float, u1: float, u2: float) -> float:
    """Return the light beside a dark disc by an adaptive integral over the radius of the star."""

    def brightness(r: float) -> float:
        mu = math.sqrt(max(0.0, 1 - r * r))
        return 1 - u1 * (1 - mu) - u2 * (1 - mu) ** 2

    def arc(r: float) -> float:
        if r <= p - z:
            return math.pi
        if r >= z + p or r <= z - p:
            return 0.0
        return math.acos(max(-1.0, min(1.0, (r * r + z * z - p * p) / (2 * r * z)))) if z > 0 else 0.0

    edges = [0.0, *sorted(x for x in {abs(z - p), z + p} if 0 < x < 1), 1.0]
    hidden = sum(
        quad(lambda r: brightness(r) * 2 * r * arc(r), a, b, epsabs=1e-13, epsrel=1e-12, limit=200)[0]
        for a, b in zip(edges, edges[1:])
    )
    return 1 - hidden / (math.pi * (1 - u1 / 3 - u2 / 6))
