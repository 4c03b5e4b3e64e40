"""Aperture and annulus."""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from dataclasses import dataclass, replace

from ulvar.photometry.aperture import SKY_METHODS

_APERTURE = re.compile(r"^\s*(\d+(?:\.\d+)?)\s*(fwhm|px)?\s*$", re.IGNORECASE)
# No more radii are tried in one pass.
_MOST_RADII = 12


@dataclass(frozen=True)
class ApertureOptions:
    """Aperture and annulus.

    Attributes
    ----------
    radius : float
        In pixels, or in units of each exposure's FWHM.
    in_fwhm : bool
        Whether `radius` is a multiple of the FWHM.
    inner_px, outer_px : float or None
        Sky annulus [px]; None follows the aperture: 1.8 and 3.2 radii, at least 4 px and 6 px further out.
    sky : str
        How the sky is taken from the annulus, one of `SKY_METHODS`.
    elliptical : bool
        Whether the aperture has the shape of the exposure's stars: of trailed ones.
    others : tuple of float
        Further radii, in the same unit, that are measured in the same pass.
    """

    radius: float = 1.7
    in_fwhm: bool = True
    inner_px: float | None = None
    outer_px: float | None = None
    sky: str = "median"
    elliptical: bool = False
    others: tuple[float, ...] = ()

    def __post_init__(self) -> None:
        if not all(radius > 0 for radius in self.every):
            raise ValueError("the aperture radius must be above 0")
        if len(set(self.every)) < len(self.every):
            raise ValueError("a radius stands twice")
        if len(self.every) > _MOST_RADII:
            raise ValueError(f"{len(self.every)} radii are more than the {_MOST_RADII} that are measured in one pass")
        if self.sky not in SKY_METHODS:
            raise ValueError(f"'{self.sky}' is no way to take the sky; there are {', '.join(SKY_METHODS)}")
        if (self.inner_px is None) != (self.outer_px is None):
            raise ValueError("an annulus needs both radii")
        if self.inner_px is not None and self.outer_px is not None and not 0 < self.inner_px < self.outer_px:
            raise ValueError("the annulus needs 0 < IN < OUT")
        if self.inner_px is not None and not self.in_fwhm and self.inner_px < max(self.every):
            raise ValueError(
                f"the annulus begins at {self.inner_px:g} px, inside the aperture of {max(self.every):g} px"
            )

    @property
    def every(self) -> tuple[float, ...]:
        """All radii that are measured, the first one first."""
        return (self.radius, *self.others)

    def alone(self, radius: float) -> ApertureOptions:
        """Return the options with one radius."""
        return replace(self, radius=radius, others=())

    def words(self, radius: float | None = None) -> str:
        """Return a radius with its unit: ``1.7 FWHM``."""
        return f"{self.radius if radius is None else radius:g} {'FWHM' if self.in_fwhm else 'px'}"

    @classmethod
    def parse(
        cls, aperture: str, annulus: str | None = None, *, sky: str = "median", elliptical: bool = False
    ) -> ApertureOptions:
        """Return options from ``6`` or ``1.5fwhm``, or several with commas between, and ``IN,OUT`` [px].

        Raises
        ------
        ValueError
            If one cannot be read.
        """
        radii, units = [], set()
        parts = aperture.split(",")
        for number, part in enumerate(parts):
            match = _APERTURE.match(part)
            if match is None:
                raise ValueError(f"the aperture '{part.strip()}' is not a radius such as 6 or 1.5fwhm")
            radii.append(float(match.group(1)))
            # A unit may stand behind the last one alone: 1.2,1.5,2fwhm.
            if match.group(2) or number == len(parts) - 1:
                units.add((match.group(2) or "px").lower())
        if len(units) > 1:
            raise ValueError(f"the apertures '{aperture}' are of two units")
        inner = outer = None
        if annulus is not None:
            try:
                inner, outer = (float(part) for part in annulus.split(","))
            except ValueError:
                raise ValueError(f"the annulus '{annulus}' is not IN,OUT in pixels") from None
        return cls(radii[0], units == {"fwhm"}, inner, outer, sky, elliptical, tuple(radii[1:]))

    def radii(self, fwhm_px: float) -> tuple[float, float, float]:
        """Return (aperture, inner, outer) [px] for an exposure, of the first radius.

        Raises
        ------
        ValueError
            If the FWHM is needed and not known, or the annulus begins inside the aperture.
        """
        radii, inner, outer = self.rings(fwhm_px)
        return radii[0], inner, outer

    def rings(self, fwhm_px: float) -> tuple[Sequence[float], float, float]:
        """Return (all aperture radii, inner, outer) [px] for an exposure: one annulus serves all radii.

        Raises
        ------
        ValueError
            As `radii`.
        """
        unit = 1.0
        if self.in_fwhm:
            if not (math.isfinite(fwhm_px) and fwhm_px > 0):
                raise ValueError("the aperture follows the FWHM, which could not be measured")
            unit = fwhm_px
        radii = [radius * unit for radius in self.every]
        widest = max(radii)
        if self.inner_px is not None and self.outer_px is not None:
            if self.inner_px < widest:
                raise ValueError(
                    f"the annulus begins at {self.inner_px:g} px, inside the aperture of {widest:.1f} px "
                    f"({max(self.every):g} FWHM)"
                )
            return radii, self.inner_px, self.outer_px
        inner = max(1.8 * widest, widest + 4)
        return radii, inner, max(3.2 * widest, inner + 6)
