"""How board, picture and slip share the window; where there is no room for both, the picture waits in a rail."""

from __future__ import annotations

from PySide6.QtCore import QObject, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QAbstractButton, QSizePolicy, QSplitter, QWidget

from ulvar.desktop.parts.theme import Theme, font

# The picture is of use from this width on [px]; the slip beside it; a rail [px].
_PICTURE, _SLIP, _NARROW_SLIP, _RAIL = 280, 288, 264, 36
# A board may be this much narrower than it likes before the picture goes to the rail [px].
_GIVES = 45
_NARROW = 1200
_LOW, _LINE, _LOW_LINE = 760, 164, 140


class Rail(QAbstractButton):
    """A narrow strip in the place of the picture, or of the board: a click, or F, brings it up."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        self.setFixedWidth(_RAIL)
        self.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Expanding)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.offer("Picture")

    def offer(self, what: str) -> None:
        """Say what it brings up."""
        self.setText(f"{what}   F")
        self.setToolTip(f"Show the {what.lower()} here (F)")
        self.setAccessibleName(f"Show the {what.lower()}")

    def sizeHint(self) -> QSize:
        """Its width, and room for its word."""
        return QSize(_RAIL, 120)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw its word upwards."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), self.theme.color("hover" if self.underMouse() else "panel"))
        if self.hasFocus():
            painter.setPen(self.theme.color("cur"))
            painter.drawRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5))
        painter.setFont(font("value"))
        painter.setPen(self.theme.color("text"))
        painter.translate(self.width() / 2, self.height() / 2)
        painter.rotate(-90)
        painter.drawText(QRectF(-100, -10, 200, 20), Qt.AlignmentFlag.AlignCenter, self.text())


class Layout(QObject):
    """Gives each region its width and the night line its height.

    Parameters
    ----------
    window : QWidget
    splitter : QSplitter
        Holds boards, rail, picture and slip, in this order.
    boards, rail, picture, line : QWidget
    """

    def __init__(
        self, window: QWidget, splitter: QSplitter, boards: QWidget, rail: Rail, picture: QWidget, line: QWidget
    ) -> None:
        super().__init__(window)
        self._window, self._splitter, self._boards = window, splitter, boards
        self._rail, self._picture, self._line = rail, picture, line
        self._widths: dict[str, int] = {}
        self._station = ""
        self._hint = 0
        # Whether the picture stands in the place of the board, where there is room for one of them.
        self._over = False
        rail.clicked.connect(self.turn)
        splitter.splitterMoved.connect(self._moved)

    @property
    def railed(self) -> bool:
        """Whether board and picture do not fit beside each other."""
        total = self._window.width() - 2
        return total < _NARROW and self._hint - _GIVES > total - _NARROW_SLIP - _PICTURE

    def show_station(self, station: str, hint: int) -> None:
        """Lay the regions out for a station whose board likes to be so wide [px]."""
        if station != self._station:
            self._over = False
        self._station, self._hint = station, hint
        self.arrange()

    def turn(self) -> None:
        """Bring the picture up over the board, or the board again."""
        if self.railed:
            self._over = not self._over
            self.arrange()

    def arrange(self) -> None:
        """Give each region its place."""
        total = self._window.width() - 2
        slip = _SLIP if total >= _NARROW else _NARROW_SLIP
        railed = self.railed
        over = railed and self._over
        self._boards.setVisible(not over)
        self._picture.setVisible(over or not railed)
        self._rail.setVisible(railed)
        self._rail.offer("Board" if over else "Picture")
        room = total - slip
        board = self._widths.get(self._station, min(self._hint, int(total * 0.55)))
        board = min(board, room - _PICTURE)
        if railed:
            sizes = [0 if over else room - _RAIL, _RAIL, room - _RAIL if over else 0, slip]
        else:
            sizes = [board, 0, room - board, slip]
        self._splitter.setSizes(sizes)
        self._line.setFixedHeight(_LINE if self._window.height() >= _LOW else _LOW_LINE)

    def _moved(self) -> None:
        if not self.railed:
            self._widths[self._station] = self._splitter.sizes()[0]
