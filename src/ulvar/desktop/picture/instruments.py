"""What is measured on the picture: under the cursor, along a line, in a rectangle, of a star."""

from __future__ import annotations

import math
from typing import Protocol

import numpy as np
from PySide6.QtCore import QPointF

from ulvar.astrometry import Wcs
from ulvar.desktop.models.listing import measured_words
from ulvar.desktop.models.model import Model
from ulvar.desktop.picture.canvas import Canvas
from ulvar.desktop.picture.foot import SkyFoot
from ulvar.desktop.picture.naming import Naming
from ulvar.desktop.picture.overlays import mask_words
from ulvar.desktop.picture.reading import loupe_words, read_out, star_at
from ulvar.desktop.picture.rings import APERTURE, Grip
from ulvar.desktop.picture.tools import ToolStrip, line_words, picture_part
from ulvar.engine import true_minus
from ulvar.inspection import region_statistics


class Shown(Protocol):
    """What is known of the picture on screen."""

    @property
    def plate(self) -> Wcs | None:
        """The solution that its pixels follow."""

    @property
    def saturation(self) -> float | None:
        """Where it saturates [ADU]."""

    @property
    def shows_product(self) -> bool:
        """Whether a product stands in the place of an exposure."""

    def on(self, key: str) -> bool:
        """Whether a toggle is on."""


