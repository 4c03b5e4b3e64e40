"""Plate, page Solutions: where each exposure is on the sky."""

from __future__ import annotations

import math
from collections.abc import Callable

from PySide6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from ulvar.desktop.models.model import Model
from ulvar.desktop.parts.theme import Theme
from ulvar.desktop.parts.widgets import Rows, hairline, label, number, table
from ulvar.desktop.picture.tools import sexagesimal


class SolutionsPage(QWidget):
    """The current exposure's solution, and the state of all."""

    def __init__(self, model: Model, theme: Theme, command: Callable[[str], object]) -> None:
        super().__init__()
        self._model = model
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        self._where = label("", "value")
        self._numbers = label("", wrap=True)
        column.addWidget(self._where)
        column.addWidget(self._numbers)
        row = QHBoxLayout()
        for text, key in (("Catalogue stars", "catalogue"), ("Residual arrows", "residuals")):
            button = QPushButton(text)
            button.setToolTip(f"Show or hide: {text.lower()}")
            button.clicked.connect(lambda _=False, k=key: command(f"toggle {k}"))
            row.addWidget(button)
        self.catalogues = QPushButton("Catalogues…")
        self.catalogues.setToolTip(
            "Star catalogues on this machine: what each covers, how deep it is, its epoch and licence"
        )
        self.catalogues.clicked.connect(lambda: command("catalogues"))
        row.addWidget(self.catalogues)
        self.harder = QPushButton("")
        self.harder.setToolTip("Without a hint, at any scale, and for six times as long; what is solved stays as it is")
        self.harder.clicked.connect(lambda: command("run harder"))
        row.addWidget(self.harder)
        row.addStretch(1)
        column.addLayout(row)
        column.addWidget(hairline())
        self.rows = Rows(["Exposure", "Matched\nstars", "rms\n″", "Scale\n″/px", "Rotation\n°"])
        self.rows.theme = theme
        self.table = table(self.rows, "Plate solutions of the exposures", on_row=model.set_current)
        column.addWidget(self.table, 1)

    def refresh(self) -> None:
        """Fill the table."""
        model, plates = self._model, self._model.of_members("plate")
        failed = self._failed()
        # Those that are not solved stand first: they are what is still to be looked at.
        members = sorted(model.scores(), key=lambda raw: raw in plates)
        carried = sum(1 for p in plates.values() if p.values.get("carried_from"))
        missing = len(failed) + carried
        self.harder.setText(f"Try {missing} again, harder")
        self.harder.setVisible(missing > 0)
        rows, dim = [], set()
        for i, raw in enumerate(members):
            facts = model.facts(raw)
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
        self.rows.fill(rows, members, dim=dim)

    def _failed(self) -> dict[str, str]:
        """Return why exposures of the series were not solved."""
        found = self._model.of_members("plate_failed")
        return {raw: str(product.values["reason"]) for raw, product in found.items()}

    def show_current(self, path: str) -> None:
        """Tell the current exposure's solution."""
        row = self.rows.row_of(path)
        if row >= 0 and self.table.currentIndex().row() != row:
            self.table.selectRow(row)
        product = self._model.products("plate").get(path)
        if product is None:
            why = self._failed().get(path, "")
            self._where.setText("This exposure is not solved.")
            self._numbers.setText(f"{why[:1].upper()}{why[1:]}." if why else "")
            return
        v = product.values
        self._where.setText("Centre " + sexagesimal(v["ra"], v["dec"]))
        facts = self._model.facts(path)
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
