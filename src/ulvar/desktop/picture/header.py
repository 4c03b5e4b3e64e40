"""The header of the sky view: what is shown, and buttons for all that can be shown on it."""

from __future__ import annotations

from PySide6.QtCore import QSize, Signal
from PySide6.QtWidgets import QHBoxLayout, QLabel, QMenu, QToolButton, QWidget

from ulvar.desktop.parts import glyphs
from ulvar.desktop.parts.theme import Theme
from ulvar.desktop.parts.widgets import ElidedLabel

# Name, what it does, key. Those of `_CHECKED` are on from the start.
TOGGLES = (
    ("stars", "Detected stars and trails", "S"), ("apertures", "Stars with a role and their apertures", "A"),
    ("catalogue", "Catalogue stars, grid and compass", "G"), ("residuals", "Residual arrows of the plate solution", "R"),
    ("masks", "Masked and saturated pixels by kind", "K"), ("regions", "Regions without star finding", ""),
    ("blink", "Before and after calibration", "Space"), ("swipe", "Before and after, with a border to drag", "W"),
    ("difference", "What calibration took away: raw less calibrated", "Shift+Space"),
    ("aligned", "Exposures aligned on the reference: what moves or varies stands out", "J"),
    ("deep", "The deep view: the median of the aligned night", "Y"),
    ("loupe", "A loupe at the cursor", "O"), ("closeup", "Profile and growth curve of a star that you click", "T"),
    ("profile", "Values, length and angle of a line that you drag", "P"), ("box", "Statistics of a rectangle that you drag", "B"),
    ("colour", "In colour: a mosaic's, or those of three planes", "C"), ("defects", "Pixels called defective", "H"), ("north", "North up, east left", "U"), ("invert", "Swap black and white", "I"),
    ("fit", "Fit the whole picture", "F"),
)  # fmt: skip
_CHECKED = ("apertures", "regions", "colour")
_SHOWN = {
    "intake": ("closeup", "profile", "invert", "fit"), "masters": ("profile", "box", "invert", "fit"),
    "calibrate": ("blink", "swipe", "difference", "defects", "profile", "fit"),
    "combine": ("stars", "closeup", "aligned", "loupe", "fit"), "plate": ("stars", "catalogue", "residuals", "north", "fit"),
    "measure": ("stars", "apertures", "catalogue", "deep", "closeup", "fit"), "curve": ("apertures", "aligned", "closeup", "fit"),
}  # fmt: skip


class SkyHeader(QWidget):
    """Name, facts, toggles of the station, and a menu of all toggles."""

    toggled = Signal(str)
    chosen = Signal(str)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.setObjectName("skybar")
        self.setFixedHeight(36)
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 4, 8, 4)
        row.setSpacing(4)
        self.name = QLabel("")
        self.name.setProperty("kind", "section")
        self.facts = ElidedLabel()
        row.addWidget(self.name)
        row.addSpacing(8)
        row.addWidget(self.facts, 1)
        self.toggles: dict[str, QToolButton] = {}
        for key, words, keys in TOGGLES:
            button = self._button(f"{words} ({keys})" if keys else words, words)
            button.setCheckable(key != "fit")
            button.clicked.connect(lambda _=False, k=key: self.toggled.emit(k))
            row.addWidget(button)
            self.toggles[key] = button
        for key in _CHECKED:
            self.toggles[key].setChecked(True)
        self.more = self._button("Everything else that can be shown on the picture", "More to show")
        self.more.clicked.connect(lambda: self.more_menu().exec(self.more.mapToGlobal(self.more.rect().bottomLeft())))
        row.addWidget(self.more)
        self.set_theme(theme)

    def _button(self, tip: str, name: str) -> QToolButton:
        button = QToolButton()
        button.setToolTip(tip)
        button.setAccessibleName(name)
        button.setFixedSize(28, 28)
        button.setIconSize(QSize(16, 16))
        return button

    def more_menu(self) -> QMenu:
        """Return the menu of all toggles."""
        menu = QMenu(self)
        for key, words, keys in TOGGLES:
            action = menu.addAction(f"{words}\t{keys}" if keys else words, lambda k=key: self.chosen.emit(k))
            action.setCheckable(self.toggles[key].isCheckable())
            action.setChecked(self.toggles[key].isChecked())
        return menu

    def show_for(self, station: str) -> None:
        """Show the buttons that are of use at a station; their keys work everywhere."""
        for key, button in self.toggles.items():
            if key != "colour":
                button.setVisible(key in _SHOWN.get(station, ("fit",)))

    def offer_colour(self, there: bool) -> None:
        """Show the button for colours only where there are any."""
        self.toggles["colour"].setVisible(there)

    def set_theme(self, theme: Theme) -> None:
        """Take another theme."""
        for key, button in self.toggles.items():
            button.setIcon(glyphs.icon(theme, key))
        self.more.setIcon(glyphs.icon(theme, "more"))
