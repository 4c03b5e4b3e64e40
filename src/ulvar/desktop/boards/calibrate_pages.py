"""Pages of the Calibrate board: defects live, the flat check, the camera."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCheckBox, QComboBox, QHBoxLayout, QLabel, QPushButton, QSlider, QVBoxLayout, QWidget

from ulvar.calibration import DefectOptions, dark_excess, find_defects, read_master
from ulvar.calibration.defects import flat_response
from ulvar.desktop.background import Asker
from ulvar.desktop.chores import camera_words
from ulvar.desktop.model import Model
from ulvar.desktop.plots import Plot, Points
from ulvar.desktop.theme import Theme
from ulvar.desktop.widgets import label, number
from ulvar.engine import counted
from ulvar.inspection.flatcheck import FlatCheck
from ulvar.night.stations.camera import remember_camera, stored_camera

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
    empty = np.empty(0), np.empty((0, 2))
    hot_value, hot_place = empty
    cold_value, cold_place = empty
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
        slider = QSlider(Qt.Orientation.Horizontal)
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
        self._model.set_preview(np.vstack([hot, cold]))
        if not self.hot.isSliderDown() and not self.cold.isSliderDown():
            self._store()

    def _store(self) -> None:
        sigma, below = self.thresholds()
        self._model.change_settings("calibrate", {"hot_sigma": sigma, "cold_below": below})

    def keep_list(self) -> None:
        """Write the pixels into the library as the camera's list."""
        library, facts = self._model.library(), self._model.facts(self._model.current)
        if library is None or facts is None or self.suspects is None:
            return
        sigma, below = self.thresholds()
        rows = [(int(x), int(y), "hot") for x, y in self.suspects.hot(sigma)]
        rows += [(int(x), int(y), "cold") for x, y in self.suspects.cold(below)]
        try:
            library.store_defects(facts, rows)
        except OSError as error:
            self._model.message.emit(f"The list could not be written: {error.strerror}.")
            return
        self._model.message.emit(f"{len(rows)} pixels are kept as the list of {facts.camera or 'this camera'}.")

    def close_finder(self, *, wait: bool = False) -> None:
        """End the thread."""
        self._finder.close(wait=wait)


class FlatPage(QWidget):
    """The calibrated sky against the flat: a level cloud fits, a slope tells of too much or too little."""

    def __init__(self, model: Model, theme: Theme) -> None:
        super().__init__()
        self._model, self.theme = model, theme
        self.checks = model.products("flat_check")
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        if not self.checks:
            column.addWidget(label("The flats are checked when lights have been calibrated with them.", wrap=True))
            column.addStretch(1)
            return
        self.box = QComboBox()
        for path, product in self.checks.items():
            self.box.addItem(f"Flat {product.values['filter']}, {product.values['lights']} lights", path)
        self.box.setAccessibleName("Flat")
        self.box.setToolTip("Which flat is held against the sky of its lights")
        self.box.currentIndexChanged.connect(lambda _: self._show())
        column.addWidget(self.box)
        self.verdict = label("", "value", wrap=True)
        column.addWidget(self.verdict)
        self.plot = Plot(theme, x_label="flat: darker  ←  → brighter, %", y_label="calibrated sky, %")
        self.plot.setMinimumHeight(220)
        column.addWidget(self.plot, 1)
        self.causes = label("", wrap=True)
        column.addWidget(self.causes)
        column.addWidget(
            label(
                "Gradients of moonlight and twilight are taken out. A cloud without slope means that the flat fits.",
                "unit",
                wrap=True,
            )
        )
        self._show()

    def check(self) -> FlatCheck:
        """Return the check that is shown."""
        values = self.checks[self.box.currentData()].values
        fields = FlatCheck.__dataclass_fields__
        body = {k: np.array(v, dtype=float) if k.endswith("_log") else v for k, v in values.items() if k in fields}
        return FlatCheck(**{k: float("nan") if v is None else v for k, v in body.items()})

    def _show(self) -> None:
        check = self.check()
        words = {
            "fits": "The flat fits.",
            "over": "The flat corrects too much.",
            "under": "The flat corrects too little.",
        }
        off = f"{check.corner_percent:+.2f} %".replace("-", "−")
        self.verdict.setText(f"{words[check.verdict]}  Where it is darkest the sky is {off} off.")
        x = 100 * (np.exp(check.flat_log) - 1)
        y = 100 * (np.exp(check.sky_log - np.median(check.sky_log)) - 1)
        line = np.linspace(float(np.percentile(x, 1)), float(np.percentile(x, 99)), 20)
        fit = 100 * (np.exp(check.slope * (np.log1p(line / 100) - float(np.median(check.flat_log)))) - 1)
        self.plot.series = [Points(x, y, token="comparison")]
        self.plot.curves = [(line, fit, "cur")]
        reach = max(1.0, float(np.percentile(np.abs(y), 99)) * 1.3, float(np.abs(fit).max()) * 1.2)
        self.plot.y_range = (-reach, reach)
        self.plot.update()
        slope = f"slope {check.slope:+.4f} ± {check.slope_error:.4f}".replace("-", "−")
        if check.causes:
            self.causes.setText("Likely: " + "; or ".join(check.causes) + f".  ({slope})")
        else:
            self.causes.setText(
                f"{slope}: what is left of the flat's pattern is below half a percent, or within its error."
            )


