"""The same two stars in every exposure: separation, position angle, difference in brightness; means and what stands off."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path

import numpy as np

from ulvar.astrometry import Separation, Wcs, separation_on_sky
from ulvar.engine import F64Array, Failed, JobContext
from ulvar.flows.common import Outcome, failed_task, fit_flags
from ulvar.flows.lights import Calibrations
from ulvar.flows.measure import MeasureTask, look_at_exposure, measure_tasks, measuring_bytes, star_places
from ulvar.flows.passing import Reference
from ulvar.flows.wcsfile import wcs_of
from ulvar.frames import MAD_TO_SIGMA, ExposureFacts, FrameError, write_table
from ulvar.lightcurves import jd_from_utc, julian_year
from ulvar.photometry import ListedStar
from ulvar.registration import PixelMap
from ulvar.stars import PairFit, StarTable, Trail

# name, unit, decimals (None for text), meaning
PAIR_COLUMNS: tuple[tuple[str, str, int | None, str], ...] = (
    ("file", "", None, "name of the exposure"),
    ("time_utc_mid", "", None, "middle of the exposure, UTC"),
    ("jd_utc", "d", 7, "the same as a Julian date"),
    ("year", "yr", 6, "the same as a Julian year"),
    (
        "separation",
        "arcsec",
        4,
        "from the first star to the second, along the great circle; empty where it is not solved",
    ),
    ("separation_error", "arcsec", 4, "its standard error"),
    ("position_angle", "deg", 4, "at the first star, from north over east, ICRS"),
    ("position_angle_error", "deg", 4, "its standard error"),
    ("separation_px", "px", 4, "the same in pixels"),
    ("separation_px_error", "px", 4, "its standard error"),
    ("angle_px", "deg", 4, "direction in the picture, from +x to +y"),
    ("angle_px_error", "deg", 4, "its standard error"),
    ("difference", "mag", 4, "magnitude of the second less that of the first"),
    ("difference_error", "mag", 4, "its standard error"),
    ("x1", "px", 4, "first star, 0-based"),
    ("y1", "px", 4, "first star"),
    ("x2", "px", 4, "second star"),
    ("y2", "px", 4, "second star"),
    ("fwhm_px", "px", 4, "width of the stars"),
    ("chi2", "", 3, "reduced chi-squared of the fit; over 1 it has widened the errors"),
    ("flags", "", None, "words joined by |: saturated, own_shape (the profile was fitted to the pair itself), outlier"),
)
# Deviations from the median from which on an exposure is told to stand off.
_OFF = 4.0
# Of so few stars none is taken for another when the brightest is taken for the brightest.
FEW_STARS = 5


@dataclass(frozen=True)
class PairRow:
    """The pair in one exposure.

    Attributes
    ----------
    file : str
    time_utc_mid : datetime or None
    fit : PairFit
    sky : Separation or None
        None where the exposure is not solved.
    outlier : bool
        Whether it stands off the others.
    """

    file: str
    time_utc_mid: datetime | None
    fit: PairFit
    sky: Separation | None
    outlier: bool = False

    @property
    def offset(self) -> tuple[float, float]:
        """From the first to the second: towards east and north [arcsec] where it is solved, else along x and y [px]."""
        if self.sky is not None:
            return self.sky.offset
        return float(self.fit.x[1] - self.fit.x[0]), float(self.fit.y[1] - self.fit.y[0])

    @property
    def offset_error(self) -> tuple[float, float]:
        """Standard errors of the two parts."""
        if self.sky is not None:
            return self.sky.offset_error
        c = self.fit.covariance
        return math.sqrt(c[0, 0] + c[2, 2] - 2 * c[0, 2]), math.sqrt(c[1, 1] + c[3, 3] - 2 * c[1, 3])

    @property
    def measured(self) -> tuple[float, float, float, float]:
        """Separation, its error, angle and its error: on the sky where it is solved, else in the picture."""
        if self.sky is not None:
            return self.sky.arcsec, self.sky.arcsec_error, self.sky.angle_deg, self.sky.angle_error_deg
        return (*self.fit.separation_px, *self.fit.angle_deg)

    @property
    def flags(self) -> str:
        """Words joined by ``|``."""
        return fit_flags(self.fit, self.outlier)


@dataclass(frozen=True)
class PairSummary:
    """The pair over all exposures that agree.

    Attributes
    ----------
    count, outliers : int
        Exposures that went in, and those that were left away.
    solved : bool
        Whether separations are in arcsec and angles from north over east; else in px, and from +x to +y.
    separation, separation_error, separation_scatter : float
        Mean, its standard error, and the standard deviation of one exposure.
    angle_deg, angle_error_deg, angle_scatter_deg : float
    expected_separation, expected_angle_deg : float
        Standard deviation that the errors of single exposures let expect (rms).
    difference_mag, difference_error_mag : float
    year : float
        Mean Julian year; NaN where times are not known.
    unsolved : int
        Exposures that were left away for they are not solved as the others are.
    """

    count: int
    outliers: int
    solved: bool
    separation: float
    separation_error: float
    separation_scatter: float
    angle_deg: float
    angle_error_deg: float
    angle_scatter_deg: float
    expected_separation: float
    expected_angle_deg: float
    difference_mag: float
    difference_error_mag: float
    year: float
    unsolved: int = 0


def pair_item(task: MeasureTask) -> PairRow | Failed:
    """Measure the pair in one exposure (runs in a worker)."""
    # Whoever only shows what was measured loads no fitting.
    from ulvar.stars import measure_pair

    facts = task.facts
    try:
        looked = look_at_exposure(task)
        own = task.wcs or wcs_of(facts.path)
    except FrameError as error:
        return Failed(error.reason, facts.path)
    placed = star_places(task, own, looked.stars)
    if isinstance(placed, Failed):
        moved = _by_brightest(task, looked.stars)
        if moved is None:
            return Failed(placed.reason, facts.path)
        x, y = moved
    else:
        x, y = placed[:2]
    if not (np.isfinite(x).all() and np.isfinite(y).all()):
        return Failed("the pair has no place in it", facts.path)
    fit = measure_pair(
        looked.frame.above_pedestal(), (float(x[0]), float(y[0])), (float(x[1]), float(y[1])), fwhm_px=looked.fwhm_px, stars=looked.stars,
        mask=looked.frame.mask, gain_e_per_adu=facts.gain_e_per_adu, saturation_adu=facts.saturation_adu,
    )  # fmt: skip
    if isinstance(fit, Failed):
        return Failed(fit.reason, facts.path)
    return paired(fit, own, task.name, facts.mid_utc)


def _by_brightest(task: MeasureTask, detected: StarTable) -> tuple[F64Array, F64Array] | None:
    """Return where the pair is by the brightest star; None where there are enough stars for a pattern, or none.

    Small fields of a double star show little else.
    """
    reference = task.reference
    if reference is None or any(star.on_sky for star in task.stars):
        return None
    few = 0 < len(detected) <= FEW_STARS and 0 < len(reference.stars) <= FEW_STARS
    if not few:
        return None
    dx, dy = detected.x[0] - reference.stars.x[0], detected.y[0] - reference.stars.y[0]
    return np.array([(s.x or 0.0) + dx for s in task.stars]), np.array([(s.y or 0.0) + dy for s in task.stars])


def paired(fit: PairFit, wcs: Wcs | None, name: str, when: datetime | None) -> PairRow:
    """Return a measured pair with its separation on the sky, where the exposure is solved."""
    places = np.array([fit.x[0], fit.y[0], fit.x[1], fit.y[1]])
    sky = None if wcs is None else separation_on_sky(wcs, places, fit.covariance[:4, :4])
    return PairRow(name, when, fit, sky)


def measure_pairs(
    exposures: Sequence[ExposureFacts],
    pair: tuple[ListedStar, ListedStar],
    context: JobContext,
    *,
    reference: Reference | None = None,
    solutions: Mapping[str, Wcs] | None = None,
    transforms: Mapping[str, PixelMap] | None = None,
    fwhm: Mapping[str, float] | None = None,
    detected: Mapping[str, StarTable] | None = None,
    trails: Mapping[str, tuple[Trail, ...]] | None = None,
    calibrations: Calibrations | None = None,
) -> tuple[list[PairRow], list[Outcome]]:
    """Measure two stars in every exposure; rows come in the order of time, and those that stand off are told.

    Parameters
    ----------
    exposures : sequence of ExposureFacts
    pair : (ListedStar, ListedStar)
        First and second star, by their places on the sky or by pixels of the reference.
    context : JobContext
    reference : Reference, optional
        The exposure whose pixels the places are.
    solutions, transforms, fwhm, detected, trails, calibrations : mapping, optional
        What is known of exposures already, by their paths.
    """
    tasks = measure_tasks(
        exposures, pair, reference=reference, solutions=solutions, transforms=transforms, fwhm=fwhm, detected=detected,
        trails=trails, calibrations=calibrations,
    )  # fmt: skip
    rows: dict[str, PairRow] = {}
    outcomes: dict[str, Outcome] = {}
    held = max((measuring_bytes(t) for t in tasks), default=0)
    for task, result in context.each(pair_item, tasks, "Measuring the pair", item_bytes=held, lost=failed_task):
        path = task.facts.path
        if isinstance(result, Failed):
            outcomes[path] = Outcome(path, False, result.reason)
        else:
            rows[path], outcomes[path] = result, Outcome(path, True)
    ordered = sorted(exposures, key=lambda f: (f.mid_utc is None, f.mid_utc.timestamp() if f.mid_utc else 0.0, f.path))
    return told_off([rows[f.path] for f in ordered if f.path in rows]), [outcomes[f.path] for f in exposures]


def told_off(rows: Sequence[PairRow]) -> list[PairRow]:
    """Return the rows with those marked that stand off the others, beyond their errors and the usual scatter."""
    solved = any(row.sky is not None for row in rows)
    alike = [row for row in rows if (row.sky is not None) == solved]
    if len(alike) < 4:
        return list(rows)
    offsets, errors = np.array([r.offset for r in alike]), np.array([r.offset_error for r in alike])
    if not solved:
        # Of a picture that turns (at a mount without a field rotator) only the separation can be compared.
        offsets, errors = np.hypot(*offsets.T)[:, None], np.array([[r.fit.separation_px[1]] for r in alike])
    middle = np.median(offsets, axis=0)
    spread = MAD_TO_SIGMA * np.median(np.abs(offsets - middle), axis=0)
    off = (np.abs(offsets - middle) > _OFF * np.hypot(errors, spread)).any(axis=1)
    outlying = {id(row) for row, bad in zip(alike, off) if bad}
    return [replace(row, outlier=id(row) in outlying) for row in rows]


def summarise(rows: Sequence[PairRow]) -> PairSummary | None:
    """Return means over the exposures that agree; None without any.

    The mean is that of the parts along the axes: a mean of separations would be too long where they are small, and
    angles have a step at north.
    """
    solved = any(row.sky is not None for row in rows)
    alike = [row for row in rows if (row.sky is not None) == solved]
    good = [row for row in alike if not row.outlier]
    if not good:
        return None
    offsets = np.array([row.offset for row in good])
    mean = offsets.mean(axis=0)
    apart = float(np.hypot(*mean))
    # Along and across the mean: lengths, and angles times the length.
    along = offsets @ mean / apart
    across = (offsets[:, 0] * mean[1] - offsets[:, 1] * mean[0]) / apart
    angle = math.degrees(math.atan2(mean[0], mean[1]) if solved else math.atan2(mean[1], mean[0])) % 360.0
    n = len(good)
    told = [(row.measured[1], row.measured[3]) for row in good]
    expected = np.sqrt((np.array(told) ** 2).mean(axis=0))
    scatter = along.std(ddof=1) if n > 1 else math.nan, math.degrees(across.std(ddof=1) / apart) if n > 1 else math.nan
    difference = np.array([row.fit.difference_mag for row in good])
    years = [julian_year(row.time_utc_mid) for row in good if row.time_utc_mid is not None]
    weights = 1 / np.maximum(difference[:, 1], 1e-6) ** 2
    of_difference = difference[:, 0].std(ddof=1) / math.sqrt(n) if n > 1 else float(difference[0, 1])
    return PairSummary(
        n, len(alike) - n, solved, apart, float(scatter[0] / math.sqrt(n)) if n > 1 else float(expected[0]), float(scatter[0]),
        angle, float(scatter[1] / math.sqrt(n)) if n > 1 else float(expected[1]), float(scatter[1]),
        float(expected[0]), float(expected[1]), float((weights * difference[:, 0]).sum() / weights.sum()), float(of_difference),
        float(np.mean(years)) if years else math.nan, len(rows) - len(alike),
    )  # fmt: skip


def pair_cells(rows: Sequence[PairRow]) -> dict[str, list[object]]:
    """Return the columns of `PAIR_COLUMNS`."""
    nothing = Separation(math.nan, math.nan, math.nan, math.nan)
    cells: dict[str, list[object]] = {name: [] for name, *_ in PAIR_COLUMNS}
    for row in rows:
        sky, fit, when = row.sky or nothing, row.fit, row.time_utc_mid
        values = (
            row.file, when, math.nan if when is None else float(jd_from_utc([when])[0]),
            math.nan if when is None else julian_year(when), sky.arcsec, sky.arcsec_error, sky.angle_deg, sky.angle_error_deg,
            *fit.separation_px, *fit.angle_deg, *fit.difference_mag, *_places(fit), fit.fwhm_px, fit.chi2, row.flags,
        )  # fmt: skip
        for name, value in zip(cells, values, strict=True):
            cells[name].append(value)
    return cells


def _places(fit: PairFit) -> tuple[float, float, float, float]:
    x, y = fit.x, fit.y
    return float(x[0]), float(y[0]), float(x[1]), float(y[1])


def write_pairs(path: Path, rows: Sequence[PairRow], *, replace: bool = False) -> None:
    """Write the pair in every exposure, in the format that the name's ending says (see `write_table`)."""
    about = {"frame": "ICRS", "time_scale": "UTC", "position_angle": "from north over east"}
    write_table(path, PAIR_COLUMNS, pair_cells(rows), about=about, replace=replace)
