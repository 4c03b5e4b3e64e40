"""What is at a place of the picture: the pixel, its place on the sky, the star that is there."""

from __future__ import annotations

import numpy as np

from ulvar.astrometry import Wcs
from ulvar.desktop.picture.pictures import Picture
from ulvar.desktop.picture.tools import sexagesimal
from ulvar.engine import Failed, true_minus
from ulvar.frames import MaskBit
from ulvar.inspection import StarCloseUp, look_at_star


def _value(picture: Picture, x: float, y: float) -> float | None:
    """Return the pixel that a place lies in [ADU]; None outside."""
    ix, iy = round(x), round(y)
    inside = 0 <= ix < picture.shape[1] and 0 <= iy < picture.shape[0]
    return float(picture.data[iy, ix]) if inside else None


def read_out(picture: Picture, x: float, y: float, wcs: Wcs | None) -> str:
    """Return place, value and, with a solution that these pixels follow, position of a place in words.

    What people read counts pixels from 1 at the lower left, as headers and regions do.
    """
    value = _value(picture, x, y)
    words = "outside" if value is None else true_minus(f"{value:.1f} ADU")
    text = f"x {x + 1:.1f}   y {y + 1:.1f}   value {words}"
    if wcs is not None and value is not None:
        ra, dec = wcs.sky(x, y)
        text += "   " + sexagesimal(float(ra), float(dec))
    return text


def loupe_words(picture: Picture, x: float, y: float, *, fwhm_px: float, saturation_adu: float | None) -> list[str]:
    """Return the lines under the loupe; none outside of the picture."""
    value = _value(picture, x, y)
    if value is None:
        return []
    words = [true_minus(f"{value:.1f} ADU")]
    star = star_at(picture, x, y, fwhm_px=fwhm_px, saturation_adu=saturation_adu)
    if not isinstance(star, Failed):
        words += [f"peak {star.peak_adu:.0f} over sky", f"FWHM {star.fwhm_px:.2f} px"]
    return words


def star_at(
    picture: Picture, x: float, y: float, *, fwhm_px: float, saturation_adu: float | None, gain: float | None = None
) -> StarCloseUp | Failed:
    """Measure the star at a place.

    Parameters
    ----------
    picture : Picture
    x, y : float
        [px]
    fwhm_px : float
        What is usual [px].
    saturation_adu : float or None
        Where pixels saturate [ADU].
    gain : float, optional
        [e-/ADU], where errors are wanted.
    """
    if not picture.cfa:
        return look_at_star(picture.data, x, y, fwhm_px=fwhm_px, gain_e_per_adu=gain, saturation_adu=saturation_adu)
    pixels, x0, y0 = picture.near(x, y)
    # Saturation is told by the pixels as they were measured, not on the scale that they are brought to.
    height, width = (int(n) for n in pixels.shape)
    measured = picture.data[y0 : y0 + height, x0 : x0 + width]
    full = np.inf if saturation_adu is None else saturation_adu
    mask = np.where(measured >= full, MaskBit.SATURATED, 0).astype(np.uint16)
    return look_at_star(pixels, x - x0, y - y0, fwhm_px=fwhm_px, gain_e_per_adu=gain, mask=mask)
