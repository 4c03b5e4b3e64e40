"""Plate: where is this on the sky?"""

from __future__ import annotations

import math

from PySide6.QtWidgets import QHBoxLayout, QPushButton

from ulvar.desktop.boards.base import Board
from ulvar.desktop.parts.widgets import Rows, hairline, label, number, table
from ulvar.desktop.picture.tools import sexagesimal


class PlateBoard(Board):
    """The current exposure's solution, and the state of all."""

    width_hint = 392

    def fill(self) -> None:
        """Build the solution's numbers and the table."""
        # Until the numbers are built there is nothing that the current exposure could be told in.
        self._built = False
        plates, scores = self.model.of_members("plate"), self.model.scores()
        self.title.setText("Plate solutions")
        if not scores:
            self.count.setText("")
            self.say_empty("Score the exposures first: their stars are matched with the catalogue.")
            return
        members = list(scores)
        self.count.setText(f"{len(plates)} of {len(members)} solved")
        if not plates:
            stars = scores[members[0]].values["stars"] if members else 0
            told = (
                ""
                if self.model.settings().plate.catalogue
                else " Choose a star catalogue at the right: a CSV file with ra and dec."
            )
            self.say_empty(f"Not solved; {stars} stars found in the first exposure.{told}")
            return
        self._numbers = label("", wrap=True)
        self._where = label("", "value")
        self.body.addWidget(self._where)
        self.body.addWidget(self._numbers)
        row = QHBoxLayout()
        for text, key in (("Catalogue stars", "catalogue"), ("Residual arrows", "residuals")):
            button = QPushButton(text)
            button.setToolTip(f"Show or hide: {text.lower()}")
            button.clicked.connect(lambda _=False, k=key: self.command(f"toggle {k}"))
            row.addWidget(button)
        row.addStretch(1)
        self.body.addLayout(row)
        self.body.addWidget(hairline())
        self._rows = Rows(["Exposure", "Matched\nstars", "rms\n″", "Scale\n″/px", "Rotation\n°"])
        self._rows.theme = self.theme
        rows, dim = [], set()
        for i, raw in enumerate(members):
            facts = self.model.facts(raw)
            stem = facts.stem if facts else raw
            if raw not in plates:
                dim.add(i)
                rows.append((stem, "not solved", "", "", ""))
                continue
            v = plates[raw].values
            rows.append(
                (
                    stem,
                    "carried" if v.get("carried_from") else number(v["matched"], 0),
                    number(v["rms_arcsec"], 2),
                    number(v["scale_arcsec_px"], 4),
                    number(v["rotation_deg"], 2),
                )
            )
        self._rows.fill(rows, members, dim=dim)
        self._table = table(self._rows, "Plate solutions of the exposures", on_row=self.model.set_current)
        self.body.addWidget(self._table, 1)
        self._built = True

    def show_current(self, path: str) -> None:
        """Tell the current exposure's solution."""
        if not getattr(self, "_built", False):
            return
        plates = self.model.products("plate")
        row = self._rows.row_of(path)
        if row >= 0 and self._table.currentIndex().row() != row:
            self._table.selectRow(row)
        product = plates.get(path)
        if product is None:
            self._where.setText("This exposure is not solved.")
            self._numbers.setText("")
            return
        v = product.values
        self._where.setText("Centre " + sexagesimal(v["ra"], v["dec"]))
        facts = self.model.facts(path)
        field = ""
        if facts is not None:
            field = f"Field {facts.width * v['scale_arcsec_px'] / 60:.1f}′ × {facts.height * v['scale_arcsec_px'] / 60:.1f}′, "
        model = "plain TAN" if v.get("order", 1) == 1 else f"TAN with SIP of order {v['order']}"
        rms = v["rms_arcsec"] if v["rms_arcsec"] is not None else math.nan
        how = (
            f"By its alignment, from the solution of {v['carried_from']}"
            if v.get("carried_from")
            else f"{v['matched']} stars, rms {rms:.2f}″ = {rms / v['scale_arcsec_px']:.2f} px"
        )
        stated = f" Its header is wrong by {v['stated_off_arcsec']:.0f}″." if v.get("stated") == "wrong" else ""
        self._numbers.setText(
            f"{field}{v['scale_arcsec_px']:.4f} ″/px, +y points {v['rotation_deg']:.2f}° east of north"
            f"{', mirror image' if v['flipped'] else ''}. {how}, {model}.{stated}"
        )
