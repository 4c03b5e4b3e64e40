"""All stars of a field: what each scatters by, what noise lets expect, and which of them vary."""

from __future__ import annotations

import math
from collections.abc import Collection
from dataclasses import dataclass

import numpy as np

from ulvar.engine import F64Array
from ulvar.photometry.series import USELESS, SeriesTable
from ulvar.photometry.vetting import Verdict, vet_stars
from ulvar.stars import StarFlag

# A star measured in fewer of the exposures is not judged.
_MEASURED = 0.5
# Another star's light in more of its exposures makes a star a blend.
_BLENDED = 0.25
# Exposures with fewer of the judged stars say nothing of the rest.
_PRESENT = 0.3


@dataclass(frozen=True)
class NoiseModel:
    """What the noise of a star of any brightness is made of in a series: medians of all measurements.

    Attributes
    ----------
    gain : float
        [e-/ADU]; NaN where it is not known.
    sky, read, level : float
        Of one aperture, whatever the star [ADU]; NaN where a term is not told apart.
    scintillation, flat : float
        Share of the light.
    """

    gain: float
    sky: float
    read: float
    level: float
    scintillation: float
    flat: float

    def terms(self, flux: F64Array) -> dict[str, F64Array]:
        """Return the relative noise of stars of these fluxes [ADU], term by term, and their ``sum``."""
        flux = np.asarray(flux, dtype=np.float64)
        photons = np.sqrt(1 / (self.gain * flux)) if self.gain > 0 else np.full(flux.shape, math.nan)
        whole = {
            "photons": photons, "sky": np.hypot(self.sky, np.nan_to_num(self.level)) / flux, "read": self.read / flux,
            "scintillation": np.full(flux.shape, self.scintillation), "flat": np.full(flux.shape, self.flat),
        }  # fmt: skip
        told = {name: values for name, values in whole.items() if np.isfinite(values).all() and (values > 0).any()}
        total = np.sqrt(sum((values**2 for values in told.values()), np.zeros(flux.shape)))
        return {**told, "sum": total}


@dataclass(frozen=True)
class FieldStar:
    """A star of the field.

    Attributes
    ----------
    verdict : Verdict
    x, y : float
        Medians over the exposures [px].
    measured : int
        In so many exposures.
    blended : bool
        Whether another star lends it light in many of them: with the seeing it changes without varying.
    """

    verdict: Verdict
    x: float
    y: float
    measured: int
    blended: bool = False

    @property
    def varies(self) -> bool:
        """Whether it varies, as far as it stands alone."""
        return self.verdict.varies and not self.blended


@dataclass(frozen=True)
class FieldSearch:
    """All stars of a field, judged.

    Attributes
    ----------
    stars : tuple of FieldStar
        The brightest first.
    noise : NoiseModel
    exposures : int
        That were judged by.
    """

    stars: tuple[FieldStar, ...]
    noise: NoiseModel
    exposures: int

    @property
    def variables(self) -> tuple[FieldStar, ...]:
        """Those that vary, the surest first."""
        found = [star for star in self.stars if star.varies]
        return tuple(sorted(found, key=lambda s: -np.nan_to_num(s.verdict.loud_sigma + s.verdict.slow_sigma)))


def noise_model(table: SeriesTable) -> NoiseModel:
    """Return what noise is made of in a series, see `NoiseModel`."""

    def median(values: list[float]) -> float:
        known = [v for v in values if math.isfinite(v)]
        return float(np.median(known)) if known else math.nan

    rows = [row for row in table.rows if row.flux > 0 and not row.flags & USELESS]
    return NoiseModel(
        gain=median([row.flux / row.noise_source**2 for row in rows if row.noise_source > 0]),
        sky=median([row.noise_sky for row in rows]), read=median([row.noise_read for row in rows]),
        level=median([row.noise_level for row in rows]),
        scintillation=median([row.noise_scintillation / row.flux for row in rows]),
        flat=median([row.noise_flat / row.flux for row in rows]),
    )  # fmt: skip


def judge_field(table: SeriesTable, *, files_out: Collection[str] = ()) -> FieldSearch:
    """Judge every star of a table against all others.

    Parameters
    ----------
    table : SeriesTable
        Roles do not matter.
    files_out : collection of str
        Exposures not to use.

    Raises
    ------
    ValueError
        If fewer than three stars were measured in half of the exposures.
    """
    rows = [row for row in table.rows if row.file not in files_out]
    exposures = sorted({row.exposure for row in rows}, key=lambda e: (e[1], e[0]))
    names = list(dict.fromkeys(row.name for row in rows))
    number, place = {name: k for k, name in enumerate(names)}, {e: k for k, e in enumerate(exposures)}
    shape = len(names), len(exposures)
    flux, error, x, y = (np.full(shape, math.nan) for _ in range(4))
    crowded = np.zeros(len(names))
    for row in rows:
        k, e = number[row.name], place[row.exposure]
        x[k, e], y[k, e] = row.x, row.y
        crowded[k] += bool(row.flags & StarFlag.NEIGHBOUR)
        if row.flux > 0 and not row.flags & USELESS:
            flux[k, e], error[k, e] = row.flux, row.flux_error
    often = np.isfinite(flux).sum(axis=1) >= max(_MEASURED * len(exposures), 1)
    if often.sum() < 3:
        raise ValueError("fewer than three stars were measured in half of the exposures")
    # An exposure in which most are missing, under a cloud, has no rest to be compared with.
    well = np.isfinite(flux[often]).mean(axis=0) >= _PRESENT
    hours = np.array([24 * (e[1] - exposures[0][1]) for e in exposures])
    chosen = np.flatnonzero(often)
    verdicts = vet_stars(
        [names[k] for k in chosen], flux[chosen][:, well], error[chosen][:, well], hours=hours[well]
    )  # fmt: skip
    stars = [
        FieldStar(
            v,
            float(np.nanmedian(x[k])),
            float(np.nanmedian(y[k])),
            int(np.isfinite(flux[k]).sum()),
            bool(crowded[k] > _BLENDED * np.isfinite(x[k]).sum()),
        )
        for k, v in zip(chosen, verdicts)
    ]
    stars.sort(key=lambda s: -s.verdict.level)
    return FieldSearch(tuple(stars), noise_model(SeriesTable(rows)), int(well.sum()))
