"""The night line in numbers: where times, values and exposures fall. Line, gutter and legend read it."""

from __future__ import annotations

import math
from collections.abc import Iterable

import numpy as np
from PySide6.QtCore import QRectF

from ulvar.desktop.line.sky import LANE, NightSky
from ulvar.desktop.models.model import Model
from ulvar.desktop.models.numbers import METRICS
from ulvar.desktop.parts.ticks import nice_ticks
from ulvar.engine import true_minus
from ulvar.frames import ExposureFacts, Role
from ulvar.night import SERIES_STATIONS

_AXIS = 22


class LineState:
    """Geometry and entries of the line.

    Attributes
    ----------
    width, height : int
        Of the widget [px].
    sky : NightSky
    """

    def __init__(self, model: Model) -> None:
        self._model = model
        self.width, self.height = 300, 140
        self.sky = NightSky()

    def plot(self) -> QRectF:
        """Return the part of the widget that is drawn on."""
        return QRectF(0, 10, self.width - 44, self.height - 10 - _AXIS)

    def span(self) -> tuple[float, float]:
        """Return first and last moment of the axis [s since 1970]."""
        # Asked for each dot: looked up, not counted anew.
        early = self._model.station in ("intake", "masters")
        return self._model.cached(f"line span {early}", self._find_span)

    def _find_span(self) -> tuple[float, float]:
        times = [f.start_utc.timestamp() for f in self._model.exposures() if f.start_utc]
        if self._model.station not in ("intake", "masters"):
            lights = [f.start_utc.timestamp() for f in self._model.lights() if f.start_utc]
            times = lights or times
        if not times:
            return 0.0, 1.0
        low, high = min(times), max(times)
        if high - low > 3 * 86400:
            lights = [f.start_utc.timestamp() for f in self._model.lights() if f.start_utc]
            if lights:
                low, high = min(lights), max(lights)
        pad = max(600.0, 0.04 * (high - low))
        return low - pad, high + pad

    def x(self, moment: float) -> float:
        """Return where a moment [s since 1970] is."""
        low, high = self.span()
        plot = self.plot()
        return plot.left() + (moment - low) / (high - low) * plot.width()

    def range(self) -> tuple[float, float]:
        """Return lowest and highest value of the axis."""
        return self._model.cached(f"line range {self._model.numbers.metric}", self._find_range)

    def _find_range(self) -> tuple[float, float]:
        values = list(self._model.numbers.metric_values(self._model.numbers.metric).values())
        if not values:
            return 0.0, 1.0
        low, high = float(np.min(values)), float(np.max(values))
        if high - low < 1e-9:
            low, high = low - 0.5, high + 0.5
        pad = 0.12 * (high - low)
        return low - pad, high + pad

    def y(self, value: float) -> float:
        """Return where a value is."""
        low, high = self.range()
        plot = self.plot()
        top = plot.top() + LANE
        return plot.bottom() - 12 - (value - low) / (high - low) * (plot.bottom() - 12 - top)

    def runs(self, files: Iterable[str]) -> list[tuple[float, float]]:
        """Return from where to where exposures follow one another on the line, one of the others between at most.

        Two trails an hour apart are two, not one that lasts an hour.
        """
        times = self.times()
        places = self._model.cached("line places", self._find_places)
        runs: list[list[float]] = []
        last: dict[str, int] = {}
        for path in sorted((p for p in files if p in times), key=lambda p: times[p]):
            group, place = places.get(path, ("", -9))
            x = self.x(times[path])
            if runs and group in last and 0 <= place - last[group] <= 2:
                runs[-1].append(x)
            else:
                runs.append([x])
            last = {group: place}
        return [(min(xs), max(xs)) for xs in runs]

    def _find_places(self) -> dict[str, tuple[str, int]]:
        """Return the place of each exposure among those of its role and series, in the order of time."""
        key = {path: one.key for one in self._model.all_series() for path in one.files}
        groups: dict[str, list[str]] = {}
        for facts in sorted(self._model.exposures(), key=lambda f: (f.start_utc is None, str(f.start_utc))):
            groups.setdefault(f"{facts.role} {key.get(facts.path, '')}", []).append(facts.path)
        return {path: (name, k) for name, paths in groups.items() for k, path in enumerate(paths)}

    def dots(self) -> list[tuple[str, float, float, str]]:
        """Return (path, x, y, kind) of every light with a time, and of calibration frames that have the number."""
        key = f"line dots {self._model.station} {self._model.numbers.metric} {self.width} {self.height}"
        return self._model.cached(key, self._place_dots)

    def _place_dots(self) -> list[tuple[str, float, float, str]]:
        values = self._model.numbers.metric_values(self._model.numbers.metric)
        out = self._model.left_out()
        marked = self._model.jobs.files_with_findings()
        members = self._model.members() if self._model.station in SERIES_STATIONS else None
        ruled = self._model.looking.stack_plan()[1] if members is not None else {}
        result = []
        lights = {f.path for f in self._model.lights()}
        for facts in self._model.exposures():
            if facts.start_utc is None or not (facts.path in lights or facts.path in values):
                continue
            value = values.get(facts.path)
            y = self.y(value) if value is not None else self.plot().bottom() - 12
            kind = "kept"
            if facts.path in out:
                kind = "left_out"
            elif members is not None and facts.path in lights and facts.path not in members:
                kind = "other"
            elif value is None:
                kind = "unscored" if members is not None and facts.path in lights else "other"
            elif facts.path in ruled:
                kind = "ruled"
            elif facts.path in marked:
                kind = "finding"
            result.append((facts.path, self.x(facts.start_utc.timestamp()), y, kind))
        return sorted(result, key=lambda dot: dot[1])

    def value_ticks(self) -> list[tuple[float, str]]:
        """Return (y, text) of the value axis, drawn in the gutter."""
        if not self._model.numbers.metric_values(self._model.numbers.metric):
            return []
        _, unit, decimals = METRICS[self._model.numbers.metric]
        ticks = nice_ticks(*self.range(), 4)
        gap = ticks[1] - ticks[0] if len(ticks) > 1 else 1.0
        places = max(decimals if gap < 1 else 0, max(0, -math.floor(math.log10(gap) + 1e-9)) if gap > 0 else 0)
        return [(self.y(v), true_minus(f"{v:.{places}f} {unit}").strip()) for v in ticks]

    def calibration_frames(self) -> list[ExposureFacts]:
        """Return calibration frames with a time."""
        times = self.times()
        return [f for f in self._model.exposures() if f.role not in (Role.LIGHT, Role.UNKNOWN) and f.path in times]

    def times(self) -> dict[str, float]:
        """When each exposure began, as far as that is known; asked for at each painting."""
        return self._model.cached(
            "line times",
            lambda: {f.path: f.start_utc.timestamp() for f in self._model.exposures() if f.start_utc},
        )

    def nearest(self, x: float, y: float) -> str:
        """Return the exposure whose dot is nearest, within 24 px along the line."""
        dots = [(abs(dx - x) + 0.2 * abs(dy - y), path) for path, dx, dy, _ in self.dots() if abs(dx - x) < 24]
        return min(dots)[1] if dots else ""

    @property
    def moon_words(self) -> str:
        """What the Moon does, where its line is shown."""
        return self.sky.moon_words if self._model.station in SERIES_STATIONS else ""
