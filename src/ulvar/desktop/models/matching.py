"""The part of the model about calibration frames: matching, the library, sessions and folders."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QObject

from ulvar.calibration import Candidate, Match, Shot, shooting_list
from ulvar.desktop.models import edits
from ulvar.desktop.models.ground import Ground
from ulvar.flows import Library, PlateOptions, check_catalogue
from ulvar.frames import Group
from ulvar.night.settings import TagSettings
from ulvar.night.stations.masters import board_matches, given_masters, library_of, set_candidates
from ulvar.photometry import ListedStar


class Matching(QObject):
    """What the boards of Intake and Masters ask and change."""

    def __init__(self, ground: Ground) -> None:
        super().__init__(ground)
        self._ground = ground
        # Pixels (x, y) that a threshold would call defective, while it is moved.
        self.preview = np.empty((0, 2))

    def matches(self) -> list[tuple[Group, Match]]:
        """The match board's rows."""
        return self._ground.cached("matches", lambda: board_matches(self._ground.night) if self._ground.night else [])

    def has_masters(self) -> bool:
        """Whether there is something to calibrate with: masters made here, or given ones that fit."""
        given = any(
            choice.candidate is not None and choice.candidate.facts.is_master
            for _, match in self.matches()
            for choice in match.choices
        )
        return given or bool(self._ground.products("master"))

    def pool(self) -> list[tuple[Candidate, str]]:
        """What could be used, with the file where it is made already: the night's sets, given masters, the library."""

        def make() -> list[tuple[Candidate, str]]:
            night = self._ground.night
            return [] if night is None else [(c, "") for c in set_candidates(night)] + given_masters(night)

        return self._ground.cached("pool", make)

    def shots(self) -> list[Shot]:
        """The shooting list."""
        return self._ground.cached("shots", lambda: shooting_list(self.matches()))

    def library(self) -> Library | None:
        """The library that the night uses."""
        return library_of(self._ground.night) if self._ground.night else None

    def pin(self, lights: str, kind: str, choice: str | None) -> None:
        """Choose by hand what a group of lights uses, undoably; None leaves it to matching again."""
        if self._ground.night is None:
            return
        settings = self._ground.own_settings()
        settings.masters.pin(lights, kind, choice)
        self._ground.undo.push(
            edits.Settings(self._ground, settings, f"Choose the {kind.replace('_', ' ')} of {lights}")
        )

    def set_tags(self, tags: list[TagSettings]) -> None:
        """Change sessions and tags by path, undoably."""
        if self._ground.night is not None:
            settings = self._ground.own_settings()
            settings.intake.tags = tags
            self._ground.undo.push(edits.Settings(self._ground, settings, "Change sessions and tags"))

    def set_preview(self, pixels: np.ndarray) -> None:
        """Show pixels as defects on the picture."""
        self.preview = pixels
        self._ground.preview_changed.emit()

    def library_changed(self) -> None:
        """Tell the views that masters were put into the library or taken out."""
        self._ground.drop()
        self._ground.results_changed.emit()
        self._ground.states_changed.emit()

    def choose_catalogue(self, path: str) -> bool:
        """Take a star catalogue, undoably, unless it cannot serve this series; what is wrong with it is told at once."""
        night, members = self._ground.night, self._ground.members()
        if night is None:
            return False
        exposures = [f for f in self._ground.lights() if f.path in members]
        problem = check_catalogue(path, exposures, PlateOptions(radius_deg=night.settings.plate.radius_deg))
        if problem:
            self._ground.message.emit(problem)
            return False
        return self._ground.set_setting("plate", "catalogue", path)

    def set_stars(self, stars: list[ListedStar], text: str) -> None:
        """Change the stars to measure, undoably."""
        if self._ground.night is not None:
            self._ground.undo.push(edits.Stars(self._ground, stars, text))
