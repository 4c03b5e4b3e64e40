"""The table of a series: one row a star and exposure."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, fields
from datetime import datetime
from functools import cached_property
from pathlib import Path
from typing import Any

import numpy as np

from ulvar.astrometry import CatalogueError, read_rows
from ulvar.engine import F64Array
from ulvar.frames import parse_time, write_table
from ulvar.photometry.listed import StarListError
from ulvar.stars import StarFlag, flag_words

# name, unit, decimals (None for text), meaning
SERIES_COLUMNS: tuple[tuple[str, str, int | None, str], ...] = (
    ("file", "", None, "name of the exposure"),
    ("time_utc_mid", "", None, "middle of the exposure, UTC"),
    ("jd_utc", "d", 9, "the same as a Julian date; with a rolling shutter that of the star's own row"),
    ("bjd_tdb", "d", 9, "barycentric Julian date in TDB, with the star's own coordinates"),
    ("name", "", None, "star"),
    ("role", "", None, "target, comparison or check"),
    ("x", "px", 4, "aperture centre in this exposure, 0-based"),
    ("y", "px", 4, "aperture centre"),
    ("flux", "ADU", 4, "sky-subtracted sum in the aperture"),
    ("flux_error", "ADU", 4, "its standard error; empty when the gain is unknown"),
    ("sky", "ADU", 5, "sky per pixel"),
    ("sky_error", "ADU", 5, "its standard error"),
    ("peak", "ADU", 2, "highest pixel in the aperture, sky included"),
    ("fwhm_px", "px", 4, "FWHM of the exposure"),
    ("airmass", "", 6, "empty without a site"),
    ("flags", "", None, "words joined by |"),
    ("radius_px", "px", 4, "radius of the aperture; of an ellipse, of the circle of its area"),
    ("inner_px", "px", 4, "where the annulus begins"),
    ("outer_px", "px", 4, "where it ends"),
    ("covered", "", 3, "share of the annulus under other stars, which is left out"),
    ("noise_source", "ADU", 4, "of the error, what the star's photons make"),
    ("noise_sky", "ADU", 4, "what sky, dark current and quantisation make, and read noise where it is not told apart"),
    ("noise_read", "ADU", 4, "what read noise makes, where it is known"),
    ("noise_level", "ADU", 4, "what the sky's level is known to"),
    ("noise_flat", "ADU", 4, "what the noise of the flat makes, where it is known"),
    (
        "noise_scintillation",
        "ADU",
        4,
        "what the air's unrest makes, where aperture, exposure time and airmass are known",
    ),
    ("profile_flux", "ADU", 4, "flux by the fit of the exposure's own profile, neighbours fitted along"),
    ("profile_error", "ADU", 4, "its standard error"),
    ("ra", "deg", 7, "right ascension that the star was measured at, ICRS; empty where it is not known"),
    ("dec", "deg", 7, "declination"),
    ("aperture", "", 4, "radius as it was set: in FWHM of the exposure, or in px"),
)


# Flags with which a flux says nothing of how a star behaves.
USELESS = int(StarFlag.LOST | StarFlag.EDGE | StarFlag.SATURATED | StarFlag.NONLINEAR | StarFlag.BAD_PIXEL)


# Julian date of 1970-01-01.
_UNIX_JD = 2440587.5
# File and JD UTC of an exposure.
Exposure = tuple[str, float]


@dataclass(frozen=True)
class SeriesRow:
    """One star in one exposure; fields as `SERIES_COLUMNS`, NaN where unknown, `flags` as bits."""

    file: str
    time_utc_mid: datetime | None
    jd_utc: float
    bjd_tdb: float
    name: str
    role: str
    x: float
    y: float
    flux: float
    flux_error: float
    sky: float
    sky_error: float
    peak: float
    fwhm_px: float
    airmass: float
    flags: int
    radius_px: float = math.nan
    inner_px: float = math.nan
    outer_px: float = math.nan
    covered: float = math.nan
    noise_source: float = math.nan
    noise_sky: float = math.nan
    noise_read: float = math.nan
    noise_level: float = math.nan
    noise_flat: float = math.nan
    noise_scintillation: float = math.nan
    profile_flux: float = math.nan
    profile_error: float = math.nan
    ra: float = math.nan
    dec: float = math.nan
    aperture: float = math.nan

    @property
    def exposure(self) -> Exposure:
        """What tells its exposure from others: tables of two nights put together may hold one file name twice.

        Its moment is that of all its stars, also where each has one of its own by the row that it lies on.
        """
        if self.time_utc_mid is not None:
            return self.file, self.time_utc_mid.timestamp() / 86400 + _UNIX_JD
        return self.file, self.jd_utc if math.isfinite(self.jd_utc) else 0.0


def row_values(row: SeriesRow) -> list[Any]:
    """Return a row's fields in their order as plain values: time as ISO text, NaN as None."""
    values = []
    for field in fields(row):
        value = getattr(row, field.name)
        if isinstance(value, datetime):
            value = value.isoformat()
        elif isinstance(value, float) and not math.isfinite(value):
            value = None
        values.append(value)
    return values


