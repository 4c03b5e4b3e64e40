"""Fast series: a film is opened, a target and tracking stars are clicked, all frames are measured, an occultation is timed."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import replace
from datetime import UTC, datetime
from functools import partial
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QFileDialog,
    QFrame,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from ulvar.desktop.dialogs.base import Panel
from ulvar.desktop.dialogs.film_picture import FilmPicture
from ulvar.desktop.parts.inputs import Choice, Number
from ulvar.desktop.parts.plots import Plot, Points
from ulvar.desktop.parts.theme import Theme
from ulvar.desktop.parts.widgets import label
from ulvar.desktop.work.background import Asker
from ulvar.desktop.work.films import MeasuredFilm, OpenedFilm, measure_and_time, open_and_look
from ulvar.engine import Failed, OutputExists, StopToken, counted, reason_words
from ulvar.flows import (
    FilmLook,
    FilmSeries,
    FilmTiming,
    film_findings,
    film_grey,
    film_rows,
    occultation_words,
)
from ulvar.frames import TABLE_ENDINGS, Film, parse_time
from ulvar.lightcurves import Occultation
from ulvar.photometry import ApertureOptions, ListedStar, write_series

_KINDS = "Films (*.ser *.avi *.fit *.fits *.fts);;All files (*)"
# Nearer than this to a mark a click is meant for it [px of the frame].
_NEAR = 8.0
# A plot of more points is a line.
_DOTS = 400


class FastPanel(Panel):
    """Films at video rates.

    Parameters
    ----------
    parent : QWidget
    theme : Theme
    path : Path, optional
        A film to open at once.
    """

    def __init__(self, parent: QWidget, theme: Theme, path: Path | None = None) -> None:
        super().__init__(
            parent, "Fast series",
            "Thousands of short frames: click the target, even where nothing is seen, then one star or more to follow.", "Measure",
        )  # fmt: skip
        self.theme = theme
        self.setMinimumSize(1000, 700)
        self.film: Film | None = None
        self.look: FilmLook | None = None
        self.series: FilmSeries | None = None
        self.event_found: Occultation | Failed | None = None
        self.stars: list[ListedStar] = []
        self.cancel.setText("Close")
        self.cancel.setToolTip("Close this window (Esc); what runs is stopped")
        self._stop = StopToken()
        self._asker = Asker("film")
        self._asker.found.connect(self._answered)
        self.finished.connect(self._end)
        self._order = 0
        self._fill()
        if path is not None:
            self.open_film([str(path)])

    # ---- the window

    def _fill(self) -> None:
        row = QHBoxLayout()
        self.choose = QPushButton("Open a film…")
        self.choose.setToolTip("A SER or AVI file, a FITS cube, or the FITS files of a series")
        self.choose.clicked.connect(self._choose)
        self.folder = QPushButton("Folder of frames…")
        self.folder.setToolTip("A folder with a FITS file for each frame")
        self.folder.clicked.connect(self._choose_folder)
        self.about = label("No film is open.")
        row.addWidget(self.choose)
        row.addWidget(self.folder)
        row.addWidget(self.about, 1)
        self.body.addLayout(row)
        middle = QHBoxLayout()
        self.picture = FilmPicture(self.theme)
        self.picture.clicked.connect(self._clicked)
        middle.addWidget(self.picture, 1)
        side = QVBoxLayout()
        side.setSpacing(6)
        self.first = QLineEdit()
        self.first.setPlaceholderText("as the file says")
        self.rate = self._number("as the file says", 0, 10000, 3, " /s")
        self.stamp = Choice()
        for words, value in (
            ("as the file says, else start", ""),
            ("start", "start"),
            ("middle", "middle"),
            ("end", "end"),
        ):
            self.stamp.addItem(words, value)
        self.radius = self._number("", 0, 100, 1, " px")
        self.radius.setSpecialValueText("1.5 FWHM")
        self.inner = self._number("", 0, 200, 1, " px")
        self.outer = self._number("", 0, 300, 1, " px")
        for ring in (self.inner, self.outer):
            ring.setSpecialValueText("as the aperture")
        self.gain = self._number("", 0, 1000, 3, " e⁻/ADU")
        self.gain.setSpecialValueText("not known")
        self.offset = self._number("", -1000, 1000, 4, " s")
        self.offset.setValue(0)
        fields: tuple[tuple[str, QWidget, str], ...] = (
            ("First frame, UTC", self.first, "Time of the first frame, such as 2026-03-14T21:05:12.345"),
            ("Frames a second", self.rate, "The file's own times of single frames then do not count"),
            ("Times are of the", self.stamp, "What of an exposure the file's times are of"),
            (
                "Camera's delay",
                self.offset,
                "Added to all times, with its sign: what the camera is known to be late by",
            ),
            ("Aperture", self.radius, "Radius of the aperture, of all stars alike"),
            ("Sky from", self.inner, "Where the annulus of the sky begins"),
            ("Sky to", self.outer, "Where it ends"),
            ("Gain", self.gain, "Electrons per ADU, for error bars; times have theirs without it"),
        )
        for words, field, tip in fields:
            line = QHBoxLayout()
            title = label(words)
            title.setFixedWidth(110)
            title.setBuddy(field)
            field.setAccessibleName(words)
            field.setToolTip(tip)
            line.addWidget(title)
            line.addWidget(field, 1)
            side.addLayout(line)
        self.told = label("", wrap=True)
        self.told.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.told.setAlignment(Qt.AlignmentFlag.AlignTop)
        # What is told of a film with gaps is longer than there is room.
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        area.setFrameShape(QFrame.Shape.NoFrame)
        area.setWidget(self.told)
        side.addWidget(area, 1)
        holder = QWidget()
        holder.setLayout(side)
        holder.setFixedWidth(330)
        middle.addWidget(holder)
        self.body.addLayout(middle, 3)
        self.plot = Plot(
            self.theme, x_label="seconds after the first frame", y_label="light of the target, ADU a frame"
        )
        self.plot.empty = "Measure to see the light of the target."
        self.plot.setMinimumHeight(170)
        self.body.addWidget(self.plot, 2)
        foot = QHBoxLayout()
        self.progress = label("")
        self.save = QPushButton("Save the table…")
        self.save.setToolTip("All stars in all frames: CSV, VOTable, FITS or Parquet")
        self.save.clicked.connect(self._save)
        foot.addWidget(self.progress, 1)
        foot.addWidget(self.save)
        self.body.addLayout(foot)
        for ring in (self.radius, self.inner, self.outer):
            ring.valueChanged.connect(self._rings)
        self._offer()

    def _number(self, special: str, low: float, high: float, decimals: int, unit: str) -> Number:
        field = Number()
        field.setRange(low, high)
        field.setDecimals(decimals)
        field.setSuffix(unit)
        field.setSpecialValueText(special)
        return field

    def _offer(self) -> None:
        """Offer what can be done now."""
        roles = [star.role for star in self.stars]
        ready = self.film is not None and "target" in roles and "comparison" in roles
        self.action.setEnabled(ready)
        self.save.setEnabled(self.series is not None)
        self.picture.stars = self.stars
        self.picture.update()
        if self.film is not None and self.series is None:
            self.told.setText(
                "Click the target."
                if not roles
                else "Click a star to follow."
                if len(roles) == 1
                else "More stars to follow, or measure."
            )

    def _rings(self) -> None:
        self.picture.rings = None
        if self.look is not None:
            try:
                self.picture.rings = self._aperture().radii(self.look.fwhm_px)
                self.tell("")
            except ValueError as error:
                self.tell(str(error))
        self.picture.update()

    def _aperture(self) -> ApertureOptions:
        inner, outer = self.inner.value() or None, self.outer.value() or None
        if self.radius.value() > 0:
            return ApertureOptions(self.radius.value(), False, inner, outer)
        return ApertureOptions(1.5, True, inner, outer)

    # ---- a film

    def _choose(self) -> None:
        names, _ = QFileDialog.getOpenFileNames(self, "Open a film", str(Path.home()), _KINDS)
        if names:
            self.open_film(names)

    def _choose_folder(self) -> None:
        folder = QFileDialog.getExistingDirectory(self, "Open a folder of frames", str(Path.home()))
        if folder:
            self.open_film([folder])

    def open_film(self, paths: list[str]) -> None:
        """Open a film in the background."""
        self.tell("")
        self.film = self.look = self.series = None
        self.stars = []
        self.plot.series, self.plot.curves, self.plot.notes = [], [], []
        self.plot.update()
        self.picture.words = "The film is being read."
        self.picture.show_picture(None)
        self.about.setText(Path(paths[0]).name)
        self._ask(partial(open_and_look, paths))
        self._offer()

    def _ask(self, work: Callable[[], object]) -> None:
        self._order += 1
        self._asker.ask(self._order, work)

    def _answered(self, order: object, answer: object) -> None:
        if order != self._order:
            return
        self.progress.setText("")
        self.action.setText("Measure")
        if isinstance(answer, OpenedFilm):
            self._show_film(answer)
        elif isinstance(answer, MeasuredFilm):
            self._show_light(answer)
        elif isinstance(answer, Failed):
            self.tell(answer.reason[:1].upper() + answer.reason[1:] + ".")
        elif answer is not None:
            self.picture.words = "No film is open."
            self.picture.update()
            self.tell(f"{self.about.text()}: {answer}.")
        self._offer()

    def _show_film(self, opened: OpenedFilm) -> None:
        self.film, self.look = opened.film, opened.look
        film = opened.film
        self.picture.show_picture(film_grey(opened.look.picture))
        self.about.setText(
            f"{film.name}: {counted(film.count, 'frame')} of {film.width} × {film.height} px, FWHM {opened.look.fwhm_px:.1f} px"
            + (", burnt-in words are masked" if opened.look.words is not None else "")
        )
        self._rings()

    def _clicked(self, x: float, y: float) -> None:
        """Take a place, or the mark that lies there away."""
        near = [star for star in self.stars if math.hypot((star.x or 0) - x, (star.y or 0) - y) < _NEAR]
        if near:
            self.stars = [star for star in self.stars if star not in near]
        elif not any(star.role == "target" for star in self.stars):
            self.stars = [ListedStar("target", "target", x=x, y=y), *self.stars]
        else:
            self.stars = [*self.stars, ListedStar("tracking", "comparison", x=x, y=y)]
        leads = [star for star in self.stars if star.role == "comparison"]
        names = ["tracking"] if len(leads) == 1 else [f"tracking {k}" for k in range(1, len(leads) + 1)]
        self.stars = [star for star in self.stars if star.role == "target"] + [
            replace(star, name=name) for star, name in zip(leads, names)
        ]
        self.series = None
        self._offer()

    def apply(self) -> None:
        """Measure all frames; again while it runs, stop."""
        if self.action.text() == "Stop":
            self._stop.stop()
            return
        text = self.first.text().strip()
        moment = parse_time(text) if text else None
        if text and moment is None:
            self.tell(f"'{text}' is not a time such as 2026-03-14T21:05:12.345.")
            return
        try:
            timing = FilmTiming(
                moment, self.rate.value() or None, self.stamp.currentData() or None, None, self.offset.value()
            )
            aperture = self._aperture()
            assert self.film is not None and self.look is not None
            aperture.radii(self.look.fwhm_px)
        except ValueError as error:
            self.tell(str(error))
            return
        self.tell("")
        self._stop = StopToken()
        self.action.setText("Stop")
        self.progress.setText("Measuring frames")
        self._ask(
            partial(
                measure_and_time,
                self.film,
                self.look,
                list(self.stars),
                timing,
                aperture,
                self.gain.value() or None,
                self._stop,
            )
        )

    def _show_light(self, done: MeasuredFilm) -> None:
        self.series, self.event_found = done.series, done.event
        series = done.series
        target = series.place("target")
        light, when = series.light(target), series.when(target)
        begin = series.times.mid[0]
        self.plot.series = [Points(when - begin, light, line=len(light) > _DOTS, token="text")]
        self.plot.curves = []
        lines = []
        if isinstance(done.event, Occultation):
            self.plot.curves = [(when - begin, done.event.model, "cur")]
            lines += occultation_words(done.event, dated=series.times.dated)
        else:
            lines.append(done.event.reason[:1].upper() + done.event.reason[1:] + ".")
        first = datetime.fromtimestamp(begin, UTC).strftime("%Y-%m-%d %H:%M:%S.%f")[:-3] + " UTC"
        self.plot.x_label = "seconds after " + (first if series.times.dated else "the middle of the first frame")
        self.plot.update()
        lines += [f"{finding.title}: {finding.text}" for finding in film_findings(series)]
        self.told.setText("\n\n".join(lines))

    def _save(self) -> None:
        if self.series is None:
            return
        start = str(Path(self.series.film.path).with_suffix(".csv"))
        kinds = ";;".join(f"Table (*{ending})" for ending in TABLE_ENDINGS)
        name, _ = QFileDialog.getSaveFileName(self, "Save the table", start, kinds)
        if not name:
            return
        try:
            write_series(Path(name), film_rows(self.series), replace=True)
            self.progress.setText(f"Wrote {Path(name).name}.")
        except (OSError, ValueError, OutputExists) as error:
            self.tell(
                f"{Path(name).name} could not be written: {reason_words(error) if isinstance(error, OSError) else error}."
            )

    def _end(self) -> None:
        self._stop.stop()
        self._asker.close()
