"""Measure, page Aperture: how light and noise grow with the radius, and which aperture that speaks for."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from ulvar.desktop.models.model import Model
from ulvar.desktop.parts.plots import Plot, Points
from ulvar.desktop.parts.theme import Theme
from ulvar.desktop.parts.widgets import Rows, label, number, table
from ulvar.engine import percent
from ulvar.photometry import Growth

# Tokens of the sharpest, a typical and the widest exposure.
_TOKENS = ("comparison", "text", "target")
_NAMES = ("sharpest", "typical", "widest")


class AperturePage(QWidget):
    """Growth of light, signal-to-noise ratio, the proposal."""

    def __init__(self, parent: QWidget, model: Model, theme: Theme, command: Callable[[str], object]) -> None:
        super().__init__(parent)
        self._model = model
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        self.words = label("", "value", wrap=True)
        self.why = label("", wrap=True)
        self.tried = label("", wrap=True)
        column.addWidget(self.words)
        row = QHBoxLayout()
        self.run = QPushButton("Try apertures")
        self.run.setToolTip("On the target, in the best, a typical and the worst seeing of the series")
        self.run.clicked.connect(lambda: command("run growth"))
        self.take = QPushButton("Use the proposal")
        self.take.setToolTip("Set aperture and annulus as they are proposed; Ctrl+Z takes it back")
        self.take.clicked.connect(lambda: command("take aperture"))
        row.addWidget(self.run)
        row.addWidget(self.take)
        row.addStretch(1)
        column.addLayout(row)
        column.addWidget(self.why)
        self.snr = Plot(theme, x_label="", y_label="target SNR, % of its best", show_x=False)
        self.share = Plot(theme, x_label="aperture radius, FWHM", y_label="light in the aperture, %")
        for plot in (self.snr, self.share):
            plot.setMinimumHeight(84)
            plot.empty = "Try apertures to see how light and noise grow with the radius."
            column.addWidget(plot, 3)
        self.rows = Rows(["Exposure", "FWHM\npx", "Best\nFWHM", "SNR\nhere", "SNR\nbest", "Light\nhere"])
        self.rows.theme = theme
        self.table = table(
            self.rows, "Exposures in which apertures were tried", on_row=model.set_current,
            tip="Here: at the radius that is set",
        )  # fmt: skip
        self.table.setMinimumHeight(124)
        column.addWidget(self.table, 0)
        column.addWidget(self.tried)

    def refresh(self) -> None:
        """Fill words, plots and table."""
        field = self._model.field
        growths, proposal = field.growths(), field.proposal()
        settings = self._model.settings().measure
        aperture = settings.aperture
        self.words.setText(f"Set: {aperture.words()}, {_annulus_words(aperture.inner_px, aperture.outer_px)}")
        self.take.setEnabled(proposal is not None)
        self.why.setVisible(proposal is not None)
        if proposal is not None:
            self.why.setText(
                f"Proposed: {proposal.radius_fwhm:g} FWHM, annulus {proposal.inner_px:g} to {proposal.outer_px:g} px. "
                + "; ".join(f"{why[:1].upper()}{why[1:]}" if i == 0 else why for i, why in enumerate(proposal.why)) + "."
            )  # fmt: skip
        self._tell_tried()
        self.snr.series, self.share.series = [], []
        self.snr.curves, self.share.curves = [], []
        rows = []
        for k, (raw, g) in enumerate(growths.items()):
            place = 0 if k == 0 else 2 if k == len(growths) - 1 else 1
            x, top = g.radius_px / g.fwhm_px, float(np.nanmax(g.snr)) if np.isfinite(g.snr).any() else math.nan
            name = f"{_NAMES[place]}, {g.fwhm_px:.1f} px"
            for plot, values, told in ((self.snr, 100 * g.snr / top, name), (self.share, 100 * g.share, "")):
                plot.series.append(Points(x, values, token=_TOKENS[place], name=told))
                plot.curves.append((x, values, _TOKENS[place]))
            facts = self._model.facts(raw)
            rows.append(
                _row(facts.stem if facts else g.file, g, settings.radius * (1 if settings.in_fwhm else 1 / g.fwhm_px))
            )
        self.rows.fill(rows, list(growths))
        middle = next(iter(growths.values())).fwhm_px if growths else 1.0
        for plot in (self.snr, self.share):
            plot.marker = settings.radius if settings.in_fwhm else settings.radius / middle
            plot.update()

    def _tell_tried(self) -> None:
        """Say what became of several radii when the series was measured."""
        series = self._model.chosen_series()
        product = self._model.products("aperture").get(series.key) if series is not None else None
        tried = product.values["tried"] if product is not None else []
        self.tried.setVisible(len(tried) > 1)
        if product is None or len(tried) < 2:
            return
        unit = "FWHM" if self._model.settings().measure.in_fwhm else "px"
        by = {"scatter": "the comparison stars scatter least", "snr": "the target's SNR is highest"}.get(
            product.values["why"], ""
        )
        parts = [f"{t['radius']:g}: {1086 * t['scatter']:.1f} mmag" for t in tried if t["scatter"] is not None] or [
            f"{t['radius']:g}: SNR {t['target_snr']:.0f}" for t in tried if t["target_snr"] is not None
        ]
        self.tried.setText(f"Measured with {product.values['radius']:g} {unit}, where {by}. {'; '.join(parts)}.")

    def show_current(self, raw: str) -> None:
        """Mark the exposure on screen in the table."""
        row = self.rows.row_of(raw)
        if row >= 0 and self.table.currentIndex().row() != row:
            self.table.selectRow(row)


def _annulus_words(inner: float | None, outer: float | None) -> str:
    return "annulus by the aperture" if inner is None or outer is None else f"annulus {inner:g} to {outer:g} px"


def _row(name: str, growth: Growth, radius_fwhm: float) -> tuple[str, ...]:
    at = growth.radius_px / growth.fwhm_px
    known = np.isfinite(growth.snr).any()
    best = int(np.nanargmax(growth.snr)) if known else 0
    here = float(np.interp(radius_fwhm, at, growth.snr)) if known else math.nan
    return (
        name, number(growth.fwhm_px, 2), number(float(at[best]) if known else math.nan, 2), number(here, 1),
        number(float(growth.snr[best]) if known else math.nan, 1), percent(float(np.interp(radius_fwhm, at, growth.share))),
    )  # fmt: skip
