"""Combine, page Stars: the table of the exposure on screen, and limits whose effect shows at once."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QLabel, QPushButton, QSlider, QVBoxLayout, QWidget

from ulvar.desktop.models.model import Model
from ulvar.desktop.parts.inputs import Slide
from ulvar.desktop.parts.theme import Theme
from ulvar.desktop.parts.widgets import LazyRows, Rows, label, number, table
from ulvar.desktop.work.background import Asker
from ulvar.engine import counted
from ulvar.flows import detect_in
from ulvar.night.stations import working_of
from ulvar.stars import Detection, DetectOptions, StarTable, flag_words, limit_stars

# name, words, least, most, steps a unit, unit, what it does
_LIMITS = (
    ("threshold", "Brighter than", 3.0, 20.0, 10, "σ", "Smallest signal-to-noise ratio of a star"),
    ("smallest", "Not sharper than", 0.0, 0.95, 100, "× FWHM", "Hot pixels and cosmic rays are sharper than stars"),
    ("widest", "Not wider than", 1.1, 6.0, 20, "× FWHM", "Nebulae and galaxies are wider than stars"),
    ("longest", "Not longer than", 1.1, 6.0, 20, "× the usual", "Axis ratio over that of the exposure's stars"),
)
_WIDE_OPEN = DetectOptions(threshold=3.0, noise_peaks=0.0, smallest=0.0, widest=20.0, longest=20.0)
_ROWS = 600


def _star_row(stars: StarTable, i: int) -> list[str]:
    """Return the texts of a star's row; people read pixels from 1 on."""
    return [
        number(stars.x[i] + 1, 1), number(stars.y[i] + 1, 1), number(stars.flux[i], 0), number(stars.flux_error[i], 0),
        number(stars.snr[i], 0), number(stars.fwhm_px[i], 2), number(stars.fwhm_fit_px[i], 2),
        number(stars.ellipticity[i], 2), number(stars.angle_deg[i], 0), number(stars.peak[i], 0),
        flag_words(int(stars.flags[i])).replace("|", ", ").replace("_", " "),
    ]  # fmt: skip


