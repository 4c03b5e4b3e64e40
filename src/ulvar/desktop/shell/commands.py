"""What the window's commands do; menus, keys, finder and buttons call them by their words."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import partial
from pathlib import Path

import numpy as np
from PySide6.QtCore import QObject, QSettings, Qt
from PySide6.QtGui import QCursor
from PySide6.QtWidgets import QAbstractButton, QApplication, QFileDialog, QMenu, QToolTip, QWhatsThis, QWidget

from ulvar.desktop.boards.base import Board
from ulvar.desktop.boards.calibrate.board import PAGES as CALIBRATE_PAGES
from ulvar.desktop.boards.calibrate.board import CalibrateBoard
from ulvar.desktop.boards.combine.board import CombineBoard
from ulvar.desktop.boards.measure.board import PAGES as MEASURE_PAGES
from ulvar.desktop.boards.measure.board import MeasureBoard
from ulvar.desktop.boards.plate.board import PAGES as PLATE_PAGES
from ulvar.desktop.boards.plate.board import PlateBoard
from ulvar.desktop.models.model import Model
from ulvar.desktop.models.plan import plan_action, plan_run
from ulvar.desktop.models.starpick import give_role, propose_stars
from ulvar.desktop.picture.stretch import COLOURS, STRETCHES
from ulvar.desktop.picture.view import SkyView
from ulvar.desktop.shell.actions import ACTIONS
from ulvar.desktop.shell.chores import Chores
from ulvar.desktop.shell.exports import Exports
from ulvar.desktop.shell.finder import Entry, Finder
from ulvar.desktop.shell.going import ROLE_WORDS, Going
from ulvar.desktop.shell.sizing import change_size
from ulvar.desktop.work.movie import Movie
from ulvar.desktop.work.soon import Soon
from ulvar.frames.address import file_of
from ulvar.night import SERIES_STATIONS


@dataclass(frozen=True)
class Regions:
    """The parts of the window that commands act on."""

    model: Model
    sky: SkyView
    boards: Mapping[str, Board]
    finder: Finder
    movie: Movie
    exports: Exports


class Commands(QObject):
    """Carries commands out.

    Parameters
    ----------
    parent : QWidget
        The window: questions open over it.
    regions : Regions
    chores : Chores
        Commands that open a window of their own or write a file.
    set_theme : callable
        Takes the name of a theme.
    """

    def __init__(self, parent: QWidget, regions: Regions, chores: Chores, set_theme: Callable[[str], object]) -> None:
        super().__init__(parent)
        self._parent, self._regions, self._model = parent, regions, regions.model
        self._chores, self._set_theme = chores, set_theme
        self._left = ""
        self._arrival = Soon(self, self._arrive)
        self.role_menu: QMenu | None = None
        self._proposing = False
        self._model.field.changed.connect(self._go_on_proposing)
        self._going = Going(self._model, regions.sky)
        self._model.pointing.aligned.connect(lambda: self._run("combine", "score"))
        regions.sky.tools.pair.series_wanted.connect(lambda: self.do("run pair"))

    def _say(self, text: str) -> None:
        self._model.message.emit(text)

    def do(self, command: str) -> None:
        """Run a command by its word."""
        word, _, rest = command.partition(" ")
        if command == "go on":
            self._act(plan_action)
        elif word == "station" or word == "go":
            self._model.set_station(rest)
        elif word == "toggle":
            self._regions.sky.toggle(rest)
        elif word == "theme":
            self._set_theme(rest)
        elif command in ("run score", "run stack", "run deep", "run colour", "run mosaic", "run watch"):
            self._run("combine", rest)
        elif command == "run follow":
            self._run("curve", rest)
        elif command in ("run pair", "run bodies", "run harder"):
            self._page("solutions" if rest == "harder" else rest)
            self._run("plate", rest)
        elif command in ("run growth", "run field"):
            self._page("aperture" if rest == "growth" else "whole")
            self._run("measure", rest)
        elif word == "cursor":
            self._say(self._regions.sky.pointer.do(rest))
        elif word == "role":
            self._give_role("" if rest == "none" else rest)
        elif word == "text":
            self._say(change_size(QSettings("Ulvar", "Ulvar"), {"larger": 1, "smaller": -1, "usual": 0}[rest]))
        elif word == "brush":
            self._model.stretch_brush(1 if rest == "on" else -1)
        elif word == "page":
            self._page(rest)
        elif command.startswith("look at "):
            self._going.to(command.removeprefix("look at "))
        elif word == "region":
            self._say("Open a folder first.") if self._model.night is None else self._model.region_wanted.emit(
                f"leave out:{rest}"
            )
        elif command == "run every":
            self._run_every()
        elif word == "run" and rest:
            self._run(rest, "")
        elif command == "run":
            self._act(plan_run)
        else:
            simple = {
                "open": self.choose_folder, "rescan": lambda: self._run("intake", ""), "quit": self._parent.close,
                "undo": self._model.undo.undo, "redo": self._model.undo.redo, "leave out": self._model.toggle_left_out,
                "movie": self._regions.movie.toggle, "movie faster": lambda: self._regions.movie.change_speed(1.5),
                "movie slower": lambda: self._regions.movie.change_speed(1 / 1.5),
                "previous": lambda: self._model.step(-1), "next": lambda: self._model.step(1),
                "previous series": lambda: self._step_series(-1), "next series": lambda: self._step_series(1),
                "propose": self._propose, "take aperture": lambda: self._say(self._model.field.take_proposal()), "stop": self._stop, "one to one": self._regions.sky.canvas.one_to_one,
                "zoom in": lambda: self._regions.sky.canvas.zoom(2.0), "zoom out": lambda: self._regions.sky.canvas.zoom(0.5),
                "auto": self._regions.sky.auto_levels, "find": self._find, "help": self._help,
                "export picture": self._regions.exports.picture, "export result": self._regions.exports.result,
                "chart": self._regions.exports.chart, "figure": self._regions.exports.figure,
                "exchange": self._regions.exports.exchange, "nights": self._regions.exports.nights,
                "curve together": self._together,
                "mark body": lambda: self._point(self._model.pointing.begin_body),
                "forget body": lambda: self._say(self._model.pointing.forget_body()),
                "mark place": lambda: self._point(self._model.pointing.begin_place, station=""),
                "forget pair": lambda: self._say(self._model.sky.forget_pair()),
                "reference": lambda: self._say(self._model.pointing.take_reference()),
                "common star": lambda: self._point(self._model.pointing.begin_common),
                "same levels": self._regions.sky.foot.keep.toggle,
                "tile": self._regions.sky.next_tiling, "add rule": self._add_rule,
            }  # fmt: skip
            (self._chores.commands.get(command) or simple[command])()

    def _run(self, station: str, what: str, *, every: bool = False) -> None:
        if self._model.night is None:
            self._say("Open a folder first.")
        elif not self._model.jobs.run_station(station, what, every=every):
            self._say("Something runs already; stop it with Esc, or wait.")

    def _run_every(self) -> None:
        """Do for all series what the station's button does for one."""
        model = self._model
        if model.night is None or model.station not in SERIES_STATIONS:
            self._say("From Combine on a station can be run for all series.")
        else:
            self._run(model.station, "", every=True)

    def _step_series(self, by: int) -> None:
        if not self._model.step_series(by):
            self._say("This night has one series." if self._model.chosen_series() else "There is no series yet.")

    def _together(self) -> None:
        """Show the curves of the field's other series beside this one, or no more."""
        curves = self._model.curves
        if not curves.others():
            self._say("No other series of this field has a light curve yet.")
            return
        self._model.set_station("curve")
        curves.show_together(not curves.together, curves.apart_mag)

    def _act(self, plan: Callable[[Model], tuple[str, str, str]]) -> None:
        if self._model.jobs.busy and self._model.jobs.station == self._model.station:
            self._model.jobs.stop()
            return
        _, consequence, command = plan(self._model)
        if command:
            self.do(command)
        else:
            self._say(consequence)

    def _stop(self) -> None:
        if self._regions.finder.isVisible():
            self._regions.finder.hide()
        elif self._regions.sky.regions.drawing:
            self._model.region_wanted.emit("")
        elif self._model.pointing.mode:
            self._model.pointing.end()
            self._say("")
        elif self._regions.sky.pointer.place is not None and not self._model.jobs.busy:
            self._regions.sky.pointer.put_away()
        elif self._regions.movie.playing:
            self._regions.movie.toggle()
        elif self._model.jobs.busy:
            self._model.jobs.stop()
        elif self._model.brushed:
            self._model.set_brush(())

    def choose_folder(self) -> None:
        """Ask for a folder and open it."""
        start = str(self._model.night.folder.parent) if self._model.night else str(Path.home())
        folder = QFileDialog.getExistingDirectory(self._parent, "Open a folder of exposures, or a night", start)
        if folder:
            self._model.open(Path(folder))

    def _propose(self) -> None:
        told = propose_stars(self._model)
        # The stars of all exposures are looked through beside the window.
        self._proposing = told is None
        self._say("The stars of all exposures are being looked through…" if told is None else told)

    def _go_on_proposing(self) -> None:
        if self._proposing and self._model.field.candidates() is not None:
            self._propose()

    def star_clicked(self, x: float, y: float, star: tuple[float, float] | None) -> None:
        """Offer roles for the star that was clicked, at Measure; tell what a pixel of the stack is made of, at Combine."""
        if self._model.pointing.mode:
            self._pointed(x, y, star)
            return
        stack = self._model.stacks.stack
        if (
            self._model.station == "combine"
            and stack is not None
            and file_of(self._regions.sky.product) == stack.output
        ):
            self._model.stacks.point_at(x, y)
            return
        if self._model.station != "measure" or self._model.night is None:
            return
        if self._model.facts(self._model.current) is None:
            return
        place = star or (x, y)
        at = QCursor.pos()
        if self._regions.sky.pointer.place == (x, y):
            # By the keyboard: the menu opens where its cursor is.
            canvas = self._regions.sky.canvas
            at = canvas.mapToGlobal(canvas.sight.to_screen(x, y)).toPoint()
        menu = _role_menu(self._parent, lambda role: self._say(give_role(self._model, place, role)))
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.role_menu = menu
        menu.popup(at)

    def _point(self, begin: Callable[[], str], station: str = "combine") -> None:
        """Begin to point something out, with the exposures in sight."""
        if station:
            self._model.set_station(station)
        elif self._model.station in ("intake", "masters"):
            # Marks are shown from Calibrate on.
            self._model.set_station("plate")
        if self._regions.sky.shows_product:
            self._regions.sky.refresh()
        self._say(begin())

    def _pointed(self, x: float, y: float, star: tuple[float, float] | None) -> None:
        """Take a click for what is pointed out: the star that is detected there, else the place itself."""
        sky, raw = self._regions.sky, self._model.current
        if sky.shows_product:
            self._say("Point at an exposure, not at what was made of many.")
            return
        grid = sky.naming.grid_of(raw)
        if star is None and grid is not None:
            u, v = grid.inverse()(np.array([x]), np.array([y]))
            x, y = float(u[0]), float(v[0])
        self._say(self._model.pointing.click(raw, star or (x, y)))

    def _give_role(self, role: str) -> None:
        """Give the star at the keyboard's cursor a role, at Measure and at Curve."""
        model, sky = self._model, self._regions.sky
        place = sky.pointer.place
        if model.night is None or model.station not in ("measure", "curve"):
            self._say("Stars are given roles at Measure.")
        elif place is None:
            self._say("Point at the star first: Ctrl and an arrow, or E for the next star.")
        else:
            # The star that is detected there, else the place itself.
            self._say(give_role(model, sky.nearest_star(*place) or place, role))

    def _find(self) -> None:
        model = self._model
        entries = [
            Entry(spec.text, spec.keys, partial(self.do, spec.command), spec.tip) for spec in ACTIONS if spec.command != "find"
        ]  # fmt: skip
        entries += self._of_the_picture() + self._of_the_board()
        entries += self._going.named()
        for one in model.all_series():
            entries.append(Entry(f"Series {one.title}", f"{len(one.members)}", partial(model.go_to_series, one.key)))
        for facts in model.lights():
            entries.append(Entry(f"Exposure {facts.stem}", "", partial(model.set_current, facts.path)))
        for folder in model.recent():
            entries.append(Entry(f"Open recent {Path(folder).name}", "", partial(model.open, Path(folder))))
        self._regions.finder.open(entries, self._going.of_place)

    def _of_the_picture(self) -> list[Entry]:
        """Stretches and colour tables."""
        foot = self._regions.sky.foot
        stretches = [
            Entry(f"Stretch: {name}", "", partial(foot.stretch_box.setCurrentText, name), tip)
            for name, tip in STRETCHES.items()
        ]
        return [
            *stretches,
            *(Entry(f"Colour table: {name}", "", partial(foot.colour_box.setCurrentText, name)) for name in COLOURS),
        ]

    def _of_the_board(self) -> list[Entry]:
        """What the buttons of the board in sight do."""
        board = self._regions.boards[self._model.station]
        buttons = [b for b in board.findChildren(QAbstractButton) if b.isVisible() and b.isEnabled() and b.text()]
        return [Entry(f"{b.text().rstrip('…')} (on this board)", "", b.click, b.toolTip()) for b in buttons]

    def _help(self) -> None:
        widget = QApplication.widgetAt(QCursor.pos())
        while widget is not None and not widget.toolTip():
            widget = widget.parentWidget()
        if widget is not None and widget.toolTip():
            QToolTip.showText(QCursor.pos(), widget.toolTip(), widget)
        else:
            QWhatsThis.showText(QCursor.pos(), "Ctrl+K finds every command. Keys 1 to 7 go to the stations.")

    def _page(self, page: str) -> None:
        """Turn a board to a page."""
        for station, pages in (("calibrate", CALIBRATE_PAGES), ("plate", PLATE_PAGES), ("measure", MEASURE_PAGES)):
            if page in [key for key, _, _ in pages]:
                turned = self._regions.boards[station]
                assert isinstance(turned, CalibrateBoard | PlateBoard | MeasureBoard)
                turned.turn_to(page)
                self._model.set_station(station)
                return
        board = self._regions.boards["combine"]
        assert isinstance(board, CombineBoard)
        # Turned first: the page that was in sight before would be brought up to date in vain.
        board.turn_to(page)
        self._left = self._model.station
        if self._left != "combine":
            # Filling a page and painting the whole window are two turns of the loop.
            self._arrival.ask()

    def _arrive(self) -> None:
        """Go to the page that was turned to, unless a click in between went elsewhere."""
        if self._model.station == self._left:
            self._model.set_station("combine")

    def _add_rule(self) -> None:
        """Go to the rules, with the keyboard on the new one."""
        self._page("rules")
        if self._model.station != "combine":
            self._arrive()
        shown = self._regions.boards["combine"].shown  # type: ignore[attr-defined]
        if shown is None:
            self._say("Score the exposures first.")
        else:
            shown.new_quality.setFocus(Qt.FocusReason.ShortcutFocusReason)


def _role_menu(parent: QWidget, chosen) -> QMenu:  # type: ignore[no-untyped-def]
    """Return the menu that gives a clicked star a role."""
    menu = QMenu(parent)
    for role, text in (*ROLE_WORDS.items(), ("", "No role")):
        menu.addAction(text, lambda r=role: chosen(r))
    return menu
