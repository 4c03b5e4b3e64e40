"""Finding which star is which in two lists, at any rotation, mirror, shift and moderate scale."""

from __future__ import annotations

import itertools
import math
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from ulvar.engine import F64Array, Failed, counted
from ulvar.registration.lookup import Lookup
from ulvar.registration.refining import FEW, LEAST_STARS, refine
from ulvar.registration.transform import PixelMap


@dataclass(frozen=True)
class MatchOptions:
    """How patterns are compared.

    Attributes
    ----------
    tiers : tuple of (int, int, int)
        How many of the brightest stars of the source and of the target form triangles, and with how many of its
        nearest ones each; what comes later is tried where the earlier found no match.
    scale_low, scale_high : float
        Range of target units per source pixel.
    tolerance_px : float
        How far a mapped star may fall from its partner at first [target units].
    chance : float
        Largest probability that a match of this many stars is an accident.
    bent : bool
        Whether the map may be more than affine.
    """

    tiers: tuple[tuple[int, int, int], ...] = ((60, 60, 7), (60, 200, 8), (200, 60, 8), (200, 200, 10))
    scale_low: float = 0.5
    scale_high: float = 2.0
    tolerance_px: float = 2.5
    chance: float = 1e-9
    bent: bool = True


# Of so many of the brightest every triangle counts, however far they lie from each other.
_BRIGHTEST = 14


@dataclass(frozen=True, eq=False)
class _Triangles:
    """Triangles of stars, places as complex numbers.

    Vertices are ordered by the length of the side opposite, so equal ratios of sides give the correspondence
    of the vertices (Groth 1986, AJ 91, 1244; Valdes et al. 1995, PASP 107, 1119).
    """

    ratios: F64Array  # (n, 2): shorter sides over the longest
    longest: np.ndarray  # (n,): from the first vertex to the second
    middle: np.ndarray  # (n,)
    left: np.ndarray  # (n,): whether the third vertex lies to the left of that side

    @classmethod
    def of(cls, points: F64Array, neighbours: int) -> _Triangles:
        """Return the triangles of each of (n, 2) stars with its neighbours, and of the first ones among each other."""
        from scipy.spatial import cKDTree

        n = len(points)
        _, near = cKDTree(points).query(points, k=min(n, neighbours + 1))
        first, second = np.triu_indices(near.shape[1] - 1, 1)
        own = np.broadcast_to(np.arange(n)[:, None], (n, len(first)))
        every = np.stack([own, near[:, 1 + first], near[:, 1 + second]], axis=2).reshape(-1, 3)
        brightest = np.array(list(itertools.combinations(range(min(n, _BRIGHTEST)), 3)), dtype=np.int64)
        index = np.sort(np.concatenate([every, brightest.reshape(-1, 3)]), axis=1)
        _, once = np.unique((index[:, 0] * n + index[:, 1]) * n + index[:, 2], return_index=True)
        corner = (points[:, 0] + 1j * points[:, 1])[index[once]]
        sides = np.abs(corner[:, [1, 2, 0]] - corner[:, [2, 0, 1]])
        order = np.argsort(sides, axis=1)
        sides, corner = np.take_along_axis(sides, order, axis=1), np.take_along_axis(corner, order, axis=1)
        with np.errstate(divide="ignore", invalid="ignore"):
            ratios = sides[:, :2] / sides[:, 2:]
        # Slivers and near-equal sides have no stable order of vertices.
        good = (sides[:, 0] > 0.12 * sides[:, 2]) & (ratios[:, 1] < 0.985) & (ratios[:, 0] < 0.985 * ratios[:, 1])
        corner = corner[good]
        longest = corner[:, 1] - corner[:, 0]
        left = (np.conj(longest) * (corner[:, 2] - corner[:, 0])).imag > 0
        return cls(ratios[good], longest, corner.mean(axis=1), left)


# Of one list of stars with so many neighbours: a reference is compared with every exposure, a mosaic's each with each.
@lru_cache(maxsize=64)
def _triangles(raw: bytes, neighbours: int) -> tuple[_Triangles, Lookup | None]:
    """Return the triangles of stars whose places are given as bytes, and the ratios of their sides to look in."""
    found = _Triangles.of(np.frombuffer(raw).reshape(-1, 2), neighbours)
    return found, Lookup.of(found.ratios, _ALIKE) if len(found.ratios) else None


