"""Pointings of a mosaic laid beside each other: one least-squares fit over the stars of all overlaps."""

from __future__ import annotations

import math
from collections import deque
from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from ulvar.engine import F64Array
from ulvar.registration.bent import Projective
from ulvar.registration.transform import Fit

# Where no pixel scale is known the sky is taken for flat: a focal length of so many pixels.
_FLAT_PX = 1e7
# The scale of one exposure differs from another's by about this much; few stars in an overlap tell no more.
_SCALE_SIGMA = 2e-3
_ROUNDS, _CLOSE_PX = 30, 1e-5
# Biweight: a star this many spreads off counts no more.
_TUKEY = 4.685
_LEAST_SPREAD_PX = 0.01
# Further than this from the middle there is no one plane [deg].
_WIDEST_DEG = 70.0


@dataclass(frozen=True)
class Link:
    """Stars that two exposures share.

    Attributes
    ----------
    first, second : int
        The exposures.
    places, others : float64 array, shape (n, 2)
        The stars in the pixels of either.
    mirrored : bool
        Whether one shows the other turned over.
    """

    first: int
    second: int
    places: F64Array
    others: F64Array
    mirrored: bool = False


@dataclass(frozen=True)
class Adjusted:
    """Exposures on one plane.

    Attributes
    ----------
    reference : int
        The exposure whose pixels the plane has: of the largest set that hangs together, that nearest to its middle.
    maps : dict of int to Projective
        Exposure to its way onto the reference.
    rms_px : float
        Root mean square distance of a star from the mean of two exposures, per axis.
    apart : tuple of tuples of int
        Sets that hang together by themselves, the largest first.
    """

    reference: int
    maps: dict[int, Projective]
    rms_px: float
    apart: tuple[tuple[int, ...], ...] = ()


@dataclass
class _Camera:
    """One exposure: how it looks at the sky."""

    centre: tuple[float, float]
    focal_px: float
    turned: F64Array = field(default_factory=lambda: np.eye(3))
    stretch: float = 0.0
    sign: float = 1.0

    def sights(self, places: F64Array) -> tuple[F64Array, F64Array]:
        """Return unit vectors in its own axes (n, 3), and how they change with the logarithm of the scale."""
        scale = math.exp(-self.stretch) / self.focal_px
        w = np.column_stack(
            [
                self.sign * (places[:, 0] - self.centre[0]) * scale,
                (places[:, 1] - self.centre[1]) * scale,
                np.ones(len(places)),
            ]
        )
        length = np.linalg.norm(w, axis=1, keepdims=True)
        v, dw = w / length, np.column_stack([-w[:, :2], np.zeros(len(w))])
        return v, (dw - v * (v * dw).sum(axis=1, keepdims=True)) / length

    def onto(self, reference: _Camera) -> F64Array:
        """Return the homography onto the pixels of another one."""
        scale = math.exp(-self.stretch) / self.focal_px
        (cx, cy), (rx, ry), f = self.centre, reference.centre, reference.focal_px * math.exp(reference.stretch)
        own = np.array([[self.sign * scale, 0, -self.sign * cx * scale], [0, scale, -cy * scale], [0, 0, 1]])
        there = np.array([[reference.sign * f, 0, rx], [0, f, ry], [0, 0, 1]])
        matrix = there @ reference.turned.T @ self.turned @ own
        return np.asarray(matrix / matrix[2, 2], dtype=np.float64)


