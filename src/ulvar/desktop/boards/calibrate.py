"""Calibrate: before and after, in numbers and in the picture."""

from __future__ import annotations

from pathlib import Path

from ulvar.desktop.boards.base import Board
from ulvar.desktop.widgets import Rows, empty_state, hairline, label, table
from ulvar.frames import Role


class CalibrateBoard(Board):
    """Which lights are calibrated, and with what."""

    def fill(self) -> None:
        """Build the groups and the list of lights."""
        lights = self.model.lights()
        done = self.model.products("calibrated")
        self.title.setText("Calibrated")
        self.count.setText(f"{len(done)} of {len(lights)} lights" if lights else "")
        if not self.model.products("master"):
            sentence = "No masters yet, so there is nothing to calibrate with."
            self.body.addWidget(empty_state(sentence, "Go to Masters", lambda: self.command("station masters")))
            return
        if not done:
            ready = len([f for f in lights if f.path not in self.model.left_out()])
            self.body.addWidget(
                empty_state(
                    f"Masters are made. {ready} lights wait.",
                    f"Calibrate {ready}",
                    lambda: self.command("run calibrate"),
                )
            )
            return
        for group in self.model.groups():
            if group.role is Role.LIGHT:
                count = sum(f in done for f in group.files)
                state = (
                    "calibrated"
                    if count == group.count
                    else "no safe masters: see Masters"
                    if not count
                    else f"{group.count - count} not"
                )
                exposure = "" if group.exposure_s is None else f"{group.exposure_s:g} s"
                self.body.addWidget(label(f"{group.filter}  {exposure}   {count} of {group.count}   {state}", "value"))
        self.body.addWidget(label("Space blinks before and after in the picture.", "unit"))
        self.body.addWidget(hairline())
        self._rows = Rows(["Light", "Dark", "Flat"])
        self._rows.theme = self.theme
        rows, keys, dim = [], [], set()
        for facts in lights:
            product = done.get(facts.path)
            if product is None:
                dim.add(len(rows))
                rows.append((facts.stem, "–", "–"))
            else:
                v = product.values
                zero = v.get("dark") or v.get("bias")
                rows.append((facts.stem, _short(zero), _short(v.get("flat"))))
            keys.append(facts.path)
        self._rows.fill(rows, keys, dim=dim)
        self._table = table(self._rows, on_row=self.model.set_current)
        self.body.addWidget(self._table, 1)

    def show_current(self, path: str) -> None:
        """Select the row of the current exposure."""
        if hasattr(self, "_rows") and self._rows.rowCount():
            row = self._rows.row_of(path)
            if row >= 0 and self._table.currentIndex().row() != row:
                self._table.selectRow(row)


def _short(path: str | None) -> str:
    if not path:
        return "none"
    parts = Path(path).stem.removeprefix("master-").split("-")
    return " ".join(parts[:3]) if parts[0] == "flat" else " ".join(parts[:2])