class CameraPage(QWidget):
    """Photon transfer: gain and read noise from pairs of flats and bias frames."""

    def __init__(self, model: Model, theme: Theme, command) -> None:  # type: ignore[no-untyped-def]
        super().__init__()
        self._model, self.theme = model, theme
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        column.addWidget(
            label(
                "How many electrons is one ADU? Pairs of flats tell: the more light, the more it scatters, and the ratio is the gain.",
                wrap=True,
            )
        )
        self.measure = QPushButton("Measure gain and read noise")
        self.measure.setToolTip("From pairs of flats and of bias frames in this night; takes a few seconds")
        self.measure.clicked.connect(lambda: command("measure camera"))
        column.addWidget(self.measure, 0, Qt.AlignmentFlag.AlignLeft)
        self.uses: list[QPushButton] = []
        night = model.night
        for key, product in model.products("camera").items():
            measured = stored_camera(night, key) if night is not None else None
            if measured is None:
                continue
            transfer = measured.transfer
            column.addWidget(label(camera_words(measured), "value", wrap=True))
            told = product.values["told_gain"]
            if told:
                off = 100 * (transfer.gain_e_per_adu / told - 1)
                word = f"The header says {told:g} e⁻/ADU: {off:+.1f} %.".replace("-", "−")
                column.addWidget(label(word, "check" if abs(off) > 5 else "label", wrap=True))
            plot = Plot(theme, x_label="signal, ADU", y_label="variance, ADU²")
            plot.setMinimumHeight(150)
            signal = np.array([p.signal_adu for p in transfer.points])
            variance = np.array([p.variance_adu2 for p in transfer.points])
            error = np.array([p.error_adu2 for p in transfer.points])
            kinds = ["kept" if used else "left_out" for used in transfer.used]
            plot.series = [Points(signal, variance, error=error, kinds=kinds)]
            read = 0.0 if transfer.read_noise_e != transfer.read_noise_e else transfer.read_noise_e
            line = np.array([0.0, float(signal.max())])
            plot.curves = [(line, line / transfer.gain_e_per_adu + (read / transfer.gain_e_per_adu) ** 2, "cur")]
            plot.x_range, plot.y_range = (0.0, 1.08 * float(signal.max())), (0.0, 1.12 * float(variance.max()))
            column.addWidget(plot, 1)
            use = QPushButton("Remember for this camera")
            use.setToolTip(
                "Exposures whose headers do not tell gain and read noise take these, in this and other nights"
            )
            use.clicked.connect(lambda _=False, k=key: self.remember(k))
            column.addWidget(use, 0, Qt.AlignmentFlag.AlignLeft)
            self.uses.append(use)
        column.addStretch(1)

    def remember(self, key: str) -> None:
        """Keep the numbers for the camera."""
        night = self._model.night
        measured = stored_camera(night, key) if night is not None else None
        if night is None or measured is None:
            return
        try:
            remember_camera(night, measured)
        except OSError as error:
            self._model.message.emit(f"The library could not be written: {error.strerror}.")
            return
        self._model.library_changed()
        self._model.message.emit("Remembered: " + camera_words(measured) + ".")
