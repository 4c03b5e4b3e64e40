"""The sky view: header with facts and toggles, the picture, tools, and a foot with stretch, histogram and read-out."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtWidgets import QVBoxLayout, QWidget

from ulvar.astrometry import Wcs
from ulvar.desktop.models.model import Model
from ulvar.desktop.parts.theme import Theme
from ulvar.desktop.picture.canvas import BEFORE_AFTER, Canvas
from ulvar.desktop.picture.cursor import KeyCursor
from ulvar.desktop.picture.foot import SkyFoot
from ulvar.desktop.picture.header import SkyHeader
from ulvar.desktop.picture.instruments import Instruments
from ulvar.desktop.picture.marks import Marks
from ulvar.desktop.picture.naming import Naming
from ulvar.desktop.picture.pictures import Orders, Picture, PictureLoader, colours_of
from ulvar.desktop.picture.regions import RegionDrawing
from ulvar.desktop.picture.stretch import Stretch
from ulvar.desktop.picture.tiles import Tiles
from ulvar.desktop.picture.tools import ToolStrip

_COMPARING = ("blink", "swipe", "difference")
_TOOLS = ("closeup", "profile", "box", "pair")
_AHEAD_MS = 30


class SkyView(QWidget):
    """The exposure with its marks."""

    star_clicked = Signal(float, float, object)

    def __init__(self, model: Model, theme: Theme) -> None:
        super().__init__()
        self._model = model
        self.theme = theme
        self.loader = PictureLoader(model.looking.picture_bytes)
        self.loader.loaded.connect(self._loaded)
        self.loader.masked.connect(self._masked)
        self._wanted = ""
        self._override = ""
        self._before = ""
        self._mask: tuple[str, np.ndarray | None] = ("", None)
        self.marks = Marks(model)
        # Narrower than its foot likes to be: that gives way.
        self.setMinimumWidth(280)
        self.setObjectName("skybar")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        self.header = SkyHeader(theme)
        self.header.toggled.connect(lambda key: self.toggle(key, from_button=True))
        self.header.chosen.connect(self.toggle)
        layout.addWidget(self.header)
        self.naming = Naming(model, self.on)
        self.canvas = Canvas(theme)
        self.canvas.clicked.connect(self._clicked)
        self.regions = RegionDrawing(model, self.canvas, lambda raw: None if self._override else self.naming.way_to_reference(raw))  # fmt: skip
        shown = lambda: None if self._override else self.naming.stars_shown(model.current)  # noqa: E731
        self.pointer = KeyCursor(self.canvas, shown)
        self.tiles = Tiles(self.canvas, theme)
        layout.addWidget(self.tiles.place, 1)
        self.tools = ToolStrip(theme)
        layout.addWidget(self.tools)
        self.foot = SkyFoot(theme)
        self.foot.changed.connect(self._stretched)
        self.instruments = Instruments(self, model, self.naming, self.canvas, self.tools, self.foot)
        self.canvas.hovered.connect(self.instruments.hovered)
        self.canvas.line_drawn.connect(lambda *_: self.instruments.line_drawn())
        self.canvas.shape_drawn.connect(lambda kind, _: self.instruments.statistics() if kind == "box" else None)
        layout.addWidget(self.foot)
        for signal in (model.preview_changed, model.stars_changed, model.settings_changed, model.looking.star_chosen,
                       model.curves.changed, model.stacks.pixel_chosen, model.pointing.changed, model.sky.changed, model.field.changed):  # fmt: skip
            signal.connect(self._marks)
        model.current_changed.connect(self.refresh)
        model.station_changed.connect(lambda _: self.refresh())
        model.results_changed.connect(self._results)
        model.selection_changed.connect(self.refresh)
        model.brush_changed.connect(self._tile)
        model.station_changed.connect(self.header.show_for)
        self._tile_count = 1
        # Reading ahead waits until the exposure is painted: both want Python's lock.
        self._ahead = QTimer(self)
        self._ahead.setSingleShot(True)
        self._ahead.setInterval(_AHEAD_MS)
        self._ahead.timeout.connect(self._read_ahead)
        self.header.show_for(model.station)

    def on(self, key: str) -> bool:
        """Whether a toggle is on."""
        return self.header.toggles[key].isChecked()

    # ---- what is shown

    @property
    def plate(self) -> Wcs | None:
        """The solution that the pixels on screen follow: that of the current exposure, unless it is another picture."""
        return None if self._override else self._model.plates().get(self._model.current)

    @property
    def shows_product(self) -> bool:
        """Whether a master, a stack or the deep view stands in the place of the current exposure."""
        return bool(self._override)

    @property
    def product(self) -> str:
        """The file of the product that stands in the exposure's place; empty without one."""
        return self._override

    def show_file(self, path: str, title: str, beside: str = "", beside_title: str = "") -> None:
        """Show a product (a master, a stack) in the place of the current exposure; another one left of a border to drag."""
        self._override = path
        self.header.say(title)
        self.header.facts.set_words("")
        self.canvas.sides = (beside_title, title) if beside else BEFORE_AFTER
        self._request(self.naming.of_product(path), self.naming.of_product(beside) if beside else "")

    def show_anew(self, path: str, title: str) -> None:
        """Show a product that was written anew under its name."""
        self.loader.forget()
        self._wanted = ""
        self.show_file(path, title)

    def refresh(self) -> None:
        """Show the current exposure."""
        self._override = ""
        self.canvas.sides = BEFORE_AFTER
        deep = self._model.looking.deep_view()
        self._model.looking.deep_shown = self.on("deep") and deep is not None
        if deep is not None and self._model.looking.deep_shown:
            self.show_file(deep.output, f"Deep view of {deep.values['count']}")
            self.header.facts.set_words("marks placed here count for every exposure")
            return
        facts = self._model.facts(self._model.current)
        if facts is None:
            self.header.say("")
            self.header.facts.set_words("")
            self._wanted = ""
            self.canvas.set_picture(None, "")
            self.foot.show_picture(None, "", None)
            return
        self.header.say(facts.stem)
        path = self.naming.path_for(facts)
        self.header.offer_colour(self._has_colour)
        self.header.facts.set_words(", ".join(self.naming.told(facts, path)))
        self._request(path)

    @property
    def _has_colour(self) -> bool:
        facts = self._model.facts(self._model.current)
        return facts is not None and bool(colours_of(facts))

    def _request(self, path: str, beside: str = "") -> None:
        self._before = beside
        if self.on("swipe") and not self._override:
            facts = self._model.facts(self._model.current)
            before = self.naming.coloured(facts, facts.path) if facts is not None else ""
            if before != path and Orders.of(path).as_stored:
                self._before = before
        if not self._before:
            self.canvas.second = None
            self.foot.histogram.second = None
        picture = self.canvas.picture
        there = path == self._wanted and picture is not None and picture.path == path and not picture.quick
        self._wanted = path
        self._marks()
        self._tile()
        # Another station shows the same picture as a rule: only marks differ.
        if not there or self._before:
            self.loader.request(path, self._before)

    def _loaded(self, path: str, result: object) -> None:
        self.tiles.arrived(path, result)
        if path == self._before and isinstance(result, Picture):
            same = self.canvas.picture is None or self.canvas.picture.shape == result.shape
            self.canvas.second = result if same else None
            if not same and self._override:
                self.header.facts.set_words("the other one has another size: they cannot be laid over each other")
            self.canvas.second_stretch = self.foot.beside(result)
            self.instruments.profile()
            self.canvas.update()
        if path != self._wanted:
            return
        if isinstance(result, Picture):
            self.canvas.stretch = self.foot.show_picture(result, self._kind(path), self.saturation)
            self.canvas.set_picture(result)
            self.tiles.restretch()
            if result.quick:
                return
            self._turn()
            self.instruments.profile()
            self.instruments.statistics()
            if self.on("masks"):
                self._marks()
            self._ahead.start()
        else:
            self.canvas.set_picture(None, f"{Path(Orders.of(path).file).name}: {result}")
            self.foot.show_picture(None, "", None)

    def _read_ahead(self) -> None:
        """Read the exposures beside the one on screen, so that stepping finds them there."""
        if self._override:
            return
        near = self._model.neighbours((1, 2, -1))
        known = (self._model.facts(path) for path in near)
        self.loader.prefetch([self.naming.path_for(facts) for facts in known if facts is not None])
        if self.on("stars") or self._model.station == "combine":
            self._model.looking.read_tables_ahead(near)

    @property
    def shown_path(self) -> str:
        """Name of the picture that is asked for."""
        return self._wanted

    @property
    def settled(self) -> bool:
        """Whether the exposure that was asked for is on screen, or could not be read."""
        picture = self.canvas.picture
        return self.canvas.problem != "" or (picture is not None and picture.path == self._wanted and not picture.quick)

    def _kind(self, path: str) -> str:
        """Levels set by hand hold for all exposures of a kind, so that a cloud or dawn shows as what it is."""
        facts = self._model.facts(self._model.current)
        if self._override:
            return self._override
        kind = "calibrated" if facts is not None and Orders.of(path).file != facts.path else "raw"
        if self.on("difference"):
            kind = "difference"
        return f"{kind} {facts.role.value if facts else ''} {facts.filter if facts else ''}"

    @property
    def saturation(self) -> float | None:
        """Where the picture that is asked for saturates [ADU], or None when that is not known."""
        facts = self._model.facts(self._model.current)
        return None if self._override or facts is None or self.on("difference") else facts.saturation_adu

    def _results(self) -> None:
        self.loader.forget()
        self.foot.forget()
        self.marks.forget()
        # Products may have been renewed under the same name.
        self._mask, self._wanted = ("", None), ""
        self.refresh()

    def _stretched(self, stretch: Stretch) -> None:
        self.canvas.stretch = stretch
        self.tiles.same_levels = self.foot.keep.isChecked()
        self.tiles.restretch()
        self.canvas.update()

    def auto_levels(self) -> None:
        """Choose floor and ceiling anew."""
        self.foot.auto_levels()

    # ---- toggles and marks

    def toggle(self, key: str, *, from_button: bool = False) -> None:
        """Switch one of the header's toggles."""
        button = self.header.toggles[key]
        if button.isCheckable() and not from_button:
            button.setChecked(not button.isChecked())
        nothing = self.naming.why_nothing(key) if button.isChecked() else ""
        if nothing:
            self._model.message.emit(nothing)
        if key == "fit":
            self.canvas.fit()
        elif key == "invert":
            self.foot.invert(button.isChecked())
        elif key in _COMPARING:
            # One way of comparing at a time.
            self._alone(key, _COMPARING)
            self.refresh()
        elif key == "deep" and nothing:
            button.setChecked(False)
        elif key == "colour":
            if self._model.current and not self._override and not self._has_colour:
                self._model.message.emit("This exposure is grey: its header names no Bayer (CFA) pattern.")
            self.refresh()
        elif key in ("aligned", "deep"):
            self.refresh()
        elif key in _TOOLS:
            self._alone(key, _TOOLS)
            self.instruments.pick_up(key if button.isChecked() else "")
        elif key == "loupe":
            self.canvas.loupe = None
            self.canvas.update()
        elif key == "north":
            self._turn(tell=True)
        else:
            self._marks()

    def _alone(self, key: str, group: tuple[str, ...]) -> None:
        for other in group:
            if other != key and self.header.toggles[key].isChecked():
                self.header.toggles[other].setChecked(False)

    def _turn(self, *, tell: bool = False) -> None:
        """Bring north up and east left, or image rows up again."""
        wcs = self.plate
        if not self.on("north"):
            self.canvas.turn(0.0, False)
        elif wcs is None or self.naming.grid_of(self._model.current) is not None:
            self.canvas.turn(0.0, False)
            # Said when it is asked for, not again at every exposure that is stepped to.
            if tell:
                self._model.message.emit("North is known once the plate is solved (Plate).")
        else:
            facts = self._model.facts(self._model.current)
            assert facts is not None
            self.canvas.turn(*wcs.north_up((facts.width - 1) / 2, (facts.height - 1) / 2))
        self.tiles.restretch()

    def _marks(self) -> None:
        raw = self._model.current
        shown = {key for key in self.header.toggles if self.on(key)}
        if self._override:
            overlay = self.marks.of_product(self._override, shown)
        else:
            overlay = self.marks.overlay(raw, shown, self.naming.grid_of(raw))
            if "masks" in shown:
                overlay.saturation = self.saturation
                overlay.mask = self._mask_of(self._wanted)
        self.canvas.overlay = overlay
        self.instruments.tell_pair()
        self.canvas.update()

    def _mask_of(self, path: str) -> np.ndarray | None:
        if self._mask[0] != path and self.canvas.picture is not None and self.canvas.picture.path == path:
            self._mask = (path, None)
            self.loader.request_mask(path, self.canvas.picture.shape)
        return self._mask[1] if self._mask[0] == path else None

    def _masked(self, path: str, mask: object) -> None:
        if path == self._mask[0] and isinstance(mask, np.ndarray):
            self._mask = (path, mask)
            self._marks()

    def tile(self, count: int) -> None:
        """Show so many exposures side by side: the current one and the brushed ones, or those that follow."""
        self._tile_count = count
        self._tile()

    def next_tiling(self) -> None:
        """One, two, four, and one again."""
        self.tile({1: 2, 2: 4}.get(self._tile_count, 1))

    def _tile(self) -> None:
        names, titles = [], []
        if self._tile_count > 1 and not self._override:
            near = [p for p in self._model.brushed if p != self._model.current]
            near = near or self._model.alike(self._tile_count - 1)
            for path in near[: self._tile_count - 1]:
                facts = self._model.facts(path)
                if facts is not None:
                    names.append(self.naming.path_for(facts))
                    titles.append(facts.stem)
        self.tiles.ask(names, titles)
        for name in names:
            self.loader.prefetch_now(name)

    # ---- stars and clicks

    def stars_of(self, raw: str):  # type: ignore[no-untyped-def]
        """Return the detected stars of an exposure, or None when it is not scored."""
        return self._model.looking.star_table(raw)

    def _clicked(self, x: float, y: float) -> None:
        if self.on("closeup") and self.canvas.picture is not None and not self.canvas.picture.quick:
            self.instruments.look_closely(x, y)
        near = self.nearest_star(x, y)
        if self.on("stars") and near is not None:
            self._model.looking.choose_star(near)
        self.star_clicked.emit(x, y, near)

    def nearest_star(self, x: float, y: float) -> tuple[float, float] | None:
        """Return the detected star, in the exposure's own pixels, within 14 screen pixels of a place of the picture."""
        table, shown = self.stars_of(self._model.current), self.naming.stars_shown(self._model.current)
        if table is None or shown is None or not len(table) or self._override:
            return None
        distance = np.hypot(shown.x - x, shown.y - y)
        k = int(np.argmin(distance))
        return (float(table.x[k]), float(table.y[k])) if distance[k] * self.canvas.sight.scale < 14 else None

    def set_theme(self, theme: Theme) -> None:
        """Take another theme."""
        self.theme = self.canvas.theme = theme
        for part in (self.tools, self.foot, self.tiles, self.header):
            part.set_theme(theme)  # type: ignore[attr-defined]
        self.canvas.update()

    def close_loader(self) -> None:
        """End the reading thread."""
        self._ahead.stop()
        self.loader.close()
