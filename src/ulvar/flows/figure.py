"""Figures of light curves for print, in a style that is a few lines of text."""

from __future__ import annotations

import math
import tomllib
from collections.abc import Sequence
from dataclasses import asdict, dataclass, fields
from pathlib import Path
from typing import Any

import numpy as np

from ulvar.engine import atomic_path
from ulvar.flows.beneath import Beneath
from ulvar.flows.curve import CurveResult
from ulvar.flows.drawn import figure_contents
from ulvar.lightcurves import Ephemeris

FIGURE_ENDINGS = (".pdf", ".svg", ".png")
AXES = ("BJD_TDB", "JD_UTC", "hours", "phase")


@dataclass(frozen=True)
class FigureStyle:
    """How a figure looks; each line can be changed.

    Attributes
    ----------
    width_cm, height_cm : float
        Of the whole: 8.8 cm is a column, 18 cm a page.
    font : str
        A family that is installed.
    text_pt, title_pt : float
    points, model, bins : str
        Colours, as names or #rrggbb.
    others : tuple of str
        Colours of what stands under the curve, one after the other.
    beneath : bool
        Whether further stars and the curves of other filters stand under it.
    point_size, line_width : float
        In points (1/72 inch).
    axis : str
        One of `AXES`.
    period_d, epoch : float
        For phase.
    residuals : bool
    errors : bool
    bin_min : float
        Means over so many minutes beside the points; 0 for none.
    companions : tuple of str
        Strips below, of airmass, fwhm_px, sky, x, y, ensemble.
    title : str
        ``{name}`` becomes the target's.
    numbers : bool
        Whether the model's values stand in the figure.
    grid : bool
    dots_per_inch : int
        Of PNG.
    """

    width_cm: float = 18.0
    height_cm: float = 12.0
    font: str = "DejaVu Sans"
    text_pt: float = 9.0
    title_pt: float = 10.0
    points: str = "#20262b"
    model: str = "#c2571a"
    bins: str = "#1f6fb2"
    others: tuple[str, ...] = ("#2c8a57", "#8a4fa3", "#b0731a", "#4a6a8a")
    beneath: bool = True
    point_size: float = 3.0
    line_width: float = 1.2
    axis: str = "BJD_TDB"
    period_d: float = 0.0
    epoch: float = 0.0
    residuals: bool = True
    errors: bool = True
    bin_min: float = 0.0
    companions: tuple[str, ...] = ()
    title: str = "{name}"
    numbers: bool = True
    grid: bool = False
    dots_per_inch: int = 300

    def as_toml(self) -> str:
        """Return the style as lines that can be changed."""
        lines = []
        for name, value in asdict(self).items():
            if isinstance(value, bool):
                text = "true" if value else "false"
            elif isinstance(value, str):
                text = '"' + value.replace("\\", "\\\\").replace('"', '\\"') + '"'
            elif isinstance(value, tuple):
                text = "[" + ", ".join(f'"{one}"' for one in value) + "]"
            else:
                text = repr(value)
            lines.append(f"{name} = {text}")
        return "\n".join(lines) + "\n"

    @classmethod
    def from_toml(cls, text: str) -> FigureStyle:
        """Return a style; lines that are not there keep what they are by themselves.

        Raises
        ------
        ValueError
            If the text is not TOML, or a line has a name or a value that there is not; the message names it.
        """
        try:
            told = tomllib.loads(text)
        except tomllib.TOMLDecodeError as error:
            raise ValueError(f"the style cannot be read: {error}") from None
        plain, known = cls(), {field.name for field in fields(cls)}
        values: dict[str, Any] = {}
        for name, value in told.items():
            if name not in known:
                raise ValueError(f"the style has no line '{name}'; there are {', '.join(sorted(known))}")
            want = getattr(plain, name)
            if isinstance(want, tuple):
                value = tuple(value) if isinstance(value, list) else value
            if isinstance(want, float) and isinstance(value, int) and not isinstance(value, bool):
                value = float(value)
            if type(value) is not type(want):
                raise ValueError(f"the style's {name} is {value!r}; it is such as {want!r}")
            values[name] = value
        style = cls(**values)
        style.check()
        return style

    def check(self) -> None:
        """Refuse what cannot be drawn.

        Raises
        ------
        ValueError
            The message names the line.
        """
        if self.axis not in AXES:
            raise ValueError(f"the style's axis is '{self.axis}'; there are {', '.join(AXES)}")
        if self.axis == "phase" and not self.period_d > 0:
            raise ValueError("the style's axis is the phase, and period_d is not above 0")
        for name, low, high in (
            ("width_cm", 3, 100), ("height_cm", 3, 100), ("text_pt", 3, 40), ("title_pt", 3, 60), ("point_size", 0.1, 30),
            ("line_width", 0.1, 20), ("dots_per_inch", 30, 1200), ("bin_min", 0, 1e5),
        ):  # fmt: skip
            value = float(getattr(self, name))
            if not low <= value <= high:
                raise ValueError(f"the style's {name} is {value:g}; it is from {low:g} to {high:g}")
        from matplotlib.colors import is_color_like

        colours = [(name, getattr(self, name)) for name in ("points", "model", "bins")]
        for name, colour in [*colours, *(("others", one) for one in self.others)]:
            if not is_color_like(colour):
                raise ValueError(f"the style's {name} is no colour: '{colour}'")
        if self.beneath and not self.others:
            raise ValueError("the style's others are no colours: there is none")
        for name in self.companions:
            if name not in _COMPANIONS:
                raise ValueError(f"the style's companions are of {', '.join(_COMPANIONS)}, not '{name}'")


