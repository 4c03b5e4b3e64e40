"""A moving body's place in every exposure that shows it, and what is left from where it was told to be and from a smooth way."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path

import numpy as np

from ulvar.astrometry import Wcs, tangent_plane
from ulvar.engine import F64Array, Failed, JobContext
from ulvar.flows.common import Outcome, failed_task, fit_flags
from ulvar.flows.lights import Calibrations
from ulvar.flows.measure import MeasureTask, look_at_exposure, measure_tasks, measuring_bytes
from ulvar.flows.wcsfile import wcs_of
from ulvar.frames import ExposureFacts, FrameError, in_circle, write_table
from ulvar.lightcurves import jd_from_utc
from ulvar.photometry import ListedStar
from ulvar.stars import StarFit, StarTable, Trail

# name, unit, decimals (None for text), meaning
POSITION_COLUMNS: tuple[tuple[str, str, int | None, str], ...] = (
    ("file", "", None, "name of the exposure"),
    ("name", "", None, "the body"),
    ("time_utc_mid", "", None, "middle of the exposure, UTC"),
    ("jd_utc", "d", 7, "the same as a Julian date"),
    ("ra", "deg", 7, "right ascension, ICRS, as measured among the stars"),
    ("dec", "deg", 7, "declination"),
    ("ra_error", "arcsec", 4, "standard error along right ascension, on the sky"),
    ("dec_error", "arcsec", 4, "standard error along declination"),
    ("off_ra", "arcsec", 3, "measured less told by the table or the elements, on the sky"),
    ("off_dec", "arcsec", 3, "the same along declination"),
    ("residual_ra", "arcsec", 3, "measured less the smooth way through all exposures, on the sky"),
    ("residual_dec", "arcsec", 3, "the same along declination"),
    ("x", "px", 4, "where it is in the exposure, 0-based"),
    ("y", "px", 4, "where it is in the exposure"),
    ("flux", "ADU", 2, "its light"),
    ("flux_error", "ADU", 2, "its standard error"),
    ("chi2", "", 3, "reduced chi-squared of the fit; over 1 it has widened the errors"),
    ("flags", "", None, "words joined by |: saturated, own_shape (it is longer than stars are), outlier"),
)
# A place that is off the smooth way by so many times what is usual stands off.
_OFF = 4.0
# A bent way must better the fit by so much of chi-squared: two more numbers do so by chance once in a hundred.
_BENT, _ENOUGH = 9.2, 5


@dataclass(frozen=True)
class Way:
    """A smooth way on the sky: polynomials in time about its middle on the tangent plane.

    Attributes
    ----------
    middle_s, ra0, dec0 : float
        Time since 1970 [s] and tangent point [deg].
    east, north : float64 array, shape (order + 1,)
        Coefficients by power of hours [arcsec].
    """

    middle_s: float
    ra0: float
    dec0: float
    east: F64Array
    north: F64Array

    def offsets(self, seconds: F64Array) -> tuple[F64Array, F64Array]:
        """Return where it is about the tangent point [arcsec]."""
        hours = (np.asarray(seconds) - self.middle_s) / 3600
        east, north = (np.polynomial.polynomial.polyval(hours, c) for c in (self.east, self.north))
        return np.asarray(east, dtype=np.float64), np.asarray(north, dtype=np.float64)

    @property
    def rate(self) -> tuple[float, float]:
        """Speed in the middle [arcsec an hour] and its position angle [deg]."""
        e, n = float(self.east[1]), float(self.north[1])
        return math.hypot(e, n), math.degrees(math.atan2(e, n)) % 360.0


def _way(seconds: F64Array, ra: F64Array, dec: F64Array, weight: F64Array, *, bent: bool) -> Way:
    order = 2 if bent else 1
    ra0, dec0 = float(ra[len(ra) // 2]), float(dec[len(dec) // 2])
    east, north = (3600 * v for v in tangent_plane(ra, dec, ra0, dec0))
    middle = float(seconds.mean())
    hours = (seconds - middle) / 3600
    both = np.polynomial.polynomial.polyfit(hours, np.column_stack([east, north]), order, w=weight)
    return Way(middle, ra0, dec0, np.asarray(both[:, 0], dtype=np.float64), np.asarray(both[:, 1], dtype=np.float64))


@dataclass(frozen=True)
class PositionRow:
    """The body in one exposure.

    Attributes
    ----------
    file, name : str
    time_utc_mid : datetime
    fit : StarFit
    ra, dec : float
        [deg, ICRS]
    error : (float, float)
        Standard errors along right ascension and declination, on the sky [arcsec].
    off : (float, float)
        Measured less told [arcsec]; NaN where nothing was told but the user's own marks.
    residual : (float, float)
        Measured less the smooth way through all exposures [arcsec]; NaN of fewer than three.
    outlier : bool
    """

    file: str
    name: str
    time_utc_mid: datetime
    fit: StarFit
    ra: float
    dec: float
    error: tuple[float, float]
    off: tuple[float, float] = (math.nan, math.nan)
    residual: tuple[float, float] = (math.nan, math.nan)
    outlier: bool = False

    @property
    def flags(self) -> str:
        """Words joined by ``|``."""
        return fit_flags(self.fit, self.outlier)


@dataclass(frozen=True)
class BodySummary:
    """A body over all exposures that agree.

    Attributes
    ----------
    count, outliers : int
    speed, angle_deg : float
        Of its way [arcsec an hour], position angle [deg]; NaN of one exposure.
    bent : bool
        Whether the way through the exposures is a curve.
    residual : (float, float)
        Rms about that way along right ascension and declination [arcsec].
    expected : (float, float)
        What the errors of single exposures let expect [arcsec].
    off, off_error : (float, float)
        Mean of measured less told, and its standard error [arcsec]; NaN without a table.
    """

    count: int
    outliers: int
    speed: float
    angle_deg: float
    bent: bool
    residual: tuple[float, float]
    expected: tuple[float, float]
    off: tuple[float, float]
    off_error: tuple[float, float]


@dataclass(frozen=True)
class _BodyTask:
    """One exposure to look for the body in, how far about the place that is told [arcsec], and whether a table tells it."""

    base: MeasureTask
    radius_arcsec: float
    told: bool

    @property
    def facts(self) -> ExposureFacts:
        """Those of the exposure."""
        return self.base.facts


def position_item(task: _BodyTask) -> PositionRow | Failed:
    """Find the body in one exposure (runs in a worker)."""
    # Whoever only shows what was measured loads no fitting.
    from ulvar.stars import measure_star

    base, facts = task.base, task.base.facts
    (body,) = base.stars
    when = facts.mid_utc
    if when is None:
        return Failed("its time is not known", facts.path)
    ra, dec = body.sky_at(when)
    if not math.isfinite(ra):
        return Failed("the table tells nothing of its time", facts.path)
    try:
        wcs = base.wcs or wcs_of(facts.path)
        if wcs is None:
            return Failed("it has no plate solution (solve it first)", facts.path)
        x, y = (float(v) for v in wcs.pixel(ra, dec))
        if not (0 <= x <= facts.width - 1 and 0 <= y <= facts.height - 1):
            return Failed("the body is outside of it", facts.path)
        looked = look_at_exposure(base)
    except FrameError as error:
        return Failed(error.reason, facts.path)
    fit = measure_star(
        looked.frame.above_pedestal(), (x, y), fwhm_px=looked.fwhm_px, reach_px=task.radius_arcsec / wcs.scale_arcsec_px, long=True,
        stars=looked.stars,
        mask=looked.frame.mask, gain_e_per_adu=facts.gain_e_per_adu, saturation_adu=facts.saturation_adu,
    )  # fmt: skip
    if isinstance(fit, Failed):
        return Failed(fit.reason, facts.path)
    return _placed(fit, wcs, base.name, body.name, when, (ra, dec) if task.told else None)


def _placed(
    fit: StarFit, wcs: Wcs, file: str, name: str, when: datetime, told: tuple[float, float] | None
) -> PositionRow:
    ra, dec = (float(v) for v in wcs.sky(fit.x, fit.y))
    # Over a pixel a solution is straight.
    slopes = np.empty((2, 2))
    for k, (dx, dy) in enumerate(((0.5, 0.0), (0.0, 0.5))):
        there = tangent_plane(*wcs.sky(np.array([fit.x + dx, fit.x - dx]), np.array([fit.y + dy, fit.y - dy])), ra, dec)
        slopes[:, k] = [3600 * (there[0][0] - there[0][1]), 3600 * (there[1][0] - there[1][1])]
    variance = np.diag(slopes @ fit.covariance[:2, :2] @ slopes.T)
    off = (math.nan, math.nan)
    if told is not None:
        # Measured about the place that was told: measured less told.
        east, north = tangent_plane(np.array([ra]), np.array([dec]), *told)
        off = 3600 * float(east[0]), 3600 * float(north[0])
    return PositionRow(file, name, when, fit, in_circle(ra), dec, (math.sqrt(variance[0]), math.sqrt(variance[1])), off)


def measure_positions(
    exposures: Sequence[ExposureFacts],
    body: ListedStar,
    context: JobContext,
    *,
    told: bool = True,
    radius_arcsec: float = 5.0,
    solutions: Mapping[str, Wcs] | None = None,
    fwhm: Mapping[str, float] | None = None,
    detected: Mapping[str, StarTable] | None = None,
    trails: Mapping[str, tuple[Trail, ...]] | None = None,
    calibrations: Calibrations | None = None,
) -> tuple[list[PositionRow], list[Outcome]]:
    """Measure a moving body in every exposure that shows it; rows come in the order of time.

    Parameters
    ----------
    exposures : sequence of ExposureFacts
    body : ListedStar
        With a track (see `read_bodies` and `marked_body`).
    context : JobContext
    told : bool
        Whether the track is that of a table or of elements, from which deviations are of interest.
    radius_arcsec : float
        How far from the told place the body is looked for.
    solutions, fwhm, detected, trails, calibrations : mapping, optional
        What is known of exposures already, by their paths.
    """
    tasks = [
        _BodyTask(task, radius_arcsec, told)
        for task in measure_tasks(
            exposures,
            [body],
            solutions=solutions,
            fwhm=fwhm,
            detected=detected,
            trails=trails,
            calibrations=calibrations,
        )
    ]
    rows: list[PositionRow] = []
    outcomes: dict[str, Outcome] = {}
    held = max((measuring_bytes(t.base) for t in tasks), default=0)
    for task, result in context.each(position_item, tasks, "Measuring the body", item_bytes=held, lost=failed_task):
        path = task.base.facts.path
        if isinstance(result, Failed):
            outcomes[path] = Outcome(path, False, result.reason)
        else:
            outcomes[path] = Outcome(path, True)
            rows.append(result)
    rows.sort(key=lambda row: (row.time_utc_mid, row.file))
    return with_residuals(rows)[0], [outcomes[f.path] for f in exposures]


def with_residuals(rows: Sequence[PositionRow]) -> tuple[list[PositionRow], Way | None]:
    """Return the rows with what is left from a smooth way through all, those that stand off it marked, and the way.

    The way is straight; it is bent where that betters the fit by more than chance does.
    """
    seconds = np.array([row.time_utc_mid.timestamp() for row in rows])
    if len(set(seconds)) < 2:
        return list(rows), None
    ra, dec = np.array([row.ra for row in rows]), np.array([row.dec for row in rows])
    error = np.array([row.error for row in rows]).reshape(-1, 2)
    spread = np.hypot(error[:, 0], error[:, 1]) / math.sqrt(2)
    good = np.ones(len(rows), dtype=bool)
    way = _best_way(seconds, ra, dec, spread)
    for _ in range(5):
        off = _off(way, seconds, ra, dec)
        if len(rows) < _ENOUGH:
            break
        size = np.hypot(*off) / math.sqrt(2)
        usual = max(1.0, float(np.median(size[good] / spread[good])) / 0.833)
        kept = size < _OFF * usual * spread
        if (kept == good).all() or kept.sum() < _ENOUGH:
            break
        good = kept
        way = _best_way(seconds[good], ra[good], dec[good], spread[good])
    off = _off(way, seconds, ra, dec)
    residuals = off if len(rows) > 2 else np.full((2, len(rows)), math.nan)
    marked = [
        replace(row, residual=(float(residuals[0, k]), float(residuals[1, k])), outlier=not good[k])
        for k, row in enumerate(rows)
    ]
    return marked, way


def _best_way(seconds: F64Array, ra: F64Array, dec: F64Array, spread: F64Array) -> Way:
    straight = _way(seconds, ra, dec, 1 / spread, bent=False)
    if len(set(seconds)) < _ENOUGH:
        return straight
    bent = _way(seconds, ra, dec, 1 / spread, bent=True)
    chi2 = [float(((_off(way, seconds, ra, dec) / spread) ** 2).sum()) for way in (straight, bent)]
    reduced = max(1.0, chi2[1] / (2 * len(seconds) - 6))
    return bent if chi2[0] - chi2[1] > _BENT * reduced else straight


def _off(way: Way, seconds: F64Array, ra: F64Array, dec: F64Array) -> F64Array:
    """Return measured less the way, along right ascension and declination [arcsec], shape (2, n)."""
    east, north = tangent_plane(ra, dec, way.ra0, way.dec0)
    of_way = way.offsets(seconds)
    return np.array([3600 * east - of_way[0], 3600 * north - of_way[1]])


def summarise_body(rows: Sequence[PositionRow]) -> BodySummary | None:
    """Return means over the exposures that agree; None without any."""
    good = [row for row in rows if not row.outlier]
    if not good:
        return None
    _, way = with_residuals(good)
    n = len(good)
    residual, error, off = (np.array([getattr(row, name) for row in good]) for name in ("residual", "error", "off"))
    expected = np.sqrt((error**2).mean(axis=0))
    rms = np.sqrt((residual**2).mean(axis=0))
    off_error = off.std(axis=0, ddof=1) / math.sqrt(n) if n > 1 else error[0]
    speed, angle = (math.nan, math.nan) if way is None else way.rate
    return BodySummary(
        n, len(rows) - n, speed, angle, way is not None and len(way.east) > 2, (float(rms[0]), float(rms[1])),
        (float(expected[0]), float(expected[1])), tuple(off.mean(axis=0).tolist()), tuple(off_error.tolist()),
    )  # fmt: skip


def position_cells(rows: Sequence[PositionRow]) -> dict[str, list[object]]:
    """Return the columns of `POSITION_COLUMNS`."""
    cells: dict[str, list[object]] = {name: [] for name, *_ in POSITION_COLUMNS}
    for row in rows:
        fit, when = row.fit, row.time_utc_mid
        values = (
            row.file, row.name, when, float(jd_from_utc([when])[0]), row.ra, row.dec, *row.error, *row.off, *row.residual,
            fit.x, fit.y, fit.flux, math.sqrt(fit.covariance[2, 2]), fit.chi2, row.flags,
        )  # fmt: skip
        for name, value in zip(cells, values, strict=True):
            cells[name].append(value)
    return cells


def write_positions(path: Path, rows: Sequence[PositionRow], *, replace: bool = False) -> None:
    """Write a body's places in the format that the name's ending says (see `write_table`)."""
    about = {"frame": "ICRS, astrometric", "time_scale": "UTC, middle of the exposure"}
    write_table(path, POSITION_COLUMNS, position_cells(rows), about=about, replace=replace)
