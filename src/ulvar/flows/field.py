"""The whole field measured: every star of the reference in every exposure, and which of them vary; apertures tried on a few exposures."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np

from ulvar.astrometry import StarCatalogue, Wcs, load_catalogue
from ulvar.engine import BoolArray, F64Array, Failed, JobContext
from ulvar.flows.common import Outcome, failed_task
from ulvar.flows.magnitudes import colour_index
from ulvar.flows.measure import (
    MeasureOptions,
    MeasureTask,
    look_at_exposure,
    measure_series,
    measure_tasks,
    measuring_bytes,
    star_places,
)
from ulvar.flows.passing import Reference
from ulvar.flows.starfind import find_all
from ulvar.flows.wcsfile import wcs_of
from ulvar.frames import ExposureFacts, FrameError, write_table
from ulvar.photometry import FieldSearch, Growth, ListedStar, Look, SeriesRow, measure_growth
from ulvar.registration import match_stars
from ulvar.stars import StarFlag, StarTable

# So many stars are measured at most, the brightest; of many exposures fewer, so that their rows have room in memory.
MOST_STARS, _MOST_ROWS = 1500, 400_000
_USELESS = int(StarFlag.EDGE | StarFlag.SATURATED)
# Catalogue stars so near to a found one are that star [px].
_SAME_PX = 3.0

# name, unit, decimals (None for text), meaning
FIELD_COLUMNS: tuple[tuple[str, str, int | None, str], ...] = (
    ("name", "", None, "star, numbered from the brightest"),
    ("x", "px", 2, "its middle in the reference exposure, 0-based"),
    ("y", "px", 2, "the same along NAXIS2"),
    ("ra", "deg", 6, "right ascension, ICRS; empty without a plate solution"),
    ("dec", "deg", 6, "declination"),
    ("flux", "ADU", 1, "median flux"),
    ("exposures", "", 0, "in how many it was measured"),
    ("scatter", "mag", 5, "standard deviation against all others, single far-off points apart"),
    ("usual", "mag", 5, "what a steady star of its brightness scatters by"),
    ("ratio", "", 2, "scatter over usual"),
    ("loud_sigma", "", 1, "by how many deviations the scatter is over that"),
    ("von_neumann", "", 3, "mean squared successive difference over variance: 2 for white noise"),
    ("slow_sigma", "", 1, "by how many deviations that is under what is usual"),
    ("trend", "mag/h", 5, "change per hour"),
    ("varies", "", None, "yes for a star that varies"),
    ("blended", "", None, "yes for one to which another star lends light: it changes with the seeing"),
)


def field_stars(
    reference: StarTable, width: int, height: int, fwhm_px: float, most: int = MOST_STARS
) -> list[ListedStar]:
    """Return the stars of a field as a list to measure: those inside and below saturation, the brightest first."""
    margin = 4 * fwhm_px if math.isfinite(fwhm_px) else 12.0
    good = (reference.flags & _USELESS) == 0
    good &= (reference.x > margin) & (reference.y > margin)
    good &= (reference.x < width - 1 - margin) & (reference.y < height - 1 - margin)
    chosen = np.flatnonzero(good)
    chosen = chosen[np.argsort(-reference.flux[chosen], kind="stable")][:most]
    digits = max(3, len(str(len(chosen))))
    return [
        ListedStar(f"s{k + 1:0{digits}d}", "check", x=float(reference.x[i]), y=float(reference.y[i]))
        for k, i in enumerate(chosen)
    ]


def measure_field(
    exposures: Sequence[ExposureFacts],
    context: JobContext,
    reference: Reference,
    *,
    options: MeasureOptions | None = None,
    **known: Any,
) -> tuple[list[SeriesRow], list[Outcome], list[ListedStar]]:
    """Measure all stars of the reference in every exposure (see `measure_series`, which takes `known`).

    Raises
    ------
    ValueError
        If the reference is not among the exposures.
    """
    facts = next((f for f in exposures if f.path == reference.path), None)
    if facts is None:
        raise ValueError("the reference is not among the exposures")
    sharp = reference.stars.fwhm_px[(reference.stars.flags == 0) & (reference.stars.snr > 20)]
    fwhm = float(np.nanmedian(sharp)) if np.isfinite(sharp).any() else math.nan
    most = max(100, min(MOST_STARS, _MOST_ROWS // max(1, len(exposures))))
    stars = field_stars(reference.stars, facts.width, facts.height, fwhm, most)
    if not stars:
        return [], [Outcome(f.path, False, "no star was found in the reference") for f in exposures], []
    rows, outcomes = measure_series(exposures, stars, context, options=options, reference=reference, **known)
    return rows, outcomes, stars


def write_field(
    path: Path, search: FieldSearch, stars: Sequence[ListedStar], wcs: Wcs | None, *, replace: bool = False
) -> None:
    """Write the stars of a field with the columns of `FIELD_COLUMNS` (see `write_table`).

    Raises
    ------
    OutputExists
        If `path` exists and may not be replaced.
    ValueError
        If the ending is none of a table.
    """
    places = {star.name: star for star in stars}
    cells: dict[str, list[Any]] = {name: [] for name, *_ in FIELD_COLUMNS}
    magnitudes = 2.5 / math.log(10)
    for star in search.stars:
        v = star.verdict
        listed = places.get(v.name)
        x = listed.x if listed is not None and listed.x is not None else star.x
        y = listed.y if listed is not None and listed.y is not None else star.y
        ra, dec = (float(w) for w in wcs.sky(x, y)) if wcs is not None else (math.nan, math.nan)
        values = (
            v.name, x, y, ra, dec, v.level, star.measured, magnitudes * v.scatter, magnitudes * v.usual, v.ratio, v.loud_sigma,
            v.von_neumann, v.slow_sigma, -magnitudes * v.trend, "yes" if star.varies else "", "yes" if star.blended else "",
        )  # fmt: skip
        for (name, *_), value in zip(FIELD_COLUMNS, values):
            cells[name].append(value)
    write_table(path, FIELD_COLUMNS, cells, about={}, replace=replace)


def growth_item(task: MeasureTask) -> Growth | Failed:
    """Measure how light grows with the radius in one exposure (runs in a worker)."""
    try:
        looked = look_at_exposure(task)
        own = task.wcs or wcs_of(task.facts.path)
    except FrameError as error:
        return Failed(error.reason, task.facts.path)
    placed = star_places(task, own, looked.stars)
    if isinstance(placed, Failed):
        return Failed(placed.reason, task.facts.path)
    x, y, _, _ = placed
    try:
        return measure_growth(looked.frame, x, y, looked.stars, looked.fwhm_px, file=task.name)
    except ValueError as error:
        return Failed(str(error), task.facts.path)


def typical_exposures(widths: Mapping[str, float]) -> list[str]:
    """Return the exposures of best, typical and worst seeing: of the tenth, middle and ninetieth per cent of their FWHM.

    Parameters
    ----------
    widths : mapping of str to float
        Path to FWHM [px].

    Examples
    --------
    >>> typical_exposures({"a": 2.0, "b": 3.0, "c": 9.0, "d": 4.0, "e": 5.0})
    ['a', 'd', 'c']
    """
    ordered = sorted(
        (path for path, width in widths.items() if math.isfinite(width)), key=lambda path: (widths[path], path)
    )
    places = [round(share * (len(ordered) - 1)) for share in (0.1, 0.5, 0.9)] if ordered else []
    return list(dict.fromkeys(ordered[k] for k in places))


def measure_growths(
    exposures: Sequence[ExposureFacts],
    stars: Sequence[ListedStar],
    context: JobContext,
    *,
    reference: Reference | None = None,
    **known: Any,
) -> tuple[list[Growth], list[Outcome]]:
    """Measure how light grows with the radius in some exposures (see `measure_tasks`, which takes `known`)."""
    tasks = measure_tasks(exposures, stars, reference=reference, **known)
    held = max((measuring_bytes(t) for t in tasks), default=0)
    found: dict[str, Growth] = {}
    outcomes: dict[str, Outcome] = {}
    for task, result in context.each(growth_item, tasks, "Trying apertures", item_bytes=held, lost=failed_task):
        path = task.facts.path
        if isinstance(result, Failed):
            outcomes[path] = Outcome(path, False, result.reason)
        else:
            found[path], outcomes[path] = result, Outcome(path, True)
    return [found[f.path] for f in exposures if f.path in found], [outcomes[f.path] for f in exposures]


def told_by_catalogue(
    stars: StarTable, wcs: Wcs, catalogue: StarCatalogue
) -> tuple[F64Array | None, BoolArray | None, str]:
    """Return the colour index and the variability of found stars by a catalogue, and the index's name.

    Parameters
    ----------
    stars : StarTable
    wcs : Wcs
        Of the exposure they were found in.
    catalogue : StarCatalogue
        About it, at its time.

    Returns
    -------
    colour : float64 array, shape (stars,), or None
        NaN for those that are not in it; None where it has no two bands.
    variable : bool array, shape (stars,), or None
        None where it does not say.
    name : str
        ``B - V`` and the like.
    """
    from scipy.spatial import cKDTree

    index = colour_index(catalogue)
    x, y = wcs.pixel(catalogue.ra, catalogue.dec)
    there = np.flatnonzero(np.isfinite(x) & np.isfinite(y))
    if not len(there) or not len(stars):
        return None, None, ""
    distance, which = cKDTree(np.column_stack([x[there], y[there]])).query(np.column_stack([stars.x, stars.y]))
    row = there[np.minimum(which, len(there) - 1)]
    same = distance < _SAME_PX
    colour = None if index is None else np.where(same, index[0][row], math.nan)
    variable = None if catalogue.variable is None else np.asarray(same & (catalogue.variable[row] == 1))
    return colour, variable, "" if index is None else index[2]


def typical_of(exposures: Sequence[ExposureFacts], most: int = 12) -> list[ExposureFacts]:
    """Return so many exposures at most, spread evenly over a series in the order of time, the first and the last among them."""
    if len(exposures) <= most:
        return list(exposures)
    return [exposures[k] for k in np.unique(np.linspace(0, len(exposures) - 1, most).round().astype(int)).tolist()]


def find_looks(
    exposures: Sequence[ExposureFacts], reference: Reference, context: JobContext
) -> tuple[list[Look], list[Outcome]]:
    """Find the stars of exposures, and where the reference's stars are in each."""
    scored, failed = find_all(exposures, context)
    outcomes = [Outcome(f.file, False, f.reason) for f in failed]
    looks = []
    places = np.column_stack([reference.stars.x, reference.stars.y])
    for one in scored:
        path = one.facts.path
        if path == reference.path:
            x, y = reference.stars.x, reference.stars.y
        else:
            found = match_stars(
                np.column_stack([one.stars.x, one.stars.y]),
                places,
                source_snr=one.stars.snr,
                target_snr=reference.stars.snr,
            )
            if isinstance(found, Failed):
                outcomes.append(Outcome(path, False, f"it could not be aligned: {found.reason}"))
                continue
            x, y = found.inverse()(reference.stars.x, reference.stars.y)
        outcomes.append(Outcome(path, True))
        looks.append(Look(x, y, one.facts.width, one.facts.height, one.stars, one.quality.fwhm_px))
    return looks, outcomes


def catalogue_tells(
    path: Path, facts: ExposureFacts, wcs: Wcs, stars: StarTable
) -> tuple[F64Array | None, BoolArray | None, str]:
    """Return what a catalogue tells of the stars of an exposure, see `told_by_catalogue`; only its part about the exposure is read.

    Raises
    ------
    CatalogueError
        If it cannot be read.
    """
    ra, dec = (float(v) for v in wcs.sky((facts.width - 1) / 2, (facts.height - 1) / 2))
    reach = 0.6 * math.hypot(facts.width, facts.height) * wcs.scale_arcsec_px / 3600
    return told_by_catalogue(stars, wcs, load_catalogue(path, near=[(ra, dec, reach)]).cone(ra, dec, reach))
