"""Plate, page Bodies: where moving bodies are in every exposure, and what is left from where they were told to be."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
from PySide6.QtWidgets import QComboBox

from ulvar.desktop.boards.plate.measured import MeasuredPage
from ulvar.desktop.models.model import Model
from ulvar.desktop.parts.theme import Theme
from ulvar.desktop.parts.widgets import number
from ulvar.desktop.picture.tools import sexagesimal
from ulvar.engine import counted, true_minus
from ulvar.flows import BodySummary, summarise_body, write_positions

_PLOTTED = {
    "off_ra": "Off the table in RA", "off_dec": "Off the table in Dec", "residual_ra": "Off a smooth way in RA",
    "residual_dec": "Off a smooth way in Dec",
}  # fmt: skip


class BodiesPage(MeasuredPage):
    """Bodies of the night's table: here, their motion, their course through the night."""

    headers = ("Exposure", "RA off\n″", "Dec off\n″", "RA left\n″", "Dec left\n″", "±\n″", "SNR", "Doubts")
    title = "The body in every exposure"

    def __init__(self, model: Model, theme: Theme, command: Callable[[str], object]) -> None:
        super().__init__(model, theme, command, choices=_PLOTTED)
        self.which = QComboBox()
        self.which.setToolTip("The body that table and plot tell of")
        self.which.setAccessibleName("Body")
        self.which.activated.connect(lambda _: self.refresh())
        self.above.insertWidget(0, self.which)
        self.every = self.add_button(
            "Measure in every exposure",
            "Find the bodies in all solved exposures of the series",
            lambda: command("run bodies"),
        )
        self.save = self.add_button(
            "Save…", "Places as CSV, VOTable, FITS table or Parquet; the ending of the name chooses", self._save
        )
        self.buttons.addStretch(1)
        self.plot.empty = "Each exposure is a point here once the body is measured."
        self.table.setToolTip(
            "off: measured less told by the table; left: measured less the smooth way through all exposures"
        )

    @property
    def body(self) -> str:
        """The name of the body that is shown."""
        return str(self.which.currentData() or "")

    def refresh(self) -> None:
        """Fill words, plot and table."""
        sky = self._model.sky
        bodies, problem = sky.bodies()
        names = [body.name for body in bodies]
        if [self.which.itemData(i) for i in range(self.which.count())] != names:
            kept = self.body
            self.which.clear()
            for name in names:
                self.which.addItem(name, name)
            self.which.setCurrentIndex(max(0, self.which.findData(kept)))
        self.which.setVisible(len(names) > 1)
        self.every.setVisible(bool(names))
        measured = sky.body_rows().get(self.body, {})
        self.save.setVisible(bool(sky.body_rows()))
        summary = summarise_body(list(measured.values()))
        self.means.setText("" if summary is None else summary_words(self.body, summary))
        self.means.setVisible(summary is not None)
        rows, dim = [], set()
        for i, (raw, row) in enumerate(measured.items()):
            if row.outlier:
                dim.add(i)
            facts = self._model.facts(raw)
            rows.append(
                (
                    facts.stem if facts else row.file, *(_signed(v) for v in (*row.off, *row.residual)),
                    number(math.hypot(*row.error) / math.sqrt(2), 2), number(row.fit.snr, 0), row.flags.replace("|", ", ").replace("own_shape", "long"),
                )
            )  # fmt: skip
        self.rows.fill(rows, list(measured), dim=dim)
        self._problem = problem
        self.draw()
        self.show_current(self._model.current)

    def draw(self) -> None:
        """Plot what is chosen of every exposure."""
        measured = self._model.sky.body_rows().get(self.body, {})
        what, part = str(self.what.currentData()).split("_")
        axis = 0 if part == "ra" else 1
        values = np.array([(row.off if what == "off" else row.residual)[axis] for row in measured.values()])
        errors = np.array([row.error[axis] for row in measured.values()])
        times = [row.time_utc_mid for row in measured.values()]
        off = [row.outlier for row in measured.values()]
        self.show_series(list(measured), times, values, errors, off, f"{part.upper() if part == 'ra' else 'Dec'}, ″")

    def show_current(self, raw: str) -> None:
        """Tell where the body is in the exposure on screen."""
        sky = self._model.sky
        bodies, problem = sky.bodies()
        if problem:
            self.words.setText(problem)
        elif not bodies:
            self.words.setText(
                "Choose a table of moving bodies at the right: their places by time, or their orbital elements."
            )
        else:
            self.words.setText(" ".join([f"{self._here(raw)}.", *sky.doubts]))
        self.show_row(raw)

    def _here(self, raw: str) -> str:
        sky, name = self._model.sky, self.body
        row = sky.body_rows().get(name, {}).get(raw)
        if row is not None:
            return f"{name} here: {sexagesimal(row.ra, row.dec)}"
        if raw not in self._model.plates():
            return f"{name}: this exposure is not solved yet"
        if name in sky.body_pixels(raw):
            facts = self._model.facts(raw)
            body = next(one for one in sky.bodies()[0] if one.name == name)
            return f"{name} is told to be at {sexagesimal(*body.sky_at(facts.mid_utc if facts else None))}"
        return f"{name} is not in this exposure"

    def _save(self) -> None:
        series = self._model.chosen_series()
        rows = [row for of_body in self._model.sky.body_rows().values() for row in of_body.values()]
        self.write(
            f"{series.key if series else 'night'}-positions.csv", lambda path: write_positions(path, rows, replace=True)
        )


def _signed(value: float) -> str:
    return true_minus(f"{value:+.2f}") if math.isfinite(value) else ""


def summary_words(name: str, s: BodySummary) -> str:
    """Return a body's means in words."""
    text = counted(s.count, "exposure")
    if math.isfinite(s.speed):
        text += f": {name} moves {s.speed:.2f}″ an hour at position angle {s.angle_deg:.1f}°, on a {'curve' if s.bent else 'straight line'}"
    if math.isfinite(s.residual[0]):
        text += (
            f". About it {s.residual[0]:.2f}″ and {s.residual[1]:.2f}″ are left in RA and Dec; errors let expect "
            f"{s.expected[0]:.2f}″ and {s.expected[1]:.2f}″"
        )
    if math.isfinite(s.off[0]):
        text += f". Measured less told: {s.off[0]:+.2f} ± {s.off_error[0]:.2f}″ in RA, {s.off[1]:+.2f} ± {s.off_error[1]:.2f}″ in Dec"
    if s.outliers:
        text += f". {counted(s.outliers, 'exposure')} left away: off the way"
    return true_minus(text + ".")
