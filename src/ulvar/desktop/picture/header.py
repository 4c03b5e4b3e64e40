"""The header of the sky view: what is shown, and buttons for all that can be shown on it."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import QSize, Qt, Signal
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QHBoxLayout, QLabel, QMenu, QToolButton, QWidget

from ulvar.desktop.parts import glyphs
from ulvar.desktop.parts.theme import Theme
from ulvar.desktop.parts.widgets import ElidedLabel


@dataclass(frozen=True)
class Toggle:
    """Something that can be shown on the picture, or a way to show it; menus, keys and buttons have its words."""

    key: str
    title: str
    tip: str
    keys: str = ""


TOGGLES = (
    Toggle("blink", "Before and after", "Blink the calibrated and the raw exposure", "Space"),
    Toggle("swipe", "Swipe before and after", "A border to drag between the raw and the calibrated exposure", "W"),
    Toggle("difference", "Difference", "What calibration took away: raw less calibrated", "Shift+Space"),
    Toggle("profile", "Profile along a line", "Drag a line; length, angle and the values along it are shown", "P"),
    Toggle("closeup", "Look closely at a star", "Click a star: profile, growth curve, FWHM", "T"),
    Toggle(
        "box",
        "Statistics of a rectangle",
        "Drag a rectangle: median, standard deviation, lowest, highest, saturated",
        "B",
    ),
    Toggle(
        "pair", "Distance between two stars", "Drag from star to star: separation and position angle, with errors", "D"
    ),
    Toggle("loupe", "Loupe", "Pixels under the cursor, enlarged, with the star's peak and FWHM", "O"),
    Toggle("aligned", "Show exposures aligned", "Stepping and the movie then show what moves or varies", "J"),
    Toggle("deep", "Deep view", "The median of the aligned night in the place of the exposure", "Y"),
    Toggle("masks", "Masked pixels", "Saturated, hot, cold, cosmic rays, trails: each kind has its sign", "K"),
    Toggle("regions", "Regions left out", "Regions where no stars are looked for"),
    Toggle("north", "North up", "Turn the picture so that north is up and east left", "U"),
    Toggle("colour", "Sensor colours", "The colours of a Bayer (CFA) pattern, or brightness as it was measured", "C"),
    Toggle("defects", "Defective pixels", "Pixels that the thresholds call hot or cold", "H"),
    Toggle("stars", "Detected stars", "Stars and trails that were found", "S"),
    Toggle("apertures", "Apertures", "Stars with a role, their apertures and annuli of sky", "A"),
    Toggle("catalogue", "Grid and catalogue", "Catalogue stars, a grid and the compass", "G"),
    Toggle("residuals", "Residual arrows", "How far stars lie from the catalogue, enlarged", "R"),
    Toggle("invert", "Swap black and white", "Stars dark on bright ground", "I"),
    Toggle("fit", "Fit the picture", "Show the whole picture", "F"),
)
_CHECKED = ("apertures", "regions", "colour")
_SHOWN = {
    "intake": ("closeup", "profile", "invert", "fit"), "masters": ("profile", "box", "invert", "fit"),
    "calibrate": ("blink", "swipe", "difference", "defects", "profile", "fit"),
    "combine": ("stars", "closeup", "aligned", "loupe", "fit"), "plate": ("pair", "stars", "catalogue", "residuals", "north", "fit"),
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
        self.full_name = ""
        self.name.setProperty("kind", "section")
        self.facts = ElidedLabel()
        row.addWidget(self.name)
        row.addSpacing(8)
        row.addWidget(self.facts, 1)
        self.toggles: dict[str, QToolButton] = {}
        self._wanted: list[str] = []
        for one in TOGGLES:
            words = f"{one.title}: {one.tip[:1].lower()}{one.tip[1:]}"
            button = self._button(f"{words} ({one.keys})" if one.keys else words, one.title)
            button.setCheckable(one.key != "fit")
            button.clicked.connect(lambda _=False, k=one.key: self.toggled.emit(k))
            row.addWidget(button)
            self.toggles[one.key] = button
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
        menu.setToolTipsVisible(True)
        for one in TOGGLES:
            words = f"{one.title}\t{one.keys}" if one.keys else one.title
            action = menu.addAction(words, lambda k=one.key: self.chosen.emit(k))
            action.setToolTip(one.tip)
            action.setCheckable(self.toggles[one.key].isCheckable())
            action.setChecked(self.toggles[one.key].isChecked())
        return menu

    def say(self, name: str) -> None:
        """Name what is shown; a long name is cut in the middle, the tip has it whole."""
        self.full_name = name
        self._fit()

    def show_for(self, station: str) -> None:
        """Show the buttons that are of use at a station, as far as there is room; their keys work everywhere."""
        self._wanted = [*_SHOWN.get(station, ("fit",)), *(["colour"] if "colour" in self._wanted else [])]
        self._fit()

    def offer_colour(self, there: bool) -> None:
        """Show the button for colours only where there are any."""
        self._wanted = [key for key in self._wanted if key != "colour"] + (["colour"] if there else [])
        self._fit()

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Show as many buttons as leave the exposure's name room; the menu has them all."""
        super().resizeEvent(event)
        self._fit()

    def _fit(self) -> None:
        longest = max(90, int(0.55 * self.width()) - 20)
        words = self.name.fontMetrics().elidedText(self.full_name, Qt.TextElideMode.ElideMiddle, longest)
        self.name.setText(words)
        self.name.setToolTip(self.full_name if words != self.full_name else "")
        room = self.width() - self.name.sizeHint().width() - 64
        shown = max(1, room // 32)
        # What is seldom used stands first and gives way first.
        kept = [key for key in self.toggles if key in self._wanted][-shown:]
        for key, button in self.toggles.items():
            button.setVisible(key in kept)

    def set_theme(self, theme: Theme) -> None:
        """Take another theme."""
        for key, button in self.toggles.items():
            button.setIcon(glyphs.icon(theme, key))
        self.more.setIcon(glyphs.icon(theme, "more"))
