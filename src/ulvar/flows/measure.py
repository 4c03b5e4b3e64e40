"""Series photometry over files."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta

import numpy as np

from ulvar.astrometry import Wcs
from ulvar.engine import F64Array, Failed, JobContext
from ulvar.flows.calibrate import CalibrateTask
from ulvar.flows.common import Outcome, failed_task
from ulvar.flows.lights import Calibrations, held_bytes, read_light
from ulvar.flows.passing import Reference, passing_stars
from ulvar.flows.starfind import FINDING_BYTES_PX
from ulvar.flows.wcsfile import wcs_of
from ulvar.frames import ExposureFacts, Frame, FrameError, distinct_names, read_frame
from ulvar.lightcurves import airmass_at, barycentric_jd, jd_from_utc
from ulvar.photometry import (
    ApertureOptions,
    ListedStar,
    SeriesRow,
    measure_exposure,
    measure_profiles,
    middles_of_light,
    scintillation,
)
from ulvar.registration import PixelMap, Transform, match_stars
from ulvar.stars import Detection, StarTable, Trail, even_frame, mask_trails

CENTRES = ("forced", "refined", "moments", "together")


@dataclass(frozen=True)
class MeasureOptions:
    """Aperture and centring.

    Attributes
    ----------
    aperture : ApertureOptions
    centre : str
        One of `CENTRES`: at the given place; on the star that was found there; on the middle of the light there; or at the given
        place, moved by what all listed stars are off on average.
    profile : bool
        Whether fluxes are fitted with the exposure's own profile, too.
    """

    aperture: ApertureOptions = field(default_factory=ApertureOptions)
    centre: str = "forced"
    profile: bool = False

    def __post_init__(self) -> None:
        if self.centre not in CENTRES:
            raise ValueError(f"'{self.centre}' is no way to centre; there are {', '.join(CENTRES)}")


@dataclass(frozen=True)
class MeasureTask:
    """One exposure to measure."""

    facts: ExposureFacts
    stars: tuple[ListedStar, ...]
    options: MeasureOptions
    reference: Reference | None
    wcs: Wcs | None
    transform: PixelMap | None
    fwhm_px: float
    detected: StarTable | None = None
    name: str = ""
    trails: tuple[Trail, ...] = ()
    # What a raw exposure is calibrated with on the way.
    calibration: CalibrateTask | None = None
    # When the reference was exposed.
    reference_utc: datetime | None = None


@dataclass(frozen=True)
class Measured:
    """Rows of one exposure, of every radius, and the FWHM they were measured with."""

    rows: tuple[SeriesRow, ...]
    fwhm_px: float


@dataclass(frozen=True)
class Looked:
    """An exposure as stars are measured in it: on one scale, without what lies under trails, with its stars and their width."""

    frame: Frame
    stars: StarTable
    fwhm_px: float
    # With the profile that its stars share, where that is asked for.
    found: Detection | None = None


def look_at_exposure(task: MeasureTask) -> Looked:
    """Read an exposure, and find its stars where they are not known.

    Raises
    ------
    FrameError
        If it cannot be read.
    """
    facts, trails = task.facts, task.trails
    frame = read_light(facts, task.calibration)
    fwhm, detected = task.fwhm_px, task.detected
    found = None
    if detected is None or not math.isfinite(fwhm) or task.options.profile:
        from ulvar.stars import find_stars

        found = find_stars(frame.data, mask=frame.mask, gain_e_per_adu=facts.gain_e_per_adu, cfa=facts.cfa)
        fwhm, detected, trails = found.fwhm_px, found.stars, found.trails
    return Looked(mask_trails(even_frame(frame), trails), detected, fwhm, found if task.options.profile else None)


def measure_item(task: MeasureTask) -> Measured | Failed:
    """Measure one exposure (runs in a worker)."""
    facts = task.facts
    try:
        looked = look_at_exposure(task)
        own = task.wcs or wcs_of(facts.path)
    except FrameError as error:
        return Failed(error.reason, facts.path)
    fwhm, detected = looked.fwhm_px, looked.stars
    placed = star_places(task, own, detected)
    if isinstance(placed, Failed):
        return Failed(placed.reason, facts.path)
    x, y, ra, dec = placed
    lost = np.zeros(len(x), dtype=bool)
    if task.options.centre == "moments":
        x, y, found = middles_of_light(looked.frame.above_pedestal(), x, y, fwhm, looked.frame.mask)
        lost = ~found
    elif task.options.centre != "forced":
        new_x, new_y, lost = _refined(x, y, detected, fwhm)
        if task.options.centre == "together":
            # A star that is not seen moves with the others.
            seen = ~lost
            if seen.any():
                new_x = x + np.median((new_x - x)[seen])
                new_y = y + np.median((new_y - y)[seen])
            lost = np.zeros(len(x), dtype=bool)
        x, y = new_x, new_y
    try:
        rows = measure_exposure(
            looked.frame,
            task.stars,
            x,
            y,
            fwhm_px=fwhm,
            options=task.options.aperture,
            detected=detected,
            lost=lost,
            file=task.name,
        )
    except ValueError as error:
        return Failed(str(error), facts.path)
    rows = passing_stars(rows, task.stars, task.reference, own, x, y, fwhm, since=task.reference_utc)
    if looked.found is not None:
        rows = _with_profiles(rows, looked.frame, looked.found, x, y)
    return Measured(tuple(_timed(rows, facts, ra, dec)), fwhm)


def _with_profiles(rows: list[SeriesRow], frame: Frame, found: Detection, x: F64Array, y: F64Array) -> list[SeriesRow]:
    """Add the fluxes by the exposure's own profile; where it has none there are none."""
    if found.psf is None or not len(x):
        return rows
    result = measure_profiles(
        frame.above_pedestal(), x, y, found, inner_px=rows[0].inner_px, outer_px=rows[0].outer_px, mask=frame.mask,
        gain_e_per_adu=frame.facts.gain_e_per_adu,
    )  # fmt: skip
    return [
        replace(row, profile_flux=float(result.flux[k % len(x)]), profile_error=float(result.flux_error[k % len(x)]))
        for k, row in enumerate(rows)
    ]


