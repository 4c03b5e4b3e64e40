"""The part of the model about calibration frames: matching, the library, sessions and folders."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from ulvar.calibration import Match, Shot, shooting_list
from ulvar.desktop.models import edits
from ulvar.flows import Library
from ulvar.frames import Group
from ulvar.night import Night, NightSettings, Product
from ulvar.night.settings import TagSettings
from ulvar.night.stations.masters import board_matches, library_of
from ulvar.photometry import ListedStar

if TYPE_CHECKING:
    from PySide6.QtGui import QUndoStack


class Matching:
    """What the boards of Intake and Masters ask and change."""

    if TYPE_CHECKING:
        night: Night | None
        undo: QUndoStack
        busy: bool
        preview: np.ndarray
        settings_changed: Any
        preview_changed: Any
        results_changed: Any
        states_changed: Any

        def products(self, kind: str) -> dict[str, Product]: ...
        def settings(self) -> NightSettings: ...
        def facts_edited(self) -> None: ...
        def run_station(self, station: str, what: str = "") -> bool: ...
        def _drop(self) -> None: ...
        def cached(self, key: str, make: Callable[[], Any]) -> Any: ...

    def matches(self) -> list[tuple[Group, Match]]:
        """The match board's rows."""
        return self.cached("matches", lambda: board_matches(self.night) if self.night else [])

    def has_masters(self) -> bool:
        """Whether there is something to calibrate with: masters made here, or given ones that fit."""
        given = any(
            choice.candidate is not None and choice.candidate.facts.is_master
            for _, match in self.matches()
            for choice in match.choices
        )
        return given or bool(self.products("master"))

    def shots(self) -> list[Shot]:
        """The shooting list."""
        return self.cached("shots", lambda: shooting_list(self.matches()))

    def library(self) -> Library | None:
        """The library that the night uses."""
        return library_of(self.night) if self.night else None

    def pin(self, lights: str, kind: str, choice: str | None) -> None:
        """Choose by hand what a group of lights uses, undoably; None leaves it to matching again."""
        if self.night is None:
            return
        settings = self.settings()
        settings.masters.pin(lights, kind, choice)
        self.undo.push(edits.Settings(self, settings, f"Choose the {kind.replace('_', ' ')} of {lights}"))

    def set_tags(self, tags: list[TagSettings]) -> None:
        """Change sessions and tags by path, undoably."""
        if self.night is not None:
            settings = self.settings()
            settings.intake.tags = tags
            self.undo.push(edits.Settings(self, settings, "Change sessions and tags"))

    def store_settings(self, settings: NightSettings) -> None:
        """Store all settings at once and tell every view; the way of undo commands."""
        if self.night is None:
            return
        self.night.set_settings(settings)
        self._drop()
        self.settings_changed.emit()
        self.facts_edited()

    def add_folders(self, paths: Iterable[Path]) -> bool:
        """Add raw folders or files to the open night and read them; False when there was nothing new."""
        if self.night is None or self.busy or not self.night.add_raw(paths):
            return False
        return self.run_station("intake")

    def set_preview(self, pixels: np.ndarray) -> None:
        """Show pixels as defects on the picture."""
        self.preview = pixels
        self.preview_changed.emit()

    def library_changed(self) -> None:
        """Tell the views that masters were put into the library or taken out."""
        self._drop()
        self.results_changed.emit()
        self.states_changed.emit()

    def set_stars(self, stars: list[ListedStar], text: str) -> None:
        """Change the stars to measure, undoably."""
        if self.night is not None:
            self.undo.push(edits.Stars(self, stars, text))
