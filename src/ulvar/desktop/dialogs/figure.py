"""The light curve as a figure for print: its style as lines that can be changed, with a preview; and the report about it."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PySide6.QtCore import QSettings, Qt, QTimer
from PySide6.QtGui import QFont, QPixmap
from PySide6.QtWidgets import QHBoxLayout, QLabel, QPlainTextEdit, QPushButton, QWidget

from ulvar.desktop.dialogs.base import Panel
from ulvar.desktop.dialogs.exchange import ExchangePanel
from ulvar.desktop.dialogs.saving import ask_place
from ulvar.desktop.models.model import Model
from ulvar.desktop.work.background import Asker
from ulvar.engine import counted, reason_words
from ulvar.flows import CurveResult, FigureStyle, ReportFacts, figure_bytes, write_figure, write_report
from ulvar.night import recipe_text
from ulvar.photometry import SeriesTable

# Where the style stays between sessions, and how sharp the preview is.
_KEY, _PREVIEW_DPI, _WAIT_MS = "figure style", 96, 350


class FigurePanel(Panel):
    """Style and preview side by side; figure and report are saved from here.

    Parameters
    ----------
    parent : QWidget
    model : Model
    result : CurveResult
    settings : QSettings
        Where the style and the last folder stay.
    beside : Path
        A first place for files.
    """

    def __init__(self, parent: QWidget, model: Model, result: CurveResult, settings: QSettings, beside: Path) -> None:
        super().__init__(
            parent,
            "Figure and report",
            "Each line of the style can be changed; the figure follows.",
            "Save the figure…",
        )
        self.setMinimumSize(980, 600)
        self._model, self._result, self._settings, self._beside = model, result, settings, beside
        self._beneath = model.curves.beneath(result.curve)
        self.style_now = FigureStyle()
        # Of which the preview is, or is being drawn.
        self._asked: FigureStyle | None = None
        row = QHBoxLayout()
        self.lines = QPlainTextEdit()
        mono = QFont("monospace")
        mono.setStyleHint(QFont.StyleHint.Monospace)
        self.lines.setFont(mono)
        self.lines.setFixedWidth(330)
        self.lines.setToolTip("Lines of the style: name = value")
        self.lines.setAccessibleName("Style of the figure")
        self.lines.setTabChangesFocus(True)
        self.preview = QLabel()
        self.preview.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.preview.setMinimumSize(560, 420)
        self.preview.setAccessibleName("The figure as it will be")
        row.addWidget(self.lines)
        row.addWidget(self.preview, 1)
        self.body.addLayout(row, 1)
        foot = QHBoxLayout()
        self.plain = QPushButton("Style of the beginning")
        self.plain.setToolTip("Take all changes of the style back")
        self.plain.clicked.connect(lambda: self.lines.setPlainText(FigureStyle().as_toml()))
        self.report = QPushButton("Save a report…")
        self.report.setToolTip(
            "Figure, numbers, stars, apertures, calibration, findings and the recipe, as one page: HTML or PDF"
        )
        self.report.clicked.connect(self._report)
        foot.addWidget(self.plain)
        foot.addStretch(1)
        self.exchange = QPushButton("For an association…")
        self.exchange.setToolTip("The points in the text form that observers' associations take")
        self.exchange.clicked.connect(self._exchange)
        foot.addWidget(self.exchange)
        foot.addWidget(self.report)
        self.body.addLayout(foot)
        self._asker = Asker("figure")
        self._asker.found.connect(self._drawn)
        self.finished.connect(lambda _: self._asker.close())
        self._order = 0
        self._soon = QTimer(self)
        self._soon.setSingleShot(True)
        self._soon.setInterval(_WAIT_MS)
        self._soon.timeout.connect(self._draw)
        self.lines.textChanged.connect(self._soon.start)
        self.lines.setPlainText(str(settings.value(_KEY, "")) or FigureStyle().as_toml())
        self._draw()

    def _draw(self) -> None:
        """Read the style and have the preview drawn."""
        try:
            self.style_now = FigureStyle.from_toml(self.lines.toPlainText())
        except ValueError as error:
            self.tell(f"{str(error)[:1].upper()}{str(error)[1:]}.")
            self.action.setEnabled(False)
            return
        self.tell("")
        self.action.setEnabled(True)
        self._settings.setValue(_KEY, self.lines.toPlainText())
        # A line that was typed and taken back leaves the figure as it is drawn already.
        if self.style_now == self._asked:
            return
        self._asked = self.style_now
        self._order += 1
        self._asker.ask(
            self._order,
            partial(
                figure_bytes, self._result, self.style_now, "png", beneath=self._beneath, dots_per_inch=_PREVIEW_DPI
            ),
        )

    def _drawn(self, order: object, drawn: object) -> None:
        if order != self._order:
            return
        if not isinstance(drawn, bytes):
            self._asked = None
            self.tell(f"{drawn}.")
            return
        picture = QPixmap()
        picture.loadFromData(drawn)
        room = self.preview.size()
        if picture.width() > room.width() or picture.height() > room.height():
            picture = picture.scaled(
                room, Qt.AspectRatioMode.KeepAspectRatio, Qt.TransformationMode.SmoothTransformation
            )
        self.preview.setPixmap(picture)

    def _ask_place(self, words: str, name: str, kinds: str) -> Path | None:
        return ask_place(self, self._settings, self._beside, words, name, kinds)

    def _stem(self) -> str:
        series = self._model.chosen_series()
        return series.key if series is not None else "curve"

    def apply(self) -> None:
        """Save the figure."""
        path = self._ask_place("Save the figure", f"{self._stem()}-figure.pdf", "PDF (*.pdf);;SVG (*.svg);;PNG (*.png)")
        if path is not None:
            self._write(
                path, partial(write_figure, path, self._result, self.style_now, beneath=self._beneath, replace=True)
            )

    def _report(self) -> None:
        path = self._ask_place("Save a report", f"{self._stem()}-report.html", "Page (*.html);;PDF (*.pdf)")
        if path is None:
            return
        table: SeriesTable | None = self._model.curves.series()
        self._write(
            path,
            partial(
                write_report,
                path,
                self._result,
                self._facts(),
                table=table,
                style=self.style_now,
                beneath=self._beneath,
                replace=True,
            ),
        )

    def _exchange(self) -> None:
        series = self._model.chosen_series()
        self.telling = ExchangePanel(
            self, self._result.curve, self._settings, self._beside, series.filter if series else "", self._model.curves.series()
        )  # fmt: skip
        self.telling.setWindowModality(Qt.WindowModality.WindowModal)
        self.telling.show()

    def _write(self, path: Path, write) -> None:  # type: ignore[no-untyped-def]
        try:
            write()
        except OSError as error:
            self.tell(f"{path.name} could not be written: {reason_words(error)}.")
        except ValueError as error:
            self.tell(f"{error}.")
        else:
            self._model.message.emit(f"Saved {path.name} in {path.parent}.")
            self.accept()

    def _facts(self) -> ReportFacts:
        """Return what the night tells beside the curve."""
        model, night = self._model, self._model.night
        assert night is not None
        about = [("Night", f"{night.name}, {night.date}".strip(", ")), ("Series", model.series_name())]
        provenance = []
        series = model.chosen_series()
        used = night.products_of("calibrated")
        mine = [used[path] for path in (series.files if series else ()) if path in used]
        if mine:
            steps = mine[0].values.get("steps") or mine[0].values.get("masters") or []
            told = "; ".join(str(step) for step in steps) if isinstance(steps, list | tuple) else str(steps)
            provenance.append(
                f"{counted(len(mine), 'light', 'was', 'were')} calibrated" + (f": {told}." if told else ".")
            )
        masters = [Path(path).name for path in night.products_of("master")]
        if masters:
            provenance.append(f"Masters of the night: {', '.join(sorted(masters))}.")
        findings = [f for f in model.jobs.findings() if f.station in ("measure", "curve", "calibrate")]
        return ReportFacts(f"{self._result.curve.name}: light curve", about, provenance, recipe_text(night), findings)
