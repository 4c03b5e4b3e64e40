"""How the exposures of the series line up, and what went into its stack."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path

import numpy as np
from PySide6.QtCore import QObject, Signal

from ulvar.combine import Method
from ulvar.desktop.models import edits
from ulvar.desktop.models.ground import Ground
from ulvar.desktop.models.looking import Looking
from ulvar.desktop.work.background import Asker
from ulvar.engine import JobContext
from ulvar.flows import PixelHistory, StackedExposure, pixel_history
from ulvar.frames import extensions_of
from ulvar.frames.fits_header import BESIDE
from ulvar.night import Product
from ulvar.night.stations import (
    mosaic_of,
    mosaic_series,
    no_mosaic,
    results_of,
    running_of,
    what_is_missing,
    working_of,
)
from ulvar.registration import Fit, Kernel, Resampling, pair_stars, stored_map
from ulvar.stacking import STACK_REJECTION

# A star of the reference this close to where the map puts one of the exposure is the same.
_PAIRED_PX = 1.5
# Stars of this SNR are shown alone where there are enough of them.
_BRIGHT, _ENOUGH = 30.0, 12
# What each extension of a stack's file is called, in the order that it is offered in.
MAPS = {
    "COUNT MAP": ("Count", "How many exposures were kept at each pixel"),
    "WEIGHT MAP": ("Weight", "The weight of what was kept at each pixel, over all of it"),
    "NOISE MAP": ("Noise", "Standard error of each pixel by the spread of the exposures, ADU"),
    "REJECTED LOW": ("Rejected low", "How many exposures were rejected as too low at each pixel"),
    "REJECTED HIGH": ("Rejected high", "How many exposures were rejected as too high at each pixel"),
}
assert set(MAPS) < set(BESIDE)


@dataclass(frozen=True)
class Alignment:
    """How an exposure lies on the reference.

    Attributes
    ----------
    kind : str
        Of the map.
    tried : tuple of (str, float)
        Kinds and how far each misses a star that it was not fitted to [px].
    places, residuals : float64 array, shape (n, 2)
        Stars in common, in the exposure's pixels; where the reference has them minus where the map puts them [px].
    matched : int
        Stars in common, faint ones too.
    snr : float
        Only stars over it are among the places; 0 where all are.
    is_reference : bool
    """

    kind: str
    tried: tuple[tuple[str, float], ...]
    places: np.ndarray
    residuals: np.ndarray
    matched: int = 0
    snr: float = 0.0
    is_reference: bool = False

    @property
    def rms_px(self) -> float:
        """Per axis."""
        return float(np.sqrt((self.residuals**2).mean())) if len(self.residuals) else math.nan


class Stacks(QObject):
    """What the pages Alignment and Result show."""

    # A pixel of the stack was pointed at; what it is made of is known, or why not.
    pixel_chosen = Signal()
    history_known = Signal()

    def __init__(self, ground: Ground, looking: Looking) -> None:
        super().__init__()
        self._ground, self._looking = ground, looking
        self._asker = Asker("pixel history")
        self._asker.found.connect(self._found)
        self.pixel: tuple[int, int] | None = None
        self.history: PixelHistory | str | None = None
        ground.dropped.connect(self._forget)

    def close(self) -> None:
        """End the thread that reads pixels."""
        self._asker.close(wait=True)

    def alignment(self, raw: str) -> Alignment | None:
        """Return how an exposure lies on the reference of its series; None where it is not aligned."""
        return self._ground.cached(f"alignment {raw}", lambda: self._aligned(raw))

    def _aligned(self, raw: str) -> Alignment | None:
        product, stars = self._ground.products("score").get(raw), self._looking.star_table(raw)
        if product is None or stars is None or product.values["matrix"] is None:
            return None
        v = product.values
        base = next((r for r, p in self._ground.scores().items() if p.output == v["reference"]), "")
        others = self._looking.star_table(base)
        own = np.column_stack([stars.x, stars.y])
        if base == raw:
            return Alignment("shift", (), own, np.zeros_like(own), is_reference=True)
        way = stored_map(v["matrix"], v.get("bent"))
        fit = Fit() if others is None else pair_stars(way, own, np.column_stack([others.x, others.y]), _PAIRED_PX)
        mine, residuals = np.empty(0, dtype=np.int64), np.empty((0, 2))
        if fit.pairs is not None and fit.residuals is not None:
            mine, residuals = fit.pairs[:, 0], fit.residuals
        # The noise of faint stars would hide what the map leaves over.
        bright = stars.snr[mine] > _BRIGHT
        limit = _BRIGHT if bright.sum() >= _ENOUGH else 0.0
        if limit:
            mine, residuals = mine[bright], residuals[bright]
        tried = tuple((str(kind), float(missed)) for kind, missed in v.get("maps_tried") or ())
        kind = str(v.get("map") or way.kind)
        return Alignment(kind, tried, own[mine], residuals, fit.matched, limit)

    # ---- the stack

    @property
    def stack(self) -> Product | None:
        """The stack of the series, where it was made."""
        return self._ground.of_series("stack")

    def frames(self) -> dict[str, Product]:
        """Raw path to what became of each exposure in the stack."""
        night, series = self._ground.night, self._ground.chosen_series()
        if night is None or series is None:
            return {}
        return self._ground.cached("stack frames", lambda: night.products_of("stack_frame", series.key))

    def results(self) -> list[Product]:
        """Return the stacks that were made of the series, the newest first."""
        night, series = self._ground.night, self._ground.chosen_series()
        if night is None or series is None:
            return []
        return self._ground.cached("results", lambda: results_of(night, series.key))

    def name_result(self, result: Product, name: str) -> None:
        """Call a result otherwise, undoably."""
        if name.strip() and name.strip() != result.values["name"]:
            self._ground.undo.push(edits.ResultName(self._ground, result.output, name.strip()))

    @property
    def colour(self) -> tuple[str, str] | None:
        """Name and title of the field's colour picture, as pictures are asked for; None where it was not made."""
        product = self._ground.of_series("colour")
        if product is None or not Path(product.output).exists():
            return None
        filters = product.values["filters"]
        return product.output, "Colour picture: " + ", ".join(f"{c} {name}" for c, name in filters.items())

    def colour_lacks(self) -> str:
        """Which stacks a colour picture of the field lacks, in a sentence; empty where none."""
        night, series = self._ground.night, self._ground.chosen_series()
        if night is None or series is None:
            return "There is no series."
        return self._ground.cached("colour lacks", lambda: what_is_missing(night, series))

    @property
    def mosaic(self) -> tuple[str, str] | None:
        """Name and title of the mosaic of the series' filter; None where it was not made."""
        night, series = self._ground.night, self._ground.chosen_series()
        if night is None or series is None:
            return None
        product = self._ground.cached("mosaic", lambda: mosaic_of(night, series))
        return None if product is None else (product.output, f"Mosaic of {product.values['count']} exposures")

    @property
    def running(self) -> tuple[str, str] | None:
        """Name and title of the running stack of the series' object and filter; None where there is none."""
        night, series = self._ground.night, self._ground.chosen_series()
        if night is None or series is None:
            return None
        product = self._ground.cached("running stack", lambda: running_of(night, series))
        return None if product is None else (product.output, f"Running stack of {product.values['count']}")

    def mosaic_lacks(self) -> tuple[str, int]:
        """Why there can be no mosaic of the series' filter, in a sentence, and how many fields it would be of."""
        night, series = self._ground.night, self._ground.chosen_series()
        if night is None or series is None:
            return "There is no series.", 0
        return self._ground.cached(
            "mosaic lacks", lambda: (no_mosaic(night, series), len(mosaic_series(night, series)))
        )

    def maps(self) -> dict[str, str]:
        """Name of each map to the address that it is read by; empty where the stack was written without."""
        stack = self.stack
        if stack is None or not Path(stack.output).exists():
            return {}
        output = stack.output
        return self._ground.cached("maps of the stack", lambda: _maps_in(output))

    def point_at(self, x: float, y: float) -> None:
        """Ask what went into a pixel of the stack."""
        stack = self.stack
        if stack is None:
            return
        self.pixel, self.history = (round(x), round(y)), None
        self.pixel_chosen.emit()
        v = stack.values
        if not (0 <= self.pixel[0] < v["width"] and 0 <= self.pixel[1] < v["height"]):
            self._found(self.pixel, "That is outside the stack.")
            return
        taken, problem = self._taken()
        if problem:
            self._found(self.pixel, problem)
            return
        rejection = replace(STACK_REJECTION, method=Method(v["method"]), low=v["reject_low"], high=v["reject_high"])
        size = (int(v["height"]), int(v["width"]))
        work = partial(pixel_history, taken, *self.pixel, size, rejection, JobContext(workers=1))
        self._asker.ask(self.pixel, work)

    def _taken(self) -> tuple[list[StackedExposure], str]:
        """Return the exposures as they went into the stack, or why that is not known."""
        night, series, stack = self._ground.night, self._ground.chosen_series(), self.stack
        if night is None or series is None:
            return [], "There is no series."
        ready, taken = working_of(night, series), []
        for raw, product in self.frames().items():
            v, facts = product.values, ready.facts.get(raw) or self._ground.facts(raw)
            if facts is None or "factor" not in v or stack is None or "method" not in stack.values:
                return [], "This stack was made by an older version: stack again to see what went into its pixels."
            told = stack.values
            how = Resampling(Kernel(told.get("kernel", Kernel.LANCZOS3)), bool(told.get("clamp", False)))
            one = StackedExposure.of(facts, v, how)
            taken.append(replace(one, calibration=ready.calibrations.get(facts.path)))
        return taken, "" if taken else "Nothing is known of the exposures of this stack."

    def _found(self, pixel: object, found: object) -> None:
        if pixel == self.pixel:
            self.history = found if isinstance(found, PixelHistory) else str(found)
            self.history_known.emit()

    def raw_of(self, working: str) -> str:
        """Return the raw path of a working exposure."""
        calibrated = self._ground.products("calibrated")
        return next((raw for raw, product in calibrated.items() if product.output == working), working)

    def _forget(self) -> None:
        self.pixel, self.history = None, None


def _maps_in(path: str) -> dict[str, str]:
    names = extensions_of(path)
    return {name: f"{path}[{names.index(name)}]" for name in MAPS if name in names}
