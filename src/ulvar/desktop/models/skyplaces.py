"""Places on the sky that the user named: a pair of stars, marks, moving bodies; and what is measured of them."""

from __future__ import annotations

import math
from collections.abc import Sequence
from datetime import datetime
from functools import partial
from pathlib import Path

import numpy as np
from PySide6.QtCore import QObject, Signal

from ulvar.astrometry import CatalogueError, StarCatalogue, load_catalogue, star_by_id
from ulvar.desktop.models import edits
from ulvar.desktop.models.ground import Ground
from ulvar.desktop.models.looking import Looking
from ulvar.desktop.models.numbers import Numbers
from ulvar.desktop.work.background import Asker
from ulvar.engine import Failed
from ulvar.flows import MeasureOptions, MeasureTask, PairRow, PositionRow, pair_item, read_bodies
from ulvar.frames import Role
from ulvar.lightcurves import julian_year
from ulvar.night.settings import PairSettings, PlaceSettings
from ulvar.night.stations import body_rows, keep_origin, pair_rows, working_of
from ulvar.photometry import ListedStar, StarListError
from ulvar.registration import Transform

# A click so close to a mark takes it away [px].
_SAME_PX = 6.0


def listed_at(
    ground: Ground, looking: Looking, name: str, role: str, place: tuple[float, float], shown: str = ""
) -> ListedStar | None:
    """Return a star for a list, on the sky where the exposure is solved, else on the reference; None without either.

    Parameters
    ----------
    ground : Ground
    looking : Looking
    name, role : str
    place : (float, float)
        In the exposure [px].
    shown : str
        The exposure; the one on screen unless given.
    """
    shown = shown or looking.at_hand()
    wcs = ground.plates().get(shown)
    if wcs is not None:
        ra, dec = wcs.sky(*place)
        return ListedStar(name, role, ra=float(ra), dec=float(dec))
    transform, series = looking.way_to_stars(shown), ground.series_of_exposure(shown)
    if transform is None or series is None or ground.night is None:
        return None
    keep_origin(ground.night, series, ground.products("score"))
    x, y = transform(np.array([place[0]]), np.array([place[1]]))
    return ListedStar(name, role, x=float(x[0]), y=float(y[0]))


def _stored(star: ListedStar) -> PlaceSettings:
    return PlaceSettings(name=star.name, ra=star.ra, dec=star.dec, x=star.x, y=star.y)


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
        settings = self._ground.settings()
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
            task = self._task(raw, ends, own_pixels=True)
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
            if raw not in self.pair_pixels(raw):
                return "It is neither solved nor aligned: nobody knows where the pair is in it."
            if not self.measuring:
                self.measuring = True
                stars = pair.first.listed, pair.second.listed
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
        return {raw: (found["1"], found["2"])} if len(found) == 2 else {}

    def pair_rows(self) -> dict[str, PairRow]:
        """Return the pair in every exposure of the series where it was measured."""
        night, series = self._ground.night, self._ground.chosen_series()
        if night is None or series is None or self.pair is None:
            return {}
        key = f"pair rows {self.pair.model_dump_json()}"
        return self._ground.cached(key, lambda: pair_rows(night, series))

    def _task(self, raw: str, stars: Sequence[ListedStar], *, own_pixels: bool = False) -> MeasureTask:
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
        way = Transform.identity() if own_pixels else self._looking.way_to_stars(raw)
        return MeasureTask(
            facts, tuple(stars), MeasureOptions(), None, self._ground.plates().get(raw), way, fwhm, table, Path(raw).name,
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
        if first is None or second is None:
            self.problem = f"{measured_words(found)}. Score the exposures (Combine) to have it in every one."
            self.changed.emit()
            return
        pair = PairSettings(first=_stored(first), second=_stored(second))
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
        self._asker.ask(("star", name), partial(_star_at, Path(path), name, when))
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
        self._store("places", [*self.places(), _stored(star)], f"mark {star.name}")
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
            return [], f"{Path(path).name}: {error.strerror or error}."
        series = self._ground.chosen_series()
        key = (path, stamp, series.key if series else "")
        if self._bodies[0] != key:
            members = self._ground.members()
            exposures = [facts for facts in self._ground.lights() if facts.path in members] or self._ground.lights()
            try:
                self._bodies = key, read_bodies(path, exposures), ""
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


def _star_at(path: Path, name: str, when: datetime | None) -> tuple[str, float, float] | str:
    """Return a star of a catalogue with its place at a time, or why it cannot be looked for; empty where there is none."""
    try:
        if path.is_dir():
            star = star_by_id(path, name)
            if star is None:
                return ""
            called, *numbers = star
        else:
            stars = load_catalogue(path, ids=True)
            plain = ["".join(str(i).split()).lower() for i in stars.ids] if stars.ids is not None else []
            wanted = "".join(name.split()).lower()
            if wanted not in plain:
                return ""
            k = plain.index(wanted)
            called = str(stars.ids[k]) if stars.ids is not None else name
            numbers = [float(v[k]) for v in (stars.ra, stars.dec, stars.epoch, stars.pmra, stars.pmdec)]
    except CatalogueError as error:
        return str(error)
    ra, dec, epoch, pmra, pmdec = (np.array([v]) for v in numbers)
    one = StarCatalogue(ra, dec, epoch, np.nan_to_num(pmra), np.nan_to_num(pmdec), np.array([math.nan]))
    if when is not None and math.isfinite(float(epoch[0])):
        one = one.at_epoch(julian_year(when))
    return called, float(one.ra[0]), float(one.dec[0])


def measured_words(row: PairRow) -> str:
    """Return a measured pair in words: separation and angle with their errors, difference in brightness."""
    apart, error, angle, angle_error = row.measured
    unit, way = ("″", "position angle") if row.sky is not None else (" px", "angle from +x")
    places = max(0, min(4, 1 - math.floor(math.log10(max(error, 1e-9)))))
    turns = max(0, min(4, 1 - math.floor(math.log10(max(angle_error, 1e-9)))))
    difference, of_difference = row.fit.difference_mag
    text = (
        f"{apart:.{places}f}{unit} ± {error:.{places}f}{unit}, {way} {angle:.{turns}f}° ± {angle_error:.{turns}f}°, "
        f"difference {difference:+.3f} ± {of_difference:.3f} mag"
    )
    return text.replace("-", "−")
