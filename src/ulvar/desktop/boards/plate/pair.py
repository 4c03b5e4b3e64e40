"""Plate, page Pair: separation and position angle of two stars, in the exposure on screen and in all."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np

from ulvar.desktop.boards.plate.measured import MeasuredPage
from ulvar.desktop.models.listing import measured_words
from ulvar.desktop.models.model import Model
from ulvar.desktop.parts.theme import Theme
from ulvar.engine import counted, true_minus
from ulvar.flows import PairRow, PairSummary, summarise, write_pairs

_PLOTTED = {
    "apart": "Separation", "angle": "Position angle", "difference": "Difference in magnitude", "fwhm": "FWHM"
}  # fmt: skip


class PairPage(MeasuredPage):
    """The pair here, its means, its course through the night."""

    headers = ("Exposure", "Separation\n″", "Angle\n°", "Difference\nmag", "Doubts\n")
    title = "The pair in every exposure"

    def __init__(self, model: Model, theme: Theme, command: Callable[[str], object]) -> None:
        super().__init__(model, theme, command, choices=_PLOTTED)
        self.every = self.add_button(
            "Measure in every exposure",
            "The same two stars in all exposures of the series",
            lambda: command("run pair"),
        )
        self.save = self.add_button(
            "Save…", "The table as CSV, VOTable, FITS table or Parquet; the ending of the name chooses", self._save
        )
        self.forget = self.add_button("Forget", "Name no pair any more", lambda: command("forget pair"))
        self.buttons.addStretch(1)
        self.plot.empty = "Each exposure is a point here once the pair is measured in all of them."

    def refresh(self) -> None:
        """Fill words, plot and table."""
        sky = self._model.sky
        named = sky.pair is not None
        measured = sky.pair_rows()
        self.every.setVisible(named)
        self.forget.setVisible(named)
        self.save.setVisible(bool(measured))
        summary = summarise(list(measured.values()))
        self.means.setText("" if summary is None else summary_words(summary))
        self.means.setVisible(summary is not None)
        solved = summary is None or summary.solved
        unit = "″" if solved else "px"
        rows, dim = [], set()
        for i, (raw, row) in enumerate(measured.items()):
            apart, error, angle, angle_error = row.measured
            if row.outlier:
                dim.add(i)
            facts = self._model.facts(raw)
            rows.append(
                (
                    facts.stem if facts else row.file, f"{apart:.{_decimals(error)}f} ±{error:.{_decimals(error)}f}",
                    f"{angle:.{_decimals(angle_error)}f} ±{angle_error:.{_decimals(angle_error)}f}",
                    true_minus(f"{row.fit.difference_mag[0]:+.3f}"), _doubts(row),
                )
            )  # fmt: skip
        headers = [text.replace("″", unit) for text in self.headers]
        self.rows.fill(rows, list(measured), dim=dim, headers=headers)
        self.draw()
        self.show_current(self._model.current)

    def draw(self) -> None:
        """Plot what is chosen of every exposure."""
        measured = {raw: row for raw, row in self._model.sky.pair_rows().items() if row.time_utc_mid is not None}
        what = self.what.currentData()
        values, errors = [], []
        for row in measured.values():
            apart, error, angle, angle_error = row.measured
            value, own = {
                "apart": (apart, error), "angle": (angle, angle_error), "difference": row.fit.difference_mag,
                "fwhm": (row.fit.fwhm_px, math.nan),
            }[what]  # fmt: skip
            values.append(value)
            errors.append(own)
        array = np.array(values)
        if what == "angle" and len(array):
            # Around north they stay together.
            array = array[0] + (array - array[0] + 180) % 360 - 180
        solved = all(row.sky is not None for row in measured.values())
        unit = {"apart": "separation, ″" if solved else "separation, px", "angle": "position angle, °" if solved else "angle from +x, °",
                "difference": "mag", "fwhm": "FWHM, px"}[what]  # fmt: skip
        times = [row.time_utc_mid for row in measured.values() if row.time_utc_mid is not None]
        shown = None if what == "fwhm" else np.array(errors)
        self.show_series(list(measured), times, array, shown, [row.outlier for row in measured.values()], unit)

    def show_current(self, raw: str) -> None:
        """Tell the pair in the exposure on screen."""
        sky = self._model.sky
        if sky.pair is None:
            self.words.setText(sky.problem or "Take the distance tool (D) and drag from one star to the other.")
        else:
            row = sky.pair_here(raw)
            words = measured_words(row) if isinstance(row, PairRow) else "Being measured…" if row is None else row
            self.words.setText(f"Here: {words}")
        self.show_row(raw)

    def _save(self) -> None:
        series = self._model.chosen_series()
        rows = list(self._model.sky.pair_rows().values())
        self.write(f"{series.key if series else 'night'}-pair.csv", lambda path: write_pairs(path, rows, replace=True))


def _decimals(error: float) -> int:
    """Return how many decimals show two digits of an error; from 1 to 4."""
    if not (math.isfinite(error) and error > 0):
        return 2
    return min(4, max(1, 1 - math.floor(math.log10(error))))


def _doubts(row: PairRow) -> str:
    return row.flags.replace("|", ", ").replace("own_shape", "own shape")


def summary_words(s: PairSummary) -> str:
    """Return a pair's means in words."""
    unit, way = ("″", "position angle") if s.solved else (" px", "angle from +x")
    a, b = _decimals(s.separation_error), _decimals(s.angle_error_deg)
    text = f"Mean of {s.count}: {s.separation:.{a}f}{unit} ± {s.separation_error:.{a}f}{unit}, {way} {s.angle_deg:.{b}f}° ± {s.angle_error_deg:.{b}f}°"
    if math.isfinite(s.year):
        text += f", epoch {s.year:.4f}"
    if s.count > 1:
        c, d = _decimals(s.separation_scatter), _decimals(s.angle_scatter_deg)
        text += (
            f". One exposure scatters by {s.separation_scatter:.{c}f}{unit} and {s.angle_scatter_deg:.{d}f}°; "
            f"its errors let expect {s.expected_separation:.{c}f}{unit} and {s.expected_angle_deg:.{d}f}°"
        )
    if s.outliers:
        text += f". {counted(s.outliers, 'exposure')} left away: {'it stands' if s.outliers == 1 else 'they stand'} off"
    return true_minus(text + ".")
