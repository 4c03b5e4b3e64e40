"""Calibrate: did the pixels get better? Lights with their noise, defects, the flat check, the camera."""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np
from PySide6.QtWidgets import QScrollArea, QTableView

from ulvar.desktop.boards.base import Board
from ulvar.desktop.boards.calibrate.camera import CameraPage
from ulvar.desktop.boards.calibrate.defects import DefectsPage
from ulvar.desktop.boards.calibrate.flat import FlatPage
from ulvar.desktop.parts.widgets import Rows, hairline, label, number, table
from ulvar.engine import counted
from ulvar.frames import Group, Role

# Key, words and sentence of the board's pages.
PAGES = (
    ("lights", "Lights", "What was calibrated with what, and the noise before and after"),
    ("defects", "Defects", "Hot and cold pixels, with counts that follow the thresholds"),
    ("flat", "Flat fit", "Does the flat correct too much or too little?"),
    ("camera", "Camera", "Gain and read noise, measured from pairs of flats"),
)


class CalibrateBoard(Board):
    """Four pages about the same question."""

    width_hint = 440

    def __init__(self, *arguments) -> None:  # type: ignore[no-untyped-def]
        self.page = "lights"
        self.defects: DefectsPage | None = None
        self._table: QTableView | None = None
        super().__init__(*arguments)

    def fill(self) -> None:
        """Build the page that is turned to."""
        self._table = None
        if self.defects is not None:
            self.defects.close_finder()
            self.defects = None
        lights = self.model.lights()
        done = self.model.products("calibrated")
        self.title.setText("Calibrated")
        self.count.setText(f"{len(done)} of {len(lights)} lights" if lights else "")
        self.page_buttons = self.add_pages(PAGES, self.page, self.turn_to)
        if self.page == "defects":
            self.defects = DefectsPage(self.model, self.theme)
            self.body.addWidget(self.defects, 1)
        elif self.page == "flat":
            self.flat = FlatPage(self.model, self.theme)
            self.body.addWidget(self.flat, 1)
        elif self.page == "camera":
            scroll = QScrollArea()
            scroll.setWidgetResizable(True)
            self.camera = CameraPage(self.model, self.theme, self.command)
            scroll.setWidget(self.camera)
            self.body.addWidget(scroll, 1)
        else:
            self._lights()

    def turn_to(self, page: str) -> None:
        """Show another page."""
        self.page = page
        if page != "defects":
            self.model.matching.set_preview(np.empty((0, 2)))
        self._stale = True
        self.rebuild()

    def shut_down(self) -> None:
        """End the search for defects, and wait for it."""
        if self.defects is not None:
            self.defects.close_finder(wait=True)

    def mark_stale(self) -> None:
        """Build anew, but not under the user's hand: the defect page follows its own sliders."""
        if self.page == "defects" and self.defects is not None and self.isVisible():
            return
        super().mark_stale()

    def _lights(self) -> None:
        lights = self.model.lights()
        done = self.model.products("calibrated")
        if not self.model.matching.has_masters() and not done:
            frames = any(g.role in (Role.BIAS, Role.DARK, Role.DARK_FLAT, Role.FLAT) for g in self.model.groups())
            self.say_empty(
                "No masters yet, so there is nothing to calibrate with." if frames
                else "No calibration frames in this night: lights are used as they are."
            )  # fmt: skip
            return
        if not done:
            ready = len([f for f in lights if f.path not in self.model.left_out()])
            self.say_empty(f"Masters are made. {counted(ready, 'light', 'waits', 'wait')}.")
            return
        for group in self.model.groups():
            if group.role is Role.LIGHT:
                self._group(group)
        self.body.addWidget(label("Space blinks before and after, W swipes, P plots a line.", "unit"))
        self.body.addWidget(hairline())
        self._rows = Rows(["Light", "Sky\nADU", "Before\nADU", "After\nADU", "Expected\nADU", "After /\nexpected"])
        self._rows.theme = self.theme
        rows: list[tuple[str, ...]] = []
        keys, dim, marks = [], set(), {}
        for facts in lights:
            product = done.get(facts.path)
            if product is None:
                dim.add(len(rows))
                rows.append((facts.stem, "–", "–", "–", "–", "–"))
            else:
                v = product.values
                after, expected = v.get("noise_after"), v.get("noise_expected")
                ratio = after / expected if after and expected else None
                if ratio is not None and ratio > 1.15:
                    marks[len(rows), 5] = "check"
                rows.append(
                    (facts.stem, number(v.get("sky_adu"), 0), number(v.get("noise_before"), 1), number(after, 1),
                     number(expected, 1), "–" if ratio is None else f"× {ratio:.2f}")
                )  # fmt: skip
            keys.append(facts.path)
        self._rows.fill(rows, keys, marks, dim)
        self._table = table(self._rows, "Lights with their noise", on_row=self.model.set_current)
        self._table.setToolTip(
            "Noise of a pixel before and after; expected is what photons, dark current, read noise and masters make"
        )
        self.body.addWidget(self._table, 1)

    def _group(self, group: Group) -> None:
        done = self.model.products("calibrated")
        values = [done[f].values for f in group.files if f in done]
        exposure = "" if group.exposure_s is None else f"{group.exposure_s:g} s"
        head = f"{group.filter}  {exposure}   {len(values)} of {group.count}".strip()
        self.body.addWidget(label(head, "value"))
        if not values:
            self.body.addWidget(label("no safe masters: see Masters"))
            return
        ratios = [
            v["noise_after"] / v["noise_expected"] for v in values if v.get("noise_after") and v.get("noise_expected")
        ]
        zero = values[0].get("dark") or values[0].get("bias")
        used = f"{_short(zero)}, {_short(values[0].get('flat'))}"
        noise = (
            f"noise {np.median(ratios):.2f} of photons and read noise" if ratios else "gain unknown: no expected noise"
        )
        self.body.addWidget(label(f"{used}; {noise}", wrap=True))

    def show_current(self, path: str) -> None:
        """Select the row of the current exposure."""
        if self._table is not None:
            row = self._rows.row_of(path)
            if row >= 0 and self._table.currentIndex().row() != row:
                self._table.selectRow(row)


def _short(path: object) -> str:
    if not path:
        return "none"
    parts = Path(str(path)).stem.removeprefix("master-").split("-")
    words = " ".join(parts[:3]) if parts[0] == "flat" else " ".join(parts[:2])
    return re.sub(r"(\d)s\b", "\\1\u00a0s", words)