def star_places(
    task: MeasureTask, own: Wcs | None, detected: StarTable
) -> tuple[F64Array, F64Array, F64Array, F64Array] | Failed:
    """Return x, y in this exposure and ra, dec of each star (NaN where unknown)."""
    n = len(task.stars)
    x, y = np.full(n, math.nan), np.full(n, math.nan)
    ra, dec = np.full(n, math.nan), np.full(n, math.nan)
    sky = np.array([star.on_sky for star in task.stars])
    for k in np.flatnonzero(sky):
        ra[k], dec[k] = task.stars[k].sky_at(task.facts.mid_utc)
    needs_alignment = bool((~sky).any()) or (bool(sky.any()) and own is None)
    transform = task.transform
    reference = task.reference
    if needs_alignment and transform is None:
        if reference is None:
            return Failed("it has no plate solution, and sky positions need one (solve it first)")
        if reference.path == task.facts.path:
            transform = Transform.identity()
        else:
            found = match_stars(
                np.column_stack([detected.x, detected.y]), np.column_stack([reference.stars.x, reference.stars.y]),
                source_snr=detected.snr, target_snr=reference.stars.snr,
            )  # fmt: skip
            if isinstance(found, Failed):
                return Failed(f"it could not be aligned: {found.reason}")
            transform = found
    if sky.any():
        if own is not None:
            x[sky], y[sky] = own.pixel(ra[sky], dec[sky])
        elif reference is not None and reference.wcs is not None and transform is not None:
            rx, ry = reference.wcs.pixel(ra[sky], dec[sky])
            x[sky], y[sky] = transform.inverse()(rx, ry)
        else:
            return Failed("it has no plate solution, and sky positions need one (solve it first)")
    flat = ~sky
    if flat.any():
        assert transform is not None
        rx = np.array([star.x if star.x is not None else math.nan for star in task.stars])[flat]
        ry = np.array([star.y if star.y is not None else math.nan for star in task.stars])[flat]
        x[flat], y[flat] = transform.inverse()(rx, ry)
        if reference is not None and reference.wcs is not None:
            ra[flat], dec[flat] = reference.wcs.sky(rx, ry)
        elif own is not None:
            ra[flat], dec[flat] = own.sky(x[flat], y[flat])
    return x, y, ra, dec


