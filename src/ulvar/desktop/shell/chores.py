"""Commands of the stations Intake, Masters and Calibrate that open a window or write a file."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtWidgets import QDialog, QFileDialog, QWidget

from ulvar.desktop.dialogs.catalogues import CataloguesPanel
from ulvar.desktop.dialogs.facts import FactsPanel
from ulvar.desktop.dialogs.fast import FastPanel
from ulvar.desktop.dialogs.flats import FlatsPanel
from ulvar.desktop.dialogs.header import HeaderPanel
from ulvar.desktop.dialogs.masters import MastersPanel
from ulvar.desktop.dialogs.sessions import SessionsPanel
from ulvar.desktop.dialogs.stars import StarsPanel
from ulvar.desktop.models.model import Model
from ulvar.desktop.models.tables import save_exposure_table
from ulvar.desktop.parts.theme import Theme
from ulvar.desktop.picture.pictures import Orders
from ulvar.engine import OutputExists, counted, reason_words
from ulvar.flows import master_file_name
from ulvar.frames import scan_file
from ulvar.night.shooting import write_shooting_list


class Chores:
    """Carries commands out; `commands` maps their words.

    Parameters
    ----------
    parent : QWidget
        Windows open over it.
    model : Model
    theme : callable
        The theme that is worn now.
    shown_path : callable
        Name of the picture on screen.
    """

    def __init__(
        self, parent: QWidget, model: Model, *, theme: Callable[[], Theme], shown_path: Callable[[], str]
    ) -> None:
        self._parent, self._model, self._theme, self._shown_path = parent, model, theme, shown_path
        self.panel: QDialog | None = None
        self.commands: dict[str, Callable[[], object]] = {
            "add folder": self.add_folder, "facts": self.facts, "sessions": self.sessions, "plan flats": self.plan_flats,
            "write list": self.write_list, "add masters": self.add_masters, "keep masters": self.keep_masters,
            "measure camera": self.measure_camera, "header": self.header, "export table": self.export_table,
            "regions back": self.regions_back, "star places": self.star_places, "catalogues": self.catalogues,
            "fast": self.fast,
        }  # fmt: skip

    def _has_night(self) -> bool:
        if self._model.night is None:
            self._model.message.emit("Open a folder first.")
            return False
        return True

    def add_folder(self) -> None:
        """Ask for a folder and add it to the night."""
        if not self._has_night():
            return
        folder = QFileDialog.getExistingDirectory(
            self._parent, "Add a folder of exposures to this night", str(Path.home())
        )
        if folder and not self._model.jobs.add_folders([Path(folder)]):
            self._model.message.emit("This folder is in the night already, or something runs.")

    def facts(self) -> None:
        """Open the facts of the brushed exposures, or of the one on screen."""
        paths = self._model.brushed or ((self._model.current,) if self._model.current else ())
        members = [f for f in (self._model.facts(p) for p in paths) if f is not None]
        if members:
            self.panel = FactsPanel(self._parent, self._model, members, self._theme())
            self.panel.show()

    def header(self) -> None:
        """Open the header of the file on screen, or of the exposure behind it."""
        path = Orders.of(self._shown_path()).file or self._model.current
        if path:
            self.panel = HeaderPanel(self._parent, self._theme(), path, self._model.facts(self._model.current))
            self.panel.show()

    def export_table(self) -> None:
        """Ask for a file and write the exposures with their qualities."""
        if not self._model.looking.quality():
            self._model.message.emit("Score the exposures first: there is no table yet.")
            return
        start = str(self._model.night.folder / "exposures.csv") if self._model.night else "exposures.csv"
        name, _ = QFileDialog.getSaveFileName(self._parent, "Save the table of exposures", start, "Table (*.csv)")
        if name:
            try:
                count = save_exposure_table(self._model, Path(name))
                self._model.message.emit(f"Wrote {Path(name).name}: {counted(count, 'exposure')}.")
            except OSError as error:
                self._model.message.emit(f"{Path(name).name} could not be written: {reason_words(error)}.")

    def regions_back(self) -> None:
        """Take the regions without star finding back."""
        count = self._model.looking.clear_regions()
        self._model.message.emit(f"{counted(count, 'region')} removed." if count else "There is no region left out.")

    def star_places(self) -> None:
        """Open the small window that takes stars by their places on the sky."""
        if self._has_night():
            self.panel = StarsPanel(self._parent, self._model)
            self.panel.show()

    def catalogues(self) -> None:
        """Open the star catalogues of this machine."""
        if self._has_night():
            self.panel = CataloguesPanel(self._parent, self._model, self._theme())
            self.panel.show()

    def fast(self, path: Path | None = None) -> None:
        """Open fast series: films are no part of a night."""
        self.panel = FastPanel(self._parent, self._theme(), path)
        self.panel.show()

    def sessions(self) -> None:
        """Open sessions and tags."""
        if self._has_night() and self._model.exposures():
            self.panel = SessionsPanel(self._parent, self._model)
            self.panel.show()

    def plan_flats(self) -> None:
        """Open the flat planner."""
        if self._has_night():
            self.panel = FlatsPanel(self._parent, self._model)
            self.panel.show()

    def write_list(self) -> None:
        """Ask for a file and write the shooting list."""
        night = self._model.night
        if night is None or not self._model.matching.shots():
            self._model.message.emit("There is nothing to take.")
            return
        start = str(night.folder / "shooting-list.html")
        path, _ = QFileDialog.getSaveFileName(
            self._parent, "Write the shooting list", start, "Page to print (*.html);;Table (*.csv)"
        )
        if path:
            try:
                write_shooting_list(Path(path), self._model.matching.shots(), f"{night.name}, {night.date}".strip(", "))
                self._model.message.emit(
                    f"Wrote {Path(path).name}: {counted(len(self._model.matching.shots()), 'line')}."
                )
            except OSError as error:
                self._model.message.emit(f"{Path(path).name} could not be written: {reason_words(error)}.")

    def add_masters(self) -> None:
        """Ask for masters made elsewhere and what they are."""
        if not self._has_night():
            return
        names, _ = QFileDialog.getOpenFileNames(
            self._parent,
            "Add masters to the library",
            str(Path.home()),
            "Images (*.fit *.fits *.fts *.fz *.gz *.tif *.tiff);;All files (*)",
        )
        if names:
            self.panel = MastersPanel(self._parent, self._model, [Path(n) for n in names])
            self.panel.show()

    def keep_masters(self) -> None:
        """Copy the night's masters into the library; those that are there already stay as they are."""
        library, night = self._model.matching.library(), self._model.night
        if library is None or night is None:
            self._model.message.emit("Open a folder first.")
            return
        kept = known = 0
        own = f"{night.name} {night.date}".strip()
        mine = {e.name for e in library.entries(retired=True) if e.origin == own}
        for path in self._model.products("master"):
            try:
                # A master made anew takes the place of the one that this night gave before; others stay.
                name = master_file_name(scan_file(path))
                library.add(Path(path), origin=own, replace_existing=name in mine)
                kept += 1
            except OutputExists:
                known += 1
            except OSError as error:
                self._model.message.emit(f"The library could not be written: {reason_words(error)}.")
                return
        self._model.matching.library_changed()
        tail = f"; {known} were there before" if known else ""
        self._model.message.emit(f"{counted(kept, 'master')} copied into the library{tail}.")

    def measure_camera(self) -> None:
        """Measure gain and read noise in the background."""
        if self._has_night() and not self._model.jobs.run_station("calibrate", "camera"):
            self._model.message.emit("Something runs already; stop it with Esc, or wait.")
