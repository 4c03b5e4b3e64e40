"""What Measure knows beside the series: apertures that were tried, candidates for comparison stars, the whole field."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from functools import partial

from PySide6.QtCore import QObject, Signal

from ulvar.desktop.models.ground import Ground
from ulvar.desktop.models.looking import Looking
from ulvar.desktop.models.numbers import Numbers
from ulvar.desktop.work.background import Asker
from ulvar.night.stations import Candidates, field_of, find_candidates, growths_of, proposal_of
from ulvar.photometry import ApertureProposal, Candidate, FieldSearch, Growth, ListedStar

# So many candidates are marked on the picture.
_MARKED = 40


class FieldStars(QObject):
    """Stars of the field that have no role yet, and the aperture that suits them.

    Attributes
    ----------
    changed : Signal
        Candidates are there, or others are to be marked.
    marking : str
        What is marked on the picture: ``comparisons``, ``field`` or nothing.
    chosen : str
        The candidate or star of the field that is looked at.
    """

    changed = Signal()

    def __init__(self, ground: Ground, looking: Looking, numbers: Numbers) -> None:
        super().__init__(ground)
        self._ground, self._looking, self._numbers = ground, looking, numbers
        self.marking = self.chosen = ""
        self._asked: object = None
        self._found: tuple[object, Candidates] | None = None
        self._asker = Asker("candidates")
        self._asker.found.connect(self._arrived)
        ground.series_changed.connect(self._forget)

    def close(self) -> None:
        """End the thread."""
        self._asker.close(wait=True)

    def _forget(self) -> None:
        self.chosen = ""

    # ---- apertures

    def growths(self) -> dict[str, Growth]:
        """Return raw path to what trying apertures there gave, the sharpest exposure first."""
        night, series = self._ground.night, self._ground.chosen_series()
        if night is None or series is None:
            return {}
        return self._ground.cached("growths", lambda: growths_of(night, series))

    def proposal(self) -> ApertureProposal | None:
        """Return the aperture that they speak for."""
        return self._ground.cached("aperture proposal", lambda: proposal_of(self.growths()))

    def take_proposal(self) -> str:
        """Set aperture and annulus as they are proposed, undoably; returns what to say."""
        proposal = self.proposal()
        if proposal is None:
            return "Try apertures first."
        values = {
            "radius": proposal.radius_fwhm, "in_fwhm": True, "inner_px": proposal.inner_px, "outer_px": proposal.outer_px,
        }  # fmt: skip
        if not self._ground.change_settings("measure", values):
            return ""
        return f"Aperture {proposal.radius_fwhm:g} FWHM, annulus {proposal.inner_px:g} to {proposal.outer_px:g} px."

    # ---- candidates

    def candidates(self) -> Candidates | None:
        """Return the candidates for comparison stars; None while they are looked for, `changed` tells when they are there."""
        night, series = self._ground.night, self._ground.chosen_series()
        if night is None or series is None:
            return Candidates(problem="Open a folder first.")
        targets = [star for star in night.stars(series) if star.role == "target"]
        key = (self._ground.order, series.key, tuple(targets), len(self._ground.left_out()))
        if self._found is not None and self._found[0] == key:
            return self._found[1]
        if self._asked != key:
            self._asked = key
            self._asker.ask(key, partial(find_candidates, night, series))
        return None

    def _arrived(self, key: object, found: object) -> None:
        if key != self._asked:
            return
        self._found = key, found if isinstance(found, Candidates) else Candidates(problem=f"{found}.")
        self.changed.emit()

    def candidate(self, name: str) -> Candidate | None:
        """Return a candidate by its name."""
        found = self.candidates()
        return next((c for c in found.found if candidate_name(c) == name), None) if found is not None else None

    def candidate_places(self, raw: str, candidates: Iterable[Candidate]) -> dict[str, tuple[float, float]]:
        """Return where candidates are in an exposure, by name."""
        stars = [(candidate_name(c), ListedStar("", "", x=c.x, y=c.y)) for c in candidates]
        return self._numbers.places_in_origin(raw, stars)

    def listed_at(self, raw: str, places: Mapping[str, tuple[float, float]]) -> dict[str, str]:
        """Return the names of the listed stars at places of an exposure, by the names of those; without those where there is none."""
        listed = self._numbers.star_pixels(raw)
        return {
            name: star
            for name, place in places.items()
            for star, (x, y) in listed.items()
            if (x - place[0]) ** 2 + (y - place[1]) ** 2 < 8**2
        }

    # ---- the field

    def field(self) -> FieldSearch | None:
        """Return the search of the field; None where there was none."""
        night, series = self._ground.night, self._ground.chosen_series()
        if night is None or series is None:
            return None
        return self._ground.cached("field", lambda: field_of(night, series))

    # ---- on the picture

    def mark(self, what: str, chosen: str = "") -> None:
        """Mark candidates or variable stars on the picture, one of them above all."""
        if (what, chosen) != (self.marking, self.chosen):
            self.marking, self.chosen = what, chosen
            self.changed.emit()

    def marks(self, raw: str) -> list[tuple[str, float, float, str]]:
        """Return what is marked in an exposure: name, place [px], and ``good``, ``bad`` or ``varies``."""
        stars: list[tuple[str, ListedStar]] = []
        kinds: dict[str, str] = {}
        if self.marking == "comparisons" and self._found is not None:
            for c in self._found[1].found[:_MARKED]:
                name = candidate_name(c)
                stars.append((name, ListedStar(name, "comparison", x=c.x, y=c.y)))
                kinds[name] = "good" if c.good else "bad"
        elif self.marking == "field" and (search := self.field()) is not None:
            for star in search.stars:
                name = star.verdict.name
                if star.varies or name == self.chosen:
                    stars.append((name, ListedStar(name, "check", x=star.x, y=star.y)))
                    kinds[name] = "varies" if star.varies else "good"
        places = self._numbers.places_in_origin(raw, stars)
        # A star with a role has its mark already.
        listed = self.listed_at(raw, places)
        return [
            (name, x, y, kinds[name]) for name, (x, y) in places.items() if name == self.chosen or name not in listed
        ]

    def place(self, name: str, raw: str) -> tuple[float, float] | None:
        """Return where a candidate or star of the field is in an exposure [px]."""
        star: tuple[float, float] | None = None
        candidate = self.candidate(name) if self.marking == "comparisons" else None
        if candidate is not None:
            star = candidate.x, candidate.y
        elif (search := self.field()) is not None:
            star = next(((s.x, s.y) for s in search.stars if s.verdict.name == name), None)
        if star is None:
            return None
        return self._numbers.places_in_origin(raw, [(name, ListedStar(name, "check", x=star[0], y=star[1]))]).get(name)


def candidate_name(candidate: Candidate) -> str:
    """Return what a candidate is called: its row among the stars of the reference, from the brightest."""
    return f"n{candidate.index + 1}"
