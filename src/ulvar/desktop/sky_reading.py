"""What is under the cursor: the pixel, its place on the sky, the star that is there."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPointF

from ulvar.desktop.model import Model
from ulvar.desktop.pictures import Picture
from ulvar.desktop.sky_tools import sexagesimal
from ulvar.engine import Failed
from ulvar.frames import MaskBit
from ulvar.inspection import StarCloseUp, look_at_star

if TYPE_CHECKING:
    from ulvar.desktop.sky_view import SkyView


class Reading:
    """Reads pixels and stars of the picture on screen, for the line of values, the loupe and the close-up."""

    def __init__(self, sky: SkyView, model: Model) -> None:
        self._sky, self._model = sky, model

    def hovered(self, x: float, y: float) -> None:
        """Say what is under the cursor."""
        sky, picture = self._sky, self._sky.canvas.picture
        if picture is None or picture.quick:
            return
        ix, iy = round(x), round(y)
        inside = 0 <= ix < picture.shape[1] and 0 <= iy < picture.shape[0]
        value = f"{picture.data[iy, ix]:.1f} ADU" if inside else "outside"
        text = f"x {x:.1f}   y {y:.1f}   value {value.replace('-', '−')}"
        wcs = sky.plate
        if wcs is not None and inside and sky.grid_of(self._model.current) is None:
            ra, dec = wcs.sky(x, y)
            text += "   " + sexagesimal(float(ra), float(dec))
        sky.foot.read_out.setText(text)
        if sky.on("loupe"):
            self._move_loupe(picture if inside else None, x, y)

    def _move_loupe(self, picture: Picture | None, x: float, y: float) -> None:
        canvas = self._sky.canvas
        canvas.loupe = None if picture is None else QPointF(x, y)
        if picture is not None:
            words = [f"{picture.data[round(y), round(x)]:.1f} ADU".replace("-", "−")]
            star = self._star_at(picture, x, y)
            if not isinstance(star, Failed):
                words += [f"peak {star.peak_adu:.0f} over sky", f"FWHM {star.fwhm_px:.2f} px"]
            canvas.loupe_words = words
        canvas.update()

    def look_closely(self, x: float, y: float) -> None:
        """Measure the star at a place of the picture and show it in the strip."""
        sky, picture = self._sky, self._sky.canvas.picture
        assert picture is not None
        facts = self._model.facts(self._model.current)
        wcs = self._model.plates().get(self._model.current)
        gain = facts.gain_e_per_adu if facts is not None and not sky.shows_product else None
        scale = wcs.scale_arcsec_px if wcs is not None else facts.scale_arcsec_px if facts is not None else None
        sky.tools.star.show_star(self._star_at(picture, x, y, gain), scale)

    def _star_at(self, picture: Picture, x: float, y: float, gain: float | None = None) -> StarCloseUp | Failed:
        full, fwhm = self._sky.saturation, self._usual_fwhm()
        if not picture.cfa:
            return look_at_star(picture.data, x, y, fwhm_px=fwhm, gain_e_per_adu=gain, saturation_adu=full)
        pixels, x0, y0 = picture.near(x, y)
        # Saturation is told by the pixels as they were measured, not on the scale that they are brought to.
        height, width = (int(n) for n in pixels.shape)
        measured = picture.data[y0 : y0 + height, x0 : x0 + width]
        mask = np.where(measured >= (np.inf if full is None else full), MaskBit.SATURATED, 0).astype(np.uint16)
        return look_at_star(pixels, x - x0, y - y0, fwhm_px=fwhm, gain_e_per_adu=gain, mask=mask)

    def _usual_fwhm(self) -> float:
        score = self._model.products("score").get(self._model.current)
        fwhm = score.values["fwhm_px"] if score is not None else None
        return float(fwhm) if fwhm else 3.0