def adjust_mosaic(
    sizes: Sequence[tuple[int, int]], links: Sequence[Link], *, focal_px: float | None = None, reference: int | None = None
) -> Adjusted:  # fmt: skip
    """Lay exposures beside each other so that common stars fall together as well as they can, all at once.

    Each exposure is a rotation of one camera and a scale near one: what is left over in a chain of overlaps is shared out
    over all of them, instead of growing along it (Triggs et al. 2000, LNCS 1883, 298, for rotations: section 2).

    Parameters
    ----------
    sizes : sequence of (int, int)
        Height and width of each exposure [px].
    links : sequence of Link
    focal_px : float, optional
        Focal length in pixels (206265 over the arc seconds of a pixel); without it the sky is taken for flat.
    reference : int, optional
        The exposure that sets the plane.

    Raises
    ------
    ValueError
        If there are no links.
    """
    if not links:
        raise ValueError("no two exposures share stars")
    sets = _connected(len(sizes), links)
    largest = sets[0] if reference is None else next(s for s in sets if reference in s)
    used = [link for link in links if link.first in largest]
    focal = focal_px or _FLAT_PX
    cameras = {k: _Camera(((sizes[k][1] - 1) / 2, (sizes[k][0] - 1) / 2), focal) for k in largest}
    _begin(cameras, used)
    weights = _solve(cameras, used)
    axes = {k: camera.turned[:, 2] for k, camera in cameras.items()}
    if reference is None:
        middle = np.sum(list(axes.values()), axis=0)
        reference = max(axes, key=lambda k: (float(axes[k] @ middle), -k))
    base = cameras[reference]
    residuals = {(link.first, link.second): _apart(cameras, link) for link in used}
    maps = {}
    for k, camera in cameras.items():
        if axes[k] @ base.turned[:, 2] < math.cos(math.radians(_WIDEST_DEG)):
            continue
        own = [
            (residuals[link.first, link.second], w) for link, w in zip(used, weights) if k in (link.first, link.second)
        ]
        fit = Fit(_rms(own), int(sum((w > 0).sum() for _, w in own)))
        maps[k] = Projective(camera.onto(base), fit)
    everything = [(residuals[link.first, link.second], w) for link, w in zip(used, weights)]
    return Adjusted(reference, maps, _rms(everything), tuple(tuple(s) for s in sets if s is not largest and len(s) > 1))


def _rms(residuals: Sequence[tuple[F64Array, F64Array]]) -> float:
    """Return the root mean square of what stars lie off the mean of two exposures, per axis."""
    total = sum(float((w[:, None] * r**2).sum()) for r, w in residuals)
    count = sum(float(w.sum()) for _, w in residuals)
    # Two axes, and a difference of two places that are off by the same.
    return math.sqrt(total / count / 4) if count else math.nan


def _connected(count: int, links: Sequence[Link]) -> list[list[int]]:
    """Return sets of exposures that hang together, the largest first."""
    near: dict[int, set[int]] = {k: set() for k in range(count)}
    for link in links:
        near[link.first].add(link.second)
        near[link.second].add(link.first)
    sets, seen = [], set()
    for start in range(count):
        if start in seen:
            continue
        found, waiting = [], deque([start])
        seen.add(start)
        while waiting:
            k = waiting.popleft()
            found.append(k)
            for n in sorted(near[k] - seen):
                seen.add(n)
                waiting.append(n)
        sets.append(sorted(found))
    return sorted(sets, key=len, reverse=True)


def _begin(cameras: dict[int, _Camera], links: Sequence[Link]) -> None:
    """Turn each exposure onto one that is placed already, along the overlaps with most stars."""
    placed = {min(cameras)}
    waiting = sorted(links, key=lambda link: -len(link.places))
    while len(placed) < len(cameras):
        link = next(one for one in waiting if (one.first in placed) != (one.second in placed))
        forward = link.first in placed
        known, fresh = (link.first, link.second) if forward else (link.second, link.first)
        there, here = (link.places, link.others) if forward else (link.others, link.places)
        camera, base = cameras[fresh], cameras[known]
        camera.sign = -base.sign if link.mirrored else base.sign
        # The rotation between two sets of directions (Kabsch 1976, Acta Cryst. A32, 922). The first says nothing of scale.
        target = base.sights(there)[0] @ base.turned.T
        u, _, vt = np.linalg.svd(camera.sights(here)[0].T @ target)
        mirror = np.diag([1.0, 1.0, np.sign(np.linalg.det(u @ vt))])
        camera.turned = (u @ mirror @ vt).T
        placed.add(fresh)


