"""Magnitudes on a catalogue's system: a zero point for each exposure, a colour term, extinction, limits."""

from __future__ import annotations

import math
from collections.abc import Collection, Mapping
from dataclasses import dataclass

import numpy as np

from ulvar.engine import BoolArray, F64Array, Failed
from ulvar.frames import robust_spread
from ulvar.photometry.series import USELESS, Exposure, SeriesRow, SeriesTable

_MAG = 2.5 / math.log(10)
# Fewer stars tell no zero point, and no colour term; colours that lie together tell none either [mag].
_LEAST_STARS, _LEAST_COLOURS, _LEAST_RANGE = 3, 5, 0.25
# Stars further from the rest than this are wrong pairs, variables, blends [deviations].
_CLIP = 3.5
# Over less airmass nothing is told of extinction.
_LEAST_AIRMASS = 0.15
# A star's signal-to-noise ratio at the limit.
_LIMIT_SNR = 5.0
# No catalogue and no flat is better than this [mag].
_FLOOR = 0.002


@dataclass(frozen=True)
class Known:
    """What a catalogue tells of a measured star [mag]; NaN where it does not."""

    magnitude: float
    error: float = math.nan
    colour: float = math.nan


@dataclass(frozen=True)
class Zero:
    """One exposure: the magnitude of one ADU, its error by this exposure's stars, how many they were, and the magnitude reached at SNR 5."""

    magnitude: float
    error: float
    stars: int
    limit: float
    airmass: float


@dataclass(frozen=True)
class Standard:
    """The way from fluxes to a catalogue's magnitudes.

    Attributes
    ----------
    zeros : dict of exposure to Zero
    pivot : float
        The colour at which zero points are told [mag]; NaN without colours.
    colour_term, colour_error : float
        Magnitudes for each magnitude of colour; 0 and NaN where they tell none.
    extinction, extinction_error : float
        Magnitudes for each airmass; NaN where the airmass hardly changes.
    common_error : float
        What all magnitudes share: catalogue and stars, which do not agree better [mag].
    star_scatter : float
        Of the stars about the fit [mag].
    stars : tuple of str
        That were used.
    dropped : tuple of str
        That stand off.
    """

    zeros: dict[Exposure, Zero]
    pivot: float
    colour_term: float
    colour_error: float
    extinction: float
    extinction_error: float
    common_error: float
    star_scatter: float
    stars: tuple[str, ...]
    dropped: tuple[str, ...]

    def magnitude(self, row: SeriesRow, colour: float = math.nan) -> tuple[float, float]:
        """Return a measured star's magnitude and its error, all terms of it included.

        Parameters
        ----------
        row : SeriesRow
        colour : float
            Of the star [mag]; where it is not known the pivot is taken, and 0.3 mag of doubt about it.
        """
        zero = self.zeros.get(row.exposure)
        if zero is None or not row.flux > 0:
            return math.nan, math.nan
        known = math.isfinite(colour) and math.isfinite(self.pivot)
        off = colour - self.pivot if known else 0.0
        doubt = 0.0 if known else 0.3 * abs(self.colour_term)
        term = float(np.nan_to_num(self.colour_error)) * off
        magnitude = zero.magnitude + self.colour_term * off - 2.5 * math.log10(row.flux)
        error = math.hypot(_MAG * row.flux_error / row.flux, zero.error, term, doubt, self.common_error)
        return magnitude, error


