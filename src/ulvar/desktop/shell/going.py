"""Going to places of the sky: by coordinates, by the name of a star, a mark or a body; and marking them."""

from __future__ import annotations

from dataclasses import replace
from functools import partial

import numpy as np
from PySide6.QtCore import QPointF

from ulvar.desktop.models.model import Model
from ulvar.desktop.models.starpick import add_stars
from ulvar.desktop.picture.tools import sexagesimal
from ulvar.desktop.picture.view import SkyView
from ulvar.desktop.shell.finder import Entry
from ulvar.photometry import ListedStar, StarListError, read_star_line

# Shorter words are no identifier.
_SHORTEST = 3
ROLE_WORDS = {"target": "Target", "comparison": "Comparison star", "check": "Check star"}


class Going:
    """Moves the picture to places, and offers what can be done with one that was typed."""

    def __init__(self, model: Model, sky: SkyView) -> None:
        self._model, self._sky = model, sky
        model.sky.star_found.connect(self._found)

    def _say(self, text: str) -> None:
        self._model.message.emit(text)

    def of_place(self, query: str) -> list[Entry]:
        """Return what can be done with a place on the sky that was typed."""
        try:
            star = read_star_line(query)
        except StarListError:
            return self._of_name(query)
        assert star.ra is not None and star.dec is not None
        words = f"{star.name} " if star.name else ""
        at = f"at {sexagesimal(star.ra, star.dec)}"
        roles = [star.role] if star.role else ["target", "comparison", "check"]
        entries = [
            Entry(f"{ROLE_WORDS[role]} {words}{at}", "", partial(self._add_star, replace(star, role=role))) for role in roles
        ]  # fmt: skip
        entries.append(Entry(f"Go to the place {at}", "", partial(self.to_sky, star.ra, star.dec)))
        if not star.role:
            entries.append(Entry(f"Mark {words}{at}", "", partial(self._mark, star.name, star.ra, star.dec)))
        return entries

    def _of_name(self, query: str) -> list[Entry]:
        """Offer to look a name up in the catalogue, where it may be one: identifiers have a number in them."""
        name = query.strip()
        if len(name) < _SHORTEST or not any(c.isdigit() for c in name) or self._model.night is None:
            return []
        return [Entry(f"Catalogue star {name}", "", lambda: self._say(self._model.sky.look_up(name)))]

    def _found(self, name: str, ra: float, dec: float) -> None:
        self._say(f"{name} is at {sexagesimal(ra, dec)}.")
        if self._sky.plate is not None:
            self.to_sky(ra, dec)

    def named(self) -> list[Entry]:
        """Return an entry for all that has a name on the sky."""
        model = self._model
        stars = model.night.stars() if model.night else []
        entries = [Entry(f"Star {star.name}", star.role, partial(self.to_star, star.name)) for star in stars]
        entries += [Entry(f"Place {m.name}", "mark", partial(self.to, f"mark {m.name}")) for m in model.sky.places()]
        bodies = [] if model.night is None else model.sky.bodies()[0]
        return entries + [Entry(f"Body {b.name}", "moving", partial(self.to, f"body {b.name}")) for b in bodies]

    def _add_star(self, star: ListedStar) -> None:
        self._model.set_station("measure")
        self._say(add_stars(self._model, [star]))

    def _mark(self, name: str, ra: float, dec: float) -> None:
        self._say(self._model.sky.mark_sky(name, ra, dec))
        if self._sky.plate is not None:
            self.to_sky(ra, dec)

    def to_sky(self, ra: float, dec: float) -> None:
        """Show a place on the sky [deg]."""
        wcs = self._sky.plate
        if wcs is None:
            self._say("This exposure is not solved yet (Plate).")
            return
        x, y = (float(v) for v in wcs.pixel(ra, dec))
        facts = self._model.facts(self._model.current)
        if facts is not None and not (-0.5 <= x < facts.width - 0.5 and -0.5 <= y < facts.height - 0.5):
            self._say(f"{sexagesimal(ra, dec)} is not in this exposure.")
            return
        self._show(x, y)

    def to(self, key: str) -> None:
        """Show what has a name: ``star NAME``, ``mark NAME``, ``body NAME`` or ``field NAME``."""
        kind, _, name = key.partition(" ")
        raw, sky = self._model.current, self._model.sky
        if kind == "field":
            found = self._model.field.place(name, raw)
        else:
            found = {
                "star": self._model.numbers.star_pixels, "mark": sky.place_pixels, "body": sky.body_pixels,
            }[kind](raw).get(name)  # fmt: skip
        facts = self._model.facts(raw)
        inside = (
            found is not None and facts is not None and 0 <= found[0] < facts.width and 0 <= found[1] < facts.height
        )
        if found is None or not inside:
            self._say(f"{name} has no place in this exposure.")
            return
        self._show(*found)

    def to_star(self, name: str) -> None:
        """Show a listed star, at Measure."""
        self._model.set_station("measure")
        place = self._model.numbers.star_pixels(self._model.current).get(name)
        if place is None:
            self._say(f"{name} has no place in this exposure yet: solve or align it first.")
            return
        self._show(*place)

    def _show(self, x: float, y: float) -> None:
        """Bring a place of the exposure [px] into the middle, enlarged."""
        sky = self._sky
        if sky.shows_product:
            sky.refresh()
        grid = sky.naming.grid_of(self._model.current)
        if grid is not None:
            x, y = (float(v[0]) for v in grid(np.array([x]), np.array([y])))
        canvas = sky.canvas
        canvas.look(QPointF(x, y), max(canvas.sight.scale, 2.0))
        canvas.moved.emit()
