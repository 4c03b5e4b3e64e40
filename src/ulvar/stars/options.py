"""How stars are looked for."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class DetectOptions:
    """How stars are looked for.

    Attributes
    ----------
    threshold : float
        Smallest signal-to-noise ratio of a star.
    noise_peaks : float
        Expected peaks of pure noise in the whole frame; of large frames the threshold is raised to keep them
        at this many. 0 leaves the threshold as it is.
    smallest, widest : float
        Fitted width over that of the exposure's profile, of stars with an SNR over 12: sharper is a hot pixel or a
        cosmic ray, wider is no star.
    longest : float
        Axis ratio over the typical one of the exposure, of stars with an SNR over 12.
    box_px : int
        Background mesh cell [px].
    fwhm_px : float or None
        Expected FWHM [px]; measured on bright stars when None.
    max_stars : int
        The brightest this many are kept.
    """

    threshold: float = 5.0
    noise_peaks: float = 1.0
    smallest: float = 0.55
    widest: float = 3.0
    longest: float = 2.2
    box_px: int = 64
    fwhm_px: float | None = None
    max_stars: int = 50_000

    def __post_init__(self) -> None:
        if self.threshold <= 0 or self.box_px < 8 or self.max_stars < 1:
            raise ValueError("threshold must be above 0, the mesh cell 8 px or more, at least one star kept")
        if self.noise_peaks < 0 or not 0 <= self.smallest < 1 < self.widest or self.longest <= 1:
            raise ValueError("noise peaks from 0 on, the smallest size under 1, the widest and the longest over 1")