_COMPANIONS = {
    "airmass": "airmass", "fwhm_px": "FWHM, px", "sky": "sky, ADU", "x": "x, px", "y": "y, px", "ensemble": "comparisons, mag",
}  # fmt: skip
_CM = 1 / 2.54
# In a narrower figure a line holds one number of the model.
_NARROW_CM = 14.0
# In a lower one the words along the axis take two lines.
_LOW_CM = 10.0
# Of points under the curve.
_SIGNS = ("s", "^", "D", "v")


def write_figure(
    path: Path, result: CurveResult, style: FigureStyle | None = None, *, beneath: Sequence[Beneath] = (), replace: bool = False
) -> None:  # fmt: skip
    """Draw a light curve with its model, residuals and companions, and what stands beneath it, atomically: .pdf, .svg or .png.

    Raises
    ------
    OutputExists
        If `path` exists and may not be replaced.
    ValueError
        If the ending is none of those, or the style cannot be drawn.
    """
    ending = path.suffix.lower()
    if ending not in FIGURE_ENDINGS:
        raise ValueError(f"{path}: figures are written as {', '.join(FIGURE_ENDINGS)}")
    shown = style or FigureStyle()
    shown.check()
    # What may not be written is not drawn, which takes a second.
    with atomic_path(path, replace=replace) as temporary:
        temporary.write_bytes(figure_bytes(result, shown, ending[1:], beneath=beneath))


def figure_bytes(
    result: CurveResult, style: FigureStyle, kind: str, *, beneath: Sequence[Beneath] = (), dots_per_inch: int | None = None
) -> bytes:  # fmt: skip
    """Return a figure as a file's contents: ``pdf``, ``svg`` or ``png``."""
    style.check()
    from matplotlib import rc_context
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.figure import Figure

    settings = {
        "font.family": style.font, "font.size": style.text_pt, "axes.titlesize": style.title_pt, "axes.linewidth": 0.7,
        "svg.fonttype": "none", "pdf.fonttype": 42, "axes.formatter.useoffset": False,
    }  # fmt: skip
    with rc_context(settings):
        figure = Figure(figsize=(style.width_cm * _CM, style.height_cm * _CM), layout="constrained")
        FigureCanvasAgg(figure)
        _draw(figure, result, style, beneath if style.beneath else ())
        return figure_contents(figure, kind, dots_per_inch or style.dots_per_inch)


