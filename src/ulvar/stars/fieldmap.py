"""How width and shape of stars change over the field: tilt, curvature, direction of elongation."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from ulvar.engine import F64Array, I64Array, percent
from ulvar.frames import robust_spread
from ulvar.stars.table import StarFlag, StarTable


@dataclass(frozen=True)
class FieldMap:
    """Shape of stars over a mesh of the field.

    Attributes
    ----------
    fwhm_px, ellipticity, angle_deg : float64 array, shape (rows, columns)
        Median width, and elongation from mean ellipse components; NaN where there are fewer than three stars.
        Row 0 is at the bottom (small y).
    count : int64 array, shape (rows, columns)
    middle_px : float
        FWHM in the middle of the field, from the fit.
    tilt : float
        Change of the FWHM from one edge to the opposite one along the steepest direction, over the middle's.
    tilt_angle_deg : float
        Direction in which it grows, from +x to +y.
    curvature : float
        Change of the FWHM from the middle to the corners, over the middle's.
    tilt_error, curvature_error : float
        Standard errors of these.
    common_ellipticity, common_angle_deg : float
        Elongation that all stars share: guiding, wind.
    radial : float
        Mean ellipticity along the line to the middle, at the corners: over 0 stars point to the middle (coma), under
        0 they lie across.
    radial_error : float
    """

    fwhm_px: F64Array
    ellipticity: F64Array
    angle_deg: F64Array
    count: I64Array
    middle_px: float
    tilt: float
    tilt_angle_deg: float
    curvature: float
    tilt_error: float
    curvature_error: float
    common_ellipticity: float
    common_angle_deg: float
    radial: float
    radial_error: float

    @property
    def words(self) -> list[str]:
        """What the map says, in sentences; changes under three errors or 5 % are not told."""
        told = []
        if abs(self.tilt) > max(0.05, 3 * self.tilt_error):
            told.append(
                f"Tilt: FWHM grows by {percent(self.tilt)} across the field, towards {_side(self.tilt_angle_deg)}."
            )
        if abs(self.curvature) > max(0.05, 3 * self.curvature_error):
            where = "corners" if self.curvature > 0 else "middle"
            told.append(f"Curvature: stars are {percent(abs(self.curvature))} wider in the {where}.")
        if self.common_ellipticity > 0.08:
            told.append(
                f"All stars are long by {self.common_ellipticity:.2f} at {self.common_angle_deg:.0f}°: guiding or wind."
            )
        if abs(self.radial) > max(0.05, 3 * self.radial_error):
            way = "point to the middle" if self.radial > 0 else "lie across the line to the middle"
            told.append(f"Stars of the corners {way} ({abs(self.radial):.2f}): coma or astigmatism, or wrong spacing.")
        return told or ["Width and shape are even over the field."]


def _side(angle_deg: float) -> str:
    names = ("the right", "the upper right", "the top", "the upper left", "the left", "the lower left", "the bottom",
             "the lower right")  # fmt: skip
    return names[round(angle_deg / 45) % 8]


def field_map(stars: StarTable, width: int, height: int, *, columns: int = 6, rows: int = 4) -> FieldMap | None:
    """Return the map of an exposure's stars, or None with fewer than 20 stars that can be judged.

    Parameters
    ----------
    stars : StarTable
        Of which unsaturated ones with an SNR over 15 and away from edges count.
    width, height : int
        Of the frame [px].
    columns, rows : int
        Cells of the mesh.
    """
    doubtful = StarFlag.SATURATED | StarFlag.EDGE | StarFlag.BAD_PIXEL | StarFlag.NEIGHBOUR
    use = ((stars.flags & doubtful) == 0) & (stars.snr > 15) & np.isfinite(stars.fwhm_fit_px)
    use &= np.isfinite(stars.ellipticity) & np.isfinite(stars.angle_deg)
    if use.sum() < 20:
        return None
    s = stars.select(use)
    # From -1 to 1 along the longer side.
    half = max(width, height) / 2
    u, v = (s.x - (width - 1) / 2) / half, (s.y - (height - 1) / 2) / half
    e1 = s.ellipticity * np.cos(2 * np.radians(s.angle_deg))
    e2 = s.ellipticity * np.sin(2 * np.radians(s.angle_deg))
    cell = np.clip((s.y / height * rows).astype(int), 0, rows - 1) * columns
    cell += np.clip((s.x / width * columns).astype(int), 0, columns - 1)
    shape = (rows, columns)
    fwhm, c1, c2 = (np.full(rows * columns, np.nan) for _ in range(3))
    count = np.bincount(cell, minlength=rows * columns)
    for k in np.flatnonzero(count >= 3):
        here = cell == k
        fwhm[k], c1[k], c2[k] = np.median(s.fwhm_fit_px[here]), np.median(e1[here]), np.median(e2[here])
    corner2 = (width**2 + height**2) / 4 / half**2
    design = np.column_stack([np.ones(len(u)), u, v, u * u + v * v])
    fit, errors = _robust_plane(design, s.fwhm_fit_px)
    middle = float(fit[0])
    slope = math.hypot(fit[1], fit[2])
    # The ends of the frame in the steepest direction.
    reach = (abs(fit[1]) * width + abs(fit[2]) * height) / 2 / half / slope if slope > 0 else 1.0
    radius = np.maximum(np.hypot(u, v), 1e-9)
    toward = np.arctan2(v, u)
    # Ellipse component along the line to the middle; the shared elongation is taken off first.
    m1, m2 = float(np.median(e1)), float(np.median(e2))
    along = (e1 - m1) * np.cos(2 * toward) + (e2 - m2) * np.sin(2 * toward)
    pull, pull_error = _robust_plane((radius**2)[:, None], along)
    return FieldMap(
        fwhm.reshape(shape), np.hypot(c1, c2).reshape(shape), np.degrees(0.5 * np.arctan2(c2, c1)).reshape(shape),
        count.reshape(shape), middle, 2 * slope * reach / middle, math.degrees(math.atan2(fit[2], fit[1])) % 360,
        float(fit[3]) * corner2 / middle, 2 * float(np.hypot(errors[1], errors[2])) * reach / middle,
        float(errors[3]) * corner2 / middle, math.hypot(m1, m2), math.degrees(0.5 * math.atan2(m2, m1)),
        float(pull[0]) * corner2, float(pull_error[0]) * corner2,
    )  # fmt: skip


def _robust_plane(design: F64Array, values: F64Array) -> tuple[F64Array, F64Array]:
    """Least squares clipped at three robust deviations; returns coefficients and their standard errors."""
    keep = np.ones(len(values), dtype=bool)
    fit: F64Array = np.zeros(design.shape[1])
    for _ in range(6):
        # Normal equations: the terms are of order one, and thousands of stars cost no more than dozens.
        used = design[keep]
        fit = np.asarray(np.linalg.lstsq(used.T @ used, used.T @ values[keep], rcond=None)[0], dtype=np.float64)
        left = values - design @ fit
        spread = robust_spread(left[keep], about=0.0) or 1e-12
        new = np.abs(left) < 3 * spread
        if (new == keep).all() or new.sum() <= design.shape[1] + 2:
            break
        keep = new
    left = values[keep] - design[keep] @ fit
    variance = float((left**2).sum() / max(1, keep.sum() - design.shape[1]))
    covariance = np.linalg.pinv(design[keep].T @ design[keep]) * variance
    return fit, np.sqrt(np.maximum(np.diag(covariance), 0))
