"""Which picture stands for an exposure: raw or calibrated, aligned, in colour; and what is said of it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from ulvar.desktop.models.model import Model
from ulvar.desktop.picture.pictures import Orders, aligned_path, colour_path, colours_of, difference_path
from ulvar.frames import ExposureFacts, FrameError, header_of, is_fits_path
from ulvar.frames.address import Address, split_address
from ulvar.registration import PixelMap, Transform
from ulvar.stars import StarTable


class Naming:
    """Names pictures by the station and the toggles.

    Parameters
    ----------
    model : Model
    on : callable
        Whether a toggle is on.
    """

    def __init__(self, model: Model, on: Callable[[str], bool]) -> None:
        self._model, self._on = model, on

    @property
    def _early(self) -> bool:
        """Whether the station is one at which exposures are shown as they were read."""
        return self._model.station in ("intake", "masters")

    def grid_of(self, raw: str) -> PixelMap | None:
        """Return the way onto the reference's pixels when exposures are shown aligned, else None."""
        if not self._on("aligned") or self._early:
            return None
        return self._model.looking.transform_of(raw)

    def way_to_reference(self, raw: str) -> PixelMap | None:
        """Return the way from the pixels that are shown of an exposure to the reference's; None where there is none."""
        return self._model.looking.transform_of(raw) if self.grid_of(raw) is None else Transform.identity()

    def stars_shown(self, raw: str) -> StarTable | None:
        """Return the stars of an exposure where its picture shows them; None where it is not scored."""
        table, grid = self._model.looking.star_table(raw), self.grid_of(raw)
        if table is None or grid is None:
            return table
        x, y = grid(table.x, table.y)
        return replace(table, x=x, y=y)

    def path_for(self, facts: ExposureFacts) -> str:
        """Return the picture to show for an exposure: its calibrated copy from Calibrate on, unless raw is asked for."""
        calibrated = self._model.products("calibrated").get(facts.path)
        grid = self.grid_of(facts.path)
        path = facts.path if calibrated is None or self._early else calibrated.output
        if calibrated is not None and not self._early:
            if self._on("difference"):
                return difference_path(facts.path, calibrated.output)
            if self._on("blink"):
                path = facts.path
        if grid is not None:
            path = aligned_path(path, grid, (facts.height, facts.width))
        return self.coloured(facts, path)

    @staticmethod
    def of_product(path: str) -> str:
        """Return the picture to show for a product: in colour where it holds red, green and blue."""
        if not is_fits_path(path) or split_address(path).plane is not None:
            return path
        try:
            coloured = header_of(path).get("CTYPE3") == "COLOUR"
        except FrameError:
            # What is wrong with it is told where it is read.
            return path
        return colour_path(Address(path, 0, 0).text, "planes") if coloured else path

    def coloured(self, facts: ExposureFacts, path: str) -> str:
        """Ask for the picture in colour where the exposure has any and the user wants it."""
        colours = colours_of(facts)
        return colour_path(path, colours) if colours and self._on("colour") else path

    def why_nothing(self, key: str) -> str:
        """Return why a toggle that was switched on shows nothing on this exposure; empty where it shows something."""
        model, raw = self._model, self._model.current
        if key == "deep" and model.looking.deep_view() is None:
            return "There is no deep view yet: make it with Ctrl+K, Make the deep view."
        if not raw:
            return ""
        if key in ("blink", "swipe", "difference"):
            if raw not in model.products("calibrated"):
                return "This exposure is not calibrated yet: there is no after (Calibrate)."
            return "Before and after are shown from Calibrate on." if self._early else ""
        if key == "aligned" and model.looking.transform_of(raw) is None:
            return "This exposure is not aligned yet: score the exposures first (Combine)."
        if key == "masks" and raw not in model.products("calibrated"):
            return "Pixels are masked by calibrating: this exposure is not calibrated yet."
        if key == "defects" and model.station not in ("masters", "calibrate"):
            return "Defects are shown at Masters and Calibrate."
        if key == "regions" and not model.looking.regions():
            return "No region is left out."
        if key == "apertures":
            if model.night is None or not model.night.stars():
                return "No star is chosen yet (Measure)."
            return "" if model.station in ("measure", "curve") else "Apertures are shown at Measure and Curve."
        if key in ("catalogue", "residuals") and raw not in model.products("plate"):
            return "This exposure is not solved yet (Plate)."
        return ""

    def told(self, facts: ExposureFacts, path: str) -> list[str]:
        """Return what the header says of an exposure and how it is shown."""
        bits = []
        if facts.start_utc:
            bits.append(f"{facts.start_utc:%H:%M:%S} UTC")
        if facts.exposure_s is not None:
            bits.append(f"{facts.exposure_s:g} s")
        if facts.filter:
            bits.append(facts.filter)
        airmass = self._model.numbers.metric_values("airmass").get(facts.path)
        if airmass:
            bits.append(f"airmass {airmass:.2f}")
        orders = Orders.of(path)
        if orders.other:
            bits.append("raw less calibrated")
        elif orders.file != facts.path:
            bits.append("calibrated")
        if orders.grid:
            bits.append("aligned")
        if facts.path in self._model.left_out():
            bits.append("left out")
        return bits
