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
    QLabel,
    QMainWindow,
    QMenu,
    QMessageBox,
    QSizePolicy,
    QSplitter,
    QStackedWidget,
    QVBoxLayout,
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
from ulvar.desktop.dialogs.base import Panel
from ulvar.desktop.line.night_line import NightLine
from ulvar.desktop.models.model import Model
from ulvar.desktop.parts.theme import THEMES, apply_theme
from ulvar.desktop.picture.view import SkyView
from ulvar.desktop.shell.actions import ACTIONS, ActionSpec
from ulvar.desktop.shell.chores import Chores
from ulvar.desktop.shell.commands import Commands, Regions
from ulvar.desktop.shell.exports import Exports
from ulvar.desktop.shell.finder import Finder
from ulvar.desktop.shell.keyboard import Keyboard
from ulvar.desktop.shell.layout import Layout, Rail
from ulvar.desktop.shell.path_bar import PathBar
from ulvar.desktop.shell.sizing import FIRST, LEAST
from ulvar.desktop.slip.slip import Slip
from ulvar.desktop.work.movie import Movie
from ulvar.frames import FILM_ENDINGS
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
        # A running stack that ended is shown when the night has taken up what came.
        self._show_running = False
        self.chores = Chores(self, self.model, theme=lambda: self.theme, shown_path=lambda: self.sky.shown_path)
        self.setWindowTitle("Ulvar")
        self.setMinimumSize(LEAST)
        self.resize(FIRST)
        self.setAcceptDrops(True)
        self._build()
        self.movie = Movie(self, self.model, settled=lambda: self.sky.settled, say=self.model.message.emit)
        self.exports = Exports(self, self.model, self.sky, self.board_of, self.settings)
        regions = Regions(self.model, self.sky, self.board_of, self.finder, self.movie, self.exports)
        self.commands = Commands(self, regions, self.chores, self.set_theme)
        self.sky.star_clicked.connect(self.commands.star_clicked)
        self.model.jobs.made.connect(self._show_made)
        self.model.jobs.seen.connect(self.sky.show_anew)
        self._make_actions()
        self.keyboard = Keyboard(self, self.sky.canvas, self.finder, self.model)
        self.model.station_changed.connect(self._station)
        self.model.message.connect(self._say)
        self.model.night_changed.connect(
            lambda: self.setWindowTitle(f"{self.model.night.name} – Ulvar" if self.model.night else "Ulvar")
        )
        self._station(self.model.station)

    def _build(self) -> None:
        central = QWidget()
        central.setObjectName("gaps")
        central.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        column = QVBoxLayout(central)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(1)
        # From the outside in: whatever gets another parent is styled anew with all that it holds.
        self.setCentralWidget(central)
        self.path_bar = PathBar(self.model, self.theme)
        self.path_bar.find_wanted.connect(lambda: self.command("find"))
        self.path_bar.menu_wanted.connect(self._menu)
        self.path_bar.stations.chosen.connect(self.model.set_station)
        column.addWidget(self.path_bar)
        self.splitter = QSplitter(Qt.Orientation.Horizontal)
        self.splitter.setHandleWidth(1)
        self.splitter.setChildrenCollapsible(False)
        column.addWidget(self.splitter, 1)
        self.sky = SkyView(self.model, self.theme)
        self.boards = QStackedWidget()
        self.splitter.addWidget(self.boards)
        self.board_of: dict[str, Board] = {}
        for station in STATIONS:
            board = _BOARDS[station](self.model, self.theme, self.sky.show_file, self.command)
            self.board_of[station] = board
            self.boards.addWidget(board)
        self.slip = Slip(self.model, self.theme)
        self.slip.action_wanted.connect(lambda: self.command("go on"))
        self.slip.again_wanted.connect(lambda: self.command("run"))
        self.slip.every_wanted.connect(lambda: self.command("run every"))
        self.rail = Rail(self.theme)
        for widget in (self.rail, self.sky, self.slip):
            self.splitter.addWidget(widget)
        self.splitter.setStretchFactor(2, 1)
        self.line = NightLine(self.model, self.theme)
        column.addWidget(self.line)
        self.regions = Layout(self, self.splitter, self.boards, self.rail, self.sky, self.line)
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

        self.model.undo.undoTextChanged.connect(lambda text: self._name("undo", text))
        self.model.undo.redoTextChanged.connect(lambda text: self._name("redo", text))

    def _name(self, command: str, text: str) -> None:
        self.actions_by_command[command].setText(f"{command.title()}: {text}" if text else command.title())

    def _by_key_or_menu(self, spec: ActionSpec) -> None:
        """Run an action; but Space presses the button that the keyboard is on, as everywhere."""
        focus = QApplication.focusWidget()
        if spec.keys == "Space" and self.keyboard.by_key and self.isAncestorOf(focus or self):
            if isinstance(focus, QAbstractButton) and focus.property("space") != "picture":
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
        return (
            cursor.x(),
            cursor.y(),
            model.current,
            model.station,
            model.numbers.metric,
            model.jobs.busy,
            model.undo.index(),
        )

    @property
    def occupied(self) -> bool:
        """Whether a job runs or the movie plays."""
        return self.model.jobs.busy or self.movie.playing

    def command(self, word: str) -> None:
        """Run a command by its word; this is what menus, keys, finder and buttons call."""
        if word == "toggle fit" and self.regions.railed:
            self.regions.turn()
        else:
            self.commands.do(word)

    def _menu(self) -> None:
        self.build_menu().exec(self.path_bar.menu_button.mapToGlobal(self.path_bar.menu_button.rect().bottomLeft()))

    def build_menu(self) -> QMenu:
        """Return the window's menu, made from the table of actions."""
        menu = QMenu(self)
        menu.setToolTipsVisible(True)
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
            part.setToolTipsVisible(True)
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
        for part in (self.path_bar, self.sky, self.slip, self.line):
            part.set_theme(self.theme)
        self.rail.theme = self.theme
        for board in self.board_of.values():
            board.set_theme(self.theme)
        self.update()

    def _station(self, station: str) -> None:
        board = self.board_of[station]
        # A stack is as wide as its widest page unless the pages out of sight are ignored.
        for other in self.board_of.values():
            policy = QSizePolicy.Policy.Preferred if other is board else QSizePolicy.Policy.Ignored
            other.setSizePolicy(policy, policy)
        self.boards.setCurrentWidget(board)
        board.come_in_sight()
        self.regions.show_station(station, board.width_hint)

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Lay the regions out anew."""
        super().resizeEvent(event)
        self.regions.arrange()

    def _show_made(self, station: str, what: str) -> None:
        """Show the picture that a station made, unless the user is elsewhere by now."""
        running, self._show_running = self._show_running and station == "intake", False
        if running and self.model.station == "combine" and self.model.stacks.running is not None:
            self.sky.show_file(*self.model.stacks.running)
        if station != "combine" or self.model.station != "combine":
            return
        stack = self.model.of_series("stack")
        if what == "deep" and not self.sky.on("deep"):
            self.sky.toggle("deep")
        elif what == "colour" and self.model.stacks.colour is not None:
            self.sky.show_file(*self.model.stacks.colour)
        elif what == "mosaic" and self.model.stacks.mosaic is not None:
            self.sky.show_file(*self.model.stacks.mosaic)
        elif what == "watch":
            # The night takes up what came meanwhile, and then the stack is looked at again.
            self.command("rescan")
            self._show_running = True
        elif what in ("", "stack") and stack is not None:
            self.sky.show_file(stack.output, f"Stack of {stack.values['count']}")

    def _say(self, text: str) -> None:
        if not text:
            return
        self.toast.setText(text)
        # As wide as its words, up to what the picture has room for.
        room = min(520, self.sky.canvas.width() - 24)
        words = self.toast.fontMetrics().horizontalAdvance(text) + 36
        self.toast.setFixedWidth(min(room, words))
        self.toast.adjustSize()
        # At the top of the picture: there it covers neither stretch and read-out nor the night line.
        canvas = self.sky.canvas
        corner = canvas.mapTo(self.centralWidget(), canvas.rect().topLeft())
        self.toast.move(corner.x() + (canvas.width() - self.toast.width()) // 2, corner.y() + 12)
        self.toast.show()
        self.toast.raise_()
        self._toast_timer.start(6000)

    # ---- drop and close

    def may_close(self) -> bool:
        """Ask whether a running job is to be stopped, and say what would be kept."""
        jobs = self.model.jobs
        asked = QMessageBox.question(
            self, "Close Ulvar?", f"{jobs.station.title()} is running. Close and stop it? {jobs.stopping_keeps}",
            QMessageBox.StandardButton.Close | QMessageBox.StandardButton.Cancel, QMessageBox.StandardButton.Cancel,
        )  # fmt: skip
        return asked == QMessageBox.StandardButton.Close

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
        films = [path for path in paths if path.suffix.lower() in FILM_ENDINGS]
        if films:
            # Films are no part of a night.
            self.chores.fast(films[0])
            return
        own = any(Night.is_night(p) for p in paths)
        if self.model.night is not None and self.model.exposures() and not own:
            # More folders belong to the night that is open; another night is opened with Ctrl+O.
            if not self.model.jobs.add_folders(paths):
                self._say("These folders are in the night already, or something runs: stop it with Esc, or wait.")
        else:
            self.model.open_many(paths)

    def closeEvent(self, event: QCloseEvent) -> None:
        """End workers, threads and files; a job that runs is asked about first."""
        if self.model.jobs.working and not self.may_close():
            event.ignore()
            return
        if self.isVisible():
            self.keyboard.end()
        self._toast_timer.stop()
        self.movie.stop()
        # What small windows read or measure ends with them.
        for panel in self.findChildren(Panel):
            panel.reject()
        self.exports.close()
        for board in self.board_of.values():
            board.shut_down()
        self.model.shut_down()
        self.sky.close_loader()
        super().closeEvent(event)
