"""The strip under the picture: values along a line, the star under the cursor, statistics of a rectangle, a pair of stars."""

from __future__ import annotations

import math

import numpy as np
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QStackedWidget, QVBoxLayout, QWidget

from ulvar.astrometry import Wcs, separation_on_sky
from ulvar.desktop.parts.plots import Plot, Points
from ulvar.desktop.parts.theme import Theme
from ulvar.desktop.parts.widgets import label, number
from ulvar.desktop.picture.pictures import Picture
from ulvar.desktop.picture.profile import ProfileStrip
from ulvar.engine import Failed, true_minus
from ulvar.inspection import RegionStatistics, StarCloseUp

# Heights of the strip: words need less than plots [px].
_LOW, _HIGH = 96, 150


class StarStrip(QWidget):
    """Radial profile and growth curve of one star, with its numbers."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        row = QHBoxLayout(self)
        row.setContentsMargins(8, 4, 8, 4)
        row.setSpacing(6)
        self.radial = Plot(theme, x_label="radius, px", y_label="ADU", ticks=3)
        self.growth = Plot(theme, x_label="radius, px", y_label="light within, %", ticks=3)
        self.radial.empty = "Click a star: its profile appears here."
        self.growth.empty = ""
        self.words = label("", "label", wrap=True)
        self.words.setFixedWidth(150)
        row.addWidget(self.radial, 1)
        row.addWidget(self.growth, 1)
        row.addWidget(self.words)

    def show_star(self, star: StarCloseUp | Failed, scale_arcsec_px: float | None) -> None:
        """Show a star, or why there is none."""
        self.radial.marker = None
        self.radial.bands, self.growth.bands = [], []
        if isinstance(star, Failed):
            self.radial.empty = f"{star.reason[:1].upper()}{star.reason[1:]}."
            self.radial.series, self.growth.series, self.radial.curves = [], [], []
            self.words.setText("")
        else:
            near = star.radius_px <= min(20.0, 4 * star.fwhm_px + 4)
            self.radial.series = [
                Points(star.radius_px[near], star.value_adu[near], kinds=["kept"] * int(near.sum()), token="mute")
            ]
            r = np.linspace(0, float(star.radius_px[near].max()), 80)
            height, scale, exponent = star.model
            self.radial.curves = [(r, height * (1 + (r / scale) ** 2) ** -exponent, "cur")] if scale > 0 else []
            whole = float(np.median(star.growth_adu[-5:])) or 1.0
            self.growth.series = [Points(star.growth_px, 100 * star.growth_adu / whole, token="text", line=True)]
            self.growth.marker = star.best_px
            self.growth.y_range = (0.0, 115.0)
            arcsec = f" = {star.fwhm_px * scale_arcsec_px:.2f}″" if scale_arcsec_px else ""
            lines = [
                f"FWHM {star.fwhm_px:.2f} px{arcsec}", f"profile fit {number(star.fwhm_fit_px, 2)} px",
                f"peak {number(star.peak_adu, 0)} ADU over sky {number(star.sky_adu, 0)}",
                true_minus(f"ellipticity {star.ellipticity:.2f} at {star.angle_deg:.0f}°"),
                f"best radius {star.best_px:.1f} px" + (f", SNR {star.snr:.0f}" if math.isfinite(star.snr) else ""),
            ]  # fmt: skip
            if star.saturated:
                lines.insert(0, "saturated")
            self.words.setText("\n".join(lines))
        self.radial.update()
        self.growth.update()

    def show_rings(self, radii: tuple[float, float, float]) -> None:
        """Show aperture and annulus in profile and growth, as they are drawn on the picture [px]."""
        for plot in (self.radial, self.growth):
            plot.marker, plot.bands = radii[0], [(radii[1], radii[2], "text")]
            plot.update()


class BoxStrip(QWidget):
    """Statistics of a rectangle, in words."""

    def __init__(self) -> None:
        super().__init__()
        column = QVBoxLayout(self)
        column.setContentsMargins(16, 12, 16, 12)
        self.words = label("Drag a rectangle on the picture: its statistics appear here.", "value", wrap=True)
        column.addWidget(self.words)
        column.addStretch(1)

    def show_box(self, statistics: RegionStatistics | Failed, size: tuple[int, int]) -> None:
        """Show the statistics of a rectangle of a size [px]."""
        if isinstance(statistics, Failed):
            self.words.setText(f"{statistics.reason[:1].upper()}{statistics.reason[1:]}.")
            return
        s = statistics
        self.words.setText(
            f"{size[0]} × {size[1]} px, {number(s.count, 0)} with a value\n"
            f"median {number(s.median, 2)} ADU      clipped sigma {number(s.sigma, 2)} ADU\n"
            f"lowest {number(s.lowest, 1)} ADU      highest {number(s.highest, 1)} ADU      saturated {number(s.saturated, 0)}"
        )


class PairStrip(QWidget):
    """Two stars as they are measured in the exposure on screen, and the way to every exposure."""

    series_wanted = Signal()

    def __init__(self) -> None:
        super().__init__()
        column = QVBoxLayout(self)
        column.setContentsMargins(16, 12, 16, 12)
        self.words = label("", "value", wrap=True)
        self.every = QPushButton("Measure in every exposure")
        self.every.setToolTip(
            "The same two stars in all exposures of the series: table, mean, scatter, plot (Plate, Pair)"
        )
        self.every.clicked.connect(self.series_wanted.emit)
        column.addWidget(self.words)
        column.addWidget(self.every, 0, Qt.AlignmentFlag.AlignLeft)
        column.addStretch(1)
        self.tell("", named=False)

    def tell(self, words: str, *, named: bool) -> None:
        """Say what is measured, or what is to be done; every exposure is on offer once the pair is named."""
        self.words.setText(words or "Drag from one star to the other: both are measured, their distance appears here.")
        self.every.setVisible(named)


class ToolStrip(QStackedWidget):
    """One of the four, or hidden."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.line = ProfileStrip(theme)
        self.star = StarStrip(theme)
        self.box = BoxStrip()
        self.pair = PairStrip()
        for part in (self.line, self.star, self.box, self.pair):
            self.addWidget(part)
        self.hide()

    def turn_to(self, tool: str) -> None:
        """Show a tool's page; an empty word hides the strip."""
        pages = {"profile": self.line, "closeup": self.star, "box": self.box, "pair": self.pair}
        self.setFixedHeight(_LOW if tool == "pair" else _HIGH)
        self.setVisible(tool in pages)
        if tool in pages:
            self.setCurrentWidget(pages[tool])

    def set_theme(self, theme: Theme) -> None:
        """Take another theme."""
        for plot in (self.line.plot, self.star.radial, self.star.growth):
            plot.theme = theme


