"""Aperture and annulus."""

from __future__ import annotations

import math
import re
from dataclasses import dataclass

_APERTURE = re.compile(r"^\s*(\d+(?:\.\d+)?)\s*(fwhm|px)?\s*$", re.IGNORECASE)


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
    """

    radius: float = 1.7
    in_fwhm: bool = True
    inner_px: float | None = None
    outer_px: float | None = None

    def __post_init__(self) -> None:
        if not self.radius > 0:
            raise ValueError("the aperture radius must be above 0")
        if (self.inner_px is None) != (self.outer_px is None):
            raise ValueError("an annulus needs both radii")
        if self.inner_px is not None and self.outer_px is not None and not 0 < self.inner_px < self.outer_px:
            raise ValueError("the annulus needs 0 < IN < OUT")
        if self.inner_px is not None and not self.in_fwhm and self.inner_px < self.radius:
            raise ValueError(f"the annulus begins at {self.inner_px:g} px, inside the aperture of {self.radius:g} px")

    @classmethod
    def parse(cls, aperture: str, annulus: str | None = None) -> ApertureOptions:
        """Return options from ``6`` or ``1.5fwhm`` and ``IN,OUT`` [px].

        Raises
        ------
        ValueError
            If either cannot be read.
        """
        match = _APERTURE.match(aperture)
        if match is None:
            raise ValueError(f"the aperture '{aperture}' is not a radius such as 6 or 1.5fwhm")
        inner = outer = None
        if annulus is not None:
            try:
                inner, outer = (float(part) for part in annulus.split(","))
            except ValueError:
                raise ValueError(f"the annulus '{annulus}' is not IN,OUT in pixels") from None
        return cls(float(match.group(1)), (match.group(2) or "").lower() == "fwhm", inner, outer)

    def radii(self, fwhm_px: float) -> tuple[float, float, float]:
        """Return (aperture, inner, outer) [px] for an exposure.

        Raises
        ------
        ValueError
            If the FWHM is needed and not known, or the annulus begins inside the aperture.
        """
        radius = self.radius
        if self.in_fwhm:
            if not (math.isfinite(fwhm_px) and fwhm_px > 0):
                raise ValueError("the aperture follows the FWHM, which could not be measured")
            radius *= fwhm_px
        if self.inner_px is not None and self.outer_px is not None:
            if self.inner_px < radius:
                raise ValueError(
                    f"the annulus begins at {self.inner_px:g} px, inside the aperture of {radius:.1f} px "
                    f"({self.radius:g} FWHM)"
                )
            return radius, self.inner_px, self.outer_px
        inner = max(1.8 * radius, radius + 4)
        return radius, inner, max(3.2 * radius, inner + 6)
