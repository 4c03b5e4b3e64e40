"""Regions that the user draws on the picture: for a setting, or to leave out of star finding."""

from __future__ import annotations

from ulvar.calibration import Region
from ulvar.desktop.models.model import Model
from ulvar.desktop.picture.canvas import Canvas

_HOW = {
    "polygon": "Click the corners; a double click closes the polygon.",
    "circle": "Drag from the middle outwards.",
}


class RegionDrawing:
    """Takes a region off the canvas and gives it to the setting that wanted it."""

    def __init__(self, model: Model, canvas: Canvas) -> None:
        self._model, self._canvas = model, canvas
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
        if setting == "overlays":
            known = self._model.settings().calibrate.overlays
            self._model.set_setting("calibrate", "overlays", [*known, region.text])
        else:
            self._model.set_setting("calibrate", setting, region.text)
        self._model.findings_changed.emit()
        self._model.station_changed.emit(self._model.station)

    def _shape_drawn(self, kind: str, points: list[tuple[float, float]]) -> None:
        if kind != "box" and self._setting:
            self._setting = ""
            self._model.looking.add_region(kind, points)
