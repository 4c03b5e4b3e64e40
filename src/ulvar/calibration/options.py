"""Which steps of calibrating are done, and how."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal

from ulvar.calibration.overscan import Region
from ulvar.calibration.prepare import Preparation


@dataclass(frozen=True)
class DefectOptions:
    """Thresholds.

    Attributes
    ----------
    hot_sigma : float
        A pixel is hot when it stands this many robust deviations over its surroundings in the master dark.
    cold_below : float
        A pixel is cold when it is below this fraction of its surroundings in the master flat.
    bright_above : float
        ... and over-sensitive when it is above this fraction.
    columns : bool
        Whether columns most of whose pixels are defective are marked as a whole.
    """

    hot_sigma: float = 8.0
    cold_below: float = 0.5
    bright_above: float = 1.5
    columns: bool = True


@dataclass(frozen=True)
class CalibrateOptions:
    """Which steps are done, and how.

    Attributes
    ----------
    preparation : Preparation
        Overscan, trimming, linearity: the same as the masters were made with.
    dark_scale : {'exposure', 'noise'}
        A dark that has to be scaled follows the exposure times, or the factor that takes most of the hot
        pixels out of each light.
    mark_defects, repair : bool
        Whether defects are looked for in the masters, and whether they are replaced by their neighbours.
    defects : DefectOptions
    cosmic : bool
        Whether cosmic rays are found and repaired.
    cosmic_sigma, cosmic_contrast : float
        As `find_cosmic_rays`.
    overlays : tuple of Region
        Rectangles without picture (a burnt-in time stamp): no data.
    pedestal : 'off', 'auto' or float
        A constant added to every pixel [ADU]; ``auto`` adds one when more than a few pixels would be negative.
    """

    preparation: Preparation = field(default_factory=Preparation)
    dark_scale: Literal["exposure", "noise"] = "exposure"
    mark_defects: bool = True
    repair: bool = True
    defects: DefectOptions = field(default_factory=DefectOptions)
    cosmic: bool = False
    cosmic_sigma: float = 4.5
    cosmic_contrast: float = 3.0
    overlays: tuple[Region, ...] = ()
    pedestal: float | Literal["off", "auto"] = "off"

    def key(self) -> list[object]:
        """Return what makes two sets of options alike, for fingerprints."""
        d = self.defects
        return [
            self.preparation.key(), self.dark_scale, self.mark_defects, self.repair,
            [d.hot_sigma, d.cold_below, d.bright_above, d.columns] if self.mark_defects else [],
            [self.cosmic_sigma, self.cosmic_contrast] if self.cosmic else [], [r.text for r in self.overlays],
            self.pedestal,
        ]  # fmt: skip
