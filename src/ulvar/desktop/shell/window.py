"""The main window: path, board, sky view, slip, night line; commands by name."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QSettings, Qt, QTimer
from PySide6.QtGui import (
    QAction,
    QCloseEvent,
    QCursor,
    QDragEnterEvent,
    QDropEvent,
    QKeySequence,
    QResizeEvent,
)
from PySide6.QtWidgets import (
    QAbstractButton,
    QApplication,
    QComboBox,
    QFileDialog,
    QLabel,
    QMainWindow,
    QMenu,
    QSizePolicy,
    QSplitter,
    QStackedWidget,
    QToolTip,
    QVBoxLayout,
    QWhatsThis,
    QWidget,
)

from ulvar.desktop.boards.base import Board
from ulvar.desktop.boards.calibrate.board import CalibrateBoard
from ulvar.desktop.boards.combine.board import CombineBoard
from ulvar.desktop.boards.curve.board import CurveBoard
from ulvar.desktop.boards.intake.board import IntakeBoard
from ulvar.desktop.boards.masters.board import MastersBoard
from ulvar.desktop.boards.measure.board import MeasureBoard
from ulvar.desktop.boards.plate.board import PlateBoard
from ulvar.desktop.line.night_line import NightLine
from ulvar.desktop.models.model import Model
from ulvar.desktop.models.plan import plan_action
from ulvar.desktop.models.starpick import give_role, propose_stars
from ulvar.desktop.parts.theme import THEMES, apply_theme
from ulvar.desktop.picture.saving import picture_caption, save_picture
from ulvar.desktop.picture.view import SkyView
from ulvar.desktop.shell.actions import ACTIONS, ActionSpec
from ulvar.desktop.shell.chores import Chores
from ulvar.desktop.shell.finder import Finder
from ulvar.desktop.shell.path_bar import PathBar
from ulvar.desktop.slip.slip import Slip
from ulvar.desktop.work.movie import Movie
from ulvar.desktop.work.soon import Soon
from ulvar.night import STATIONS, Night

_BOARDS: dict[str, type[Board]] = {
    "intake": IntakeBoard, "masters": MastersBoard, "calibrate": CalibrateBoard, "combine": CombineBoard,
    "plate": PlateBoard, "measure": MeasureBoard, "curve": CurveBoard,
}  # fmt: skip


class MainWindow(QMainWindow):
    """Ulvar's window."""

    def __init__(self, theme_name: str = "") -> None:
        super().__init__()
        self.settings = QSettings("Ulvar", "Ulvar")
        name = theme_name or str(self.settings.value("theme", "dark"))
        self.theme = THEMES.get(name, THEMES["dark"])
        apply_theme(QApplication.instance(), self.theme)  # type: ignore[arg-type]
        self.model = Model()
        self.chores = Chores(self, self.model, theme=lambda: self.theme, shown_path=lambda: self.sky.shown_path)
        self.setWindowTitle("Ulvar")
        self.setMinimumSize(1024, 700)
        self.resize(1280, 800)
        self.setAcceptDrops(True)
        self._build()
        self.movie = Movie(self, self.model, settled=lambda: self.sky.settled, say=self.model.message.emit)
        self._make_actions()
        self.model.station_changed.connect(self._station)
        self.model.message.connect(self._say)
        self.model.night_changed.connect(
            lambda: self.setWindowTitle(f"{self.model.night.name} – Ulvar" if self.model.night else "Ulvar")
        )
        self._widths: dict[str, int] = {}
        self._left = ""
        self._arrival = Soon(self, self._arrive)
        self._station(self.model.station)

    def _build(self) -> None:
        central = QWidget()
        central.setObjectName("gaps")
        central.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        column = QVBoxLayout(central)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(1)
        self.path_bar = PathBar(self.model, self.theme)
        self.path_bar.find_wanted.connect(lambda: self.command("find"))
        self.path_bar.menu_wanted.connect(self._menu)
        self.path_bar.stations.chosen.connect(self.model.set_station)
        column.addWidget(self.path_bar)
        self.splitter = QSplitter(Qt.Orientation.Horizontal)
        self.splitter.setHandleWidth(1)
        self.splitter.setChildrenCollapsible(False)
        self.sky = SkyView(self.model, self.theme)
        self.sky.star_clicked.connect(self._star_clicked)
        self.boards = QStackedWidget()
        self.board_of: dict[str, Board] = {}
        for station in STATIONS:
            board = _BOARDS[station](self.model, self.theme, self.sky.show_file, self.command)
            self.board_of[station] = board
            self.boards.addWidget(board)
        self.slip = Slip(self.model, self.theme)
        self.slip.action_wanted.connect(lambda: self.command("run"))
        for widget in (self.boards, self.sky, self.slip):
            self.splitter.addWidget(widget)
        self.splitter.setStretchFactor(1, 1)
        self.splitter.splitterMoved.connect(self._moved)
        column.addWidget(self.splitter, 1)
        self.line = NightLine(self.model, self.theme)
        column.addWidget(self.line)
        self.setCentralWidget(central)
        self.finder = Finder(central)
        self.toast = QLabel(central)
        self.toast.setObjectName("finder")
        self.toast.setContentsMargins(12, 8, 12, 8)
        self.toast.setWordWrap(True)
        self.toast.hide()
        self._toast_timer = QTimer(self)
        self._toast_timer.setSingleShot(True)
        self._toast_timer.timeout.connect(self.toast.hide)

    def _make_actions(self) -> None:
        self.actions_by_command: dict[str, QAction] = {}
        for spec in ACTIONS:
            action = QAction(spec.text, self)
            action.setToolTip(spec.tip)
            action.setStatusTip(spec.tip)
            if spec.keys:
                action.setShortcut(QKeySequence(spec.keys))
            action.triggered.connect(lambda _=False, s=spec: self._by_key_or_menu(s))
            self.addAction(action)
            self.actions_by_command[spec.command] = action

        self._focused_by_key = False
        app = QApplication.instance()
        assert isinstance(app, QApplication)
        app.focusChanged.connect(self._focus_moved)

    def _focus_moved(self, _old: object, new: object) -> None:
        self._focused_by_key = new is not None and QApplication.mouseButtons() == Qt.MouseButton.NoButton

    def _by_key_or_menu(self, spec: ActionSpec) -> None:
        """Run an action; but Space presses the button that the keyboard is on, as everywhere."""
        focus = QApplication.focusWidget()
        if spec.keys == "Space" and self._focused_by_key and self.isAncestorOf(focus or self):
            if isinstance(focus, QAbstractButton):
                focus.click()
                return
            if isinstance(focus, QComboBox):
                focus.showPopup()
                return
        self.command(spec.command)

    # ---- commands

    def use(self) -> tuple:
        """Return what changes when somebody uses the window."""
        model, cursor = self.model, QCursor.pos()
        return cursor.x(), cursor.y(), model.current, model.station, model.metric, model.busy, model.undo.index()

    @property
    def occupied(self) -> bool:
        """Whether a job runs or the movie plays."""
        return self.model.busy or self.movie.playing

    def command(self, command: str) -> None:
        """Run a command by its word; this is what menus, keys, finder and buttons call."""
        word, _, rest = command.partition(" ")
        if word == "station" or word == "go":
            self.model.set_station(rest)
        elif word == "toggle":
            self.sky.toggle(rest)
        elif word == "theme":
            self.set_theme(rest)
        elif command in ("run score", "run stack", "run deep"):
            self._run("combine", rest)
        elif word == "page":
            self._page(rest)
        elif word == "region":
            self._say("Open a folder first.") if self.model.night is None else self.model.region_wanted.emit(
                f"leave out:{rest}"
            )
        elif word == "run" and rest:
            self._run(rest, "")
        elif command == "run":
            self._act()
        else:
            simple = {
                "open": self.choose_folder, "rescan": lambda: self._run("intake", ""), "quit": self.close,
                "undo": self.model.undo.undo, "redo": self.model.undo.redo, "leave out": self.model.toggle_left_out,
                "movie": self.movie.toggle, "movie faster": lambda: self.movie.change_speed(1.5),
                "movie slower": lambda: self.movie.change_speed(1 / 1.5),
                "previous": lambda: self.model.step(-1), "next": lambda: self.model.step(1),
                "propose": self._propose, "stop": self._stop, "one to one": self.sky.canvas.one_to_one,
                "zoom in": lambda: self.sky.canvas.zoom(2.0), "zoom out": lambda: self.sky.canvas.zoom(0.5),
                "auto": self.sky.auto_levels, "find": self._find, "help": self._help,
                "export png": lambda: self._export("screen"), "export print": lambda: self._export("print"),
                "tile": self.sky.next_tiling, "add rule": self._add_rule,
            }  # fmt: skip
            (self.chores.commands.get(command) or simple[command])()

    def _run(self, station: str, what: str) -> None:
        if self.model.night is None:
            self._say("Open a folder first.")
        elif not self.model.run_station(station, what):
            self._say("Something runs already; stop it with Esc, or wait.")

    def _act(self) -> None:
        if self.model.busy and self.model.job_station == self.model.station:
            self.model.stop_job()
            return
        _, consequence, command = plan_action(self.model)
        if command:
            self.command(command)
        else:
            self._say(consequence)

    def _stop(self) -> None:
        if self.finder.isVisible():
            self.finder.hide()
        elif self.sky.regions.drawing:
            self.model.region_wanted.emit("")
        elif self.movie.playing:
            self.movie.toggle()
        elif self.model.busy:
            self.model.stop_job()
        elif self.model.brushed:
            self.model.set_brush(())

    def choose_folder(self) -> None:
        """Ask for a folder and open it."""
        start = str(self.model.night.folder.parent) if self.model.night else str(Path.home())
        folder = QFileDialog.getExistingDirectory(self, "Open a folder of exposures, or a night", start)
        if folder:
            self.model.open(Path(folder))

    def _propose(self) -> None:
        self._say(propose_stars(self.model))

    def _star_clicked(self, x: float, y: float, star: tuple[float, float] | None) -> None:
        if self.model.station != "measure" or self.model.night is None:
            return
        if self.model.facts(self.model.current) is None:
            return
        place = star or (x, y)
        menu = _role_menu(self, lambda role: self._say(give_role(self.model, place, role)))
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.role_menu = menu
        menu.popup(QCursor.pos())

    def _find(self) -> None:
        entries = [
            (spec.text, spec.keys, lambda c=spec.command: self.command(c)) for spec in ACTIONS if spec.command != "find"
        ]
        for star in self.model.night.stars() if self.model.night else []:
            entries.append((f"Star {star.name}", star.role, lambda s=star.name: self._go_to_star(s)))
        for facts in self.model.lights():
            entries.append((f"Exposure {facts.stem}", "", lambda p=facts.path: self.model.set_current(p)))
        for folder in self.model.recent():
            entries.append((f"Open recent {Path(folder).name}", "", lambda f=folder: self.model.open(Path(f))))
        self.finder.open(entries)

    def _go_to_star(self, name: str) -> None:
        self.model.set_station("measure")
        place = self.model.star_pixels(self.model.current).get(name)
        if place is None:
            self._say(f"{name} has no place in this exposure yet: solve or align it first.")
            return
        canvas = self.sky.canvas
        canvas.fitted = False
        canvas.sight.scale = max(canvas.sight.scale, 2.0)
        canvas.sight.centre.setX(place[0])
        canvas.sight.centre.setY(place[1])
        canvas.update()

    def _help(self) -> None:
        widget = QApplication.widgetAt(QCursor.pos())
        while widget is not None and not widget.toolTip():
            widget = widget.parentWidget()
        if widget is not None and widget.toolTip():
            QToolTip.showText(QCursor.pos(), widget.toolTip(), widget)
        else:
            QWhatsThis.showText(QCursor.pos(), "Ctrl+K finds every command. Keys 1 to 7 go to the stations.")

    def _page(self, page: str) -> None:
        """Turn the Combine board to a page."""
        board = self.board_of["combine"]
        assert isinstance(board, CombineBoard)
        # Turned first: the page that was in sight before would be brought up to date in vain.
        board.turn_to(page)
        self._left = self.model.station
        if self._left != "combine":
            # Filling a page and painting the whole window are two turns of the loop.
            self._arrival.ask()

    def _arrive(self) -> None:
        """Go to the page that was turned to, unless a click in between went elsewhere."""
        if self.model.station == self._left:
            self.model.set_station("combine")

    def _add_rule(self) -> None:
        """Go to the rules, with the keyboard on the new one."""
        self._page("rules")
        if self.model.station != "combine":
            self._arrive()
        shown = self.board_of["combine"].shown  # type: ignore[attr-defined]
        if shown is None:
            self._say("Score the exposures first.")
        else:
            shown.new_quality.setFocus(Qt.FocusReason.ShortcutFocusReason)

    def _export(self, quality: str) -> None:
        name = Path(self.model.current).stem or "picture"
        path, _ = QFileDialog.getSaveFileName(self, "Save the picture", f"{name}.png", "PNG (*.png)")
        if path:
            self.save_picture(Path(path), quality)

    def save_picture(self, path: Path, quality: str = "screen") -> None:
        """Save what the sky view shows, with marks, caption and scale, atomically."""
        try:
            save_picture(
                self.sky.canvas,
                picture_caption(self.model, self.sky.header.name.text(), self.sky.canvas),
                path,
                quality,
            )
            self._say(f"Saved {path.name}.")
        except OSError as error:
            self._say(f"{path.name} could not be written: {error.strerror or error}.")

    def _menu(self) -> None:
        self.build_menu().exec(self.path_bar.menu_button.mapToGlobal(self.path_bar.menu_button.rect().bottomLeft()))

    def build_menu(self) -> QMenu:
        """Return the window's menu, made from the table of actions."""
        menu = QMenu(self)
        for word in ("file",):
            for spec in ACTIONS:
                if spec.menu == word:
                    menu.addAction(self.actions_by_command[spec.command])
        recent = menu.addMenu("Recent nights")
        for folder in self.model.recent():
            recent.addAction(Path(folder).name, lambda f=folder: self.model.open(Path(f)))
        recent.setEnabled(bool(self.model.recent()))
        menu.addSeparator()
        for title, word in (
            ("Edit", "edit"),
            ("Stations", "go"),
            ("Run", "run"),
            ("View", "view"),
            ("Help", "help"),
        ):
            part = menu.addMenu(title)
            for spec in ACTIONS:
                if spec.menu == word:
                    part.addAction(self.actions_by_command[spec.command])
        return menu

    # ---- looks

    def set_theme(self, name: str) -> None:
        """Change the theme."""
        self.theme = THEMES[name]
        self.settings.setValue("theme", name)
        apply_theme(QApplication.instance(), self.theme)  # type: ignore[arg-type]
        for part in (self.path_bar, self.sky, self.slip, self.line, *self.board_of.values()):
            part.set_theme(self.theme)
        self.update()

    def _station(self, station: str) -> None:
        board = self.board_of[station]
        # A stack is as wide as its widest page unless the pages out of sight are ignored.
        for other in self.board_of.values():
            policy = QSizePolicy.Policy.Preferred if other is board else QSizePolicy.Policy.Ignored
            other.setSizePolicy(policy, policy)
        self.boards.setCurrentWidget(board)
        board.come_in_sight()
        self._lay_out()

    def _lay_out(self) -> None:
        station = self.model.station
        total = self.width() - 2
        slip = 288 if total >= 1200 else 264
        board = self._widths.get(station, min(self.board_of[station].width_hint, int(total * 0.55)))
        board = min(board, total - slip - 280)
        self.splitter.setSizes([board, total - board - slip, slip])

    def _moved(self) -> None:
        self._widths[self.model.station] = self.splitter.sizes()[0]

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Lay the regions out anew."""
        super().resizeEvent(event)
        self._lay_out()

    def _say(self, text: str) -> None:
        if not text:
            return
        self.toast.setText(text)
        self.toast.setMaximumWidth(520)
        self.toast.adjustSize()
        self.toast.move(self.width() // 2 - self.toast.width() // 2, self.height() - 140 - self.toast.height() - 16)
        self.toast.show()
        self.toast.raise_()
        self._toast_timer.start(6000)

    # ---- drop and close

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        """Take folders and files."""
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        """Open what was dropped."""
        paths = [Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()]
        if not paths:
            return
        event.acceptProposedAction()
        own = any(Night.is_night(p) for p in paths)
        if self.model.night is not None and self.model.exposures() and not own:
            # More folders belong to the night that is open; another night is opened with Ctrl+O.
            if not self.model.add_folders(paths):
                self._say("These folders are in the night already, or something runs: stop it with Esc, or wait.")
        else:
            self.model.open_many(paths)

    def closeEvent(self, event: QCloseEvent) -> None:
        """End workers, threads and files."""
        app = QApplication.instance()
        if isinstance(app, QApplication) and self.isVisible():
            app.focusChanged.disconnect(self._focus_moved)
        self._toast_timer.stop()
        self.movie.stop()
        calibrate = self.board_of["calibrate"]
        if isinstance(calibrate, CalibrateBoard) and calibrate.defects is not None:
            calibrate.defects.close_finder(wait=True)
        combine = self.board_of["combine"]
        if isinstance(combine, CombineBoard):
            combine.close_page(wait=True)
        self.model.shut_down()
        self.sky.close_loader()
        super().closeEvent(event)


def _role_menu(parent: QWidget, chosen) -> QMenu:  # type: ignore[no-untyped-def]
    """Return the menu that gives a clicked star a role."""
    menu = QMenu(parent)
    for role, text in (
        ("target", "Target"),
        ("comparison", "Comparison star"),
        ("check", "Check star"),
        ("", "No role"),
    ):
        menu.addAction(text, lambda r=role: chosen(r))
    return menu
