"""Defects: thresholds for hot and cold pixels, with counts and marks that follow."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCheckBox, QHBoxLayout, QLabel, QPushButton, QSlider, QVBoxLayout, QWidget

from ulvar.calibration import DefectOptions, dark_excess, find_defects, read_master
from ulvar.calibration.defects import flat_response
from ulvar.desktop.models.model import Model
from ulvar.desktop.parts.inputs import Slide
from ulvar.desktop.parts.theme import Theme
from ulvar.desktop.parts.widgets import label, number
from ulvar.desktop.work.background import Asker
from ulvar.engine import counted, reason_words

# Below this many deviations nobody calls a pixel hot; candidates above it are kept sorted.
_FLOOR = 3.0


@dataclass(frozen=True)
class Suspects:
    """Pixels of a dark and a flat that some threshold might call defective, sorted by how far off they are."""

    hot_value: np.ndarray
    hot_place: np.ndarray
    cold_value: np.ndarray
    cold_place: np.ndarray
    columns: int
    clusters: int
    pixels: int

    def hot(self, sigma: float) -> np.ndarray:
        """Return (x, y) of pixels over a threshold."""
        return self.hot_place[np.searchsorted(self.hot_value, sigma, side="right") :]

    def cold(self, below: float) -> np.ndarray:
        """Return (x, y) of pixels below a fraction of their surroundings."""
        return self.cold_place[: np.searchsorted(self.cold_value, below, side="left")]


def find_suspects(dark: str, flat: str, options: DefectOptions, *, mosaic: bool = False) -> Suspects:
    """Read the masters and sort what may be defective (in a thread).

    Raises
    ------
    FrameError
        If a master cannot be read.
    """
    hot_value: np.ndarray = np.empty(0)
    hot_place: np.ndarray = np.empty((0, 2))
    cold_value, cold_place = hot_value, hot_place
    planes = {}
    if dark:
        planes["dark"] = read_master(dark).data
        excess = dark_excess(planes["dark"], mosaic=mosaic)
        ys, xs = np.nonzero(excess > _FLOOR)
        order = np.argsort(excess[ys, xs])
        hot_value, hot_place = excess[ys, xs][order], np.column_stack([xs, ys])[order]
    if flat:
        planes["flat"] = read_master(flat).data
        response = flat_response(planes["flat"], mosaic=mosaic)
        ys, xs = np.nonzero(response < 0.95)
        order = np.argsort(response[ys, xs])
        cold_value, cold_place = response[ys, xs][order], np.column_stack([xs, ys])[order]
    whole = find_defects(**planes, options=options, mosaic=mosaic) if planes else None
    size = next(iter(planes.values())).size if planes else 0
    counts = whole.counts if whole else {}
    return Suspects(
        hot_value, hot_place, cold_value, cold_place, counts.get("columns", 0), counts.get("clusters", 0), size
    )  # fmt: skip


class DefectsPage(QWidget):
    """Sliders for the thresholds, with counts that follow and marks on the picture."""

    def __init__(self, model: Model, theme: Theme) -> None:
        super().__init__()
        self._model, self.theme = model, theme
        self.suspects: Suspects | None = None
        self._finder = Asker("defects")
        self._finder.found.connect(self._arrived)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        column.addWidget(
            label("Which pixels are beyond saving? Marks on the picture follow the sliders (H hides them).", wrap=True)
        )
        settings = model.settings().calibrate
        self.hot_text = self._heading(column, "Hot", "over the master dark")
        self.hot = self._slider(
            20,
            400,
            round(10 * settings.hot_sigma),
            "Robust deviations over the surroundings in the master dark",
            column,
        )
        self.hot.setObjectName("defects.hot")
        self.cold_text = self._heading(column, "Cold", "under the master flat")
        self.cold = self._slider(
            5, 95, round(100 * settings.cold_below), "Percent of the surroundings in the master flat", column
        )
        self.cold.setObjectName("defects.cold")
        self.counts = label("", wrap=True)
        column.addWidget(self.counts)
        self.columns = QCheckBox("Mark columns of defective pixels as a whole")
        self.columns.setToolTip("A run of 32 rows of which six in ten are defective counts as a column")
        self.columns.setChecked(settings.columns)
        self.columns.toggled.connect(self._columns_toggled)
        column.addWidget(self.columns)
        column.addWidget(
            label(
                "Marked pixels are left out of measurements; with Repair they are also replaced by their neighbours.",
                "unit",
                wrap=True,
            )
        )
        self.keep = QPushButton("Keep as this camera's list")
        self.keep.setToolTip("Write these pixels into the library: they are then marked in every night of this camera")
        self.keep.clicked.connect(self.keep_list)
        column.addWidget(self.keep, 0, Qt.AlignmentFlag.AlignLeft)
        column.addStretch(1)
        self._ask()

    def _columns_toggled(self, on: bool) -> None:
        self._model.set_setting("calibrate", "columns", on)
        self._ask()

    def _heading(self, column: QVBoxLayout, title: str, words: str) -> QLabel:
        row = QHBoxLayout()
        row.addWidget(label(title, "value"))
        row.addWidget(label(words))
        row.addStretch(1)
        value = label("", "value")
        row.addWidget(value)
        column.addLayout(row)
        return value

    def _slider(self, low: int, high: int, value: int, tip: str, column: QVBoxLayout) -> QSlider:
        slider = Slide(Qt.Orientation.Horizontal)
        slider.setRange(low, high)
        slider.setValue(value)
        slider.setToolTip(tip)
        slider.setAccessibleName(tip)
        slider.valueChanged.connect(self._moved)
        slider.sliderReleased.connect(self._store)
        column.addWidget(slider)
        return slider

    def masters(self) -> tuple[str, str]:
        """Return (dark, flat) of the exposure on screen, else the first that were made; empty where there is none."""
        done = self._model.products("calibrated").get(self._model.current)
        if done is not None:
            return str(done.values.get("dark") or ""), str(done.values.get("flat") or "")
        made = self._model.products("master")

        def first(kind: str) -> str:
            return next((path for path, p in made.items() if p.values["kind"] == kind), "")

        return first("dark"), first("flat")

    def _ask(self) -> None:
        dark, flat = self.masters()
        self.keep.setEnabled(False)
        self.counts.setText(
            "Looking at the masters …" if dark or flat else "There is no master dark or flat to look at."
        )
        if dark or flat:
            options = DefectOptions(columns=self.columns.isChecked())
            facts = self._model.facts(self._model.current)
            mosaic = bool(facts and facts.cfa)
            self._key = (dark, flat, self.columns.isChecked())
            self._finder.ask(self._key, lambda: find_suspects(dark, flat, options, mosaic=mosaic))
        self._moved()

    def _arrived(self, key: tuple, result: object) -> None:
        if key != self._key:
            return
        if isinstance(result, Suspects):
            self.suspects = result
            self.keep.setEnabled(True)
            self._moved()
        else:
            self.counts.setText(f"{result}.")

    def thresholds(self) -> tuple[float, float]:
        """Return hot sigma and cold fraction as the sliders stand."""
        return self.hot.value() / 10, self.cold.value() / 100

    def _moved(self) -> None:
        sigma, below = self.thresholds()
        self.hot_text.setText(f"{sigma:.1f} σ")
        self.cold_text.setText(f"{100 * below:.0f} %")
        if self.suspects is None:
            return
        hot, cold = self.suspects.hot(sigma), self.suspects.cold(below)
        share = 100 * (len(hot) + len(cold)) / max(1, self.suspects.pixels)
        self.counts.setText(
            f"{number(len(hot), 0)} hot, {number(len(cold), 0)} cold pixels: {share:.2f} % of the frame. "
            f"{counted(self.suspects.columns, 'column')}, {counted(self.suspects.clusters, 'cluster')}."
        )
        self._model.matching.set_preview(np.vstack([hot, cold]))
        if not self.hot.isSliderDown() and not self.cold.isSliderDown():
            self._store()

    def _store(self) -> None:
        sigma, below = self.thresholds()
        self._model.change_settings("calibrate", {"hot_sigma": sigma, "cold_below": below})

    def keep_list(self) -> None:
        """Write the pixels into the library as the camera's list."""
        library, facts = self._model.matching.library(), self._model.facts(self._model.current)
        if library is None or facts is None or self.suspects is None:
            return
        sigma, below = self.thresholds()
        rows = [(int(x), int(y), "hot") for x, y in self.suspects.hot(sigma)]
        rows += [(int(x), int(y), "cold") for x, y in self.suspects.cold(below)]
        try:
            library.store_defects(facts, rows)
        except OSError as error:
            self._model.message.emit(f"The list could not be written: {reason_words(error)}.")
            return
        self._model.message.emit(f"{len(rows)} pixels are kept as the list of {facts.camera or 'this camera'}.")

    def close_finder(self, *, wait: bool = False) -> None:
        """End the thread."""
        self._finder.close(wait=wait)
