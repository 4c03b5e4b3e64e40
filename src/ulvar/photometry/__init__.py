"""Apertures, sky, errors, series, comparison ensembles."""

from ulvar.photometry.aperture import ApertureOptions, ApertureResult, circle_overlap, measure_apertures
from ulvar.photometry.ensemble import Ensemble, build_ensemble
from ulvar.photometry.series import (
    SERIES_COLUMNS,
    ListedStar,
    SeriesRow,
    SeriesTable,
    StarListError,
    measure_exposure,
    read_series,
    read_star_line,
    read_star_list,
    row_from_values,
    row_values,
    write_series,
)

__all__ = [
    "SERIES_COLUMNS",
    "ApertureOptions",
    "ApertureResult",
    "Ensemble",
    "ListedStar",
    "SeriesRow",
    "SeriesTable",
    "StarListError",
    "build_ensemble",
    "circle_overlap",
    "measure_apertures",
    "measure_exposure",
    "read_series",
    "read_star_line",
    "read_star_list",
    "row_from_values",
    "row_values",
    "write_series",
]
