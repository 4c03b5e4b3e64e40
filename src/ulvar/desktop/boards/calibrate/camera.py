"""The camera: gain and read noise by photon transfer."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QPushButton, QVBoxLayout, QWidget

from ulvar.desktop.models.model import Model
from ulvar.desktop.parts.plots import Plot, Points
from ulvar.desktop.parts.theme import Theme
from ulvar.desktop.parts.widgets import label
from ulvar.engine import Failed, reason_words, true_minus
from ulvar.flows import CameraMeasure
from ulvar.night.stations.camera import remember_camera, stored_camera


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
                word = true_minus(f"The header says {told:g} e⁻/ADU: {off:+.1f} %.")
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
            self._model.message.emit(f"The library could not be written: {reason_words(error)}.")
            return
        self._model.matching.library_changed()
        self._model.message.emit("Remembered: " + camera_words(measured) + ".")


def camera_words(measured: CameraMeasure | Failed) -> str:
    """Return what photon transfer found, in a sentence."""
    if isinstance(measured, Failed):
        return measured.reason
    t = measured.transfer
    gain = "" if measured.facts.gain is None else f" at gain {measured.facts.gain:g}"
    read = (
        "" if t.read_noise_e != t.read_noise_e else f", read noise {t.read_noise_e:.2f} ± {t.read_noise_error:.2f} e⁻"
    )
    return f"{measured.facts.camera or 'Camera'}{gain}: {t.gain_e_per_adu:.3f} ± {t.gain_error:.3f} e⁻/ADU{read}"
