"""Correcting facts of a file or a group; the raw files stay as they are."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QSettings
from PySide6.QtWidgets import QComboBox, QGridLayout, QLineEdit, QWidget

from ulvar.desktop.dialogs.base import Panel
from ulvar.desktop.dialogs.sites import SiteField, remember_site, split_site
from ulvar.desktop.models.model import Model
from ulvar.desktop.parts.inputs import Choice
from ulvar.desktop.parts.theme import Theme
from ulvar.desktop.parts.widgets import label
from ulvar.frames import ExposureFacts, Role, with_user_facts

# name, label, unit, and what it is for
FIELDS = (
    ("role", "Role", "", "What the exposure is for"),
    ("object", "Object", "", "What it shows; exposures of one field are one series whatever they are called"),
    ("filter", "Filter", "", "Lights take flats of their own filter, and make a series with it"),
    ("exposure_s", "Exposure time", "s", "Lights take darks of their own exposure time"),
    ("gain", "Gain setting", "", "The camera's setting, in its own units"),
    ("offset", "Offset setting", "", "The camera's setting, in its own units"),
    ("temperature_c", "Sensor temperature", "°C", "Lights take darks of their own temperature"),
    ("binning", "Binning", "", "How many pixels a side were read as one"),
    ("camera", "Camera", "", "Frames of another camera never calibrate these"),
    ("session", "Session", "", "The observing night, from noon to noon, or what the folders say"),
    ("start_utc", "Start", "UTC", "When the shutter opened"),
    ("clock_s", "Clock offset", "s", "Added to the times of the header: by as much the camera's clock, or its driver, is off"),
    ("row_us", "Rolling shutter", "µs", "From the beginning of one row to that of the next; each star's time is that of its row"),
    ("count", "Frames combined", "", "Of a master: how many frames it was made of"),
    ("gain_e_per_adu", "Gain", "e⁻/ADU", "Electrons for each ADU; errors need it"),
    ("read_noise_e", "Read noise", "e⁻", "Of a single read; errors and weights need it"),
    ("saturation_adu", "Saturation", "ADU", "From this level on stars are not trusted"),
    ("ra_deg", "Right ascension", "° or h m s", "Where the telescope pointed, ICRS; the plate is looked for there"),
    ("dec_deg", "Declination", "° or ° ′ ″", "Where the telescope pointed, ICRS; the plate is looked for there"),
    ("focal_length_mm", "Focal length", "mm", "With the pixel size it gives the pixel scale"),
    ("pixel_size_um", "Pixel size", "µm", "As it was read: of binned pixels, all together"),
    ("scale_arcsec_px", "Pixel scale", "″/px", "A hint for the plate, and for seeing on the sky"),
    ("site", "Site", "lat °, east °, m", "Latitude, longitude to the east, height, with commas between, after a name and a colon if you like; airmass and barycentric times need it"),
    ("telescope", "Telescope", "", "Exposures of several telescopes in one folder are told apart by it"),
)  # fmt: skip
# Facts stand in two columns: all of them fit on a small screen.
_ROWS = 12
# Width of what tells where a fact came from [px].
_SOURCE = 104


def shown(facts: ExposureFacts, name: str) -> str:
    """Return a fact as the field shows it, empty when unknown."""
    value = getattr(facts, name)
    if value is None:
        return ""
    if name == "site":
        return ", ".join(f"{part:.6g}" for part in value)
    if name in ("ra_deg", "dec_deg"):
        return f"{value:.5f}"
    if name == "start_utc":
        return value.strftime("%Y-%m-%dT%H:%M:%S.%f")[:-3]
    return f"{value:g}" if isinstance(value, float) else str(value)


def _origin(facts: ExposureFacts, name: str) -> str:
    source = "site_latitude_deg" if name == "site" else name
    return facts.origins.get(source, "unknown" if not shown(facts, name) else "default")


class FactsPanel(Panel):
    """Facts of one file or of a group, each with where it came from."""

    def __init__(self, parent: QWidget, model: Model, members: Sequence[ExposureFacts], theme: Theme) -> None:
        what = members[0].name if len(members) == 1 else f"{len(members)} exposures"
        super().__init__(
            parent, f"Facts of {what}",
            "What you change here counts for this night; the raw files stay as they are. An empty field goes back to what the file says.",
            "Save corrections",
        )  # fmt: skip
        self._model, self._members = model, list(members)
        self._settings = QSettings("Ulvar", "Ulvar")
        grid = QGridLayout()
        grid.setHorizontalSpacing(9)
        grid.setVerticalSpacing(6)
        self.fields: dict[str, QLineEdit | QComboBox] = {}
        self._before: dict[str, str] = {}
        for place, (name, text, unit, sentence) in enumerate(FIELDS):
            side, row = divmod(place, _ROWS)
            column = 5 * side
            values = {shown(f, name) for f in members}
            same = len(values) == 1
            value = next(iter(values)) if same else ""
            origins = sorted({_origin(f, name) for f in members})
            grid.addWidget(label(text), row, column)
            editor: QLineEdit | QComboBox
            if name == "role":
                editor = Choice()
                if not same:
                    editor.addItem("several", "")
                for role in Role:
                    editor.addItem(role.plural, role.value)
                editor.setCurrentIndex(max(0, editor.findData(value)))
            else:
                editor = SiteField(value, self._settings, theme) if name == "site" else QLineEdit(value)
                editor.setPlaceholderText("" if same else "several")
            editor.setObjectName(f"fact.{name}")
            editor.setAccessibleName(f"{text}, {unit}" if unit else text)
            editor.setToolTip(f"{sentence}{f' ({unit})' if unit else ''}")
            editor.setFixedWidth(184)
            self.fields[name] = editor
            self._before[name] = value
            grid.addWidget(editor, row, column + 1)
            grid.addWidget(label(unit, "unit"), row, column + 2)
            told = origins[0] if len(origins) == 1 else "several origins"
            source = label("you" if told == "user" else told, "unit", wrap=True)
            # Long ones would make the panel wider than small screens.
            source.setFixedWidth(_SOURCE)
            grid.addWidget(source, row, column + 3)
        grid.setColumnMinimumWidth(4, 20)
        grid.setColumnStretch(3, 1)
        grid.setColumnStretch(8, 1)
        self.body.addLayout(grid)
        # As wide as its columns need: a field over its neighbour's words can be read by nobody.
        self.setMinimumWidth(max(self.minimumWidth(), grid.sizeHint().width() + 32))

    def value(self, name: str) -> str:
        """Return what a field holds now."""
        editor = self.fields[name]
        return str(editor.currentData()) if isinstance(editor, QComboBox) else editor.text().strip()

    def apply(self) -> None:
        """Store what was changed, as one step of undo each."""
        changed = {n: self.value(n) for n in self.fields if self.value(n) != self._before[n]}
        site = changed.get("site", "")
        if site:
            changed["site"] = split_site(site)[1]
        try:
            for name, text in changed.items():
                if text:
                    with_user_facts(self._members[0], {name: text})
        except ValueError as error:
            self.tell(str(error))
            return
        if site:
            remember_site(self._settings, site)
        paths = [f.path for f in self._members]
        if len(changed) > 1:
            self._model.undo.beginMacro(f"Correct {len(changed)} facts")
        for name, text in changed.items():
            self._model.correct(paths, name, text or None)
        if len(changed) > 1:
            self._model.undo.endMacro()
        self.accept()