def _draw(figure: Any, result: CurveResult, style: FigureStyle, beneath: Sequence[Beneath]) -> None:
    curve, fit = result.curve, result.fit
    good = curve.good
    strips = [name for name in style.companions if np.isfinite(curve.companions[name]).any()]
    left = style.residuals and fit is not None
    heights = [5.0, *([1.6] if left else []), *[1.3] * len(strips)]
    axes = np.atleast_1d(figure.subplots(len(heights), 1, sharex=True, height_ratios=heights))
    along, label, back = _along(result, style)
    x = along(curve)
    main = axes[0]
    offset = np.zeros(len(curve))
    if fit is not None:
        # Trends and levels of sessions are taken off: what is drawn is the star.
        offset[good] = fit.trend_mag
    value = curve.magnitude - offset
    bars = curve.magnitude_error if style.errors and np.isfinite(curve.magnitude_error[good]).any() else None
    dots = {"fmt": "o", "color": style.points, "markersize": style.point_size, "elinewidth": 0.5 * style.line_width}
    main.errorbar(x[good], value[good], None if bars is None else bars[good], zorder=2, **dots)
    for k, one in enumerate(beneath):
        own = one.curve.good & np.isfinite(one.magnitude)
        error = one.magnitude_error if style.errors else None
        colour = style.others[k % len(style.others)]
        main.errorbar(
            along(one.curve)[own], one.magnitude[own], None if error is None else error[own], label=one.told, zorder=1,
            **{**dots, "fmt": _SIGNS[k % len(_SIGNS)], "color": colour},
        )  # fmt: skip
    if beneath:
        # Outside, where no point lies.
        figure.legend(
            loc="outside lower center",
            ncols=1 if style.width_cm < _NARROW_CM else min(3, len(beneath)),
            frameon=False,
            fontsize=0.9 * style.text_pt,
        )
    if style.bin_min > 0:
        bx, by, be = _bins(x[good], value[good], style.bin_min / 1440 / _unit(style))
        main.errorbar(bx, by, be, fmt="s", color=style.bins, markersize=1.6 * style.point_size, zorder=4)
    if fit is not None and result.modelled:
        fine = np.linspace(0.0, 1.0, 800) if style.axis == "phase" else np.linspace(x[good].min(), x[good].max(), 800)
        main.plot(fine, fit.at(back(fine)), color=style.model, linewidth=style.line_width, zorder=3)
    main.invert_yaxis()
    main.set_ylabel("target − comparisons, mag" if style.height_cm > _LOW_CM else "target −\ncomparisons, mag")
    numbers = _numbers(result) if style.numbers and fit is not None and result.modelled else []
    if style.title:
        figure.suptitle(style.title.replace("{name}", curve.name), fontsize=style.title_pt)
    if numbers:
        # Over the frame: within it there is no place that never has points.
        each = 1 if style.width_cm < _NARROW_CM else 2
        lines = ["    ".join(numbers[k : k + each]) for k in range(0, len(numbers), each)]
        main.set_title("\n".join(lines), loc="right", fontsize=0.9 * style.text_pt)
    place = 1
    if left and fit is not None:
        residual = 1000 * (curve.magnitude[good] - fit.model_mag)
        axes[place].errorbar(x[good], residual, None if bars is None else 1000 * bars[good], **dots)
        axes[place].axhline(0, color=style.model, linewidth=0.7 * style.line_width)
        axes[place].set_ylabel("left,\nmmag")
        place += 1
    for name in strips:
        axes[place].plot(x, curve.companions[name], "o", color=style.points, markersize=0.8 * style.point_size)
        axes[place].set_ylabel(_COMPANIONS[name].replace(", ", ",\n"))
        place += 1
    for one in axes:
        one.tick_params(direction="in", top=True, right=True)
        if style.grid:
            one.grid(True, linewidth=0.4, color="#d5dade")
    axes[-1].set_xlabel(label)


def _unit(style: FigureStyle) -> float:
    return {"hours": 1 / 24, "phase": style.period_d}.get(style.axis, 1.0)


def _along(result: CurveResult, style: FigureStyle):  # type: ignore[no-untyped-def]
    """Return how curves get their places along the axis, its name, and the way back to the times that models are in."""
    curve = result.curve
    time = curve.time
    if style.axis == "phase":
        return (
            lambda one: (one.time - style.epoch) / style.period_d % 1,
            f"phase of {style.period_d:g} d",
            lambda p: style.epoch + style.period_d * p,
        )
    if style.axis == "hours":
        begin = float(np.nanmin(time))
        return lambda one: 24 * (one.time - begin), "hours after the first exposure", lambda p: p / 24 + begin
    if style.axis == "JD_UTC":
        off = float(np.nanmedian(time - curve.jd_utc))
        day = math.floor(float(np.nanmin(curve.jd_utc)))
        return lambda one: one.jd_utc - day, f"JD (UTC) − {day}, d", lambda p: p + day + off
    day = math.floor(float(np.nanmin(time)))
    name = "BJD (TDB)" if np.isfinite(curve.bjd_tdb).all() else "JD (UTC)"
    return lambda one: one.time - day, f"{name} − {day}, d", lambda p: p + day


