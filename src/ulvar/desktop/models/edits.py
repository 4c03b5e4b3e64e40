"""Changes that can be undone, as Qt's undo commands."""

from __future__ import annotations

from pathlib import Path
from time import monotonic
from typing import Protocol

from PySide6.QtGui import QUndoCommand

from ulvar.flows import Series
from ulvar.night import Night, NightSettings
from ulvar.night.schema import change_words
from ulvar.night.stations import name_result
from ulvar.photometry import ListedStar


class EditTarget(Protocol):
    """What changes are made on: the night, and the telling of what became other."""

    night: Night | None

    def settings(self) -> NightSettings:
        """Settings as they are (a copy)."""

    def chosen_series(self) -> Series | None:
        """Return the series that is worked on."""

    def selection_edited(self) -> None:
        """Tell that exposures were left out or put back."""

    def facts_edited(self) -> None:
        """Tell that facts were corrected."""

    def stars_edited(self) -> None:
        """Tell that the stars to measure are others."""

    def folders_edited(self) -> None:
        """Tell that the night's raw folders are others."""

    def result_named(self) -> None:
        """Tell that a result is called otherwise."""

    def store_setting(self, settings: NightSettings) -> None:
        """Store settings that change what stations would do."""

    def store_settings(self, settings: NightSettings) -> None:
        """Store settings that change what the files are."""

    def store_choices(self, settings: NightSettings) -> None:
        """Store settings that change nothing about the files."""


class Selection(QUndoCommand):
    """Leaving exposures out, or putting them back, as one step of undo."""

    def __init__(self, model: EditTarget, paths: list[str], why: str, out: bool) -> None:
        word = "leave out" if out else "put back"
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

    def __init__(self, model: EditTarget, paths: list[str], name: str, value: str | None) -> None:
        to = "as read" if value is None else value or "none"
        super().__init__(f"{name.replace('_', ' ')} of {len(paths)} to {to}")
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

    def __init__(self, model: EditTarget, stars: list[ListedStar], text: str) -> None:
        super().__init__(text)
        self._model, self._after = model, stars
        # Taken back later, it is still the field in which it was done.
        self._series = model.chosen_series()
        self._before = model.night.stars(self._series) if model.night else []

    def redo(self) -> None:
        """Do it."""
        self._set(self._after)

    def undo(self) -> None:
        """Take it back."""
        self._set(self._before)

    def _set(self, stars: list[ListedStar]) -> None:
        if self._model.night is not None:
            self._model.night.set_stars(stars, self._series)
            self._model.stars_edited()


class ResultName(QUndoCommand):
    """Another name of a result as one step of undo."""

    def __init__(self, model: EditTarget, output: str, name: str) -> None:
        super().__init__(f"call the result {name}")
        self._model, self._output, self._name = model, output, name
        series = model.chosen_series()
        self._series = series.key if series else ""
        self._before = ""

    def redo(self) -> None:
        """Do it."""
        if self._model.night is not None:
            self._before = name_result(self._model.night, self._series, self._output, self._name)
            self._model.result_named()

    def undo(self) -> None:
        """Take it back."""
        if self._model.night is not None:
            name_result(self._model.night, self._series, self._output, self._before)
            self._model.result_named()


class Folders(QUndoCommand):
    """Raw folders or files added to the night, as one step of undo; what was found in them goes with them."""

    def __init__(self, model: EditTarget, paths: list[Path]) -> None:
        super().__init__(f"add {paths[0].name}" + (f" and {len(paths) - 1} more" if len(paths) > 1 else ""))
        self._model, self._paths = model, paths

    def redo(self) -> None:
        """Do it."""
        if self._model.night is not None:
            self._model.night.add_raw(self._paths)
            self._model.folders_edited()

    def undo(self) -> None:
        """Take it back."""
        if self._model.night is not None:
            self._model.night.drop_raw(self._paths)
            self._model.folders_edited()


class Settings(QUndoCommand):
    """Changed settings (pins, sessions, tags) as one step of undo."""

    def __init__(self, model: EditTarget, after: NightSettings, text: str) -> None:
        super().__init__(text)
        self._model, self._after = model, after
        self._before = model.settings()

    def redo(self) -> None:
        """Do it."""
        self._model.store_settings(self._after)

    def undo(self) -> None:
        """Take it back."""
        self._model.store_settings(self._before)


class Setting(Settings):
    """Values typed, chosen or slid in the slip or on a board, as one step of undo."""

    # A key held down on a slider makes many changes of one setting; those so close together are one step [s].
    _TOGETHER_S = 0.7

    def __init__(self, model: EditTarget, after: NightSettings, section: str, names: tuple[str, ...]) -> None:
        super().__init__(model, after, "")
        self._section, self._names, self._when = section, names, monotonic()
        self.setText(self._words())

    def _words(self) -> str:
        before, after = (getattr(settings, self._section) for settings in (self._before, self._after))
        return "; ".join(change_words(before, after, name) for name in self._names)

    def id(self) -> int:
        """Say which commands may be merged."""
        return 1

    def mergeWith(self, other: QUndoCommand) -> bool:
        """Take in a change of the same settings that follows at once; what ends where it began is no step."""
        if not isinstance(other, Setting) or (other._section, other._names) != (self._section, self._names):
            return False
        if other._when - self._when > self._TOGETHER_S:
            return False
        self._after, self._when = other._after, other._when
        self.setText(self._words())
        self.setObsolete(self._after == self._before)
        return True

    def redo(self) -> None:
        """Do it."""
        self._model.store_setting(self._after)

    def undo(self) -> None:
        """Take it back."""
        self._model.store_setting(self._before)


class Choices(Settings):
    """Changed rules, scores or regions as one step of undo: nothing about the files themselves changes."""

    def redo(self) -> None:
        """Do it."""
        self._model.store_choices(self._after)

    def undo(self) -> None:
        """Take it back."""
        self._model.store_choices(self._before)