def _apart(cameras: dict[int, _Camera], link: Link) -> F64Array:
    """Return by how much the directions of common stars differ [px], shape (n, 3)."""
    one, other = cameras[link.first], cameras[link.second]
    return one.focal_px * (one.sights(link.places)[0] @ one.turned.T - other.sights(link.others)[0] @ other.turned.T)


def _solve(cameras: dict[int, _Camera], links: Sequence[Link]) -> list[F64Array]:
    """Turn and scale all exposures but the first until common stars lie together; returns the weight of each star."""
    order = sorted(cameras)
    # Four numbers each: a rotation and the logarithm of the scale.
    at = {k: 4 * n for n, k in enumerate(order)}
    size = 4 * len(order)
    weights = [np.ones(len(link.places)) for link in links]
    focal = cameras[order[0]].focal_px
    for turn in range(_ROUNDS):
        normal, right = np.zeros((size, size)), np.zeros(size)
        for link, weight in zip(links, weights):
            rows = []
            for k, places, sign in ((link.first, link.places, 1.0), (link.second, link.others, -1.0)):
                camera = cameras[k]
                own, change = camera.sights(places)
                u, du = own @ camera.turned.T, change @ camera.turned.T
                block = np.zeros((len(u), 3, 4))
                # A small rotation w moves u by w x u.
                block[:, 0, 1], block[:, 0, 2] = u[:, 2], -u[:, 1]
                block[:, 1, 0], block[:, 1, 2] = -u[:, 2], u[:, 0]
                block[:, 2, 0], block[:, 2, 1] = u[:, 1], -u[:, 0]
                block[:, :, 3] = du
                rows.append(sign * focal * block)
            jacobian = np.concatenate(rows, axis=2)
            residual = _apart(cameras, link)
            index = np.concatenate([np.arange(at[k], at[k] + 4) for k in (link.first, link.second)])
            weighted = jacobian * weight[:, None, None]
            normal[np.ix_(index, index)] += np.einsum("nri,nrj->ij", weighted, jacobian)
            right[index] -= np.einsum("nri,nr->i", weighted, residual)
        spread = max(_spread([_apart(cameras, link) for link in links]), _LEAST_SPREAD_PX)
        for k in order:
            normal[at[k] + 3, at[k] + 3] += (spread / _SCALE_SIGMA) ** 2
            right[at[k] + 3] -= (spread / _SCALE_SIGMA) ** 2 * cameras[k].stretch
        # The first stays where it is.
        step = np.zeros(size)
        step[4:] = np.linalg.solve(normal[4:, 4:], right[4:])
        for k in order[1:]:
            w = step[at[k] : at[k] + 3]
            cameras[k].turned = _rotation(w) @ cameras[k].turned
            cameras[k].stretch += float(step[at[k] + 3])
        moved = float(np.abs(step.reshape(-1, 4)[:, :3]).max()) * focal
        apart = [_apart(cameras, link) for link in links]
        spread = max(_spread(apart), _LEAST_SPREAD_PX)
        far = [np.linalg.norm(r, axis=1) / (_TUKEY * spread) for r in apart]
        weights = [np.where(f < 1, (1 - np.minimum(f, 1) ** 2) ** 2, 0.0) for f in far]
        if moved < _CLOSE_PX and turn > 2:
            break
    return weights


def _spread(apart: Sequence[F64Array]) -> float:
    """Return the spread of differences per axis by the median of their lengths [px]."""
    lengths = np.concatenate([np.linalg.norm(r, axis=1) for r in apart])
    # The median length of two normal numbers is 1.1774 of their spread.
    return float(np.median(lengths)) / 1.1774


def _rotation(w: F64Array) -> F64Array:
    """Return the matrix that turns by a vector's length about it (Rodrigues)."""
    angle = float(np.linalg.norm(w))
    if angle == 0:
        return np.eye(3)
    x, y, z = w / angle
    cross = np.array([[0, -z, y], [z, 0, -x], [-y, x, 0]])
    return np.asarray(np.eye(3) + math.sin(angle) * cross + (1 - math.cos(angle)) * cross @ cross, dtype=np.float64)