def row_from_values(values: Sequence[Any]) -> SeriesRow:
    """Return the row of `row_values`."""
    told = dict(zip([field.name for field in fields(SeriesRow)], values, strict=True))
    when = told["time_utc_mid"]
    told["time_utc_mid"] = None if when is None else datetime.fromisoformat(when)
    texts = ("file", "time_utc_mid", "name", "role", "flags")
    restored: dict[str, Any] = {n: math.nan if v is None and n not in texts else v for n, v in told.items()}
    return SeriesRow(**restored)


class SeriesTable:
    """Rows of a series with quick columns."""

    def __init__(self, rows: Sequence[SeriesRow]) -> None:
        self.rows = list(rows)

    def __len__(self) -> int:
        return len(self.rows)

    def star(self, name: str) -> list[SeriesRow]:
        """Return the rows of a star in the order of time."""
        return list(self._stars.get(name, ()))

    def of_exposure(self, exposure: Exposure) -> list[SeriesRow]:
        """Return the rows of an exposure."""
        return list(self._exposures.get(exposure, ()))

    @cached_property
    def _stars(self) -> dict[str, list[SeriesRow]]:
        """Rows by star, in the order of time: found once, for a series has many of both."""
        found: dict[str, list[SeriesRow]] = {}
        for row in self.rows:
            found.setdefault(row.name, []).append(row)
        for rows in found.values():
            rows.sort(key=lambda row: (row.jd_utc, row.file))
        return found

    @cached_property
    def _exposures(self) -> dict[Exposure, list[SeriesRow]]:
        found: dict[Exposure, list[SeriesRow]] = {}
        for row in self.rows:
            found.setdefault(row.exposure, []).append(row)
        return found

    def names(self, role: str | None = None) -> list[str]:
        """Return star names in their first order, of one role if given."""
        return list(dict.fromkeys(row.name for row in self.rows if role is None or row.role == role))

    def exposures(self) -> list[Exposure]:
        """Return the exposures in the order of time."""
        return sorted(self._exposures, key=lambda exposure: (exposure[1], exposure[0]))

    def clean_light(self, names: Sequence[str], exposures: Sequence[Exposure]) -> tuple[F64Array, F64Array]:
        """Return fluxes and their errors, shape (names, exposures); the flux is NaN where a flag makes it useless."""
        flags = np.nan_to_num(self.column(names, exposures, "flags"), nan=USELESS).astype(np.int64)
        flux = self.column(names, exposures, "flux")
        return np.where((flags & USELESS) != 0, math.nan, flux), self.column(names, exposures, "flux_error")

    def column(self, names: Sequence[str], exposures: Sequence[Exposure], what: str) -> F64Array:
        """Return a numeric column as an array of shape (names, exposures); NaN where there is no row."""
        place = {exposure: k for k, exposure in enumerate(exposures)}
        values = np.full((len(names), len(exposures)), math.nan)
        for number, name in enumerate(names):
            for row in self._stars.get(name, ()):
                k = place.get(row.exposure)
                if k is not None:
                    values[number, k] = getattr(row, what)
        return values


def write_series(path: Path, rows: Iterable[SeriesRow], *, replace: bool = False) -> None:
    """Write a series table with the columns of `SERIES_COLUMNS`, atomically, in the format that the name's ending says (see `write_table`).

    Raises
    ------
    OutputExists
        If `path` exists and may not be replaced.
    ValueError
        If the ending is none of a table.
    """
    told = list(rows)
    cells: dict[str, list[Any]] = {name: [getattr(row, name) for row in told] for name, *_ in SERIES_COLUMNS}
    cells["flags"] = [flag_words(int(flags)) for flags in cells["flags"]]
    about = {"time_utc_mid": "UTC", "jd_utc": "JD, UTC", "bjd_tdb": "BJD, TDB, with the star's own coordinates"}
    write_table(path, SERIES_COLUMNS, cells, about=about, replace=replace)


def read_series(path: str | Path) -> SeriesTable:
    """Read a series table that `write_series` wrote, in whatever format, or one with the same columns.

    Raises
    ------
    StarListError
        If the file cannot be read or lacks a column; the message names it.
    """
    bits = {flag.name.lower(): int(flag) for flag in StarFlag if flag.name}
    try:
        names, entries = read_rows(Path(path))
    except CatalogueError as error:
        raise StarListError(str(error)) from None
    missing = {"file", "name", "role", "flux"} - set(names)
    if missing:
        raise StarListError(f"{path}: it is not a series table; it lacks {', '.join(sorted(missing))}")
    rows = []
    for number, entry in enumerate(entries, 2):
        try:
            values: dict[str, Any] = {}
            for name, _, decimals, _ in SERIES_COLUMNS:
                text = (entry.get(name) or "").strip()
                if name == "flags":
                    values[name] = sum(bits.get(word, 0) for word in text.split("|"))
                elif name == "time_utc_mid":
                    values[name] = parse_time(text) if text else None
                elif decimals is None:
                    values[name] = text
                else:
                    values[name] = float(text) if text else math.nan
            rows.append(SeriesRow(**values))
        except ValueError as error:
            raise StarListError(f"{path}, line {number}: {error}") from None
    return SeriesTable(rows)
