"""Differential light curves from a series table."""

from __future__ import annotations

import math
from collections.abc import Collection, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from ulvar.engine import F64Array, Failed
from ulvar.frames import write_table
from ulvar.photometry import Ensemble, SeriesRow, SeriesTable, build_ensemble
from ulvar.stars import StarFlag, flag_words

# name, unit, decimals, meaning
CURVE_COLUMNS: tuple[tuple[str, str, int | None, str], ...] = (
    ("jd_utc", "d", 9, "middle of the exposure"),
    ("bjd_tdb", "d", 9, "the same at the barycentre"),
    ("relative_flux", "", 7, "target over ensemble"),
    ("relative_flux_error", "", 7, "its standard error"),
    ("magnitude", "mag", 6, "-2.5 log10 of the relative flux"),
    ("magnitude_error", "mag", 6, "its standard error"),
    ("ensemble_flux", "ADU", 3, "ensemble on the scale of the sum of the comparisons"),
    ("flags", "", None, "words joined by |"),
)
# Of curves that were joined.
_SESSION = ("session", "", None, "night and filter")
_UNUSABLE = int(StarFlag.LOST | StarFlag.EDGE)
_DOUBTFUL = int(StarFlag.SATURATED | StarFlag.NONLINEAR | StarFlag.BAD_PIXEL | StarFlag.LEFT_OUT)
COMPANIONS = ("airmass", "fwhm_px", "sky", "x", "y")
# The comparison stars' light, by which clouds are told, is a companion, too.
_ENSEMBLE = "ensemble"


@dataclass(frozen=True)
class LightCurve:
    """A differential light curve, in the order of time.

    Attributes
    ----------
    name : str
        The target.
    files : tuple of str
        Exposure of each point.
    jd_utc, bjd_tdb : float64 array, shape (points,)
        [d]; `bjd_tdb` NaN without coordinates.
    relative_flux, relative_flux_error : float64 array
    magnitude, magnitude_error : float64 array
        Target minus ensemble [mag].
    ensemble_flux : float64 array
        [ADU]
    flags : int64 array
    companions : dict of str to float64 array
        Airmass, FWHM, sky, x, y of the target; `ensemble`: what the comparison stars lost against their median [mag].
    ensemble : Ensemble
        Of several curves that were joined that of the first.
    sessions : tuple of str
        Night or filter of each point, where several curves were joined.
    coordinates : (float, float) or None
        Right ascension and declination that the target was measured at, where they stay [deg, ICRS].
    """

    name: str
    files: tuple[str, ...]
    jd_utc: F64Array
    bjd_tdb: F64Array
    relative_flux: F64Array
    relative_flux_error: F64Array
    magnitude: F64Array
    magnitude_error: F64Array
    ensemble_flux: F64Array
    flags: np.ndarray
    companions: dict[str, F64Array]
    ensemble: Ensemble
    sessions: tuple[str, ...] = ()
    coordinates: tuple[float, float] | None = None

    def __len__(self) -> int:
        return len(self.files)

    @property
    def good(self) -> np.ndarray:
        """Points for fits: a finite value and no flag that spoils it."""
        return np.asarray(np.isfinite(self.magnitude) & ((self.flags & _DOUBTFUL) == 0))

    @property
    def left_out(self) -> np.ndarray:
        """Points of exposures that are left out."""
        return np.asarray((self.flags & int(StarFlag.LEFT_OUT)) != 0)

    @property
    def time(self) -> F64Array:
        """BJD_TDB where it is known for every point, else JD UTC [d]."""
        return self.bjd_tdb if np.isfinite(self.bjd_tdb).all() else self.jd_utc


