"""Places on the sky that the user named: a pair of stars, marks, moving bodies; and what is measured of them."""

from __future__ import annotations

import math
from collections.abc import Sequence
from functools import partial
from pathlib import Path

from PySide6.QtCore import QObject, Signal

from ulvar.desktop.models import edits
from ulvar.desktop.models.ground import Ground
from ulvar.desktop.models.listing import listed_at, measured_words, star_at, stored_place
from ulvar.desktop.models.looking import Looking
from ulvar.desktop.models.numbers import Numbers
from ulvar.desktop.work.background import Asker
from ulvar.engine import Failed, reason_words
from ulvar.flows import FEW_STARS, MeasureOptions, MeasureTask, PairRow, PositionRow, doubts_of, pair_item, read_bodies
from ulvar.frames import Role
from ulvar.night.settings import PairSettings, PlaceSettings
from ulvar.night.stations import body_rows, keep_origin, pair_rows, star_origin, working_of
from ulvar.photometry import ListedStar, StarListError
from ulvar.registration import Transform

# A click so close to a mark takes it away [px].
_SAME_PX = 6.0


class SkyPlaces(QObject):
    """Knows where named places fall in each exposure.

    Attributes
    ----------
    changed : Signal
        The pair, marks, bodies, or what is measured of them.
    series_wanted : Signal
        The pair is to be measured in every exposure.
    star_found : Signal
        A star that was looked up: its name, and its place at the time of the exposure on screen [deg].
    problem : str
        Why the line that was drawn last led to no pair; empty where it did.
    """

    changed = Signal()
    series_wanted = Signal()
    # A star that was looked up: what the catalogue calls it, and where it is at the time of the exposure on screen [deg].
    star_found = Signal(str, float, float)

    def __init__(self, ground: Ground, looking: Looking, numbers: Numbers) -> None:
        super().__init__(ground)
        self._ground, self._looking, self._numbers = ground, looking, numbers
        self.problem = ""
        self.measuring = False
        self._here: dict[tuple[str, str], PairRow | str] = {}
        self._asker = Asker("pair")
        self._asker.found.connect(self._found)
        self._bodies: tuple[object, list[ListedStar], str] = (None, [], "")
        # What makes their places doubtful, in sentences.
        self.doubts: list[str] = []
        ground.settings_changed.connect(self.changed)
        ground.night_changed.connect(self._forget)
        ground.results_changed.connect(self._forget)

    def close(self) -> None:
        """End the thread that measures."""
        self._asker.close(wait=True)

    def _forget(self) -> None:
        self._here.clear()
        self.problem, self.measuring = "", False

    def _store(self, name: str, value: object, text: str) -> None:
        settings = self._ground.own_settings()
        setattr(settings.plate, name, value)
        self._ground.undo.push(edits.Choices(self._ground, settings, text))
        self.changed.emit()

    # ---- a pair of stars

    @property
    def pair(self) -> PairSettings | None:
        """The two stars whose separation is measured."""
        return self._ground.settings().plate.pair if self._ground.night is not None else None

    def draw_pair(self, raw: str, first: tuple[float, float], second: tuple[float, float]) -> None:
        """Measure two stars at about these places of an exposure [px], and name them the pair if there are two."""
        facts = self._ground.facts(raw)
        if facts is None or facts.role is not Role.LIGHT:
            self.problem = "Distances are measured in lights."
        elif math.dist(first, second) < 0.5:
            self.problem = "Drag from one star to the other."
        else:
            ends = tuple(ListedStar(n, "target", x=x, y=y) for n, (x, y) in (("first", first), ("second", second)))
            task = self._task(raw, ends)
            self.problem, self.measuring = "", True
            self._asker.ask(("drawn", raw), partial(pair_item, task))
        self.changed.emit()

    def forget_pair(self) -> str:
        """Name no pair any more, undoably; returns what to say."""
        if self.pair is None:
            return "No pair is named."
        self._store("pair", None, "forget the pair")
        return "The pair is forgotten."

    def pair_here(self, raw: str) -> PairRow | str | None:
        """Return the pair as it is measured in an exposure, or why it is not; None while that is being found out."""
        pair, facts = self.pair, self._ground.facts(raw)
        if pair is None or facts is None or facts.role is not Role.LIGHT:
            return ""
        known = self.pair_rows().get(raw)
        if known is not None:
            return known
        key = (raw, pair.model_dump_json())
        if key not in self._here:
            places = self.pair_pixels(raw).get(raw)
            if places is None:
                return "It is neither solved nor aligned: nobody knows where the pair is in it."
            if not self.measuring:
                self.measuring = True
                stars = [ListedStar(n, "target", x=x, y=y) for n, (x, y) in zip(("first", "second"), places)]
                self._asker.ask(key, partial(pair_item, self._task(raw, stars)))
            return None
        return self._here[key]

    def pair_pixels(self, raw: str) -> dict[str, tuple[tuple[float, float], tuple[float, float]]]:
        """Return where the pair is in an exposure, by its path: as it was measured there, else where it is expected; empty where nobody knows."""
        pair = self.pair
        if pair is None:
            return {}
        row = self._here.get((raw, pair.model_dump_json())) or self.pair_rows().get(raw)
        if isinstance(row, PairRow):
            (x1, x2), (y1, y2) = row.fit.x.tolist(), row.fit.y.tolist()
            return {raw: ((x1, y1), (x2, y2))}
        found = self._numbers.places_of(raw, [("1", pair.first.listed), ("2", pair.second.listed)])
        if len(found) == 2:
            return {raw: (found["1"], found["2"])}
        ends, shift = (pair.first, pair.second), self._shift(raw)
        if shift is None or any(end.x is None or end.y is None for end in ends):
            return {}
        first, second = (((end.x or 0.0) + shift[0], (end.y or 0.0) + shift[1]) for end in ends)
        return {raw: (first, second)}

    def _shift(self, raw: str) -> tuple[float, float] | None:
        """Return how far an exposure that shows too few stars to be aligned is moved [px], by its brightest star; None for any other.

        Fields of a double star at a long focus show little else.
        """
        night, series = self._ground.night, self._ground.series_of_exposure(raw)
        if night is None or series is None:
            return None
        origin = star_origin(night, series, self._ground.products("score"))
        tables = [self._looking.star_table(path) for path in (raw, origin)] if origin else []
        known = [table for table in tables if table is not None and 0 < len(table) <= FEW_STARS]
        if len(known) < 2:
            return None
        own, there = known
        return float(own.x[0] - there.x[0]), float(own.y[0] - there.y[0])

    def pair_rows(self) -> dict[str, PairRow]:
        """Return the pair in every exposure of the series where it was measured."""
        night, series = self._ground.night, self._ground.chosen_series()
        if night is None or series is None or self.pair is None:
            return {}
        key = f"pair rows {self.pair.model_dump_json()}"
        return self._ground.cached(key, lambda: pair_rows(night, series))

    def _task(self, raw: str, stars: Sequence[ListedStar]) -> MeasureTask:
        """Return the measuring of stars that are told in an exposure's own pixels."""
        night, series = self._ground.night, self._ground.series_of_exposure(raw)
        facts = self._ground.facts(raw)
        assert night is not None and facts is not None
        calibration = None
        if series is not None:
            ready = self._ground.cached(f"working {series.key}", lambda: working_of(night, series))
            facts = ready.facts.get(raw, facts)
            calibration = ready.calibrations.get(facts.path)
        score, table = self._ground.products("score").get(raw), self._looking.star_table(raw)
        fwhm = float(score.values["fwhm_px"] or math.nan) if score is not None else math.nan
        return MeasureTask(
            facts, tuple(stars), MeasureOptions(), None, self._ground.plates().get(raw), Transform.identity(), fwhm, table, Path(raw).name,
            calibration=calibration,
        )  # fmt: skip

    def _found(self, key: object, found: object) -> None:
        assert isinstance(key, tuple)
        if key[0] == "star":
            self._looked_up(str(key[1]), found)
            return
        self.measuring = False
        text = found.reason if isinstance(found, Failed) else found
        if key[0] != "drawn":
            self._here[key] = found if isinstance(found, PairRow) else str(text)
            self.changed.emit()
            return
        if not isinstance(found, PairRow):
            words = str(text)
            self.problem = f"{words[:1].upper()}{words[1:]}."
            self.changed.emit()
            return
        raw, ends = str(key[1]), found.fit
        stars = [
            listed_at(self._ground, self._looking, name, "target", (float(ends.x[k]), float(ends.y[k])), raw)
            for k, name in enumerate(("first", "second"))
        ]
        first, second = stars
        shift = self._shift(raw) if first is None or second is None else None
        if shift is not None:
            night, series = self._ground.night, self._ground.series_of_exposure(raw)
            assert night is not None and series is not None
            keep_origin(night, series, self._ground.products("score"))
            first, second = (
                ListedStar(name, "target", x=float(ends.x[k]) - shift[0], y=float(ends.y[k]) - shift[1])
                for k, name in enumerate(("first", "second"))
            )
        if first is None or second is None:
            self.problem = f"{measured_words(found)}. Score the exposures (Combine) to have it in every one."
            self.changed.emit()
            return
        pair = PairSettings(first=stored_place(first), second=stored_place(second))
        self._here[raw, pair.model_dump_json()] = found
        self._store("pair", pair, "name a pair of stars")

    # ---- stars of the catalogue

    def look_up(self, name: str) -> str:
        """Look for a star by what the catalogue calls it; returns what to say at once."""
        path = self._ground.settings().plate.catalogue if self._ground.night is not None else ""
        if not path:
            return "Choose a star catalogue first (Plate)."
        facts = self._ground.facts(self._ground.current)
        when = facts.mid_utc if facts is not None else None
        self._asker.ask(("star", name), partial(star_at, Path(path), name, when))
        return f"Looking for {name} in {Path(path).name}…"

    def _looked_up(self, name: str, found: object) -> None:
        if isinstance(found, tuple):
            self.star_found.emit(*found)
        else:
            told = f"{found}." if found else f"The catalogue has no star {name}."
            self._ground.message.emit(told)

    # ---- marks

    def places(self) -> list[PlaceSettings]:
        """Return the places that are marked."""
        return list(self._ground.settings().plate.places) if self._ground.night is not None else []

    def place_pixels(self, raw: str) -> dict[str, tuple[float, float]]:
        """Return where the marked places are in an exposure, by name."""
        return self._numbers.places_of(raw, [(one.name, one.listed) for one in self.places()])

    def mark_at(self, raw: str, place: tuple[float, float]) -> str:
        """Mark a place of an exposure [px], or take the mark away that is there; returns what to say."""
        for name, (x, y) in self.place_pixels(raw).items():
            if math.dist((x, y), place) <= _SAME_PX:
                return self.unmark(name)
        star = listed_at(self._ground, self._looking, self._free_name(), "target", place, raw)
        if star is None:
            return "Score the exposures first (Combine), so that the place can be carried to the others."
        self._store("places", [*self.places(), stored_place(star)], f"mark {star.name}")
        return f"{star.name} is marked in every exposure. Click on, or Esc ends."

    def mark_sky(self, name: str, ra: float, dec: float) -> str:
        """Mark a place on the sky [deg]; returns what to say."""
        if self._ground.night is None:
            return "Open a folder of exposures first."
        name = name or self._free_name()
        kept = [one for one in self.places() if one.name != name]
        self._store("places", [*kept, PlaceSettings(name=name, ra=ra, dec=dec)], f"mark {name}")
        return f"{name} is marked. It is seen where exposures are solved."

    def unmark(self, name: str) -> str:
        """Take a mark away; returns what to say."""
        kept = [one for one in self.places() if one.name != name]
        if len(kept) == len(self.places()):
            return f"There is no mark {name}."
        self._store("places", kept, f"take the mark {name} away")
        return f"The mark {name} was taken away."

    def rename(self, old: str, new: str) -> str:
        """Call a mark otherwise; returns what to say."""
        new = new.strip()
        names = [one.name for one in self.places()]
        if not new or new == old or old not in names:
            return ""
        if new in names:
            return f"There is a mark {new} already."
        changed = [one.model_copy(update={"name": new}) if one.name == old else one for one in self.places()]
        self._store("places", changed, f"call {old} {new}")
        return f"{old} is called {new} now."

    def _free_name(self) -> str:
        names = {one.name for one in self.places()}
        return next(f"place {i}" for i in range(1, 10_000) if f"place {i}" not in names)

    # ---- moving bodies

    def bodies(self) -> tuple[list[ListedStar], str]:
        """Return the moving bodies of the night's table over the series' time, and why there are none, in a sentence."""
        path = self._ground.settings().plate.bodies if self._ground.night is not None else ""
        if not path:
            return [], ""
        try:
            stamp = Path(path).stat().st_mtime_ns
        except OSError as error:
            return [], f"{Path(path).name}: {reason_words(error)}."
        series = self._ground.chosen_series()
        key = (path, stamp, series.key if series else "")
        if self._bodies[0] != key:
            members = self._ground.members()
            exposures = [facts for facts in self._ground.lights() if facts.path in members] or self._ground.lights()
            try:
                self._bodies = key, read_bodies(path, exposures), ""
                self.doubts = doubts_of(path, exposures)
            except StarListError as error:
                self._bodies = key, [], f"{error}."
        return self._bodies[1], self._bodies[2]

    def body_pixels(self, raw: str) -> dict[str, tuple[float, float]]:
        """Return where the bodies are in an exposure, by name: as they were measured, else where they are told to be."""
        wcs, facts = self._ground.plates().get(raw), self._ground.facts(raw)
        bodies, _ = self.bodies()
        if wcs is None or facts is None or not bodies:
            return {}
        measured = self.body_rows()
        result = {}
        for body in bodies:
            row = measured.get(body.name, {}).get(raw)
            if row is not None:
                result[body.name] = (row.fit.x, row.fit.y)
                continue
            x, y = (float(v) for v in wcs.pixel(*body.sky_at(facts.mid_utc)))
            if 0 <= x <= facts.width - 1 and 0 <= y <= facts.height - 1:
                result[body.name] = (x, y)
        return result

    def body_rows(self) -> dict[str, dict[str, PositionRow]]:
        """Return the bodies in every exposure of the series where they were measured."""
        night, series = self._ground.night, self._ground.chosen_series()
        if night is None or series is None:
            return {}
        key = f"body rows {self._ground.settings().plate.bodies}"
        return self._ground.cached(key, lambda: body_rows(night, series))
