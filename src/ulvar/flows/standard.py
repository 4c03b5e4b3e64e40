"""Measured series brought to a catalogue's magnitudes."""

from __future__ import annotations

import math
from collections.abc import Collection
from pathlib import Path
from typing import Any

import numpy as np

from ulvar.astrometry import StarCatalogue, load_catalogue, separation_deg
from ulvar.engine import Failed
from ulvar.flows.magnitudes import band_of, colour_index, magnitudes_in
from ulvar.frames import write_table
from ulvar.lightcurves import julian_year
from ulvar.photometry import Known, SeriesTable, Standard, fit_standard
from ulvar.stars import flag_words

# A measured star is the catalogue's star so near to it [arcsec].
_SAME_ARCSEC = 2.0

# name, unit, decimals (None for text), meaning
MAGNITUDE_COLUMNS: tuple[tuple[str, str, int | None, str], ...] = (
    ("file", "", None, "name of the exposure"),
    ("jd_utc", "d", 9, "middle of the exposure, UTC"),
    ("bjd_tdb", "d", 9, "barycentric Julian date in TDB"),
    ("name", "", None, "star"),
    ("role", "", None, "target, comparison or check"),
    ("magnitude", "mag", 4, "on the catalogue's system"),
    ("magnitude_error", "mag", 4, "its standard error: photons, zero point, colour term, what all share"),
    ("catalogue", "mag", 4, "what the catalogue tells; empty for a star that is not in it"),
    ("colour", "mag", 4, "the star's colour index by the catalogue"),
    ("zero_point", "mag", 4, "magnitude of one ADU in this exposure"),
    ("zero_point_error", "mag", 4, "its standard error"),
    ("limit", "mag", 3, "magnitude of a star of SNR 5 in this exposure"),
    ("flags", "", None, "words joined by |"),
)


def known_by(table: SeriesTable, catalogue: StarCatalogue, band: str) -> dict[str, Known]:
    """Return what a catalogue tells of the stars of a series, by name: of those within two arc seconds of a star in it.

    Parameters
    ----------
    table : SeriesTable
        With the stars' places on the sky.
    catalogue : StarCatalogue
        About them, at the series' time.
    band : str
        One of its bands; empty for what it sorts by.
    """
    index = colour_index(catalogue)
    magnitude = magnitudes_in(band, catalogue)
    error = catalogue.errors.get(band or "mag")
    found = {}
    for name in table.names():
        places = [(row.ra, row.dec) for row in table.star(name) if math.isfinite(row.ra) and math.isfinite(row.dec)]
        if not places or not len(catalogue):
            continue
        ra, dec = places[len(places) // 2]
        away = separation_deg(np.float64(ra), np.float64(dec), catalogue.ra, catalogue.dec) * 3600
        k = int(np.argmin(away))
        if away[k] < _SAME_ARCSEC:
            found[name] = Known(
                float(magnitude[k]),
                math.nan if error is None else float(error[k]),
                math.nan if index is None else float(index[0][k]),
            )
    return found


def catalogue_about(path: Path, table: SeriesTable) -> StarCatalogue | Failed:
    """Return the catalogue's stars about those of a series, at its time.

    Raises
    ------
    CatalogueError
        If it cannot be read.
    """
    places = [(row.ra, row.dec) for row in table.rows if math.isfinite(row.ra) and math.isfinite(row.dec)]
    if not places:
        return Failed("no place on the sky is known of the measured stars: solve the plates first")
    ra, dec = places[0]
    away = separation_deg(np.float64(ra), np.float64(dec), *(np.array([p[k] for p in places]) for k in (0, 1)))
    reach = float(away.max()) + 0.05
    near = load_catalogue(path, near=[(ra, dec, reach)]).cone(ra, dec, reach)
    when = next((row.time_utc_mid for row in table.rows if row.time_utc_mid is not None), None)
    return near if when is None else near.at_epoch(julian_year(when))


def standard_of(
    table: SeriesTable, path: Path, filter_name: str, *, band: str = "", leave_out: Collection[str] = ()
) -> tuple[Standard, dict[str, Known], str] | Failed:
    """Bring a series to a catalogue's magnitudes.

    Parameters
    ----------
    table : SeriesTable
    path : Path
        Of the catalogue.
    filter_name : str
        Of the series: it chooses the band.
    band : str
        A band of the catalogue to take instead.
    leave_out : collection of str
        Stars that do not count; the targets never do.

    Returns
    -------
    (Standard, what the catalogue tells by name, name of the band), or Failed with the reason.

    Raises
    ------
    CatalogueError
        If the catalogue cannot be read.
    ValueError
        If it has no such band.
    """
    catalogue = catalogue_about(path, table)
    if isinstance(catalogue, Failed):
        return catalogue
    if band and band not in catalogue.bands:
        raise ValueError(f"the catalogue has no band '{band}'; it has {', '.join(catalogue.bands) or 'none'}")
    chosen = band or band_of(filter_name, catalogue)
    known = known_by(table, catalogue, chosen)
    fitted = fit_standard(table, known, leave_out=[*leave_out, *table.names("target")])
    return fitted if isinstance(fitted, Failed) else (fitted, known, chosen or "mag")


def write_magnitudes(
    path: Path, table: SeriesTable, standard: Standard, known: dict[str, Known], *, replace: bool = False
) -> None:
    """Write a series in magnitudes with the columns of `MAGNITUDE_COLUMNS` (see `write_table`).

    Raises
    ------
    OutputExists
        If `path` exists and may not be replaced.
    ValueError
        If the ending is none of a table.
    """
    cells: dict[str, list[Any]] = {name: [] for name, *_ in MAGNITUDE_COLUMNS}
    for row in table.rows:
        told, zero = known.get(row.name), standard.zeros.get(row.exposure)
        colour = told.colour if told is not None else math.nan
        magnitude, error = standard.magnitude(row, colour)
        values = (
            row.file, row.jd_utc, row.bjd_tdb, row.name, row.role, magnitude, error, told.magnitude if told else math.nan, colour,
            zero.magnitude if zero else math.nan, zero.error if zero else math.nan, zero.limit if zero else math.nan,
            flag_words(row.flags),
        )  # fmt: skip
        for (name, *_), value in zip(MAGNITUDE_COLUMNS, values):
            cells[name].append(value)
    write_table(path, MAGNITUDE_COLUMNS, cells, about={"jd_utc": "JD, UTC", "bjd_tdb": "BJD, TDB"}, replace=replace)