class StarsPage(QWidget):
    """Star table, linked with the picture, and the four limits."""

    def __init__(self, parent: QWidget, model: Model, theme: Theme) -> None:
        super().__init__(parent)
        self._model, self.theme = model, theme
        self._finder = Asker("stars")
        self._finder.found.connect(self._arrived)
        self._open: Detection | None = None
        self._raw = ""
        self._stored: StarTable | None = None
        self._listed: StarTable | None = None
        self._quiet = False
        self._set_to: dict[str, int] = {}
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 0)
        column.setSpacing(6)
        self.words = label("", wrap=True)
        column.addWidget(self.words)
        grid = QGridLayout()
        grid.setHorizontalSpacing(8)
        self.sliders: dict[str, QSlider] = {}
        self._values: dict[str, QLabel] = {}
        for k, (name, words, low, high, steps, _, tip) in enumerate(_LIMITS):
            slider = Slide(Qt.Orientation.Horizontal)
            slider.setRange(round(low * steps), round(high * steps))
            slider.setToolTip(f"{tip}. The count and the marks on the picture follow.")
            slider.setAccessibleName(words)
            slider.valueChanged.connect(lambda _: self._tuned())
            self.sliders[name] = slider
            value = label("", "value")
            value.setFixedWidth(96)
            self._values[name] = value
            grid.addWidget(label(words), k, 0)
            grid.addWidget(slider, k, 1)
            grid.addWidget(value, k, 2)
        column.addLayout(grid)
        row = QHBoxLayout()
        self.keep = QPushButton("Use these limits")
        self.keep.setToolTip("They count when the exposures are scored again")
        self.keep.clicked.connect(self._keep)
        self.back = QPushButton("Back")
        self.back.setToolTip("The limits that the scores were made with")
        self.back.clicked.connect(self._back)
        row.addWidget(self.keep)
        row.addWidget(self.back)
        row.addStretch(1)
        column.addLayout(row)
        self.rows = Rows(
            ["x\npx", "y\npx", "Flux\nADU", "±\nADU", "SNR\n", "FWHM\npx", "by fit\npx", "Ellip.\n", "Angle\n°", "Peak\nADU", "Flags\n"],
            left=(10,),
        )  # fmt: skip
        self.rows.theme = theme
        self.view = table(
            self.rows, "Stars of the exposure on screen", on_row=self._row_chosen, stretch=10, optional=(8, 3, 6, 1, 0)
        )
        self.view.setToolTip(
            "A row's star is ringed on the picture; click a star there for its row. A wider board shows more columns."
        )
        column.addWidget(self.view, 1)
        self._set_sliders()

    def close_finder(self, *, wait: bool = False) -> None:
        """End the thread and take the preview back."""
        self._finder.close(wait=wait)
        if self._model.looking.tuned_stars is not None:
            self._model.looking.tune_stars(None)

    def leave(self) -> None:
        """Take limits that were only tried and their preview back: another page comes in sight."""
        if self._model.looking.tuned_stars is not None:
            self._back()

    # ---- limits

    def _options(self) -> DetectOptions:
        chosen: dict[str, Any] = {name: self.sliders[name].value() / steps for name, _, _, _, steps, _, _ in _LIMITS}
        return replace(self._model.settings().combine.detection, **chosen)

    def _stored_places(self) -> dict[str, int]:
        """Where the sliders stand for the limits as they are stored."""
        options = self._model.settings().combine.detection
        return {name: round(getattr(options, name) * steps) for name, _, _, _, steps, _, _ in _LIMITS}

    def _set_sliders(self) -> None:
        self._quiet = True
        self._set_to = self._stored_places()
        for name, place in self._set_to.items():
            self.sliders[name].setValue(place)
        self._quiet = False
        self._show_values()

    def _show_values(self) -> None:
        for name, _, _, _, steps, unit, _ in _LIMITS:
            self._values[name].setText(f"{self.sliders[name].value() / steps:.{1 if steps == 10 else 2}f} {unit}")
        stored = self._model.settings().combine.detection
        changed = any(
            abs(getattr(stored, n) - getattr(self._options(), n)) > 0.5 / s for n, _, _, _, s, _, _ in _LIMITS
        )
        self.keep.setEnabled(changed)
        self.back.setEnabled(changed)

    def _tuned(self) -> None:
        self._show_values()
        if self._quiet:
            return
        if self._open is None:
            self._ask()
        else:
            self._apply()

    def _ask(self) -> None:
        night, series = self._model.night, self._model.series_of_exposure(self._raw)
        ready = working_of(night, series) if night is not None and series is not None else None
        facts = ready.facts.get(self._raw) if ready is not None else None
        if facts is not None and ready is not None:
            calibration = ready.calibrations.get(facts.path)
            self.words.setText("Finding stars with open limits…")
            regions = self._model.looking.regions()
            self._finder.ask(self._raw, lambda: detect_in(facts, _WIDE_OPEN, regions, calibration=calibration))

    def _arrived(self, raw: str, result: object) -> None:
        if raw != self._raw:
            return
        if isinstance(result, Detection):
            self._open = result
            self._apply()
        else:
            self.words.setText(f"{result}")

    def _apply(self) -> None:
        assert self._open is not None
        found = limit_stars(self._open.stars, self._open.fwhm_px, self._open.ellipticity, self._options())
        gone = len(self._open.stars) - len(found)
        self.words.setText(f"{counted(len(found), 'star')} within the limits, {counted(gone, 'peak')} beyond them.")
        self._fill(found)
        self._model.looking.tune_stars(np.column_stack([found.x, found.y]) if len(found) else np.empty((0, 2)))

    def _keep(self) -> None:
        chosen = self._options()
        self._model.change_settings("combine", {name: getattr(chosen, name) for name, *_ in _LIMITS})
        self._show_values()
        self._model.message.emit(
            "These limits count when the exposures are scored again (Ctrl+K, Score the exposures)."
        )

    def _back(self) -> None:
        self._set_sliders()
        self._open = None
        self._model.looking.tune_stars(None)
        self._show_stored()

    # ---- table

    def refresh(self) -> None:
        """Show limits and stars as they are stored now; limits that are tried stay."""
        stand = {name: slider.value() for name, slider in self.sliders.items()}
        if stand in (self._set_to, self._stored_places()):
            self._set_sliders()
        self._show_values()
        if self._open is None and self._model.looking.star_table(self._raw) is not self._stored:
            self._show_stored()

    def show_current(self, path: str) -> None:
        """Show the stars of another exposure."""
        if path == self._raw:
            return
        self._raw, self._open = path, None
        self._show_stored()

    def _show_stored(self) -> None:
        self._stored = self._model.looking.star_table(self._raw)
        if self._stored is None:
            self.words.setText("This exposure is not scored.")
            self._fill(StarTable.empty())
            return
        told = counted(len(self._stored), "star")
        if len(self._stored) > _ROWS:
            told += f", the brightest {_ROWS} are listed"
        self.words.setText(f"{told}. Move a limit to see what it does.")
        self._fill(self._stored)

    def _fill(self, stars: StarTable) -> None:
        self._listed = stars
        rows = LazyRows(lambda i: _star_row(stars, i), min(len(stars), _ROWS))
        self._quiet = True
        self.rows.fill(rows, [str(i) for i in range(len(rows))])
        self._quiet = False
        self.show_chosen()

    def _row_chosen(self, key: str) -> None:
        if not self._quiet and self._listed is not None:
            i = int(key)
            self._model.looking.choose_star((float(self._listed.x[i]), float(self._listed.y[i])))

    def show_chosen(self) -> None:
        """Select the row of the star that was clicked on the picture."""
        place, stars = self._model.looking.chosen_star, self._listed
        if place is None or stars is None or not len(stars):
            return
        k = int(np.argmin(np.hypot(stars.x - place[0], stars.y - place[1])))
        if k < self.rows.rowCount() and np.hypot(stars.x[k] - place[0], stars.y[k] - place[1]) < 2:
            self._quiet = True
            self.view.selectRow(k)
            self.view.scrollTo(self.rows.index(k, 0))
            self._quiet = False
