"""Star catalogues on this machine, side by side: what each covers, how deep it is, its epoch and licence; one is chosen."""

from __future__ import annotations

import math
from functools import partial
from pathlib import Path

import platformdirs
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from ulvar.astrometry import CatalogueError, CatalogueFacts, catalogues_in, describe_catalogue
from ulvar.desktop.dialogs.base import Panel
from ulvar.desktop.models.model import Model
from ulvar.desktop.parts.theme import Theme, font
from ulvar.desktop.parts.widgets import Rows, label, number, table
from ulvar.desktop.work.background import Asker
from ulvar.engine import true_minus


def catalogues_folder() -> Path:
    """Return the folder that catalogues are looked for in beside the one in use."""
    return platformdirs.user_data_path("ulvar") / "catalogues"


class CoverageMap(QWidget):
    """Tiles of a catalogue on the whole sky, east to the left, with the field that is worked on."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        self.facts: CatalogueFacts | None = None
        self.here: tuple[float, float] | None = None
        self.setFixedHeight(150)
        self.setAccessibleName("Where on the sky the catalogue has stars")
        self.setToolTip(
            "Right ascension from 24 h at the left to 0 h, declination from +90° at the top; the ring is the field"
        )

    def place(self, ra: float, dec: float) -> QPointF:
        """Return where a place on the sky [deg] is drawn."""
        box = self._box()
        return QPointF(box.left() + (360 - ra) / 360 * box.width(), box.top() + (90 - dec) / 180 * box.height())

    def _box(self) -> QRectF:
        return QRectF(30, 4, self.width() - 36, self.height() - 24)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw tiles, axes, and the field."""
        painter, t, box = QPainter(self), self.theme, self._box()
        painter.fillRect(box, t.color("plot"))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(t.color("good"))
        if self.facts is not None:
            for ra, dec, wide, high in self.facts.places.tolist():
                tile = QRectF(self.place(ra + wide / 2, dec + high / 2), self.place(ra - wide / 2, dec - high / 2))
                painter.drawRect(tile)
        painter.setFont(font("unit"))
        painter.setPen(t.color("mute"))
        for hours in (24, 18, 12, 6, 0):
            x = self.place(hours * 15.0, 0.0).x()
            painter.drawText(QRectF(x - 20, box.bottom() + 2, 40, 16), Qt.AlignmentFlag.AlignCenter, f"{hours} h")
        for dec in (90, 0, -90):
            y = min(max(self.place(0.0, dec).y(), 8.0), self.height() - 28.0)
            painter.drawText(QRectF(0, y - 8, 26, 16), Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, true_minus(f"{dec:+d}°").replace("+0", "0"))  # fmt: skip
        if self.here is not None:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(t.color("cur"), 2))
            painter.drawEllipse(self.place(*self.here), 6, 6)


class CataloguesPanel(Panel):
    """A table of the catalogues that are found, and what the chosen one is."""

    def __init__(self, parent: QWidget, model: Model, theme: Theme) -> None:
        super().__init__(
            parent, "Star catalogues",
            f"Catalogues of tiles in {catalogues_folder()} and beside the one in use. More are made by ulvar catalogue import and fetch.",
            "Use this one",
        )  # fmt: skip
        self._model = model
        self.setMinimumWidth(640)
        self.rows = Rows(["Name", "Stars", "Down to\nmag", "Epoch", "Sky\n%"])
        self.rows.theme = theme
        self.table = table(
            self.rows, "Star catalogues on this machine", on_row=self._picked, tip="Star catalogues on this machine"
        )
        self.table.setMinimumHeight(130)
        self.body.addWidget(self.table)
        self.map = CoverageMap(theme)
        facts = model.facts(model.current)
        if facts is not None and facts.ra_deg is not None and facts.dec_deg is not None:
            self.map.here = facts.ra_deg, facts.dec_deg
        self.body.addWidget(self.map)
        self.words = label("", wrap=True)
        self.words.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.body.addWidget(self.words)
        self.found: list[CatalogueFacts] = []
        self.action.setEnabled(False)
        self._asker = Asker("catalogues")
        self._asker.found.connect(self._described)
        self._waiting = 0
        for folder in self._folders():
            self._waiting += 1
            self._asker.ask(folder, partial(_described, folder))
        if not self._waiting:
            self._asker.close()
        self._fill()

    def _folders(self) -> list[Path]:
        used = self._model.settings().plate.catalogue
        places = [catalogues_folder(), *([Path(used).parent] if used else [])]
        return list(dict.fromkeys(path for place in places for path in catalogues_in(place)))

    def _described(self, folder: object, found: object) -> None:
        self._waiting -= 1
        if not self._waiting:
            # The thread ends with its work.
            self._asker.close()
        if isinstance(found, CatalogueFacts):
            self.found.append(found)
        else:
            self.tell(str(found))
        self._fill()

    def _fill(self) -> None:
        used = self._model.settings().plate.catalogue
        rows = []
        for one in self.found:
            first, last = one.epochs
            epoch = "–" if math.isnan(first) else f"{first:.1f}" if last - first < 0.05 else f"{first:.0f}–{last:.0f}"
            rows.append((one.name, number(one.stars, 0), number(one.depth_mag, 1), epoch, number(100 * one.covered, 1)))
        self.rows.fill(rows, [str(one.folder) for one in self.found])
        if self.found and self.table.currentIndex().row() < 0:
            self.table.selectRow(max(0, self.rows.row_of(used)))
        if not self.found:
            self.words.setText("Looking…" if self._waiting else "There is none yet.")

    def _picked(self, key: str) -> None:
        facts = next((one for one in self.found if str(one.folder) == key), None)
        self.map.facts = facts
        self.map.update()
        self.action.setEnabled(facts is not None)
        if facts is None:
            return
        bands = f"Bands: {', '.join(facts.bands)}." if facts.bands else ""
        has = f"With {', '.join(facts.has)}." if facts.has else ""
        origin = f"From {facts.origin}." if facts.origin else ""
        licence = f"Licence: {facts.licence}" if facts.licence else "Its licence was not told."
        self.words.setText(
            "\n".join(
                part for part in (str(facts.folder), " ".join(p for p in (bands, has, origin) if p), licence) if part
            )
        )

    def apply(self) -> None:
        """Take the chosen catalogue."""
        key = self.rows.key(self.table.currentIndex().row())
        if key and (key == self._model.settings().plate.catalogue or self._model.matching.choose_catalogue(key)):
            self.accept()
        else:
            self.tell("It cannot serve this series: see the message.")


def _described(path: Path) -> CatalogueFacts | str:
    try:
        return describe_catalogue(path)
    except CatalogueError as error:
        return str(error)
