"""Changes that can be undone, as Qt's undo commands."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtGui import QUndoCommand

from ulvar.night import NightSettings
from ulvar.photometry import ListedStar

if TYPE_CHECKING:
    from ulvar.desktop.model import Model


class Selection(QUndoCommand):
    """Leaving exposures out, or putting them back, as one step of undo."""

    def __init__(self, model: Model, paths: list[str], why: str, out: bool) -> None:
        word = "Leave out" if out else "Put back"
        super().__init__(f"{word} {len(paths)}")
        self._model, self._paths, self._why, self._out = model, paths, why, out
        night = model.night
        self._before = {p: w for p, w in night.left_out.items() if p in paths} if night else {}

    def redo(self) -> None:
        """Do it."""
        night = self._model.night
        if night is None:
            return
        if self._out:
            night.leave_out(self._paths, self._why)
        else:
            night.put_back(self._paths)
        self._model.selection_edited()

    def undo(self) -> None:
        """Take it back."""
        night = self._model.night
        if night is None:
            return
        night.put_back(self._paths)
        for path, why in self._before.items():
            night.leave_out([path], why)
        self._model.selection_edited()


class Correction(QUndoCommand):
    """A corrected fact as one step of undo."""

    def __init__(self, model: Model, paths: list[str], name: str, value: str | None) -> None:
        super().__init__(f"Change {name} of {len(paths)}")
        self._model, self._paths, self._name, self._value = model, paths, name, value
        known = model.night.corrections(name) if model.night else {}
        self._before = {p: known.get(p) for p in paths}

    def redo(self) -> None:
        """Do it."""
        if self._model.night is not None:
            self._model.night.correct(self._paths, self._name, self._value)
            self._model.facts_edited()

    def undo(self) -> None:
        """Take it back."""
        if self._model.night is not None:
            for path, value in self._before.items():
                self._model.night.correct([path], self._name, value)
            self._model.facts_edited()


class Stars(QUndoCommand):
    """A changed list of stars as one step of undo."""

    def __init__(self, model: Model, stars: list[ListedStar], text: str) -> None:
        super().__init__(text)
        self._model, self._after = model, stars
        self._before = model.night.stars() if model.night else []

    def redo(self) -> None:
        """Do it."""
        self._set(self._after)

    def undo(self) -> None:
        """Take it back."""
        self._set(self._before)

    def _set(self, stars: list[ListedStar]) -> None:
        if self._model.night is not None:
            self._model.night.set_stars(stars)
            self._model.stars_changed.emit()
            self._model.states_changed.emit()


class Settings(QUndoCommand):
    """Changed settings (pins, sessions, tags) as one step of undo."""

    def __init__(self, model: Model, after: NightSettings, text: str) -> None:
        super().__init__(text)
        self._model, self._after = model, after
        self._before = model.settings()

    def redo(self) -> None:
        """Do it."""
        self._model.store_settings(self._after)

    def undo(self) -> None:
        """Take it back."""
        self._model.store_settings(self._before)


class Choices(Settings):
    """Changed rules, scores or regions as one step of undo: nothing about the files themselves changes."""

    def redo(self) -> None:
        """Do it."""
        self._model.store_choices(self._after)

    def undo(self) -> None:
        """Take it back."""
        self._model.store_choices(self._before)