def sexagesimal(ra: float, dec: float) -> str:
    """Return RA and Dec [deg] as people read them."""
    # Rounded before it is taken apart: no place has 60 seconds.
    hundredths = round(ra / 15 * 360_000) % (24 * 360_000)
    minutes, seconds = divmod(hundredths, 6000)
    tenths = round(abs(dec) * 36_000)
    arcmin, arcsec = divmod(tenths, 600)
    sign = "−" if dec < 0 and tenths else "+"
    return (
        f"RA {minutes // 60:02d} {minutes % 60:02d} {seconds / 100:05.2f}   "
        f"Dec {sign}{arcmin // 60:02d} {arcmin % 60:02d} {arcsec / 10:04.1f}"
    )


def line_words(a: tuple[float, float], b: tuple[float, float], wcs: Wcs | None) -> str:
    """Return length and direction of a line in words: in pixels, and on the sky where it is solved."""
    dx, dy = b[0] - a[0], b[1] - a[1]
    text = true_minus(f"{math.hypot(dx, dy):.1f} px at {math.degrees(math.atan2(dy, dx)):.1f}° from +x")
    if wcs is None:
        return text
    there = separation_on_sky(wcs, np.array([*a, *b]))
    return text + f"; {there.arcsec:.2f}″, position angle {there.angle_deg:.2f}°"


def picture_part(picture: Picture, low: tuple[float, float], high: tuple[float, float]) -> np.ndarray:
    """Return the pixels of a rectangle."""
    height, width = picture.data.shape
    x0, x1 = max(0, math.ceil(low[0])), min(width, math.floor(high[0]) + 1)
    y0, y1 = max(0, math.ceil(low[1])), min(height, math.floor(high[1]) + 1)
    return picture.data[y0:y1, x0:x1]
