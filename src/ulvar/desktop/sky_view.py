"""The sky view: header with facts and toggles, the picture, and a foot with stretch, histogram and read-out."""

from __future__ import annotations

import math
from dataclasses import replace
from pathlib import Path

import numpy as np
from PySide6.QtCore import QSize, Qt, Signal
from PySide6.QtWidgets import (
    QComboBox,
    QHBoxLayout,
    QLabel,
    QMenu,
    QPushButton,
    QSizePolicy,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from ulvar.astrometry import CatalogueError, load_catalogue
from ulvar.calibration import Region
from ulvar.desktop import glyphs
from ulvar.desktop.canvas import Canvas
from ulvar.desktop.histogram import Histogram
from ulvar.desktop.model import Model
from ulvar.desktop.overlays import Overlay, RoleMark
from ulvar.desktop.pictures import Picture, PictureLoader, difference_path
from ulvar.desktop.profile_strip import ProfileStrip
from ulvar.desktop.stretch import STRETCHES, Stretch, auto_stretch
from ulvar.desktop.theme import Theme
from ulvar.frames import ExposureFacts, Role
from ulvar.night.flows.starfind import read_stars
from ulvar.photometry import ApertureOptions
from ulvar.stars import StarTable

_ALWAYS = ("profile", "invert", "fit")
_TOGGLES = {
    "calibrate": ("blink", "swipe", "difference", "defects"), "combine": ("stars", "blink"),
    "plate": ("stars", "catalogue", "residuals"), "measure": ("stars", "apertures", "catalogue", "blink"),
    "curve": ("apertures", "blink"),
}  # fmt: skip


def sexagesimal(ra: float, dec: float) -> str:
    """Return RA and Dec as people read them."""
    hours = ra / 15 % 24
    h, m = int(hours), int(hours * 60 % 60)
    s = hours * 3600 % 60
    a = abs(dec)
    sign = "−" if dec < 0 else "+"
    return f"RA {h:02d} {m:02d} {s:05.2f}   Dec {sign}{int(a):02d} {int(a * 60 % 60):02d} {a * 3600 % 60:04.1f}"


class SkyView(QWidget):
    """The exposure with its marks."""

    star_clicked = Signal(float, float, object)

    def __init__(self, model: Model, theme: Theme) -> None:
        super().__init__()
        self._model = model
        self.theme = theme
        self.loader = PictureLoader()
        self.loader.loaded.connect(self._loaded)
        self._wanted = ""
        self._raw_shown = False
        self._override = ""
        self._stretches: dict[str, Stretch] = {}
        self._stars: dict[str, StarTable] = {}
        self._catalogue = None
        self.setObjectName("skybar")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addWidget(self._header())
        self.canvas = Canvas(theme)
        self.canvas.hovered.connect(self._read_out)
        self.canvas.clicked.connect(self._clicked)
        self.canvas.line_drawn.connect(lambda *_: self._profile())
        self.canvas.region_drawn.connect(self._region_drawn)
        layout.addWidget(self.canvas, 1)
        self.profile = ProfileStrip(theme)
        self.profile.hide()
        layout.addWidget(self.profile)
        layout.addWidget(self._foot())
        self._before = ""
        self._region_setting = ""
        model.preview_changed.connect(self._marks)
        model.region_wanted.connect(self._draw_region)
        model.current_changed.connect(self.refresh)
        model.station_changed.connect(lambda _: self.refresh())
        model.results_changed.connect(self._results)
        model.stars_changed.connect(self._marks)
        model.settings_changed.connect(self._marks)
        model.station_changed.connect(lambda _: self._show_toggles())
        self._show_toggles()
        self.set_theme(theme)

    def _header(self) -> QWidget:
        bar = QWidget()
        bar.setObjectName("skybar")
        bar.setFixedHeight(36)
        row = QHBoxLayout(bar)
        row.setContentsMargins(12, 4, 8, 4)
        row.setSpacing(4)
        self.name = QLabel("")
        self.name.setProperty("kind", "section")
        self.facts = QLabel("")
        self.facts.setProperty("kind", "label")
        # The facts give way first: without this the header would hold the whole view wide.
        self.facts.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        row.addWidget(self.name)
        row.addSpacing(8)
        row.addWidget(self.facts, 1)
        self.toggles: dict[str, QToolButton] = {}
        for key, tip in (
            ("stars", "Show detected stars (S)"), ("apertures", "Show stars with a role and their apertures (A)"),
            ("catalogue", "Show catalogue stars and compass (C)"), ("residuals", "Show residual arrows of the plate solution (R)"),
            ("blink", "Before and after calibration (Space)"), ("swipe", "Before and after, with a border to drag (W)"),
            ("difference", "What calibration took away: raw less calibrated (Shift+Space)"),
            ("profile", "Values along a line that you drag (P)"), ("defects", "Pixels called defective (H)"), ("invert", "Swap black and white (I)"),
            ("fit", "Fit the whole picture (F)"),
        ):  # fmt: skip
            button = QToolButton()
            button.setToolTip(tip)
            button.setAccessibleName(tip)
            button.setFixedSize(28, 28)
            button.setIconSize(QSize(16, 16))
            button.setCheckable(key != "fit")
            button.clicked.connect(lambda _=False, k=key: self.toggle(k, from_button=True))
            row.addWidget(button)
            self.toggles[key] = button
        self.toggles["apertures"].setChecked(True)
        return bar

    def _foot(self) -> QWidget:
        bar = QWidget()
        bar.setObjectName("skybar")
        bar.setFixedHeight(64)
        column = QVBoxLayout(bar)
        column.setContentsMargins(12, 4, 12, 4)
        column.setSpacing(2)
        row = QHBoxLayout()
        row.setSpacing(8)
        self.stretch_box = QComboBox()
        self.stretch_box.addItems(list(STRETCHES))
        self.stretch_box.setCurrentText("Asinh")
        self.stretch_box.setFixedWidth(88)
        self.stretch_box.setToolTip("How levels become grey; the data are not changed")
        self.stretch_box.setAccessibleName("Stretch")
        self.stretch_box.currentTextChanged.connect(self._stretch_chosen)
        self.histogram = Histogram(self.theme)
        self.histogram.changed.connect(self._levels_dragged)
        self.auto = QPushButton("Auto")
        self.auto.setToolTip("Choose floor and ceiling from the sky level and its noise")
        self.auto.clicked.connect(self.auto_levels)
        row.addWidget(self.stretch_box)
        row.addWidget(self.histogram, 1)
        row.addWidget(self.auto)
        column.addLayout(row)
        self.read_out = QLabel("")
        self.read_out.setProperty("kind", "label")
        column.addWidget(self.read_out)
        return bar

    def _show_toggles(self) -> None:
        """Show the buttons that are of use at the station; their keys work everywhere."""
        for key, button in self.toggles.items():
            button.setVisible(key in _ALWAYS or key in _TOGGLES.get(self._model.station, ()))

    # ---- what is shown

    def path_for(self, facts: ExposureFacts) -> str:
        """Return the file to show for an exposure: its calibrated copy from Calibrate on, unless raw is asked for."""
        calibrated = self._model.products("calibrated").get(facts.path)
        early = self._model.station in ("intake", "masters")
        if calibrated is None or early:
            return facts.path
        if self.toggles["difference"].isChecked():
            return difference_path(facts.path, calibrated.output)
        return facts.path if self._raw_shown else calibrated.output

    def show_file(self, path: str, title: str) -> None:
        """Show a product (a master, a stack) in the place of the current exposure."""
        self._override = path
        self.name.setText(title)
        self.facts.setText("")
        self._request(path)

    def refresh(self) -> None:
        """Show the current exposure."""
        self._override = ""
        facts = self._model.facts(self._model.current)
        if facts is None:
            self.name.setText("")
            self.facts.setText("")
            self._wanted = ""
            self.canvas.set_picture(None, "")
            self.histogram.show_picture(None, Stretch())
            return
        self.name.setText(facts.stem)
        bits = []
        if facts.start_utc:
            bits.append(f"{facts.start_utc:%H:%M:%S} UTC")
        if facts.exposure_s is not None:
            bits.append(f"{facts.exposure_s:g} s")
        if facts.filter:
            bits.append(facts.filter)
        airmass = self._model.metric_values("airmass").get(facts.path)
        if airmass:
            bits.append(f"airmass {airmass:.2f}")
        path = self.path_for(facts)
        if "\n" in path:
            bits.append("raw less calibrated")
        elif path != facts.path:
            bits.append("calibrated")
        if facts.path in self._model.left_out():
            bits.append("left out")
        self.facts.setText(", ".join(bits))
        self._request(path)

    def _request(self, path: str) -> None:
        self._before = ""
        if self.toggles["swipe"].isChecked() and not self._override:
            facts = self._model.facts(self._model.current)
            if facts is not None and facts.path != path and "\n" not in path:
                self._before = facts.path
        if not self._before:
            self.canvas.second = None
            self.histogram.second = None
        self._wanted = path
        self._marks()
        self.loader.request(path, self._before)

    def _loaded(self, path: str, result: object) -> None:
        if path == self._before and isinstance(result, Picture):
            same = self.canvas.picture is None or self.canvas.picture.data.shape == result.data.shape
            self.canvas.second = result if same else None
            self.canvas.second_stretch = auto_stretch(result.sample, Stretch(self.stretch_box.currentText()))
            self.histogram.second = result.sample
            self.histogram.update()
            self._profile()
            self.canvas.update()
        if path != self._wanted:
            return
        if isinstance(result, Picture):
            key = self._stretch_key(path)
            known = self._stretches.get(key)
            if known is None:
                # Levels follow each exposure until the user sets them; then they stay.
                known = auto_stretch(
                    result.sample,
                    Stretch(self.stretch_box.currentText(), inverted=self.canvas.stretch.inverted),
                )
            self.canvas.stretch = known
            self.canvas.set_picture(result)
            self.histogram.show_picture(result, known)
            self._profile()
            self._read_ahead()
        else:
            self.canvas.set_picture(None, f"{Path(path).name}: {result}")
            self.histogram.show_picture(None, Stretch())

    def _read_ahead(self) -> None:
        """Read the exposures beside the one on screen, so that stepping finds them there."""
        if self._override:
            return
        near = [self._model.facts(path) for path in self._model.neighbours((1, 2, -1))]
        self.loader.prefetch([self.path_for(facts) for facts in near if facts is not None])

    @property
    def settled(self) -> bool:
        """Whether the exposure that was asked for is on screen, or could not be read."""
        return self.canvas.problem != "" or (
            self.canvas.picture is not None and self.canvas.picture.path == self._wanted
        )

    def _stretch_key(self, path: str) -> str:
        # Levels set by hand hold for all exposures of a kind, so that a cloud or dawn shows as what it is.
        facts = self._model.facts(self._model.current)
        if self._override:
            return self._override
        kind = "calibrated" if facts is not None and path != facts.path else "raw"
        return f"{kind} {facts.role.value if facts else ''} {facts.filter if facts else ''}"

    def _results(self) -> None:
        self.loader.forget()
        self._stretches.clear()
        self._stars.clear()
        self._catalogue = None
        self.refresh()

    # ---- stretch

    def _stretch_chosen(self, name: str) -> None:
        self._set_stretch(replace(self.canvas.stretch, name=name))

    def _levels_dragged(self, floor: float, ceiling: float) -> None:
        self._set_stretch(replace(self.canvas.stretch, floor=floor, ceiling=ceiling))

    def auto_levels(self) -> None:
        """Choose floor and ceiling anew."""
        if self.canvas.picture is not None:
            self._set_stretch(auto_stretch(self.canvas.picture.sample, self.canvas.stretch))
            self._stretches.pop(self._stretch_key(self._wanted), None)
            self.histogram.show_picture(self.canvas.picture, self.canvas.stretch)

    def _set_stretch(self, stretch: Stretch) -> None:
        self.canvas.stretch = stretch
        self.histogram.stretch = stretch
        self._stretches[self._stretch_key(self._wanted)] = stretch
        self.histogram.update()
        self.canvas.update()

    # ---- toggles and marks

    def toggle(self, key: str, *, from_button: bool = False) -> None:
        """Switch one of the header's toggles."""
        button = self.toggles[key]
        if button.isCheckable() and not from_button:
            button.setChecked(not button.isChecked())
        if key == "fit":
            self.canvas.fit()
        elif key == "invert":
            self._set_stretch(replace(self.canvas.stretch, inverted=button.isChecked()))
        elif key in ("blink", "swipe", "difference"):
            # One way of comparing at a time.
            for other in ("blink", "swipe", "difference"):
                if other != key and button.isChecked():
                    self.toggles[other].setChecked(False)
            self._raw_shown = self.toggles["blink"].isChecked()
            self.refresh()
        elif key == "profile":
            self.canvas.mode = "line" if button.isChecked() else "pan"
            self.profile.setVisible(button.isChecked())
            if not button.isChecked():
                self.canvas.line = None
                self.profile.forget()
            self.canvas.update()
        else:
            self._marks()

    def _profile(self) -> None:
        """Plot the values along the drawn line."""
        if self.canvas.line is None or self.canvas.picture is None:
            return
        a, b = self.canvas.line
        self.profile.show_line(self.canvas.picture, self.canvas.second, (a.x(), a.y()), (b.x(), b.y()))

    def _draw_region(self, setting: str) -> None:
        """Let the user draw the region of a setting; an empty name calls it off."""
        self._region_setting = setting
        self.canvas.mode = "region" if setting else "pan"
        if setting:
            self._model.message.emit("Drag a rectangle on the picture; Esc calls it off.")

    def _region_drawn(self, x0: int, y0: int, x1: int, y1: int) -> None:
        picture, setting = self.canvas.picture, self._region_setting
        self._region_setting = ""
        if picture is None or not setting:
            return
        height, width = picture.data.shape
        region = Region(max(0, x0), max(0, y0), min(width, x1), min(height, y1))
        if not region.inside(width, height):
            return
        if setting == "overlays":
            known = self._model.settings().calibrate.overlays
            self._model.set_setting("calibrate", "overlays", [*known, region.text])
        else:
            self._model.set_setting("calibrate", setting, region.text)
        self._model.findings_changed.emit()
        self._model.station_changed.emit(self._model.station)

    def stars_of(self, raw: str) -> StarTable | None:
        """Return the detected stars of an exposure, or None when it is not scored."""
        if raw not in self._stars:
            product = self._model.products("score").get(raw)
            if product is None or self._model.night is None:
                return None
            table = self._model.night.products / "stars" / f"{ExposureFacts(product.output).stem}.stars.csv"
            if not table.exists():
                return None
            self._stars[raw] = read_stars(table)
        return self._stars[raw]

    def _catalogue_pixels(self, raw: str) -> np.ndarray:
        wcs = self._model.plates().get(raw)
        path = self._model.settings().plate.catalogue
        facts = self._model.facts(raw)
        if wcs is None or not path or facts is None:
            return np.empty((0, 2))
        if self._catalogue is None:
            try:
                self._catalogue = load_catalogue(path)
            except CatalogueError:
                return np.empty((0, 2))
        ra, dec = wcs.sky(facts.width / 2, facts.height / 2)
        reach = math.hypot(facts.width, facts.height) / 2 * wcs.scale_arcsec_px / 3600
        near = self._catalogue.cone(float(ra), float(dec), reach)
        x, y = wcs.pixel(near.ra[:300], near.dec[:300])
        return np.column_stack([x, y])

    def _marks(self) -> None:
        raw = self._model.current
        overlay = Overlay()
        self.canvas.overlay = overlay
        if self.toggles["defects"].isChecked() and self._model.station in ("masters", "calibrate"):
            overlay.defects = self._model.preview
        facts = self._model.facts(raw)
        if facts is None or self._override or facts.role is not Role.LIGHT:
            self.canvas.update()
            return
        overlay.wcs = self._model.plates().get(raw)
        if self.toggles["stars"].isChecked():
            table = self.stars_of(raw)
            if table is not None:
                overlay.detections = np.column_stack([table.x, table.y])
        if self.toggles["catalogue"].isChecked():
            overlay.catalogue = self._catalogue_pixels(raw)
            overlay.grid = True
        if self.toggles["residuals"].isChecked():
            plate = self._model.products("plate").get(raw)
            if plate is not None and plate.values.get("residuals"):
                overlay.residuals = np.array(plate.values["residuals"])
        if self.toggles["apertures"].isChecked() and self._model.station in ("measure", "curve"):
            self._role_marks(overlay, raw)
        self.canvas.update()

    def _role_marks(self, overlay: Overlay, raw: str) -> None:
        night = self._model.night
        if night is None:
            return
        pixels = self._model.star_pixels(raw)
        left = set(self._model.settings().curve.leave_out)
        curve = self._model.curve()
        suspects = set(curve.curve.ensemble.suspects) if curve else set()
        for star in night.stars():
            if star.name in pixels and math.isfinite(pixels[star.name][0]):
                x, y = pixels[star.name]
                overlay.roles.append(RoleMark(star.name, star.role, x, y, star.name in left | suspects))
        settings = self._model.settings().measure
        score = self._model.products("score").get(raw)
        fwhm = float(score.values["fwhm_px"]) if score else 3.0
        options = ApertureOptions(settings.radius, settings.in_fwhm, settings.inner_px, settings.outer_px)
        overlay.aperture = options.radii(fwhm)

    # ---- read-out and clicks

    def _read_out(self, x: float, y: float) -> None:
        picture = self.canvas.picture
        if picture is None:
            return
        ix, iy = round(x), round(y)
        inside = 0 <= ix < picture.data.shape[1] and 0 <= iy < picture.data.shape[0]
        value = f"{picture.data[iy, ix]:.1f} ADU" if inside else "outside"
        text = f"x {x:.1f}   y {y:.1f}   value {value.replace('-', '−')}"
        wcs = None if self._override else self._model.plates().get(self._model.current)
        if wcs is not None and inside:
            ra, dec = wcs.sky(x, y)
            text += "   " + sexagesimal(float(ra), float(dec))
        self.read_out.setText(text)

    def _clicked(self, x: float, y: float) -> None:
        self.star_clicked.emit(x, y, self.nearest_star(x, y))

    def nearest_star(self, x: float, y: float) -> tuple[float, float] | None:
        """Return the detected star within 14 screen pixels of an image position."""
        table = self.stars_of(self._model.current)
        if table is None or not len(table):
            return None
        distance = np.hypot(table.x - x, table.y - y)
        k = int(np.argmin(distance))
        return (float(table.x[k]), float(table.y[k])) if distance[k] * self.canvas.scale < 14 else None

    def set_theme(self, theme: Theme) -> None:
        """Take another theme."""
        self.theme = self.canvas.theme = self.histogram.theme = self.profile.plot.theme = theme
        for key, button in self.toggles.items():
            button.setIcon(glyphs.icon(theme, key))
        self.canvas.update()

    def close_loader(self) -> None:
        """End the reading thread."""
        self.loader.close()


def role_menu(parent: QWidget, chosen) -> QMenu:  # type: ignore[no-untyped-def]
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
