"""The numbers of an exposure: declared once, for files, docs and the window."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from ulvar.engine import F64Array


@dataclass(frozen=True)
class Quality:
    """A number of an exposure that can be shown, ruled by and weighed: declared once, for files, docs and the window.

    Attributes
    ----------
    key : str
        Its name in stored values.
    title, unit : str
    decimals : int
    factor : float
        From the stored value to the one that is shown.
    better : int
        1 when more is better, -1 when less is, 0 when neither.
    meaning : str
    """

    key: str
    title: str
    unit: str
    decimals: int
    factor: float
    better: int
    meaning: str


QUALITIES: dict[str, Quality] = {
    q.key: q
    for q in (
        Quality("score", "Score", "%", 0, 100.0, 1, "signal-to-noise ratio of a faint star beside the best exposure's"),
        Quality("fwhm_px", "FWHM", "px", 2, 1.0, -1, "width of the stars at half of their height"),
        Quality("fwhm_arcsec", "FWHM", "″", 2, 1.0, -1, "the same on the sky, where the scale is known"),
        Quality("ellipticity", "Ellipticity", "", 2, 1.0, -1, "1 less short over long axis of the stars"),
        Quality("stars", "Star count", "", 0, 1.0, 1, "stars found"),
        Quality("transparency", "Transparency", "%", 0, 100.0, 1, "brightness of common stars beside the best exposures"),
        Quality("sky_adu", "Sky level", "ADU", 0, 1.0, -1, "background"),
        Quality("noise_adu", "Noise", "ADU", 1, 1.0, -1, "deviation of the background, per pixel"),
        Quality("noise_ratio", "Noise over expected", "", 2, 1.0, -1, "measured noise over that of photons and read-out"),
        Quality("gradient_adu", "Gradient", "ADU", 1, 1.0, -1, "change of the background across the frame"),
        Quality("saturated", "Saturated stars", "", 0, 1.0, -1, "stars with saturated pixels"),
        Quality("trails", "Trails", "", 0, 1.0, -1, "of satellites and aeroplanes"),
        Quality("shift_px", "Shift", "px", 1, 1.0, 0, "of the field against the reference"),
        Quality("rotation_deg", "Rotation", "°", 2, 1.0, 0, "of the field against the reference"),
        Quality("residual_px", "Alignment residual", "px", 3, 1.0, -1, "of the stars after alignment"),
    )
}  # fmt: skip


# What a blend may weigh, and how a stored value becomes a number that grows with quality.
BLENDS: dict[str, Callable[[F64Array], F64Array]] = {
    "transparency": lambda v: v,
    "fwhm_px": lambda v: 1 / v,
    "noise_adu": lambda v: 1 / v,
    "ellipticity": lambda v: 1 - v,
    "sky_adu": lambda v: 1 / v,
    "stars": lambda v: v,
}
DEFAULT_BLEND: dict[str, float] = {"transparency": 1.0, "fwhm_px": 1.0, "noise_adu": 1.0}
