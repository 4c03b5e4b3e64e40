"""Comparison stars proposed: like the target, alone, unsaturated and inside in every exposure, each with the reasons."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ulvar.engine import BoolArray, F64Array, counted
from ulvar.stars import StarFlag, StarTable

# Candidates differ from the target by this much at most, and fit it best where they are a little brighter [mag].
_MOST_FAINTER, _MOST_BRIGHTER, _BEST_BRIGHTER = 1.5, 2.5, 0.3
# Differences at which a candidate fits by 0.6 [mag].
_LIKE_MAG, _LIKE_COLOUR = 1.0, 0.5
# A colour further off than this brings the air's colour into the curve [mag].
_MOST_COLOUR = 1.2
# Light of neighbours within so many FWHM, as a share of the star's.
_ALONE_FWHM, _MOST_NEIGHBOURS = 5.0, 0.02
# A star so far inside of the frame keeps its annulus in it [FWHM].
_MARGIN_FWHM = 4.0
# Found in fewer of the exposures it is in, a star is too faint or blended.
_SEEN = 0.9
_FULL = int(StarFlag.SATURATED)
_BENT = int(StarFlag.NONLINEAR)


@dataclass(frozen=True)
class Look:
    """Where the stars of the reference are in one exposure, and what was found there.

    Attributes
    ----------
    x, y : float64 array, shape (stars,)
        Of the reference's stars in this exposure [px].
    width, height : int
        Of the exposure [px].
    stars : StarTable
        That were found in it.
    fwhm_px : float
    """

    x: F64Array
    y: F64Array
    width: int
    height: int
    stars: StarTable
    fwhm_px: float


@dataclass(frozen=True)
class Candidate:
    """A star beside the target.

    Attributes
    ----------
    index : int
        Row of the reference's star table.
    x, y : float
        There [px].
    fainter_mag : float
        Than the target [mag].
    redder_mag : float
        Than the target, by the catalogue's colour index [mag]; NaN where that is not known.
    away_px : float
        From the target.
    neighbours : float
        Light of other stars near it over its own.
    score : float
        From 0 to 1: how well it fits, apart from what speaks against it.
    why_not : tuple of str
        What speaks against it; empty for one that is good.
    """

    index: int
    x: float
    y: float
    fainter_mag: float
    redder_mag: float
    away_px: float
    neighbours: float
    score: float
    why_not: tuple[str, ...]

    @property
    def good(self) -> bool:
        """Whether nothing speaks against it."""
        return not self.why_not


def judge_candidates(
    reference: StarTable,
    target: int,
    looks: Sequence[Look],
    *,
    fwhm_px: float,
    colour: F64Array | None = None,
    variable: BoolArray | None = None,
) -> list[Candidate]:
    """Judge all stars of an exposure as comparison stars for one of them.

    Parameters
    ----------
    reference : StarTable
    target : int
        Its row there.
    looks : sequence of Look
        The exposures, the reference among them or not.
    fwhm_px : float
        Of the reference [px].
    colour : float64 array, shape (stars,), optional
        Colour index of the reference's stars by a catalogue [mag]; NaN where unknown.
    variable : bool array, shape (stars,), optional
        Which are known to vary.

    Returns
    -------
    list of Candidate
        The best first: those that nothing speaks against, then the rest, each by how well it fits.
    """
    n = len(reference)
    away = np.hypot(reference.x - reference.x[target], reference.y - reference.y[target])
    with np.errstate(divide="ignore", invalid="ignore"):
        fainter = -2.5 * np.log10(reference.flux / reference.flux[target])
    redder = np.full(n, math.nan) if colour is None else colour - colour[target]
    company = _company(reference, fwhm_px)
    full, bent, seen, inside = _over_the_night(n, looks)
    diagonal = max(float(away.max(initial=0.0)), 1.0)
    found = []
    for k in range(n):
        if k == target:
            continue
        why = []
        if not -_MOST_BRIGHTER <= fainter[k] <= _MOST_FAINTER:
            why.append(f"{abs(fainter[k]):.1f} mag {'fainter' if fainter[k] > 0 else 'brighter'}")
        if variable is not None and variable[k]:
            why.append("listed as variable")
        if len(looks) and inside[k] < len(looks):
            why.append(f"leaves the frame in {counted(len(looks) - int(inside[k]), 'exposure')}")
        if full[k]:
            why.append(f"saturated in {counted(int(full[k]), 'exposure')}")
        if bent[k]:
            why.append(f"over the linear limit in {counted(int(bent[k]), 'exposure')}")
        if inside[k] and seen[k] < _SEEN * inside[k]:
            why.append(f"found in {int(seen[k])} of {counted(int(inside[k]), 'exposure')}")
        if company[k] > _MOST_NEIGHBOURS:
            why.append(f"neighbours with {100 * company[k]:.0f} % of its light")
        if math.isfinite(redder[k]) and abs(redder[k]) > _MOST_COLOUR:
            why.append(f"{abs(redder[k]):.1f} mag {'redder' if redder[k] > 0 else 'bluer'}")
        score = math.exp(-0.5 * ((float(np.nan_to_num(fainter[k], nan=9.0)) + _BEST_BRIGHTER) / _LIKE_MAG) ** 2)
        if math.isfinite(redder[k]):
            score *= math.exp(-0.5 * (redder[k] / _LIKE_COLOUR) ** 2)
        score *= math.exp(-0.5 * (away[k] / diagonal) ** 2) / (1 + 20 * company[k])
        found.append(
            Candidate(
                k, float(reference.x[k]), float(reference.y[k]), float(fainter[k]), float(redder[k]), float(away[k]),
                float(company[k]), score, tuple(why),
            )
        )  # fmt: skip
    return sorted(found, key=lambda c: (len(c.why_not) > 0, -c.score))


def _company(stars: StarTable, fwhm_px: float) -> F64Array:
    """Return the light of other stars near each, over its own."""
    from scipy.spatial import cKDTree

    result = np.zeros(len(stars))
    tree = cKDTree(np.column_stack([stars.x, stars.y]))
    for k, near in enumerate(tree.query_ball_point(tree.data, _ALONE_FWHM * fwhm_px)):
        others = [j for j in near if j != k]
        if others:
            result[k] = float(np.maximum(stars.flux[others], 0).sum()) / max(float(stars.flux[k]), 1e-9)
    return result


def _over_the_night(n: int, looks: Sequence[Look]) -> tuple[F64Array, F64Array, F64Array, F64Array]:
    """Return in how many exposures each star was saturated, over the linear limit, found, and well inside."""
    from scipy.spatial import cKDTree

    full, bent, seen, inside = (np.zeros(n) for _ in range(4))
    for look in looks:
        width = look.fwhm_px if math.isfinite(look.fwhm_px) else 3.0
        margin = _MARGIN_FWHM * width
        within = (look.x > margin) & (look.y > margin)
        within &= (look.x < look.width - 1 - margin) & (look.y < look.height - 1 - margin)
        inside += within
        if not len(look.stars):
            continue
        places = np.column_stack([look.x, look.y])
        known = np.isfinite(places).all(axis=1)
        distance = np.full(n, math.inf)
        which = np.zeros(n, dtype=np.int64)
        tree = cKDTree(np.column_stack([look.stars.x, look.stars.y]))
        distance[known], which[known] = tree.query(places[known])
        there = distance < max(width, 2.0)
        seen += there & within
        flags = np.where(there, look.stars.flags[np.minimum(which, len(look.stars) - 1)], 0)
        full += (flags & _FULL) != 0
        bent += ((flags & _BENT) != 0) & ((flags & _FULL) == 0)
    return full, bent, seen, inside