def fit_standard(
    table: SeriesTable, known: Mapping[str, Known], *, leave_out: Collection[str] = ()
) -> Standard | Failed:
    """Fit zero points, a colour term and extinction to stars whose magnitudes a catalogue tells.

    Parameters
    ----------
    table : SeriesTable
    known : mapping of str to Known
        By the names of the table's stars.
    leave_out : collection of str
        Stars not to use: the target, and those that vary.

    Returns
    -------
    Standard, or Failed where fewer than three stars agree.

    Notes
    -----
    Each exposure has a zero point of its own, so that thin cloud does no harm, and each star an offset from the catalogue; both by
    alternating weighted means. Offsets over colour give the colour term, and what is left of them the error that all magnitudes share.
    Extinction is a robust line through the zero points over airmass, by medians of slopes (Theil 1950; Sen 1968): clouds lie to one side.
    """
    exposures = table.exposures()
    names = [
        name
        for name in table.names()
        if name in known and name not in leave_out and math.isfinite(known[name].magnitude)
    ]
    if len(names) < _LEAST_STARS:
        return Failed(f"the catalogue knows {len(names)} of the measured stars; three are needed")
    flux, error = table.clean_light(names, exposures)
    told = np.array([known[name].magnitude for name in names])
    colour = np.array([known[name].colour for name in names])
    with np.errstate(divide="ignore", invalid="ignore"):
        offset = np.where(flux > 0, told[:, None] + 2.5 * np.log10(flux), np.nan)
        noise = np.hypot(np.nan_to_num(_MAG * error / flux, nan=0.01), _FLOOR)
    used: BoolArray = np.asarray(np.isfinite(offset).any(axis=1))
    dropped: BoolArray = ~used
    pivot = float(np.nanmedian(colour[used])) if np.isfinite(colour[used]).any() else math.nan
    term = term_error = math.nan
    zero, own = _alternate(offset, noise, used)
    for _ in range(10):
        term, term_error, left = _colour_term(own, colour - pivot, used)
        spread = robust_spread(left[used], about=0.0)
        off = used & (np.abs(left) > _CLIP * max(spread, 3 * _FLOOR))
        if not off.any() or used.sum() - off.sum() < _LEAST_STARS:
            break
        used, dropped = used & ~off, dropped | off
        zero, own = _alternate(offset, noise, used)
    term, term_error, left = _colour_term(own, colour - pivot, used)
    scatter = float(np.std(left[used], ddof=1))
    # The stars' offsets have no mean: what their fit has at the pivot belongs to the zero points.
    zero = zero + float(np.median((own - left - np.nan_to_num(term * (colour - pivot)))[used]))
    count = np.isfinite(offset[used]).sum(axis=0)
    zeros = {}
    for k, exposure in enumerate(exposures):
        if count[k] < _LEAST_STARS or not math.isfinite(zero[k]):
            continue
        own_error = 1 / math.sqrt(float(np.nansum(np.where(np.isfinite(offset[used, k]), noise[used, k] ** -2.0, 0.0))))
        rows = table.of_exposure(exposure)
        zeros[exposure] = Zero(
            float(zero[k]), own_error, int(count[k]), _limit(rows, float(zero[k])), float(np.nanmedian([row.airmass for row in rows]))
            if any(math.isfinite(row.airmass) for row in rows) else math.nan,
        )  # fmt: skip
    if not zeros:
        return Failed("no exposure shows three of the stars that the catalogue knows")
    extinction, extinction_error = _extinction(list(zeros.values()))
    return Standard(
        zeros, pivot, 0.0 if math.isnan(term) else term, term_error, extinction, extinction_error,
        scatter / math.sqrt(int(used.sum())), scatter, tuple(n for n, u in zip(names, used) if u),
        tuple(n for n, d in zip(names, dropped) if d),
    )  # fmt: skip


def standard_of_one(table: SeriesTable, name: str, magnitude: float, error: float = 0.0) -> Standard | Failed:
    """Return zero points told by one star of known magnitude, without a colour term.

    Parameters
    ----------
    table : SeriesTable
    name : str
        Of the star in it.
    magnitude, error : float
        Of the star [mag]; the error is shared by all that is told.

    Returns
    -------
    Standard, or Failed where the star was not measured.
    """
    zeros = {}
    for row in table.star(name):
        if not row.flux > 0 or row.flags & USELESS:
            continue
        rows = table.of_exposure(row.exposure)
        zero = magnitude + 2.5 * math.log10(row.flux)
        own = _MAG * row.flux_error / row.flux if math.isfinite(row.flux_error) else math.nan
        zeros[row.exposure] = Zero(zero, own, 1, _limit(rows, zero), row.airmass)
    if not zeros:
        return Failed(f"the star {name} was not measured")
    extinction, extinction_error = _extinction(list(zeros.values()))
    return Standard(zeros, math.nan, 0.0, math.nan, extinction, extinction_error, error, math.nan, (name,), ())


