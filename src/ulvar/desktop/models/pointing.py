"""Pointing in exposures: a moving body, and the stars that an exposure which does not match has in common with another."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
from PySide6.QtCore import QObject, Signal

from ulvar.desktop.models import edits
from ulvar.desktop.models.ground import Ground
from ulvar.desktop.models.looking import Looking
from ulvar.desktop.models.skyplaces import SkyPlaces
from ulvar.engine import Failed, counted
from ulvar.flows import straight_or_bent
from ulvar.frames import Role
from ulvar.night.settings import CommonSettings, MarkSettings
from ulvar.registration import match_pointed

# A click so close to a mark takes it away [px].
_SAME_PX = 4.0
_NEXT = "Go to another exposure (Left, Right) and click it there, too. Esc ends."


class Pointing(QObject):
    """What a click on the picture is taken for while the user points something out.

    Attributes
    ----------
    mode : str
        ``body``, ``place`` (a place on the sky), ``here`` (a star of the exposure that is not aligned), ``there`` (the same star in another one), or empty.
    changed : Signal
        Another mode, or other marks.
    wanted : Signal
        The path of the exposure that is to be shown.
    aligned : Signal
        Common stars are known by which an exposure can be aligned: the scores are to be made anew.
    """

    changed = Signal()
    wanted = Signal(str)
    aligned = Signal()

    def __init__(self, ground: Ground, looking: Looking, sky: SkyPlaces) -> None:
        super().__init__(ground)
        self._ground, self._looking, self._sky = ground, looking, sky
        self.mode = ""
        self._helped = ""
        self._here: tuple[float, float] | None = None
        self._pairs: list[tuple[float, float, float, float]] = []
        self._other = ""
        ground.night_changed.connect(self.end)
        ground.series_changed.connect(self.end)

    def end(self) -> None:
        """Take clicks for what they are again."""
        if self.mode:
            self.mode, self._here, self._pairs = "", None, []
            self.changed.emit()

    # ---- a moving body

    def marks(self) -> dict[str, tuple[float, float]]:
        """Raw path to where the body is marked, in the exposures of the series."""
        members = self._ground.members()
        return {m.file: (m.x, m.y) for m in self._ground.settings().combine.body_marks if m.file in members}

    def begin_body(self) -> str:
        """Let the user mark a moving body; returns what to say."""
        if self._ground.chosen_series() is None:
            return "Open a folder of exposures first."
        self._begin("body")
        return "Click the moving body in an exposure. Esc ends."

    def forget_body(self) -> str:
        """Take all its marks away, undoably; returns what to say."""
        marked = self.marks()
        if not marked:
            return "No moving body is marked."
        known = self._ground.settings().combine.body_marks
        self._store("body_marks", [m for m in known if m.file not in marked], "forget the moving body")
        return f"The marks of the moving body were taken away: {len(marked)}."

    def body_place(self, raw: str) -> tuple[float, float, bool] | None:
        """Return where the body is in an exposure, and whether it is marked there; None where nobody knows."""
        marked = self.marks()
        if raw in marked:
            return (*marked[raw], True)
        known = [(path, place) for path, place in marked.items() if self._time(path) is not None]
        own, when = self._looking.transform_of(raw), self._time(raw)
        ways = [self._looking.transform_of(path) for path, _ in known]
        if len(known) < 2 or own is None or when is None or any(way is None for way in ways):
            return None
        on_reference = [way(*(np.array([v]) for v in place)) for way, (_, place) in zip(ways, known) if way is not None]
        times = [t for path, _ in known if (t := self._time(path)) is not None]
        every = [t for path in self._ground.members() if (t := self._time(path)) is not None]
        way = straight_or_bent(times, [(float(x[0]), float(y[0])) for x, y in on_reference], every)
        if isinstance(way, Failed):
            return None
        x, y = own.inverse()(*(np.array([v]) for v in way(when)))
        return float(x[0]), float(y[0]), False

    def _time(self, raw: str):  # type: ignore[no-untyped-def]
        facts = self._ground.facts(raw)
        return None if facts is None else facts.mid_utc

    def _mark(self, raw: str, place: tuple[float, float]) -> str:
        if raw not in self._ground.members():
            return f"This exposure is not of {self._ground.series_name()}."
        known = self._ground.settings().combine.body_marks
        others = [m for m in known if m.file != raw]
        before = self.marks().get(raw)
        if before is not None and math.dist(before, place) <= _SAME_PX:
            self._store("body_marks", others, "take a mark of the moving body away")
            return "The mark was taken away."
        self._store("body_marks", [*others, MarkSettings(file=raw, x=place[0], y=place[1])], "mark the moving body")
        count = len(self.marks())
        words = f"Marked in {counted(count, 'exposure')}."
        return f"{words} {_NEXT}" if count < 2 else f"{words} The next stack gets one on the body, too. Esc ends."

    # ---- a place on the sky

    def begin_place(self) -> str:
        """Let the user mark places where nothing need be seen; returns what to say."""
        if self._ground.night is None or not self._ground.lights():
            return "Open a folder of exposures first."
        self._begin("place")
        return "Click a place: it is marked in every exposure. A click on a mark takes it away. Esc ends."

    # ---- common stars

    def why_not_common(self) -> str:
        """Why no common star can be pointed out in the exposure on screen; empty where one can."""
        raw = self._ground.current
        score = self._ground.scores().get(raw)
        if score is None:
            return "Score the exposures first (Combine)."
        if score.values["matrix"] is not None:
            return "This exposure is aligned: nothing need be pointed out."
        return "" if self._reference() else "No exposure of the series is aligned."

    def begin_common(self) -> str:
        """Let the user point out a star that the exposure on screen and the reference show; returns what to say."""
        why = self.why_not_common()
        if why:
            return why
        self._helped, self._pairs, self._other = self._ground.current, [], ""
        self._begin("here")
        return "Click a star here that the reference shows, too. Esc ends."

    def _reference(self) -> str:
        scores = self._ground.scores()
        base = next((str(p.values["reference"]) for p in scores.values()), "")
        return next((raw for raw, p in scores.items() if p.output == base and p.values["matrix"] is not None), "")

    def _point_here(self, raw: str, place: tuple[float, float]) -> str:
        if raw != self._helped:
            return f"Click the star in {Path(self._helped).name}, which is not aligned. Esc ends."
        self._here = place
        self._begin("there")
        self.wanted.emit(self._other or self._reference())
        return "Now click the same star here. Esc ends."

    def _point_there(self, raw: str, place: tuple[float, float]) -> str:
        score = self._ground.scores().get(raw)
        if raw == self._helped or score is None or score.values["matrix"] is None:
            return "Click the same star in an exposure that is aligned. Esc ends."
        if self._other and raw != self._other:
            return f"Both stars are to be clicked in {Path(self._other).name}. Esc ends."
        assert self._here is not None
        self._other = raw
        self._pairs.append((*self._here, *place))
        own, others = self._looking.star_table(self._helped), self._looking.star_table(raw)
        if own is None or others is None:
            self.end()
            return "The stars of these exposures are not known: score them again."
        found = match_pointed(
            np.column_stack([own.x, own.y]), np.column_stack([others.x, others.y]), [((a, b), (c, d)) for a, b, c, d in self._pairs],
            source_snr=own.snr, target_snr=others.snr,
        )  # fmt: skip
        helped = self._helped
        if isinstance(found, Failed):
            if len(self._pairs) < 2:
                self._begin("here")
                self.wanted.emit(helped)
                return f"{found.reason[:1].upper()}{found.reason[1:]}: click it here. Esc ends."
            self.end()
            return f"{Path(helped).name} stays as it is: {found.reason}."
        known = [c for c in self._ground.settings().combine.common if c.file != helped]
        pointed = CommonSettings(file=helped, other=raw, pairs=list(self._pairs))
        self._store("common", [*known, pointed], "point out common stars")
        self.end()
        self.wanted.emit(helped)
        self.aligned.emit()
        return f"{Path(helped).name} is aligned by {counted(found.matched, 'common star')}; the scores are made anew."

    # ---- the reference

    def take_reference(self) -> str:
        """Have stacks lie on the pixels of the exposure on screen, or on those of the best again; returns what to say."""
        raw, known = self._ground.current, self._ground.settings().combine.reference
        score = self._ground.scores().get(raw)
        if raw == known:
            self._store("reference", "", "take the best exposure as the reference")
            return "The best exposure is the reference again."
        if score is None or score.values["matrix"] is None:
            return "An aligned exposure of the series can be the reference."
        self._store("reference", raw, "take another reference")
        return f"The next stack lies on the pixels of {Path(raw).name}."

    # ---- clicks

    def click(self, raw: str, place: tuple[float, float]) -> str:
        """Take a click in an exposure, in its own pixels; returns what to say."""
        facts = self._ground.facts(raw)
        if facts is None or facts.role is not Role.LIGHT:
            return "Point at a light."
        take = {"body": self._mark, "place": self._sky.mark_at, "here": self._point_here, "there": self._point_there}[
            self.mode
        ]
        return take(raw, place)

    def _begin(self, mode: str) -> None:
        self.mode = mode
        self.changed.emit()

    def _store(self, name: str, value: object, text: str) -> None:
        settings = self._ground.own_settings()
        setattr(settings.combine, name, value)
        self._ground.undo.push(edits.Choices(self._ground, settings, text))
        self.changed.emit()