def _hypotheses(source: F64Array, target: F64Array, neighbours: int, options: MatchOptions) -> F64Array:
    """Return candidate affine matrices (n, 2, 3), the most voted first."""
    (ours, _), (theirs, lookup) = (_triangles(p.tobytes(), neighbours) for p in (source, target))
    if len(ours.ratios) == 0 or lookup is None:
        return np.empty((0, 2, 3))
    s, t = lookup.within(ours.ratios, _ALIKE)
    # A side is a few percent off where the stars of a triangle are close to each other.
    scale = np.abs(theirs.longest)[t] / np.abs(ours.longest)[s]
    fine = (scale >= 0.95 * options.scale_low) & (scale <= 1.05 * options.scale_high)
    s, t, scale = s[fine], t[fine], scale[fine]
    if len(scale) == 0:
        return np.empty((0, 2, 3))
    # The longest side gives scale and rotation, the third vertex the parity.
    mirrored = ours.left[s] != theirs.left[t]
    side, offset = ours.longest[s], complex(*source.mean(axis=0)) - ours.middle[s]
    factor = theirs.longest[t] / np.where(mirrored, np.conj(side), side)
    image = theirs.middle[t] + factor * np.where(mirrored, np.conj(offset), offset)
    # True candidates agree on where the middle goes, on scale, rotation and parity: vote in a grid of those.
    reach = max(float(np.ptp(target[:, 0])), float(np.ptp(target[:, 1])), 1.0)
    cell = reach / 60
    place = np.stack(
        [image.real / cell, image.imag / cell, np.log(scale) / 0.03, np.angle(factor) / 0.05, 4.0 * mirrored], axis=1
    )
    votes, group = _votes(place)
    # Whole numbers of 16 bits are sorted without comparing them.
    order = np.argsort(-np.minimum(votes, np.iinfo(np.int16).max).astype(np.int16), kind="stable")
    # A few hypotheses of each of the cells with the most votes are enough: where each cell stands first in that order ...
    first = np.full(int(group.max()) + 1, len(order))
    first[group[order[::-1]]] = np.arange(len(order))[::-1]
    best = np.argsort(first)[: min(150, int((first < len(order)).sum()))]
    rank = np.full(len(first), -1)
    rank[best] = np.arange(len(best))
    # ... and who is in those, cell by cell.
    some = order[rank[group[order]] >= 0]
    some = some[np.argsort(rank[group[some]], kind="stable")]
    counts = np.bincount(rank[group[some]])
    starts, nth = np.cumsum(counts) - counts, np.arange(3)
    picked = some[(starts[:, None] + nth)[nth < counts[:, None]]]
    a, b, sign = factor[picked].real, factor[picked].imag, np.where(mirrored[picked], -1.0, 1.0)
    linear = np.stack([a, -sign * b, b, sign * a], axis=1).reshape(-1, 2, 2)
    ours_at, theirs_at = (
        np.stack([z.real, z.imag], axis=1) for z in (ours.middle[s[picked]], theirs.middle[t[picked]])
    )
    return np.concatenate([linear, (theirs_at - np.einsum("kij,kj->ki", linear, ours_at))[:, :, None]], axis=2)


# Triangles whose ratios of sides differ by no more may be the same.
_ALIKE = 0.012

# Odd numbers of 62 bits, for sums that tell cells apart.
_MIX = np.array(
    [0x2545F4914F6CDD1D, 0x1D8E4E27C47D124F, 0x27D4EB2F165667C5, 0x165667B19E3779F9, 0x1B873593CC9E2D51], dtype=np.int64
)


def _votes(place: F64Array) -> tuple[np.ndarray, np.ndarray]:
    """Return how many candidates each shares its cell with, and which cell; of two grids the one where it is more."""
    best = np.zeros(len(place), dtype=np.int64)
    cells = np.zeros(len(place), dtype=np.int64)
    for n, shift in enumerate((0.0, 0.5)):
        # A cell's five whole numbers become one, which sorts many times faster; two cells hardly ever share it.
        key = np.floor(place + shift).astype(np.int64) @ _MIX
        _, group, counts = np.unique(key, return_inverse=True, return_counts=True)
        votes = counts[group]
        more = votes > best
        best[more] = votes[more]
        cells[more] = 2 * group[more] + n
    return best, cells


