"""Which of several apertures is the best: the one in which stars that do not vary scatter least."""

from __future__ import annotations

import math
from collections.abc import Collection, Sequence
from dataclasses import dataclass

import numpy as np

from ulvar.photometry.ensemble import build_ensemble
from ulvar.photometry.series import SeriesRow, SeriesTable

# Against fewer exposures no scatter is known.
_LEAST_EXPOSURES = 5


@dataclass(frozen=True)
class TriedRadius:
    """One radius and how it did.

    Attributes
    ----------
    radius : float
        As it was set: in FWHM or px.
    scatter : float
        Of the comparison stars, each against the others: the mean over stars, weighted as the ensemble weighs them (relative).
    error : float
        What the errors say it is (relative); NaN without a gain.
    target_snr : float
        Median signal-to-noise ratio of the first target; NaN without a gain.
    """

    radius: float
    scatter: float
    error: float
    target_snr: float


@dataclass(frozen=True)
class RadiusChoice:
    """The best radius of those that were tried.

    Attributes
    ----------
    radius : float
    tried : tuple of TriedRadius
        In rising order.
    why : str
        ``scatter`` of the comparison stars, ``snr`` of the target where there are too few of those, or ``first``, where nothing tells.
    """

    radius: float
    tried: tuple[TriedRadius, ...]
    why: str


def rows_by_radius(rows: Sequence[SeriesRow]) -> dict[float, list[SeriesRow]]:
    """Return the rows of each radius that was measured."""
    found: dict[float, list[SeriesRow]] = {}
    for row in rows:
        found.setdefault(row.aperture, []).append(row)
    return found


def choose_radius(
    rows: Sequence[SeriesRow], *, leave_out: Collection[str] = (), files_out: Collection[str] = ()
) -> RadiusChoice:
    """Return the best of the radii that rows were measured with.

    The comparison stars' scatter against each other decides: it holds photons, sky, guiding and the air as they were, and says nothing
    of the target, which may vary. With fewer than two comparison stars the target's signal-to-noise ratio has to.

    Parameters
    ----------
    rows : sequence of SeriesRow
        Of all radii, see `SeriesRow.aperture`.
    leave_out : collection of str
        Comparison stars not to use.
    files_out : collection of str
        Exposures not to use.

    Raises
    ------
    ValueError
        Without any row.
    """
    parts = rows_by_radius([row for row in rows if row.file not in files_out])
    if not parts:
        raise ValueError("nothing was measured")
    tried = [_tried(radius, SeriesTable(part), leave_out) for radius, part in sorted(parts.items())]
    first = next(iter(parts))
    for why, figures in (
        ("scatter", [t.scatter for t in tried]),
        ("snr", [-t.target_snr for t in tried]),
    ):
        if len(tried) > 1 and np.isfinite(figures).all():
            return RadiusChoice(tried[int(np.argmin(figures))].radius, tuple(tried), why)
    return RadiusChoice(first, tuple(tried), "first")


def _tried(radius: float, table: SeriesTable, leave_out: Collection[str]) -> TriedRadius:
    names = [name for name in table.names("comparison") if name not in leave_out]
    exposures = table.exposures()
    flux, error = table.clean_light(names, exposures)
    scatter = promised = math.nan
    if len(names) > 1 and len(exposures) >= _LEAST_EXPOSURES:
        try:
            ensemble = build_ensemble(names, flux, error)
        except ValueError:
            pass
        else:
            told = np.isfinite(ensemble.scatter) & (ensemble.weights > 0)
            # Those that vary tell nothing of the aperture.
            told &= ~np.isin(ensemble.names, ensemble.suspects)
            if told.any():
                scatter = float(np.average(ensemble.scatter[told], weights=ensemble.weights[told]))
                promised = float(np.average(ensemble.expected[told], weights=ensemble.weights[told]))
    target = next(iter(table.names("target")), None)
    ratios = [row.flux / row.flux_error for row in table.star(target) if row.flux_error > 0] if target else []
    return TriedRadius(radius, scatter, promised, float(np.median(ratios)) if ratios else math.nan)
