"""Combine, page Result: what the stack is like, and what its pixels are made of."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtWidgets import QButtonGroup, QComboBox, QHBoxLayout, QLineEdit, QPushButton, QVBoxLayout, QWidget

from ulvar.desktop.models.model import Model
from ulvar.desktop.models.stacks import MAPS
from ulvar.desktop.parts.flow import FlowLayout
from ulvar.desktop.parts.plots import Plot, Points
from ulvar.desktop.parts.theme import Theme
from ulvar.desktop.parts.widgets import label
from ulvar.engine import counted
from ulvar.flows import Fate, PixelHistory
from ulvar.night import Product
from ulvar.night.schema import setting_of
from ulvar.night.settings import CombineSettings
from ulvar.night.stations import differing

_POINT_HERE = "Click a pixel of the stack to see what it is made of."
_KINDS = {Fate.KEPT: "kept", Fate.LOW: "unreadable", Fate.HIGH: "unreadable"}


def _magnitude(values: Mapping[str, Any]) -> str:
    """Return the limit of a result with its band."""
    band = "" if values["band"] == "mag" else f" {values['band']}"
    return f"{values['limit_mag']:.1f} mag{band}"


class ResultPage(QWidget):
    """The stack of the series in numbers, plots and maps; a pixel's value in every exposure."""

    def __init__(
        self,
        parent: QWidget,
        model: Model,
        theme: Theme,
        show_file: Callable[..., None],
        command: Callable[[str], object],
    ) -> None:
        super().__init__(parent)
        self._model, self._show_file = model, show_file
        self._newest = ""
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 0)
        column.setSpacing(6)
        self.title = label("", "value")
        column.addWidget(self.title)
        self.words = label("", wrap=True)
        column.addWidget(self.words)
        self.results_row = QWidget()
        rows = QVBoxLayout(self.results_row)
        rows.setContentsMargins(0, 0, 0, 0)
        row = QHBoxLayout()
        self.results = QComboBox()
        self.results.setToolTip(
            "Every stack that was made of this series; the first one is what the other stations use"
        )
        self.results.activated.connect(self._show_result)
        self.name = QLineEdit()
        self.name.setToolTip("What this result is called")
        self.name.setMaximumWidth(180)
        self.name.editingFinished.connect(self._name_result)
        self.compare = QPushButton("Beside the newest")
        self.compare.setToolTip("Show it left of a border that can be dragged, the newest right of it")
        self.compare.clicked.connect(self._compare)
        rows.addWidget(self.results)
        row.addWidget(label("Called"))
        row.addWidget(self.name)
        row.addWidget(self.compare)
        row.addStretch(1)
        rows.addLayout(row)
        column.addWidget(self.results_row)
        self.result_words = label("", "unit", wrap=True)
        column.addWidget(self.result_words)
        offers = QWidget()
        self._offers = FlowLayout(offers, 4)
        column.addWidget(offers)
        self.map_buttons: dict[str, QPushButton] = {}
        self.show_colour = QPushButton("Colour picture")
        self.show_colour.setToolTip("Show the field's colour picture")
        self.show_colour.clicked.connect(lambda: self._see(self._model.stacks.colour))
        self.make_colour = QPushButton()
        self.make_colour.clicked.connect(lambda: command("run colour"))
        self.show_mosaic = QPushButton("Mosaic")
        self.show_mosaic.setToolTip("Show the mosaic of all fields through this filter")
        self.show_mosaic.clicked.connect(lambda: self._see(self._model.stacks.mosaic))
        self.show_running = QPushButton("Running stack")
        self.show_running.setToolTip("Show the stack that grew while exposures arrived")
        self.show_running.clicked.connect(lambda: self._see(self._model.stacks.running))
        self.make_mosaic = QPushButton()
        self.make_mosaic.clicked.connect(lambda: command("run mosaic"))
        self.colour_words = label("", "unit", wrap=True)
        self._offers.addWidget(self.show_colour)
        self._offers.addWidget(self.make_colour)
        self._offers.addWidget(self.show_mosaic)
        self._offers.addWidget(self.make_mosaic)
        self._offers.addWidget(self.show_running)
        column.addWidget(self.colour_words)
        self.growth = Plot(theme, x_label="exposures, best first", y_label="SNR, one exposure = 1", ticks=3)
        self.rejected = Plot(
            theme, x_label="exposure, in order of time", y_label="rejected, %", ticks=3, on_pick=model.set_current
        )
        self.pixel_words = label(_POINT_HERE, wrap=True)
        self.pixel = Plot(
            theme, x_label="exposure, in order of time", y_label="value, ADU", ticks=3, on_pick=model.set_current
        )
        self.pixel.empty = _POINT_HERE
        for widget in (self.growth, self.rejected, self.pixel_words, self.pixel):
            if isinstance(widget, Plot):
                widget.setMinimumHeight(96)
                column.addWidget(widget, 2)
            else:
                column.addWidget(widget)
        column.addStretch(0)
        model.results_told.connect(self._offer_results)
        model.stacks.history_known.connect(self._show_pixel)
        model.stacks.pixel_chosen.connect(self._show_pixel)

    def refresh(self) -> None:
        """Show the stack as it is now."""
        stack = self._model.stacks.stack
        self._offer_results()
        self._offer_maps(stack)
        self._offer_colour()
        self._offer_mosaic()
        for plot in (self.growth, self.rejected):
            plot.series, plot.curves = [], []
        for widget in (self.growth, self.rejected, self.pixel_words, self.pixel):
            # Without a stack there is nothing to draw: empty frames would only look broken.
            widget.setVisible(stack is not None)
        if stack is None:
            self.title.setText("No stack yet")
            self.words.setText("Stack the exposures to see what comes of them.")
        else:
            v = stack.values
            self.title.setText(f"Stack of {v['count']}, {v['width']} × {v['height']} px")
            self.words.setText(self._told(stack))
            self._fill_growth(v.get("growth"))
            self._fill_rejected()
        for plot in (self.growth, self.rejected):
            plot.update()
        self._show_pixel()

    def show_current(self, path: str) -> None:
        """Ring the exposure on screen."""
        for plot in (self.rejected, self.pixel):
            plot.current = path
            plot.update()

    def _told(self, stack: Product) -> str:
        v = stack.values
        words = []
        if v.get("noise_adu") is not None:
            words.append(f"Noise {v['noise_adu']:.2f} ADU a pixel.")
        words.append(f"As deep as {v['snr_gain'] ** 2:.1f} exposures like the average one.")
        words.append(f"Aligned to {v['residual_px']:.3f} px (median).")
        if v.get("reject_low") is not None and v.get("method") not in ("mean", "median", None):
            lost = self._model.settings().combine.lost
            low, high = v["reject_low"], v["reject_high"]
            limits = f"over {low:.1f} deviations" if low == high else f"{low:.1f} below and {high:.1f} above"
            words.append(f"Values {limits} were rejected: of {v['count']} good ones {lost:g} are lost at each pixel.")
        cut = [p for p in self._model.stacks.frames().values() if p.values.get("trails_cut")]
        if v.get("no_proper"):
            words.append(f"There is no proper coadd: {v['no_proper']}.")
        if v.get("no_drops"):
            words.append(f"There is no reconstruction: {v['no_drops']}.")
        if v.get("uneven"):
            words.append(f"Of the reconstruction {v['uneven']}.")
        if cut:
            words.append(f"Trails were cut out of {counted(len(cut), 'exposure')}.")
        return " ".join(words)

    @property
    def chosen_result(self) -> Product | None:
        """The result that the list stands on."""
        results, at = self._model.stacks.results(), self.results.currentIndex()
        return results[at] if 0 <= at < len(results) else None

    def _offer_results(self) -> None:
        results = self._model.stacks.results()
        chosen = self.results.currentData()
        newest = results[0].output if results else ""
        if newest != self._newest:
            # What was just made is what is looked at.
            self._newest = chosen = newest
        self.results.clear()
        for result in results:
            v = result.values
            noise = "" if v.get("noise_adu") is None else f", noise {v['noise_adu']:.2f} ADU"
            deep = "" if v.get("limit_mag") is None else f", to {_magnitude(v)}"
            self.results.addItem(f"{v['name']}: {counted(int(v['count']), 'exposure')}{noise}{deep}", result.output)
        self.results.setCurrentIndex(max(0, self.results.findData(chosen)))
        # One result alone is what the page tells of anyway.
        self.results_row.setVisible(len(results) > 1)
        self._tell_result()

    def _tell_result(self) -> None:
        result, results = self.chosen_result, self._model.stacks.results()
        self.compare.setEnabled(result is not None and len(results) > 1 and result.output != results[0].output)
        self.name.setText("" if result is None else str(result.values["name"]))
        self.result_words.setVisible(result is not None)
        if result is None:
            return
        v = result.values
        words = [f"Made {str(v['made_utc'])[:16].replace('T', ' ')} UTC"] if len(results) > 1 else []
        if v.get("fwhm_px") is not None:
            words.append(f"FWHM {v['fwhm_px']:.2f} px")
        if v.get("faintest_adu") is not None:
            light = f"{v['faintest_adu']:.0f} ADU" + ("" if v.get("limit_mag") is None else f", {_magnitude(v)},")
            words.append(f"a star of {light} stands out by 5 deviations")
        if result.output != results[0].output:
            other = differing(results[0].values["settings"], v["settings"])
            titles = [setting_of(CombineSettings, name).title.lower() for name in other]
            words.append(
                f"other than the newest in {', '.join(titles)}" if titles else "of other exposures than the newest"
            )
        text = "; ".join(words)
        self.result_words.setText(f"{text[:1].upper()}{text[1:]}." if text else "")

    def _show_result(self) -> None:
        self._tell_result()
        result = self.chosen_result
        if result is not None:
            self._show_file(result.output, str(result.values["name"]))

    def _name_result(self) -> None:
        result = self.chosen_result
        if result is not None:
            self._model.stacks.name_result(result, self.name.text())

    def _compare(self) -> None:
        result, newest = self.chosen_result, self._model.stacks.results()[0]
        if result is not None:
            self._show_file(newest.output, str(newest.values["name"]), result.output, str(result.values["name"]))

    def _offer_maps(self, stack: Product | None) -> None:
        for old in self.map_buttons.values():
            self._offers.removeWidget(old)
            old.deleteLater()
        self.map_buttons = {}
        if stack is None:
            return
        group = QButtonGroup(self)
        offers = [("", "Picture", "The stack itself", stack.output)]
        offers += [(name, *MAPS[name], address) for name, address in self._model.stacks.maps().items()]
        proper = stack.values.get("proper")
        if proper and Path(proper).exists():
            tip = "The proper coadd: faint things are found best in it where seeing varied"
            offers.append(("PROPER", "Proper coadd", tip, proper))
        drops = stack.values.get("drops")
        if drops and Path(drops).exists():
            tip = "Put together of the exposures' own pixels, dropped onto the grid of the stack"
            offers.append(("DROPS", "Reconstruction", tip, drops))
        body = stack.values.get("body")
        if body and Path(body).exists():
            offers.append(("BODY", "On the moving body", "It stays where it is, and the stars trail", body))
        for colour, path in (stack.values.get("planes") or {}).items():
            if Path(path).exists():
                name = {"R": "Red", "G": "Green", "B": "Blue"}[colour]
                offers.append((colour, name, f"The stack of {name.lower()} alone", path))
        for name, words, tip, address in offers:
            button = QPushButton(words)
            button.setToolTip(tip)
            title = f"Stack of {stack.values['count']}" + (f", {words.lower()}" if name else "")
            button.clicked.connect(partial(self._show_map, address, title))
            group.addButton(button)
            self._offers.addWidget(button)
            self.map_buttons[name] = button
        # What is made of several stacks comes behind what belongs to this one.
        for button in (self.show_colour, self.make_colour, self.show_mosaic, self.make_mosaic, self.show_running):
            self._offers.removeWidget(button)
            self._offers.addWidget(button)

    def _offer_colour(self) -> None:
        lacks, made = self._model.stacks.colour_lacks(), self._model.stacks.colour
        self.make_colour.setEnabled(not lacks)
        self.make_colour.setToolTip(lacks or "Aligns the stacks of the field and makes the average star white")
        self.make_colour.setText("Colour picture anew" if made else "Make a colour picture")
        self.show_colour.setVisible(made is not None)
        self.colour_words.setText(lacks if made is None else "")
        self.colour_words.setVisible(bool(lacks and made is None))

    def _offer_mosaic(self) -> None:
        (lacks, fields), made = self._model.stacks.mosaic_lacks(), self._model.stacks.mosaic
        # With one field through this filter there is nothing to offer.
        self.make_mosaic.setVisible(fields > 1)
        self.make_mosaic.setEnabled(not lacks)
        self.make_mosaic.setToolTip(lacks or "Lays the fields beside each other by the stars that they share")
        self.make_mosaic.setText("Mosaic anew" if made else f"Make a mosaic of {fields} fields")
        self.show_mosaic.setVisible(made is not None)
        self.show_running.setVisible(self._model.stacks.running is not None)

    def _see(self, made: tuple[str, str] | None) -> None:
        if made is not None:
            self._show_file(*made)

    def _show_map(self, address: str, title: str, _: bool = False) -> None:
        self._show_file(address, title)

    def _fill_growth(self, growth: list[list[float]] | None) -> None:
        if not growth:
            self.growth.empty = "This stack was made by an older version."
            return
        counts, noise, expected = (np.array([math.nan if v is None else v for v in row], dtype=float) for row in growth)
        with np.errstate(divide="ignore", invalid="ignore"):
            measured, foretold = noise[0] / noise, expected[0] / expected
        self.growth.series = [Points(counts, measured, kinds=["kept"] * len(counts), name="measured")]
        self.growth.curves = [(counts, foretold, "check")]
        self.growth.y_range = 0.0, 1.1 * float(np.nanmax([np.nanmax(measured), np.nanmax(foretold)]))
        self.growth.notes = [(float(counts[-1]), float(foretold[-1]), "expected of independent noise", "check")]

    def _fill_rejected(self) -> None:
        frames = self._model.stacks.frames()
        paths = [f.path for f in self._model.lights() if f.path in frames]
        shares = np.array([100 * float(frames[p].values["rejected_fraction"] or 0.0) for p in paths])
        self.rejected.series = [Points(np.arange(1.0, len(paths) + 1), shares, kinds=["kept"] * len(paths), keys=paths)]
        self.rejected.y_range = 0.0, 1.25 * float(shares.max(initial=0.0)) or 1.0

    def _show_pixel(self) -> None:
        stacks = self._model.stacks
        self.pixel.series, self.pixel.curves = [], []
        found = stacks.history
        if stacks.pixel is None:
            self.pixel.empty = _POINT_HERE
            self.pixel_words.setText("")
        elif found is None:
            self.pixel.empty = "Reading the exposures…"
            self.pixel_words.setText(f"Pixel {stacks.pixel[0]}, {stacks.pixel[1]}")
        elif isinstance(found, str):
            self.pixel.empty = found
            self.pixel_words.setText(f"Pixel {stacks.pixel[0]}, {stacks.pixel[1]}")
        else:
            self._fill_pixel(found)
        self.pixel.update()

    def _fill_pixel(self, found: PixelHistory) -> None:
        raws = [self._model.stacks.raw_of(v.file) for v in found.values]
        order = {f.path: i for i, f in enumerate(self._model.lights())}
        rows = sorted(zip(raws, found.values), key=lambda row: order.get(row[0], len(order)))
        values = np.array([v.value_adu for _, v in rows])
        kinds = [_KINDS.get(v.fate, "left_out") for _, v in rows]
        places = np.arange(1.0, len(rows) + 1)
        self.pixel.series = [Points(places, values, kinds=kinds, keys=[raw for raw, _ in rows])]
        self.pixel.empty = "No exposure has data there."
        if math.isfinite(found.combined_adu) and len(rows) > 1:
            self.pixel.curves = [(places[[0, -1]], np.full(2, found.combined_adu), "check")]
        fates = [v.fate for v in found.values]
        parts = [f"{fates.count(Fate.KEPT)} kept"]
        parts += [f"{fates.count(fate)} {fate.value}" for fate in Fate if fate is not Fate.KEPT and fate in fates]
        if found.failed:
            parts.append(f"{len(found.failed)} could not be read")
        made = f"{found.combined_adu:.2f} ADU" if math.isfinite(found.combined_adu) else "no value"
        self.pixel_words.setText(
            f"Pixel {found.x}, {found.y}: {made}; of {counted(len(fates), 'exposure')} {', '.join(parts)}."
        )
