"""Regions that the user draws on the picture: for a setting, or to leave out of star finding."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from ulvar.calibration import Region
from ulvar.desktop.models.model import Model
from ulvar.desktop.picture.canvas import Canvas
from ulvar.registration import PixelMap

_HOW = {
    "polygon": "Click the corners; a double click closes the polygon.",
    "circle": "Drag from the middle outwards.",
}


class RegionDrawing:
    """Takes a region off the canvas and gives it to the setting that wanted it."""

    def __init__(self, model: Model, canvas: Canvas, way: Callable[[str], PixelMap | None]) -> None:
        self._model, self._canvas, self._way = model, canvas, way
        self._setting = ""
        model.region_wanted.connect(self.begin)
        canvas.region_drawn.connect(self._rectangle_drawn)
        canvas.shape_drawn.connect(self._shape_drawn)

    @property
    def drawing(self) -> bool:
        """Whether a region is being drawn."""
        return self._setting != ""

    def begin(self, setting: str) -> None:
        """Let the user draw the region of a setting, or a region without star finding; an empty name calls it off."""
        self._setting = setting
        kind = setting.partition(":")[2]
        self._canvas.draw({"": "pan", "rectangle": "region"}.get(kind, kind) if kind or not setting else "region")
        if setting:
            self._model.message.emit(f"{_HOW.get(kind, 'Drag a rectangle on the picture.')} Esc calls it off.")

    def _rectangle_drawn(self, x0: int, y0: int, x1: int, y1: int) -> None:
        picture, setting = self._canvas.picture, self._setting
        self._setting = ""
        if picture is None or not setting:
            return
        if setting == "leave out:rectangle":
            self._model.looking.add_region("rectangle", [(x0, y0), (x1 - 1, y1 - 1)])
            return
        height, width = picture.shape
        region = Region(max(0, x0), max(0, y0), min(width, x1), min(height, y1))
        if not region.inside(width, height):
            return
        if setting == "part":
            self._take_part(region)
        elif setting == "overlays":
            known = self._model.settings().calibrate.overlays
            self._model.set_setting("calibrate", "overlays", [*known, region.text])
        else:
            self._model.set_setting("calibrate", setting, region.text)
        self._model.findings_changed.emit()
        self._model.station_changed.emit(self._model.station)

    def _take_part(self, region: Region) -> None:
        """Take the part of the reference exposure that a rectangle on the exposure on screen covers."""
        model = self._model
        base = next(iter(model.scores().values()), None)
        reference = base.values["reference"] if base is not None else ""
        raw = next((r for r, p in model.scores().items() if p.output == reference), "")
        facts, way = model.facts(raw), self._way(model.current)
        if facts is None or way is None:
            model.message.emit("A part is drawn on an aligned exposure: score the exposures first (Combine).")
            return
        x = np.array([region.x0, region.x1, region.x0, region.x1]) - 0.5
        y = np.array([region.y0, region.y0, region.y1, region.y1]) - 0.5
        u, v = way(x, y)
        edges = [round(float(e) + 0.5) for e in (u.min(), v.min(), u.max(), v.max())]
        limits = (facts.width, facts.height) * 2
        x0, y0, x1, y1 = (min(max(edge, 0), limit) for edge, limit in zip(edges, limits))
        if Region(x0, y0, x1, y1).inside(facts.width, facts.height):
            model.set_setting("combine", "part", Region(x0, y0, x1, y1).text)

    def _shape_drawn(self, kind: str, points: list[tuple[float, float]]) -> None:
        if kind != "box" and self._setting:
            self._setting = ""
            self._model.looking.add_region(kind, points)