def _refined(x: F64Array, y: F64Array, detected: StarTable, fwhm: float) -> tuple[F64Array, F64Array, np.ndarray]:
    """Move each position to the detection beside it; where there is none the star is lost and stays put."""
    from scipy.spatial import cKDTree

    new_x, new_y, lost = x.copy(), y.copy(), np.ones(len(x), dtype=bool)
    there = np.flatnonzero(np.isfinite(x) & np.isfinite(y))
    if len(detected) and len(there):
        tree = cKDTree(np.column_stack([detected.x, detected.y]))
        distance, nearest = tree.query(np.column_stack([x[there], y[there]]))
        # Nothing is nearer than a width that is not known.
        beside = distance < max(fwhm, 2.0)
        found = there[beside]
        new_x[found], new_y[found], lost[found] = detected.x[nearest[beside]], detected.y[nearest[beside]], False
    return new_x, new_y, lost


def _timed(rows: Sequence[SeriesRow], facts: ExposureFacts, ra: F64Array, dec: F64Array) -> list[SeriesRow]:
    """Add JD, BJD, airmass, and scintillation to the errors. A star without coordinates takes the pointing's, if that is known."""
    when: datetime | None = facts.mid_utc
    if when is None:
        return [replace(row, ra=float(ra[n % len(ra)]), dec=float(dec[n % len(ra)])) for n, row in enumerate(rows)]
    n = len(ra)
    # Each row of a rolling shutter has an exposure of its own.
    from_row = 0 if facts.row_us >= 0 else facts.height - 1
    moments = (
        [when + timedelta(microseconds=(row.y - from_row) * facts.row_us) for row in rows[:n]]
        if facts.row_us
        else [when]
    )
    jd = np.broadcast_to(jd_from_utc(moments), n)
    a = np.where(np.isfinite(ra), ra, math.nan if facts.ra_deg is None else facts.ra_deg)
    d = np.where(np.isfinite(dec), dec, math.nan if facts.dec_deg is None else facts.dec_deg)
    known = np.flatnonzero(np.isfinite(a) & np.isfinite(d))
    of_known = [moments[k] for k in known] if facts.row_us else moments
    bjd, airmass, share = np.full(n, math.nan), np.full(n, math.nan), np.full(n, math.nan)
    if len(known):
        bjd[known] = barycentric_jd(of_known, a[known], d[known], facts.site)
    if facts.site is not None:
        if len(known):
            airmass[known] = airmass_at(of_known, a[known], d[known], facts.site)
        if facts.aperture_mm and facts.exposure_s:
            share = np.array(
                [scintillation(x, facts.exposure_s, facts.aperture_mm, facts.site[2]) for x in airmass.tolist()]
            )
    timed = []
    for number, row in enumerate(rows):
        # Rows of one radius follow those of another.
        k = number % n
        air, fitted = abs(row.flux) * share[k], abs(row.profile_flux) * share[k]
        timed.append(
            replace(
                row, jd_utc=float(jd[k]), bjd_tdb=float(bjd[k]), airmass=float(airmass[k]),
                flux_error=math.hypot(row.flux_error, air) if math.isfinite(air) else row.flux_error,
                noise_scintillation=float(air),
                profile_error=math.hypot(row.profile_error, fitted) if math.isfinite(fitted) else row.profile_error,
                ra=float(ra[k]), dec=float(dec[k]),
            )
        )  # fmt: skip
    return timed


def measuring_bytes(task: MeasureTask) -> int:
    """Return what measuring one exposure holds at most [bytes]: the frame, its mask, and looking for stars where it must."""
    looks = task.detected is None or not math.isfinite(task.fwhm_px) or task.options.profile
    held = held_bytes(task.facts, task.calibration)
    return (FINDING_BYTES_PX if looks else 14) * task.facts.width * task.facts.height + held