def differential_curve(
    table: SeriesTable,
    *,
    target: str | None = None,
    leave_out: Sequence[str] = (),
    files_out: Collection[str] = (),
    light: str = "aperture",
) -> LightCurve | Failed:
    """Compare a target with the ensemble of its comparison stars.

    Parameters
    ----------
    table : SeriesTable
    target : str, optional
        Star to compare; by default the first target.
    leave_out : sequence of str
        Comparison stars not to use.
    files_out : collection of str
        Exposures that are left out: their points stay, flagged, but count for nothing.
    light : str
        ``aperture``, or ``profile`` for the fluxes by the exposures' own profiles: of target and comparison stars alike.

    Returns
    -------
    LightCurve, or Failed with the reason.
    """
    targets = table.names("target")
    name = target or (targets[0] if targets else None)
    if name is None:
        return Failed("the table has no star with the role target")
    value, spread = ("profile_flux", "profile_error") if light == "profile" else ("flux", "flux_error")
    rows = [row for row in table.star(name) if math.isfinite(getattr(row, value)) and not row.flags & _UNUSABLE]
    if not rows:
        told = (
            "by its profile: measure with the profile fit"
            if light == "profile" and table.star(name)
            else "in any exposure"
        )
        return Failed(f"{name} was not measured {told}")
    comparisons = [n for n in table.names("comparison") if n not in leave_out and n != name]
    if not comparisons:
        return Failed("there is no comparison star")
    exposures = [row.exposure for row in rows]
    flux = table.column(comparisons, exposures, value)
    error = table.column(comparisons, exposures, spread)
    flags = np.nan_to_num(table.column(comparisons, exposures, "flags"), nan=float(_UNUSABLE)).astype(np.int64)
    flux[(flags & (_UNUSABLE | _DOUBTFUL)) != 0] = np.nan
    out = np.array([row.file in files_out for row in rows])
    try:
        hours = np.array([24 * (row.jd_utc - rows[0].jd_utc) for row in rows])
        ensemble = build_ensemble(comparisons, flux, error, use=~out, hours=hours)
    except ValueError as problem:
        return Failed(str(problem))
    target_flux = np.array([getattr(row, value) for row in rows])
    target_error = np.array([getattr(row, spread) for row in rows])
    with np.errstate(divide="ignore", invalid="ignore"):
        relative = target_flux / ensemble.flux
        share = np.hypot(target_error / target_flux, ensemble.error / ensemble.flux)
        magnitude = np.where(relative > 0, -2.5 * np.log10(np.where(relative > 0, relative, 1.0)), np.nan)
    companions = {what: np.array([getattr(row, what) for row in rows]) for what in COMPANIONS}
    with np.errstate(divide="ignore", invalid="ignore"):
        companions[_ENSEMBLE] = -2.5 * np.log10(ensemble.flux / np.nanmedian(ensemble.flux))
    return LightCurve(
        name=name, files=tuple(row.file for row in rows), jd_utc=np.array([row.jd_utc for row in rows]),
        bjd_tdb=np.array([row.bjd_tdb for row in rows]), relative_flux=relative,
        relative_flux_error=np.abs(relative) * share, magnitude=magnitude,
        magnitude_error=2.5 / math.log(10) * share, ensemble_flux=ensemble.flux,
        flags=np.array([row.flags for row in rows], dtype=np.int64) | np.where(out, int(StarFlag.LEFT_OUT), 0),
        companions=companions, ensemble=ensemble, coordinates=still_place(rows),
    )  # fmt: skip


def still_place(rows: Sequence[SeriesRow]) -> tuple[float, float] | None:
    """Return where a star stands on the sky; None where it is not known, or moves."""
    ra, dec = np.array([row.ra for row in rows]), np.array([row.dec for row in rows])
    there = np.isfinite(ra) & np.isfinite(dec)
    if not there.any():
        return None
    # A body that moves has no light travel time that is its own.
    still = float(np.ptp(ra[there])) < 1e-3 and float(np.ptp(dec[there])) < 1e-3
    return (float(np.median(ra[there])), float(np.median(dec[there]))) if still else None


def join_curves(curves: Sequence[tuple[str, LightCurve]]) -> LightCurve:
    """Return curves of several nights or filters as one, in the order of time; each point knows its session by name.

    Magnitudes stay as they are: each session has comparison stars, and a level, of its own, which is fitted along with a model.

    Raises
    ------
    ValueError
        If there is none, or two are called alike.
    """
    names = [name for name, _ in curves]
    if not curves or len(set(names)) < len(names):
        raise ValueError("curves are joined by names of their own")
    first = curves[0][1]
    if len(curves) == 1:
        return first
    told = np.concatenate([curve.jd_utc for _, curve in curves])
    order = np.argsort(told, kind="stable")

    def joined(what: str) -> Any:
        return np.concatenate([getattr(curve, what) for _, curve in curves])[order]

    files = [file for _, curve in curves for file in curve.files]
    sessions = [name for name, curve in curves for _ in curve.files]
    companions = {
        key: np.concatenate([curve.companions[key] for _, curve in curves])[order] for key in first.companions
    }  # fmt: skip
    return LightCurve(
        name=first.name, files=tuple(files[k] for k in order), jd_utc=joined("jd_utc"), bjd_tdb=joined("bjd_tdb"),
        relative_flux=joined("relative_flux"), relative_flux_error=joined("relative_flux_error"), magnitude=joined("magnitude"),
        magnitude_error=joined("magnitude_error"), ensemble_flux=joined("ensemble_flux"), flags=joined("flags"),
        companions=companions, ensemble=first.ensemble, sessions=tuple(sessions[k] for k in order),
        coordinates=first.coordinates,
    )  # fmt: skip


def write_curve(path: Path, curve: LightCurve, *, replace: bool = False) -> None:
    """Write a light curve with the columns of `CURVE_COLUMNS`, and `session` where several were joined, atomically.

    The name's ending says in which format (see `write_table`).

    Raises
    ------
    OutputExists
        If `path` exists and may not be replaced.
    ValueError
        If the ending is none of a table.
    """
    cells: dict[str, list[object]] = {name: list(getattr(curve, name)) for name, *_ in CURVE_COLUMNS}
    cells["flags"] = [flag_words(int(flags)) for flags in curve.flags]
    columns = CURVE_COLUMNS
    if curve.sessions:
        columns, cells["session"] = (*CURVE_COLUMNS, _SESSION), list(curve.sessions)
    about = {"target": curve.name, "jd_utc": "JD, UTC", "bjd_tdb": "BJD, TDB"}
    write_table(path, columns, cells, about=about, replace=replace)
