"""Combine: scores, a scatter of two qualities, and the stack."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QPushButton

from ulvar.desktop.boards.base import Board
from ulvar.desktop.plots import Plot, Points
from ulvar.desktop.widgets import Rows, empty_state, label, number, table
from ulvar.night.stations import ruled_out

_QUALITIES = {
    "fwhm_px": ("FWHM", "px", 1.0), "transparency": ("Transparency", "%", 100.0), "ellipticity": ("Ellipticity", "", 1.0),
    "stars": ("Star count", "", 1.0), "sky_adu": ("Sky level", "ADU", 1.0), "noise_adu": ("Noise", "ADU", 1.0),
    "residual_px": ("Alignment residual", "px", 1.0), "score": ("Score", "%", 100.0),
}  # fmt: skip


class CombineBoard(Board):
    """Which frames deserve to be in, and how well do they line up?"""

    width_hint = 520
    _order = "Worst first"
    _axes = ("fwhm_px", "transparency")

    def fill(self) -> None:
        """Build table and scatter."""
        scores = self.model.products("score")
        self.title.setText("Scores")
        if not scores:
            self.count.setText("")
            n = len([f for f in self.model.lights() if f.path not in self.model.left_out()])
            if n:
                self.body.addWidget(
                    empty_state("No exposure is scored yet.", f"Score {n}", lambda: self.command("run score"))
                )
            else:
                self.body.addWidget(
                    empty_state(
                        "There are no lights to combine.",
                        "Go to Intake",
                        lambda: self.command("station intake"),
                    )
                )
            return
        name = self.model.working_filter()
        members = {raw: p.values for raw, p in scores.items() if p.values["filter"] == name}
        keep, _ = self.model.stack_plan()
        self.count.setText(f"{len(keep)} of {len(members)} {name} exposures kept")
        self._controls()
        self._fill_table(members)
        self._scatter(members)

    def _controls(self) -> None:
        row = QHBoxLayout()
        box = QComboBox()
        box.addItems(["Worst first", "Best first", "By time"])
        box.setCurrentText(self._order)
        box.setToolTip("Order of the table")
        box.setAccessibleName("Order of the table")
        box.textActivated.connect(self._reorder)
        row.addWidget(box)
        row.addStretch(1)
        stack = next(iter(self.model.products("stack").values()), None)
        if stack is not None:
            shown = QPushButton(f"Show the stack of {stack.values['count']}")
            shown.setToolTip(
                f"SNR gain × {stack.values['snr_gain']:.1f}; alignment residual {stack.values['residual_px']:.3f} px"
            )
            shown.clicked.connect(lambda: self.show_file(stack.output, f"Stack of {stack.values['count']}"))
            row.addWidget(shown)
        self.body.addLayout(row)

    def _reorder(self, text: str) -> None:
        self._order = text
        self.mark_stale()

    def _fill_table(self, members: dict[str, Any]) -> None:
        night = self.model.night
        out = self.model.left_out()
        paths = list(members)
        if self._order != "By time":
            paths.sort(key=lambda p: members[p]["score"], reverse=self._order == "Best first")
        else:
            order = {f.path: i for i, f in enumerate(self.model.lights())}
            paths.sort(key=lambda p: order.get(p, 0))
        rows, marks, dim = [], {}, set()
        rules = self.model.settings().combine
        for i, path in enumerate(paths):
            v = members[path]
            facts = self.model.facts(path)
            why = ruled_out(night, v) if night else ""
            gone = path in out
            if gone or why:
                dim.add(i)
            mark = "∅ " if gone else "– " if why else ""
            rows.append(
                (
                    f"{mark}{facts.stem if facts else path}", number(v["fwhm_px"], 2), number(v["ellipticity"], 2),
                    number(v["stars"], 0), number(v["sky_adu"], 0),
                    number(None if v["transparency"] is None else 100 * v["transparency"], 0), number(100 * v["score"], 0),
                )
            )  # fmt: skip
            if rules.fwhm_over is not None and (v["fwhm_px"] or 0) > rules.fwhm_over:
                marks[i, 1] = "block"
            if rules.ellipticity_over is not None and (v["ellipticity"] or 0) > rules.ellipticity_over:
                marks[i, 2] = "block"
            if rules.transparency_under is not None and (v["transparency"] or 1) < rules.transparency_under:
                marks[i, 5] = "block"
        self._rows = Rows(["Exposure", "FWHM\npx", "Ellip-\nticity", "Stars", "Sky\nADU", "Transp.\n%", "Score"])
        self._rows.theme = self.theme
        self._rows.fill(rows, paths, marks, dim)
        self._table = table(self._rows, on_row=self.model.set_current)
        self.body.addWidget(self._table, 3)

    def _scatter(self, members: dict[str, Any]) -> None:
        row = QHBoxLayout()
        row.addWidget(label("Scatter", "section"))
        boxes = []
        for side in (1, 0):
            box = QComboBox()
            for key, (text, unit, _) in _QUALITIES.items():
                box.addItem(f"{text}, {unit}" if unit else text, key)
            box.setCurrentIndex(list(_QUALITIES).index(self._axes[side]))
            box.setAccessibleName("Quality along " + ("the vertical axis" if side else "the horizontal axis"))
            box.activated.connect(lambda _: self._axes_chosen(boxes[1].currentData(), boxes[0].currentData()))
            boxes.append(box)
            row.addWidget(box)
            if side:
                row.addWidget(label("against"))
        row.addStretch(1)
        self.body.addLayout(row)
        x_key, y_key = self._axes
        out, keep = self.model.left_out(), self.model.stack_plan()[0]
        paths = list(members)

        def values(key: str) -> np.ndarray:
            factor = _QUALITIES[key][2]
            return np.array([math.nan if members[p][key] is None else factor * members[p][key] for p in paths])

        kinds = ["left_out" if p in out else "kept" if p in keep else "other" for p in paths]
        plot = Plot(
            self.theme, x_label=" ".join(_QUALITIES[x_key][:2]), y_label=" ".join(_QUALITIES[y_key][:2]),
            on_pick=self.model.set_current,
        )  # fmt: skip
        plot.series = [Points(values(x_key), values(y_key), kinds=kinds, keys=paths)]
        plot.setMinimumHeight(160)
        self._plot = plot
        self.body.addWidget(plot, 2)

    def _axes_chosen(self, x: str, y: str) -> None:
        self._axes = (x, y)
        self.mark_stale()

    def show_current(self, path: str) -> None:
        """Mark the current exposure in table and scatter."""
        if not self.model.products("score"):
            return
        row = self._rows.row_of(path)
        if row >= 0 and self._table.currentIndex().row() != row:
            self._table.selectRow(row)
        self._plot.current = path
        self._plot.update()