def _bins(x: np.ndarray, y: np.ndarray, width: float) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    place = np.floor((x - x.min()) / width).astype(int)
    xs, ys, es = [], [], []
    for k in np.unique(place):
        inside = y[place == k]
        xs.append(float(x[place == k].mean()))
        ys.append(float(inside.mean()))
        es.append(float(np.std(inside, ddof=1)) / math.sqrt(len(inside)) if len(inside) > 2 else math.nan)
    return np.array(xs), np.array(ys), np.array(es)


def _numbers(result: CurveResult) -> list[str]:
    """Return a model's first values with their errors, in lines."""
    fit = result.fit
    assert fit is not None
    lines = []
    for key, words, unit, factor in (
        ("mid", "mid", "BJD", 1.0), ("period_d", "period", "d", 1.0), ("depth_mag", "depth", "mag", 1.0), ("duration_d", "duration", "h", 24.0),
        ("ratio", "ratio of radii", "", 1.0), ("amplitude_mag", "range", "mag", 1.0), ("minimum", "faintest", "BJD", 1.0),
    ):  # fmt: skip
        value, error = fit.values.get(key, math.nan) * factor, fit.errors.get(key, math.nan) * factor
        if math.isfinite(value) and math.isfinite(error) and error > 0:
            places = max(0, min(8, 1 - math.floor(math.log10(error))))
            lines.append(f"{words} {value:.{places}f} ± {error:.{places}f} {unit}".rstrip())
    return lines


def write_differences(path: Path, found: Ephemeris, style: FigureStyle | None = None, *, replace: bool = False) -> None:
    """Draw what minima are off a linear ephemeris over their cycles, and a change of the period, atomically: .pdf, .svg or .png.

    Raises
    ------
    OutputExists
        If `path` exists and may not be replaced.
    ValueError
        If the ending is none of those.
    """
    ending = path.suffix.lower()
    if ending not in FIGURE_ENDINGS:
        raise ValueError(f"{path}: figures are written as {', '.join(FIGURE_ENDINGS)}")
    shown = style or FigureStyle(height_cm=8.0)
    with atomic_path(path, replace=replace) as temporary:
        temporary.write_bytes(figure_contents(_differences(found, shown), ending[1:], shown.dots_per_inch))


def _differences(found: Ephemeris, style: FigureStyle) -> Any:
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.figure import Figure

    figure = Figure(figsize=(style.width_cm * _CM, style.height_cm * _CM), layout="constrained")
    FigureCanvasAgg(figure)
    axes = figure.subplots()
    bars = 1440 * found.error if np.isfinite(found.error).all() else None
    halves = found.cycles % 1 != 0
    for some, sign, words in ((~halves, "o", "primary"), (halves, "s", "secondary")):
        if some.any():
            axes.errorbar(
                found.cycles[some], 1440 * found.linear_off[some], None if bars is None else bars[some], fmt=sign, color=style.points,
                markersize=1.4 * style.point_size, elinewidth=0.5 * style.line_width, label=words,
                markerfacecolor=style.points if sign == "o" else "white",
            )  # fmt: skip
    fine = np.linspace(found.cycles.min(), found.cycles.max(), 300)
    curved = 1440 * found.change * fine**2 if math.isfinite(found.change) else np.zeros(300)
    axes.plot(fine, curved, color=style.model, linewidth=style.line_width)
    if halves.any():
        axes.legend(frameon=False, fontsize=style.text_pt)
    axes.set_xlabel(f"cycle from {found.epoch:.5f} on, period {found.period:.9g} d")
    axes.set_ylabel("observed less told, min")
    axes.tick_params(direction="in", top=True, right=True)
    return figure
