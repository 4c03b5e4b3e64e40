"""Saving what the window shows, and copies of results, to a place that the user chooses."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from pathlib import Path

from PySide6.QtCore import QObject, QSettings
from PySide6.QtWidgets import QFileDialog, QWidget

from ulvar.astrometry import CatalogueError, Wcs, load_catalogue
from ulvar.desktop.boards.base import Board
from ulvar.desktop.dialogs.exchange import ExchangePanel
from ulvar.desktop.dialogs.figure import FigurePanel
from ulvar.desktop.dialogs.saving import SavingPanel, exports_folder
from ulvar.desktop.dialogs.target import TargetPanel
from ulvar.desktop.models.model import Model
from ulvar.desktop.models.tables import TABLE_KINDS
from ulvar.desktop.parts.plots import Plot
from ulvar.desktop.parts.printing import save_plots
from ulvar.desktop.parts.theme import THEMES
from ulvar.desktop.picture.saving import AS_SEEN, Size, picture_caption, render_picture, save_image
from ulvar.desktop.picture.view import SkyView
from ulvar.desktop.work.background import Asker
from ulvar.engine import copy_file, counted, reason_words
from ulvar.flows import CHART_ENDINGS, Chart, ChartMark, around, write_chart
from ulvar.frames import ExposureFacts, write_table_again
from ulvar.lightcurves import CURVE_COLUMNS
from ulvar.night.stations import curve_path, series_path
from ulvar.photometry import SERIES_COLUMNS

# What a station's result is called in the file dialog.
_KINDS = {"combine": "Stack", "plate": "Stack", "measure": "Measured series", "curve": "Light curve"}
# Results that are tables, and what their times are.
_COLUMNS = {"measure": SERIES_COLUMNS, "curve": CURVE_COLUMNS}
_SCALES = {"time_utc_mid": "UTC", "jd_utc": "JD, UTC", "bjd_tdb": "BJD, TDB, with the star's own coordinates"}


class Exports(QObject):
    """Asks where to, renders, and has the file written in another thread.

    Parameters
    ----------
    parent : QWidget
        Questions open over it.
    model : Model
    sky : SkyView
    boards : mapping of station to Board
    settings : QSettings
        Remembers where exports went last.
    """

    def __init__(
        self, parent: QWidget, model: Model, sky: SkyView, boards: Mapping[str, Board], settings: QSettings
    ) -> None:
        super().__init__(parent)
        self._parent, self._model, self._sky, self._boards, self._settings = parent, model, sky, boards, settings
        self.panel: SavingPanel | None = None
        self.drawing: FigurePanel | None = None
        self.telling: ExchangePanel | None = None
        self.over: TargetPanel | None = None
        self._asker = Asker("export")
        self._asker.found.connect(self._written)

    def close(self) -> None:
        """Let what is being written be finished."""
        self._asker.close(wait=True)

    def _over_closed(self) -> None:
        # It deletes itself: nothing may be asked of it any more.
        self.over = None

    def _beside(self) -> Path:
        return self._model.night.folder if self._model.night is not None else Path.home()

    def _plots(self) -> list[Plot]:
        """The plots of the light curve, in their order from the top."""
        board = self._boards["curve"]
        if self._model.station != "curve":
            return []
        return sorted((p for p in board.findChildren(Plot) if p.isVisible()), key=lambda p: p.y())

    def picture(self) -> None:
        """Ask what is saved and how large; then for the file."""
        stem = Path(self._sky.product or self._model.current).stem or "picture"
        series = self._model.chosen_series()
        names = (stem, f"{series.key}-curve" if series is not None else "curve")
        self.panel = SavingPanel(
            self._parent, self._sky.canvas, self._plots(), names, self._settings, self._beside()
        )  # fmt: skip
        self.panel.accepted.connect(self._save)
        self.panel.open()

    def _save(self) -> None:
        panel = self.panel
        assert panel is not None
        titled = panel.caption.isChecked()
        if panel.of_plots:
            self.save_plots(panel.path, float(panel.sizes.currentData()), titled=titled)
        else:
            self.save_picture(panel.path, panel.picture_size, marks=panel.marks.isChecked(), titled=titled)

    def save_picture(self, path: Path, size: Size = AS_SEEN, *, marks: bool = True, titled: bool = True) -> None:
        """Save the sky view's picture, with marks, caption and scale, atomically."""
        canvas = self._sky.canvas
        caption = picture_caption(self._model, self._sky.header.full_name, canvas, self._sky.product, size)
        image = render_picture(canvas, caption if titled else [], size, marks=marks)
        self._write(path, lambda: save_image(image, path))

    def save_plots(self, path: Path, sharp: float, *, titled: bool = True) -> None:
        """Save the board's plots: as on screen in the window's colours, larger or as PDF on white."""
        plots = self._plots()
        theme = plots[0].theme if sharp == 1.0 and path.suffix.lower() != ".pdf" else THEMES["light"]
        date = self._model.night.date if self._model.night is not None else ""
        caption = [", ".join(part for part in (self._model.series_name(), date) if part)]
        curve = self._model.curves.curve()
        if curve is not None:
            points = counted(int((~curve.curve.left_out).sum()), "point")
            caption.append(f"{curve.curve.name}, {points}, scatter {1000 * curve.rms:.1f} mmag")
        # Widgets paint in this thread only; the plots are small.
        try:
            save_plots(plots, caption if titled else [], theme, path, sharp)
        except OSError as error:
            self._written(path, reason_words(error))
        else:
            self._written(path, "")

    def figure(self) -> None:
        """Open the figure of the light curve, and the report about it."""
        result = self._model.curves.curve()
        if result is None:
            self._model.message.emit("There is no light curve yet.")
            return
        self.drawing = FigurePanel(self._parent, self._model, result, self._settings, self._beside())
        self.drawing.show()

    def exchange(self) -> None:
        """Open the text of the light curve for an association of observers."""
        result, series = self._model.curves.curve(), self._model.chosen_series()
        if result is None or series is None:
            self._model.message.emit("There is no light curve yet.")
            return
        self.telling = ExchangePanel(
            self._parent, result.curve, self._settings, self._beside(), series.filter, self._model.curves.series()
        )
        self.telling.show()

    def nights(self) -> None:
        """Open the target over nights: those beside the night that is open, or any folder."""
        night, result = self._model.night, self._model.curves.curve()
        folder = night.folder.parent if night is not None else None
        if self.over is not None:
            self.over.reject()
        self.over = TargetPanel(
            self._parent, self._boards["curve"].theme, self._settings, folder, result.curve.name if result else ""
        )
        self.over.finished.connect(self._over_closed)
        self.over.show()

    def chart(self) -> None:
        """Ask for a place and draw a finder chart of the field of the exposure on screen."""
        model = self._model
        facts, wcs = model.facts(model.current), model.plates().get(model.current)
        if facts is None or wcs is None:
            model.message.emit("A finder chart needs a solved exposure (Plate).")
            return
        start = exports_folder(self._settings, self._beside()) / f"{facts.stem}-chart.pdf"
        kinds = "PDF (*.pdf);;PNG (*.png);;SVG (*.svg)"
        name, kind = QFileDialog.getSaveFileName(self._parent, "Save a finder chart", str(start), kinds)
        if not name:
            return
        path = Path(name)
        if path.suffix.lower() not in CHART_ENDINGS:
            path = Path(name + kind.partition("*")[2].rstrip(")"))
        self._settings.setValue("exports", str(path.parent))
        self.save_chart(path, facts, wcs)

    def save_chart(self, path: Path, facts: ExposureFacts, wcs: Wcs) -> None:
        """Draw the chart of an exposure's field, with all that has a name on the sky."""
        model, settings = self._model, self._model.settings().plate
        ra, dec, side = around(wcs, facts.width, facts.height)
        stars = model.night.stars(model.series_of_exposure(facts.path)) if model.night is not None else []
        marks = [
            ChartMark(name, kind, float(a), float(d))
            for name, kind, place in (
                *((s.name, s.role, model.numbers.star_pixels(facts.path).get(s.name)) for s in stars),
                *((name, "mark", place) for name, place in model.sky.place_pixels(facts.path).items()),
            )
            if place is not None
            for a, d in [wcs.sky(*place)]
        ]
        bodies = model.sky.bodies()[0]
        faintest = math.inf if settings.faintest_mag is None else settings.faintest_mag
        title = ", ".join(part for part in (model.series_name(), model.night.date if model.night else "") if part)

        def write() -> None:
            found = load_catalogue(settings.catalogue, near=[(ra, dec, 0.75 * side)])
            outline = wcs, facts.width, facts.height
            write_chart(path, Chart(ra, dec, side, found, marks, bodies, outline, faintest, title), replace=True)

        self._write(path, write)

    def result(self) -> None:
        """Ask for a place and copy the result of the station there."""
        model, station = self._model, self._model.station
        source = self.result_file()
        if source is None:
            of = f" of {model.series_name()}" if station in _KINDS and model.series_name() else ""
            model.message.emit(f"{station.title()} has no result{of} to copy yet.")
            return
        start = exports_folder(self._settings, self._beside()) / source.name
        columns = _COLUMNS.get(station)
        kind = TABLE_KINDS if columns else f"{_KINDS[station]} (*{source.suffix})"
        name, _ = QFileDialog.getSaveFileName(self._parent, "Save a copy of the result", str(start), kind)
        if not name:
            return
        path = Path(name) if Path(name).suffix else Path(name + source.suffix)
        self._settings.setValue("exports", str(path.parent))
        if path.exists() and path.samefile(source):
            model.message.emit(f"{path.name} is the result itself: choose another place.")
            return
        if columns is None or path.suffix.lower() == source.suffix:
            self._write(path, lambda: copy_file(source, path))
        else:
            self._write(path, lambda: write_table_again(source, path, columns, about=_SCALES))

    def result_file(self) -> Path | None:
        """The file of the station's result for the series that is worked on, if there is one."""
        night, series = self._model.night, self._model.chosen_series()
        if night is None or series is None or self._model.station not in _KINDS:
            return None
        if self._model.station in ("combine", "plate"):
            product = self._model.of_series("stack")
            path = Path(product.output) if product is not None else None
        else:
            path = (series_path if self._model.station == "measure" else curve_path)(night, series)
        return path if path is not None and path.exists() else None

    def _write(self, path: Path, write: Callable[[], object]) -> None:
        def attempt() -> str:
            try:
                write()
            except OSError as error:
                return reason_words(error)
            except (CatalogueError, ValueError) as error:
                return str(error)
            return ""

        self._asker.ask(path, attempt)

    def _written(self, path: object, problem: object) -> None:
        assert isinstance(path, Path)
        self._model.message.emit(
            f"{path.name} could not be written: {problem}." if problem else f"Saved {path.name} in {path.parent}."
        )
