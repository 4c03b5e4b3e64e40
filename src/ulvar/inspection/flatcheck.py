"""Does the flat correct too much or too little? The sky of calibrated lights, held against the flat's own pattern."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np

from ulvar.engine import F32Array, F64Array, Failed, MaskArray, true_minus
from ulvar.frames import MAD_TO_SIGMA, row_medians
from ulvar.inspection.findings import Finding, notice

_CELLS = 40


@dataclass(frozen=True)
class FlatCheck:
    """Outcome of the check.

    Attributes
    ----------
    slope, slope_error : float
        Change of the logarithm of the calibrated sky with that of the flat: 0 for a flat that fits; above 0 the
        pattern of the flat is left in the sky (under-correction), below 0 it stands there turned round.
    fine_slope, fine_slope_error : float
        The same for small structure (dust rings, pixel rows of cells); NaN where the flat has none to tell by.
    corner_percent : float
        What the slope means where the flat is darkest: sky too dark (below 0) or too bright there [%].
    sky_adu : float
        Typical calibrated sky [ADU].
    flat_log, sky_log : float64 array, shape (cells,)
        What the plot shows: logarithms of flat and sky, gradients of the sky taken out.
    frames : int
        Lights used.
    """

    slope: float
    slope_error: float
    fine_slope: float
    fine_slope_error: float
    corner_percent: float
    sky_adu: float
    flat_log: F64Array
    sky_log: F64Array
    frames: int

    @property
    def verdict(self) -> str:
        """``fits``, ``over`` or ``under``.

        A slope counts when it is known (five errors, as neighbouring cells are not independent) and when it
        matters: half a percent between the brightest and the darkest part.
        """
        if abs(self.slope) < 5 * self.slope_error or abs(self.corner_percent) < 0.5:
            return "fits"
        return "under" if self.slope > 0 else "over"

    @property
    def causes(self) -> tuple[str, ...]:
        """Likely causes, the likeliest first; empty when the flat fits."""
        if self.verdict == "fits":
            return ()
        known = math.isfinite(self.fine_slope) and self.fine_slope_error < 0.5 * abs(self.slope)
        smooth_only = known and abs(self.fine_slope) < 0.4 * abs(self.slope)
        if smooth_only:
            return (
                "stray light in lights or flats: dust rings are gone and only the wide pattern is left",
                "a flat panel that is not even, or that stood askew",
            )
        adu = abs(self.slope) * self.sky_adu
        if self.verdict == "over":
            return (
                f"a level of about {adu:.0f} ADU left in the lights: a dark or bias of a lower offset or gain",
                "too much taken off the flats: a dark flat of another exposure, offset or gain",
            )
        return (
            f"a level left in the flats (about {100 * abs(self.slope):.1f} % of their own): no dark flat, or the wrong one",
            f"about {adu:.0f} ADU too much taken off the lights: a dark or bias of a higher offset or gain",
            "flats so bright that the sensor was not linear",
        )


def sky_cells(data: F32Array, mask: MaskArray | None, cells: int = _CELLS) -> F64Array:
    """Return the sky level of a frame in a grid of about `cells` along its longer side, stars cut away.

    Each cell is the mean of what lies within 2.5 robust deviations below and 2 above its median, three times.
    """
    size = max(8, max(data.shape) // cells)
    ny, nx = data.shape[0] // size, data.shape[1] // size
    cut = data[: ny * size, : nx * size]
    values = cut.reshape(ny, size, nx, size).transpose(0, 2, 1, 3).reshape(ny, nx, size * size).astype(np.float64)
    if mask is not None and mask.any():
        bad = mask[: ny * size, : nx * size].reshape(ny, size, nx, size).transpose(0, 2, 1, 3).reshape(values.shape)
        values[bad != 0] = np.nan
    with np.errstate(invalid="ignore"):
        for _ in range(3):
            middle = row_medians(values)[..., None]
            spread = MAD_TO_SIGMA * row_medians(np.abs(values - middle))[..., None]
            values[(values > middle + 2.0 * spread) | (values < middle - 2.5 * spread)] = np.nan
        return np.asarray(np.nanmean(values, axis=2))


def check_flat(
    lights: Sequence[tuple[F32Array, MaskArray | None]], flat: F32Array, *, cells: int = _CELLS
) -> FlatCheck | Failed:  # fmt: skip
    """Check a flat with calibrated lights.

    Parameters
    ----------
    lights : sequence of (data, mask)
        Calibrated with the flat, all of one size, a few are enough. Sky above zero.
    flat : float32 array, shape (height, width)
        The master flat, relative.
    cells : int
        Cells along the longer side.

    Returns
    -------
    FlatCheck, or Failed with why nothing can be said.

    Notes
    -----
    The logarithm of the sky is fitted with the logarithm of the flat and a plane (moonlight and twilight make
    gradients); the errors are those of the fit to cells, with the scatter that the cells themselves show.
    For small structure both are first freed of what a smooth surface of the fifth degree explains.
    """
    if not lights:
        return Failed("there is no calibrated light")
    grids = []
    for data, mask in lights:
        if data.shape != flat.shape:
            return Failed("the light's size is not that of the flat")
        grid = sky_cells(data, mask, cells)
        level = float(np.nanmedian(grid))
        if not level > 0:
            continue
        grids.append((grid / level, level))
    if not grids:
        return Failed("the calibrated sky is not above zero")
    sky = np.nanmedian([g for g, _ in grids], axis=0)
    sky_adu = float(np.median([level for _, level in grids]))
    size = max(8, max(flat.shape) // cells)
    ny, nx = sky.shape
    pattern = np.asarray(cv2.resize(flat[: ny * size, : nx * size], (nx, ny), interpolation=cv2.INTER_AREA), np.float64)
    y, x = np.mgrid[-1 : 1 : ny * 1j, -1 : 1 : nx * 1j]
    good = np.isfinite(sky) & (sky > 0) & (pattern > 0.2)
    if good.sum() < 30:
        return Failed("too little of the frame shows sky")
    log_flat, log_sky = np.log(pattern[good]), np.log(sky[good])
    if np.ptp(log_flat) < 0.02:
        return Failed("the flat is so even that it tells nothing: less than 2 % from darkest to brightest")
    design = np.column_stack([log_flat, np.ones(good.sum()), x[good], y[good]])
    slope, error, left = _robust_slope(design, log_sky)
    log_plane = [np.log(np.where(good, plane, np.nan)) for plane in (pattern, sky)]
    fine, fine_error = _fine(*log_plane)
    darkest = float(np.percentile(log_flat, 2) - np.percentile(log_flat, 98))
    return FlatCheck(
        slope, error, fine, fine_error, 100 * (math.exp(slope * darkest) - 1), sky_adu,
        log_flat, slope * log_flat + left, len(grids),
    )  # fmt: skip


def _robust_slope(design: F64Array, values: F64Array) -> tuple[float, float, F64Array]:
    """Return the first coefficient, its error and residuals of a linear fit from which outliers are cut."""
    keep = np.ones(len(values), dtype=bool)
    solution: F64Array = np.zeros(design.shape[1])
    for _ in range(4):
        solution = np.asarray(np.linalg.lstsq(design[keep], values[keep], rcond=None)[0])
        left = values - design @ solution
        spread = 1.4826 * float(np.median(np.abs(left[keep])))
        new = np.abs(left) < 4 * max(spread, 1e-9)
        if (new == keep).all():
            break
        keep = new
    left = values - design @ solution
    variance = float(np.var(left[keep], ddof=design.shape[1])) if keep.sum() > design.shape[1] else math.inf
    normal = np.linalg.pinv(design[keep].T @ design[keep])
    return float(solution[0]), math.sqrt(variance * normal[0, 0]), left


def _fine(log_flat: F64Array, log_sky: F64Array) -> tuple[float, float]:
    """Return the slope of small structure, NaN when the flat has less of it than would tell."""
    good = np.isfinite(log_flat) & np.isfinite(log_sky)
    ny, nx = log_flat.shape
    y, x = np.mgrid[-1 : 1 : ny * 1j, -1 : 1 : nx * 1j]
    smooth = np.column_stack([(x**i * y**j)[good] for i in range(6) for j in range(6 - i)])
    if good.sum() < 3 * smooth.shape[1]:
        return math.nan, math.nan
    left = []
    for plane in (log_flat[good], log_sky[good]):
        # A smooth surface of the fifth degree takes vignetting and stray light; dust and its like are left.
        left.append(plane - smooth @ np.linalg.lstsq(smooth, plane, rcond=None)[0])
    if float(np.std(left[0])) < 1e-3:
        return math.nan, math.nan
    slope, error, _ = _robust_slope(np.column_stack([left[0], np.ones(len(left[0]))]), left[1])
    return slope, error


def flat_findings(label: str, check: FlatCheck, files: tuple[str, ...]) -> list[Finding]:
    """Return what the check has to say, nothing when the flat fits."""
    if check.verdict == "fits":
        return []
    word = "over-corrects" if check.verdict == "over" else "under-corrects"
    percent = true_minus(f"{check.corner_percent:+.1f} %")
    return [
        notice(
            f"flat_{check.verdict}",
            f"{label}: the flat {word}",
            f"Where the flat is darkest the calibrated sky is {percent} off. Likely: {check.causes[0]}.",
            files,
            {"slope": check.slope, "slope_error": check.slope_error, "causes": list(check.causes)},
        )  # fmt: skip
    ]