def match_stars(
    source: F64Array,
    target: F64Array,
    *,
    options: MatchOptions | None = None,
    source_snr: F64Array | None = None,
    target_snr: F64Array | None = None,
    allow_mirror: bool = True,
) -> PixelMap | Failed:
    """Find the transform that carries the source stars onto the target stars.

    Parameters
    ----------
    source, target : float64 array, shape (n, 2) and (m, 2)
        Positions, brightest first.
    options : MatchOptions, optional
    source_snr, target_snr : float64 array, optional
        Weigh the final fit.
    allow_mirror : bool

    Returns
    -------
    PixelMap, or Failed with the reason: of the kind that foretells positions best (`choose_map`).

    Notes
    -----
    Each hypothesis is tested on all stars: the number of stars that find a partner is compared with the
    binomial chance of as many among randomly strewn stars, times the number of hypotheses tried. A match
    that could be an accident fails instead.
    """
    from scipy.spatial import cKDTree

    settings = options or MatchOptions()
    if len(source) < LEAST_STARS:
        return Failed(f"too few stars: {len(source)}, at least {LEAST_STARS} are needed")
    if len(target) < LEAST_STARS:
        return Failed(f"the reference has too few stars: {len(target)}, at least {LEAST_STARS} are needed")
    stars = Lookup.of(target, _WIDE * settings.tolerance_px)
    span = np.ptp(target, axis=0)
    area = max(float(span[0] * span[1]), 1.0)
    limit = math.log(settings.chance)
    best: tuple[float, F64Array] | None = None
    trials, tried = 1, set[tuple[int, int]]()
    for first, second, neighbours in settings.tiers:
        some = min(first, len(source)), min(second, len(target))
        if some in tried:
            continue
        tried.add(some)
        test = source[: max(200, first)]
        candidates = _hypotheses(source[:first], target[:second], neighbours, settings)
        trials += len(candidates)
        if not allow_mirror:
            candidates = candidates[np.linalg.det(candidates[:, :, :2]) > 0]
        for matrix in _likeliest(candidates, test, stars, target, area, settings):
            chance, refined = verify(matrix, test, stars, target, area, settings)
            if refined is not None and (best is None or chance < best[0]):
                best = chance, refined
                if chance < limit - 40:
                    break
        if best is not None and best[0] + math.log(trials) <= limit:
            break
    if best is None or best[0] + math.log(trials) > limit:
        return Failed(f"its {counted(len(source), 'star', 'does', 'do')} not form the pattern of the reference")
    return refine(
        best[1],
        source,
        target,
        cKDTree(target),
        source_snr,
        target_snr,
        tolerance_px=settings.tolerance_px,
        bent=settings.bent,
    )


# Tolerance of the first look, in units of the final one.
_WIDE = 3.0
# Of the candidates so many are refined, those that bring most stars near a partner.
_REFINED = 30


def _likeliest(
    candidates: F64Array, test: F64Array, stars: Lookup, target: F64Array, area: float, options: MatchOptions
) -> F64Array:
    """Return the candidates whose number of near pairs is the least likely accident, the best first."""
    from ulvar.registration._kernels_matching import count_pairs

    if len(candidates) == 0:
        return candidates
    # A small triangle gives a candidate that is some pixels off at the far end of the frame.
    reach = _WIDE * options.tolerance_px
    box = np.concatenate([target.min(axis=0) - reach, target.max(axis=0) + reach])
    pairs, tried = count_pairs(candidates, test, *stars.cells, reach, box)
    p = min(0.5, len(target) * math.pi * reach**2 / area)
    # Standard deviations above the mean of a binomial distribution: enough for an order.
    excess = (pairs - tried * p) / np.sqrt(tried * p * (1 - p) + 1)
    return candidates[np.argsort(-excess, kind="stable")[:_REFINED]]


def verify(
    matrix: F64Array, test: F64Array, stars: Lookup, target: F64Array, area: float, options: MatchOptions
) -> tuple[float, F64Array | None]:
    """Return (log probability that as many partners are an accident, refined matrix)."""
    from ulvar.registration._kernels_matching import fitted, paired

    reaches = options.tolerance_px * np.array([_WIDE, 1.5, 1.0])
    # Few pairs do not carry the six numbers of an affine map.
    refined, count = fitted(matrix, test, *stars.cells, reaches, LEAST_STARS, FEW)
    if not count:
        return 0.0, None
    (a, b), (c, d) = refined[:, :2].tolist()
    volume = abs(a * d - b * c)
    if not options.scale_low * 0.98 <= math.sqrt(volume) <= options.scale_high * 1.02:
        return 0.0, None
    # The two singular values: their product is the volume, the sum of their squares that of the elements.
    both = math.sqrt(a * a + b * b + c * c + d * d + 2 * volume)
    apart = math.hypot(a - d, b + c) * math.hypot(a + d, b - c) / both
    if both + apart > 1.06 * (both - apart):
        return 0.0, None
    mapped = test @ refined[:, :2].T + refined[:, 2]
    low, high = target.min(axis=0), target.max(axis=0)
    inside = int(((mapped >= low) & (mapped <= high)).all(axis=1).sum())
    # So many of the pairs agree by construction.
    bound = 2 if count < FEW else 3
    best = 0.0
    # Where all agree closely a few are enough; both looks count as trials.
    for reach in (options.tolerance_px, 0.4 * options.tolerance_px):
        p = min(0.5, len(target) * math.pi * reach**2 / area)
        matched = max(0, paired(refined, test, *stars.cells, reach) - bound)
        best = min(best, _log_chance(matched, max(matched, inside - bound), p) + math.log(2))
    return best, refined


def _log_chance(matched: int, tried: int, p: float) -> float:
    """Return the logarithm of the chance that so many or more of what was tried match, each with probability p.

    The upper tail of a binomial distribution is an incomplete beta function (Abramowitz & Stegun 1964, 26.5.24).
    """
    from scipy.special import betainc

    if matched <= 0:
        return 0.0
    if matched > tried:
        return -math.inf
    tail = float(betainc(matched, tried - matched + 1, p))
    return math.log(tail) if tail > 0 else -math.inf