class Instruments:
    """Measures on the canvas, and shows what comes of it in the strips and the read-out."""

    def __init__(
        self, shown: Shown, model: Model, naming: Naming, canvas: Canvas, strips: ToolStrip, foot: SkyFoot
    ) -> None:
        self._shown, self._model, self._naming = shown, model, naming
        self._canvas, self._strips, self._foot = canvas, strips, foot
        # The star whose profile stands in the strip while its rings are drawn.
        self._ringed: tuple[str, str] | None = None
        canvas.ring_drawn.connect(self.ring_drawn)
        canvas.ring_dropped.connect(self.ring_dropped)

    def pick_up(self, tool: str) -> None:
        """Take a tool in hand; the others are put away."""
        self._canvas.draw({"profile": "line", "box": "box", "pair": "line"}.get(tool, "pan"))
        self._strips.turn_to(tool)
        self._canvas.line = None
        if tool != "profile":
            self._strips.line.forget()
        self.tell_pair()
        if tool != "box":
            self._canvas.box = None
        self._canvas.update()

    def hovered(self, x: float, y: float) -> None:
        """Say what is under the cursor."""
        picture = self._canvas.picture
        if picture is None or picture.quick:
            return
        on_grid = self._naming.grid_of(self._model.current) is not None
        told = read_out(picture, x, y, None if on_grid else self._shown.plate)
        mask = self._canvas.overlay.mask
        if mask is not None and 0 <= round(y) < mask.shape[0] and 0 <= round(x) < mask.shape[1]:
            masked = mask_words(int(mask[round(y), round(x)]))
            told += f"   masked: {masked}" if masked else ""
        self._foot.read_out.setText(told)
        if self._shown.on("loupe"):
            words = loupe_words(picture, x, y, fwhm_px=self._usual_fwhm(), saturation_adu=self._shown.saturation)
            self._canvas.loupe = QPointF(x, y) if words else None
            self._canvas.loupe_words = words
            self._canvas.update()

    def look_closely(self, x: float, y: float) -> None:
        """Measure the star at a place of the picture and show it in the strip."""
        picture, facts = self._canvas.picture, self._model.facts(self._model.current)
        assert picture is not None
        wcs = self._model.plates().get(self._model.current)
        gain = facts.gain_e_per_adu if facts is not None and not self._shown.shows_product else None
        scale = wcs.scale_arcsec_px if wcs is not None else facts.scale_arcsec_px if facts is not None else None
        star = star_at(picture, x, y, fwhm_px=self._usual_fwhm(), saturation_adu=self._shown.saturation, gain=gain)
        self._strips.star.show_star(star, scale)

    def ring_drawn(self, grip: Grip, radii: tuple[float, float, float]) -> None:
        """Tell what the star whose ring is drawn gives in this aperture."""
        picture, facts = self._canvas.picture, self._model.facts(self._model.current)
        if picture is None or picture.quick or facts is None or self._shown.shows_product:
            return
        from ulvar.photometry import measure_apertures

        mark = grip.mark
        if self._shown.on("closeup"):
            if self._ringed != (self._model.current, mark.name):
                self.look_closely(mark.x, mark.y)
                self._ringed = self._model.current, mark.name
            self._strips.star.show_rings(radii)
        data = np.ascontiguousarray(picture.data, dtype=np.float32)
        found = measure_apertures(
            data, np.array([mark.x]), np.array([mark.y]), radius_px=radii[0], inner_px=radii[1], outer_px=radii[2],
            gain_e_per_adu=facts.gain_e_per_adu,
        )  # fmt: skip
        flux, error, sky = float(found.flux[0]), float(found.flux_error[0]), float(found.sky[0])
        words = f"{mark.name}: no light in this aperture"
        if flux > 0:
            words = f"{mark.name}: {thin(flux)}" + (
                f" ± {thin(error)} ADU, SNR {thin(flux / error)}" if error > 0 else " ADU"
            )
            told = self._on_the_catalogue(flux)
            words = true_minus(f"{words}{told}, {-2.5 * math.log10(flux):.3f} mag of 1 ADU, sky {sky:.1f}")
        self._foot.read_out.setText(words)

    def _on_the_catalogue(self, flux: float) -> str:
        """Return a flux in the catalogue's magnitudes, where this exposure's zero point is known."""
        series = self._model.series_of_exposure(self._model.current)
        product = self._model.products("standard").get(series.key) if series is not None else None
        file = self._model.numbers.measured_names().get(self._model.current, "")
        zero = product.values.get("zeros", {}).get(file) if product is not None else None
        if product is None or zero is None:
            return ""
        return f", {product.values['band']} {float(zero) - 2.5 * math.log10(flux):.3f}"

    def ring_dropped(self, grip: Grip, radii: tuple[float, float, float]) -> None:
        """Set aperture or annulus as they were drawn, undoably."""
        self._ringed = None
        settings = self._model.settings().measure
        unit = self._usual_fwhm() if settings.in_fwhm else 1.0
        values: dict[str, object] = (
            {"radius": round(radii[0] / unit, 3)}
            if grip.ring == APERTURE
            else {"inner_px": round(radii[1], 2), "outer_px": round(radii[2], 2)}
        )
        if grip.ring == APERTURE and settings.inner_px is None:
            # The annulus stays where it is seen: it would follow the aperture otherwise.
            values |= {"inner_px": round(radii[1], 2), "outer_px": round(radii[2], 2)}
        self._model.change_settings("measure", values)

    def _usual_fwhm(self) -> float:
        score = self._model.products("score").get(self._model.current)
        fwhm = score.values["fwhm_px"] if score is not None else None
        return float(fwhm) if fwhm else 3.0

    def line_drawn(self) -> None:
        """Take the drawn line for what the tool in hand measures."""
        if self._shown.on("pair"):
            self._measure_pair()
        else:
            self.profile()

    def _measure_pair(self) -> None:
        """Measure the stars at the ends of the drawn line."""
        if self._canvas.line is None:
            return
        raw = self._model.current
        ends = np.array([(p.x(), p.y()) for p in self._canvas.line])
        self._canvas.line = None
        if self._shown.shows_product:
            self._model.message.emit("Distances are measured in exposures: step to one (Left, Right).")
            return
        grid = self._naming.grid_of(raw)
        if grid is not None:
            ends = np.column_stack(grid.inverse()(ends[:, 0], ends[:, 1]))
        (x1, y1), (x2, y2) = ends.tolist()
        self._model.sky.draw_pair(raw, (x1, y1), (x2, y2))

    def tell_pair(self) -> None:
        """Say in the strip what is measured of the pair in the exposure on screen."""
        if not self._shown.on("pair"):
            return
        sky = self._model.sky
        row = sky.pair_here(self._model.current) if sky.pair is not None else ""
        words = (
            "Being measured…" if row is None or sky.measuring else row if isinstance(row, str) else measured_words(row)
        )
        words = words[:1].upper() + words[1:] + ("" if not words or words[-1] in ".…" else ".")
        self._strips.pair.tell(sky.problem or words, named=sky.pair is not None)

    def profile(self) -> None:
        """Plot the values along the drawn line."""
        picture = self._canvas.picture
        if self._canvas.line is None or picture is None or picture.quick or self._shown.on("pair"):
            return
        a, b = ((p.x(), p.y()) for p in self._canvas.line)
        self._strips.line.show_line(picture, self._canvas.second, a, b)
        self._foot.read_out.setText(line_words(a, b, self._shown.plate))

    def statistics(self) -> None:
        """Tell the numbers of the drawn rectangle."""
        box, picture = self._canvas.box, self._canvas.picture
        if box is None or picture is None or picture.quick:
            return
        part = picture_part(picture, (box.left(), box.top()), (box.right(), box.bottom()))
        told = region_statistics(part, saturation_adu=self._shown.saturation)
        self._strips.box.show_box(told, (part.shape[1], part.shape[0]))


def thin(value: float) -> str:
    """Return a whole number with thin spaces between thousands."""
    return f"{value:,.0f}".replace(",", "\u2009")