def _alternate(offset: F64Array, noise: F64Array, used: BoolArray) -> tuple[F64Array, F64Array]:
    """Return a value for each exposure and an offset for each star, whose median over the used ones is 0."""
    weight = np.where(np.isfinite(offset), 1 / noise**2, 0.0)
    filled = np.nan_to_num(offset)
    own = np.zeros(len(offset))
    zero = np.full(offset.shape[1], math.nan)
    for _ in range(30):
        w = weight[used]
        with np.errstate(divide="ignore", invalid="ignore"):
            zero = (w * (filled[used] - own[used][:, None])).sum(axis=0) / w.sum(axis=0)
            there = np.isfinite(zero)
            new = (weight[:, there] * (filled[:, there] - zero[there])).sum(axis=1) / weight[:, there].sum(axis=1)
        new = new - np.nanmedian(new[used])
        settled = np.nanmax(np.abs(new[used] - own[used])) < 1e-7
        own = np.nan_to_num(new)
        if settled:
            break
    return zero, own


def _colour_term(own: F64Array, colour: F64Array, used: BoolArray) -> tuple[float, float, F64Array]:
    """Return the slope of offsets over colour, its error, and what is left of each star's offset; NaN and the median where colours tell none."""
    good = used & np.isfinite(colour)
    plain = own - float(np.median(own[used]))
    if good.sum() < _LEAST_COLOURS or np.ptp(colour[good]) < _LEAST_RANGE:
        return math.nan, math.nan, plain
    at = colour[good] - colour[good].mean()
    slope = float((at * own[good]).sum() / (at**2).sum())
    fit = own[good].mean() + slope * at
    error = math.sqrt(float(((own[good] - fit) ** 2).sum()) / max(int(good.sum()) - 2, 1) / float((at**2).sum()))
    level = float(own[good].mean() - slope * colour[good].mean())
    left = np.where(np.isfinite(colour), own - level - slope * np.nan_to_num(colour), plain)
    return slope, error, left


def _limit(rows: list[SeriesRow], zero: float) -> float:
    """Return the magnitude of a star that stands out by five deviations in the aperture."""
    fixed = [
        math.hypot(row.noise_sky, float(np.nan_to_num(row.noise_read)), row.noise_level)
        for row in rows
        if math.isfinite(row.noise_sky) and math.isfinite(row.noise_level)
    ]
    if not fixed:
        return math.nan
    gains = [row.flux / row.noise_source**2 for row in rows if row.noise_source > 0 and row.flux > 0]
    photons = _LIMIT_SNR**2 / float(np.median(gains)) if gains else 0.0
    faintest = (photons + math.sqrt(photons**2 + 4 * _LIMIT_SNR**2 * float(np.median(fixed)) ** 2)) / 2
    return zero - 2.5 * math.log10(faintest)


def _extinction(zeros: list[Zero]) -> tuple[float, float]:
    air, height = (np.array([getattr(z, name) for z in zeros]) for name in ("airmass", "magnitude"))
    good = np.isfinite(air) & np.isfinite(height)
    air, height = air[good], height[good]
    if len(air) < 5 or np.ptp(air) < _LEAST_AIRMASS:
        return math.nan, math.nan
    first, second = np.triu_indices(len(air), 1)
    apart = np.abs(air[first] - air[second]) > 0.1 * np.ptp(air)
    slopes = (height[second] - height[first])[apart] / (air[second] - air[first])[apart]
    slope = float(np.median(slopes))
    left = height - slope * air
    return -slope, robust_spread(left) / math.sqrt(len(air)) / float(np.std(air))