def make_reference(facts: ExposureFacts) -> Reference | Failed:
    """Find the stars of the exposure that positions refer to."""
    from ulvar.stars import find_stars

    try:
        frame = read_frame(facts)
        wcs = wcs_of(facts.path)
    except FrameError as error:
        return Failed(error.reason, facts.path)
    return Reference(facts.path, find_stars(frame.data, mask=frame.mask, cfa=facts.cfa).stars, wcs)


def measure_tasks(
    exposures: Sequence[ExposureFacts],
    stars: Sequence[ListedStar],
    *,
    options: MeasureOptions | None = None,
    reference: Reference | None = None,
    solutions: Mapping[str, Wcs] | None = None,
    transforms: Mapping[str, PixelMap] | None = None,
    fwhm: Mapping[str, float] | None = None,
    detected: Mapping[str, StarTable] | None = None,
    trails: Mapping[str, tuple[Trail, ...]] | None = None,
    calibrations: Calibrations | None = None,
) -> list[MeasureTask]:
    """Return what is to be done for each exposure, with what is known of it by its path (see `measure_series`)."""
    settings = options or MeasureOptions()
    names = distinct_names(facts.path for facts in exposures)
    origin = None if reference is None else reference.path
    when = next((facts.mid_utc for facts in exposures if facts.path == origin), None)
    if reference is not None and reference.wcs is None:
        reference = replace(reference, wcs=(solutions or {}).get(reference.path))
    return [
        MeasureTask(
            facts, tuple(stars), settings, reference, (solutions or {}).get(facts.path),
            (transforms or {}).get(facts.path), (fwhm or {}).get(facts.path, math.nan),
            (detected or {}).get(facts.path), names[facts.path], (trails or {}).get(facts.path, ()),
            (calibrations or {}).get(facts.path), when,
        )
        for facts in exposures
    ]  # fmt: skip


def measure_series(
    exposures: Sequence[ExposureFacts],
    stars: Sequence[ListedStar],
    context: JobContext,
    *,
    options: MeasureOptions | None = None,
    reference: Reference | None = None,
    solutions: dict[str, Wcs] | None = None,
    transforms: dict[str, PixelMap] | None = None,
    fwhm: dict[str, float] | None = None,
    detected: dict[str, StarTable] | None = None,
    trails: dict[str, tuple[Trail, ...]] | None = None,
    known: Mapping[str, Measured] | None = None,
    arrived: Callable[[str, Measured], None] | None = None,
    calibrations: Calibrations | None = None,
) -> tuple[list[SeriesRow], list[Outcome]]:
    """Measure listed stars in every exposure; rows come in the order of time, then of the list.

    Exposures that are `known`, by their path, are not measured again; `arrived` is told of the others as they are done.
    `calibrations` tell by their path what raw exposures are calibrated with on the way.
    """
    every = measure_tasks(
        exposures, stars, options=options, reference=reference, solutions=solutions, transforms=transforms, fwhm=fwhm,
        detected=detected, trails=trails, calibrations=calibrations,
    )  # fmt: skip
    names = {task.facts.path: task.name for task in every}
    tasks = [task for task in every if task.facts.path not in (known or {})]
    measured = dict(known or {})
    outcomes: dict[str, Outcome] = {}
    held = max((measuring_bytes(t) for t in tasks), default=0)
    for task, result in context.each(measure_item, tasks, "Measuring stars", item_bytes=held, lost=failed_task):
        path = task.facts.path
        if isinstance(result, Failed):
            outcomes[path] = Outcome(path, False, result.reason)
            continue
        measured[path] = result
        if arrived is not None:
            arrived(path, result)
    for path, found in measured.items():
        outcomes[path] = Outcome(path, True, values={"fwhm_px": found.fwhm_px, "file": names[path]})
    ordered = sorted(exposures, key=lambda f: (f.mid_utc is None, f.mid_utc.timestamp() if f.mid_utc else 0.0, f.path))
    rows = [row for f in ordered if f.path in measured for row in measured[f.path].rows]
    return rows, [outcomes[f.path] for f in exposures]
