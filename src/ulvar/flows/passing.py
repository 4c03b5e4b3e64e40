"""Bodies that pass over stars, as the stars of a reference exposure tell."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime

import numpy as np

from ulvar.astrometry import Wcs
from ulvar.engine import F64Array
from ulvar.photometry import ListedStar, SeriesRow, blended
from ulvar.stars import StarFlag, StarTable


@dataclass(frozen=True)
class Reference:
    """The exposure that x, y positions refer to."""

    path: str
    stars: StarTable
    wcs: Wcs | None


def passing_stars(
    rows: list[SeriesRow],
    stars: Sequence[ListedStar],
    reference: Reference | None,
    own: Wcs | None,
    x: F64Array,
    y: F64Array,
    fwhm_px: float,
    *,
    since: datetime | None = None,
) -> list[SeriesRow]:
    """Flag moving bodies that pass a star of the reference: right over it the two were found as one, which looks like the body.

    Parameters
    ----------
    rows : list of SeriesRow
        Of one exposure, for each radius those of all stars.
    stars : sequence of ListedStar
    reference : Reference or None
        Where the stars were found that stay; without one, or without solutions, nothing is flagged.
    own : Wcs or None
        Solution of the exposure.
    x, y : float64 array, shape (stars,)
        Where they were measured [px].
    fwhm_px : float
    since : datetime, optional
        When the reference was exposed: the body's own light in it is no star.
    """
    moving = np.array([bool(star.track) for star in stars])
    if reference is None or reference.wcs is None or own is None or not moving.any():
        return rows
    ra, dec = reference.wcs.sky(reference.stars.x, reference.stars.y)
    there = np.ones(len(reference.stars), dtype=bool)
    if since is not None:
        # The body's own light in the reference is no star.
        for star in stars:
            if star.track:
                bx, by = reference.wcs.pixel(*star.sky_at(since))
                with np.errstate(invalid="ignore"):
                    there &= ~(np.hypot(reference.stars.x - bx, reference.stars.y - by) < max(fwhm_px, 2.0))
    fixed_x, fixed_y = own.pixel(ra, dec)
    fixed = replace(reference.stars, x=fixed_x, y=fixed_y).select(there & np.isfinite(fixed_x + fixed_y))
    n = len(stars)
    flagged = list(rows)
    for first in range(0, len(rows), n):
        part = rows[first : first + n]
        light = np.array([row.flux for row in part])
        passing = moving & blended(x, y, light, fixed, radius_px=part[0].radius_px, fwhm_px=fwhm_px, own=False)
        for k in np.flatnonzero(passing):
            flagged[first + k] = replace(part[k], flags=part[k].flags | int(StarFlag.NEIGHBOUR))
    return flagged
