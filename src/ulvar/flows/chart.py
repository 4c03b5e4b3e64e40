"""A finder chart: the stars of a catalogue about a place, targets, marks and bodies on them, north up and east left, to print."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from ulvar.astrometry import StarCatalogue, Wcs, tangent_plane, tangent_to_sky
from ulvar.engine import F64Array, atomic_path
from ulvar.flows.drawn import figure_contents
from ulvar.photometry import ListedStar

CHART_ENDINGS = (".pdf", ".png", ".svg")
# So many stars are drawn at most, the brightest: more are a grey haze on paper.
_MOST_STARS = 4000
# Round steps of lines [deg], of right ascension and of declination.
_DEC_STEPS = (1 / 360, 1 / 180, 1 / 60, 1 / 30, 1 / 12, 1 / 6, 0.5, 1, 2, 5, 10)
_RA_STEPS = tuple(15 * s / 3600 for s in (1, 2, 5, 10, 20, 30, 60, 120, 300, 600, 1200, 3600, 7200))
# Colours on paper; the sign tells them apart where colour does not.
_SIGNS = {
    "target": ("#C45500", "s"), "comparison": ("#00659C", "h"), "check": ("#8C3A78", "D"), "mark": ("#222222", "x"),
    "body": ("#C45500", "d"),
}  # fmt: skip
# Where a name may stand beside its sign [points]: offset and alignment.
_BESIDE = (
    (9, 6, "left", "bottom"), (9, -6, "left", "top"), (-9, 6, "right", "bottom"), (-9, -6, "right", "top"),
    (0, 12, "center", "bottom"),
)  # fmt: skip


@dataclass(frozen=True)
class ChartMark:
    """Something with a name on the chart: ``target``, ``comparison``, ``check``, ``mark`` or ``body``."""

    name: str
    kind: str
    ra: float
    dec: float


@dataclass(frozen=True)
class Chart:
    """What a chart shows.

    Attributes
    ----------
    ra, dec : float
        Its middle [deg, ICRS].
    width_deg : float
        Of its side.
    stars : StarCatalogue
        Those within reach; fainter ones than `faintest` are left away.
    marks : sequence of ChartMark
    bodies : sequence of ListedStar
        Moving bodies: their ways are drawn over the times of their tracks.
    outline : (Wcs, int, int) or None
        Solution, width and height [px] of an exposure whose field is outlined.
    faintest : float
        [mag]; infinite without a limit.
    title : str
    """

    ra: float
    dec: float
    width_deg: float
    stars: StarCatalogue
    marks: Sequence[ChartMark] = ()
    bodies: Sequence[ListedStar] = ()
    outline: tuple[Wcs, int, int] | None = None
    faintest: float = math.inf
    title: str = ""


def around(wcs: Wcs, width: int, height: int) -> tuple[float, float, float]:
    """Return middle [deg] and side [deg] of a chart that shows an exposure's field with a margin."""
    ra, dec = (float(v) for v in wcs.sky((width - 1) / 2, (height - 1) / 2))
    return ra, dec, 1.15 * math.hypot(width, height) * wcs.scale_arcsec_px / 3600


def write_chart(path: Path, chart: Chart, *, replace: bool = False) -> None:
    """Draw a chart into a PDF, PNG or SVG file, atomically; the name's ending chooses.

    Raises
    ------
    OutputExists
        If `path` exists and may not be replaced.
    ValueError
        If the ending is none of those, or the side is not over 0 and up to 90 degrees.
    """
    if path.suffix.lower() not in CHART_ENDINGS:
        raise ValueError(f"{path}: charts are written as {', '.join(CHART_ENDINGS)}")
    if not 0 < chart.width_deg <= 90:
        raise ValueError("the side of a chart is over 0 and up to 90 degrees")
    with atomic_path(path, replace=replace) as temporary:
        temporary.write_bytes(figure_contents(draw_chart(chart), path.suffix.lower()[1:], 200))


def draw_chart(chart: Chart) -> Any:
    """Return the chart as a figure of matplotlib."""
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.figure import Figure

    figure = Figure(figsize=(7.2, 8.0), facecolor="white")
    FigureCanvasAgg(figure)
    axes = figure.add_axes((0.11, 0.14, 0.85, 0.765))
    half = chart.width_deg / 2
    axes.set_xlim(half, -half)
    axes.set_ylim(-half, half)
    axes.set_aspect("equal")
    axes.set_xticks([])
    axes.set_yticks([])
    _lines(axes, chart)
    limits = _stars(axes, chart)
    if chart.outline is not None:
        wcs, width, height = chart.outline
        x = np.array([-0.5, width - 0.5, width - 0.5, -0.5, -0.5])
        y = np.array([-0.5, -0.5, height - 0.5, height - 0.5, -0.5])
        axes.plot(*_flat(chart, *wcs.sky(x, y)), color="#777777", linewidth=0.9, linestyle=(0, (6, 3)), zorder=3)
    taken: list[Any] = []
    for body in chart.bodies:
        _way(axes, chart, body, taken)
    for mark in chart.marks:
        _mark(axes, chart, mark, taken)
    _furniture(figure, axes, chart, limits)
    return figure


def _flat(chart: Chart, ra: F64Array, dec: F64Array) -> tuple[F64Array, F64Array]:
    """Return places on the paper [deg]: gnomonic about the middle, east to the left by the axis."""
    return tangent_plane(np.asarray(ra, dtype=np.float64), np.asarray(dec, dtype=np.float64), chart.ra, chart.dec)


def _stars(axes: Any, chart: Chart) -> tuple[float, float]:
    """Draw the stars as discs, larger for brighter ones; returns the magnitudes of the largest and the smallest."""
    near = chart.stars.cone(chart.ra, chart.dec, min(90.0, chart.width_deg * 0.75))
    x, y = _flat(chart, near.ra, near.dec)
    seen = (np.abs(x) <= chart.width_deg / 2) & (np.abs(y) <= chart.width_deg / 2)
    magnitude = np.asarray(near.mag, dtype=np.float64)
    seen &= ~(magnitude > chart.faintest)
    known = seen & np.isfinite(magnitude)
    kept = np.flatnonzero(seen)[np.argsort(magnitude[seen], kind="stable")][:_MOST_STARS]
    if not len(kept):
        return math.nan, math.nan
    bright = float(magnitude[known].min()) if known.any() else 0.0
    faint = float(np.nanmax(magnitude[kept])) if known.any() else 0.0
    axes.scatter(
        x[kept], y[kept], s=disc_size(np.where(np.isfinite(magnitude[kept]), magnitude[kept], faint), bright, faint),
        color="black", edgecolors="white", linewidths=0.4, zorder=2,
    )  # fmt: skip
    return bright, faint


def disc_size(magnitude: F64Array, bright: float, faint: float) -> F64Array:
    """Return areas of discs [points^2]: from the brightest to the faintest star of a chart by equal steps of diameter."""
    share = np.clip((faint - np.asarray(magnitude)) / max(faint - bright, 1e-6), 0, 1)
    return np.asarray((1.0 + 9.0 * share) ** 2)


def _lines(axes: Any, chart: Chart) -> None:
    """Draw lines of right ascension and declination, named at the edges that they leave by."""
    half = chart.width_deg / 2
    u = np.linspace(-half, half, 41)
    grid_x, grid_y = np.meshgrid(u, u)
    ra, dec = tangent_to_sky(grid_x.ravel(), grid_y.ravel(), chart.ra, chart.dec)
    turned = (ra - chart.ra + 180) % 360 - 180
    low, high = float(dec.min()), float(dec.max())
    polar = [abs(chart.dec - pole) * 1.0 < half * 1.42 and _inside(chart, pole) for pole in (90.0, -90.0)]
    low, high = (-90.0 if polar[1] else low), (90.0 if polar[0] else high)
    left, right = (-180.0, 180.0) if any(polar) else (float(turned.min()), float(turned.max()))
    step = next((s for s in _DEC_STEPS if (high - low) / s <= 6), _DEC_STEPS[-1])
    ra_step = next((s for s in _RA_STEPS if (right - left) / s <= 6), _RA_STEPS[-1])
    # Drawn out a little: a line that ends on the very edge may miss it by the last bit, and would have no name.
    aside, beyond = 0.01 * (right - left), 0.01 * (high - low)
    along = chart.ra + np.linspace(left - aside, right + aside, 181)
    across = np.linspace(max(low - beyond, -89.5), min(high + beyond, 89.5), 181)
    style = {"color": "#9AA7B4", "linewidth": 0.6, "zorder": 1}
    for k in range(math.ceil(low / step), math.floor(high / step) + 1):
        if abs(k * step) < 90:
            x, y = _flat(chart, along, np.full(181, k * step))
            axes.plot(x, y, **style)
            _edge_name(axes, x, y, half, _dec_name(k * step, step), side=True)
    for k in range(math.ceil((chart.ra + left) / ra_step), math.floor((chart.ra + right) / ra_step) + 1):
        x, y = _flat(chart, np.full(181, k * ra_step), across)
        axes.plot(x, y, **style)
        _edge_name(axes, x, y, half, _ra_name(k * ra_step, ra_step), side=False)


def _inside(chart: Chart, pole: float) -> bool:
    x, y = _flat(chart, np.array([0.0]), np.array([pole]))
    half = chart.width_deg / 2
    return bool(np.isfinite(x[0]) and abs(x[0]) < half and abs(y[0]) < half)


def _edge_name(axes: Any, x: F64Array, y: F64Array, half: float, text: str, *, side: bool) -> None:
    """Name a line of declination at the left edge, one of right ascension at the lower edge."""
    along, across = (x, y) if side else (y, x)
    edge = half if side else -half
    crossing = np.flatnonzero((along[:-1] - edge) * (along[1:] - edge) <= 0)
    for k in crossing[:1]:
        share = (edge - along[k]) / (along[k + 1] - along[k]) if along[k + 1] != along[k] else 0.0
        place = across[k] + share * (across[k + 1] - across[k])
        if abs(place) < 0.96 * half:
            offset = (-4, 0) if side else (0, -4)
            at = (half, place) if side else (place, -half)
            axes.annotate(
                text, at, xytext=offset, textcoords="offset points", ha="right" if side else "center",
                va="center" if side else "top", fontsize=7.5, annotation_clip=False, rotation=90 if side else 0,
            )  # fmt: skip


def _dec_name(dec: float, step: float) -> str:
    total = round(abs(dec) * 3600)
    sign = "−" if dec < 0 else "+"
    text = f"{sign}{total // 3600}° {total // 60 % 60:02d}′"
    return text if step >= 1 / 60 - 1e-9 else text + f" {total % 60:02d}″"


def _ra_name(ra: float, step: float) -> str:
    total = round((ra % 360) / 15 * 3600) % 86400
    text = f"{total // 3600}h {total // 60 % 60:02d}m"
    return text if step >= 0.25 - 1e-9 else text + f" {total % 60:02d}s"


def _way(axes: Any, chart: Chart, body: ListedStar, taken: list[Any]) -> None:
    """Draw a body's way over the times of its track, with an arrow at its end."""
    _, ra, dec = (np.array(column, dtype=np.float64) for column in zip(*body.track))
    x, y = _flat(chart, ra, dec)
    half = chart.width_deg / 2
    seen = (np.abs(x) < half) & (np.abs(y) < half)
    if not seen.any():
        return
    color = _SIGNS["body"][0]
    axes.plot(np.where(seen, x, np.nan), np.where(seen, y, np.nan), color=color, linewidth=1.2, zorder=4)
    inside = np.flatnonzero(seen)
    if len(inside) > 1:
        a, b = inside[-2], inside[-1]
        axes.annotate("", (x[b], y[b]), xytext=(x[a], y[a]), arrowprops={"arrowstyle": "-|>", "color": color}, zorder=4)
    first = inside[0]
    _name(axes, taken, body.name, float(x[first]), float(y[first]), color)


def _mark(axes: Any, chart: Chart, mark: ChartMark, taken: list[Any]) -> None:
    x, y = (float(v[0]) for v in _flat(chart, np.array([mark.ra]), np.array([mark.dec])))
    half = chart.width_deg / 2
    if not (abs(x) < half and abs(y) < half):
        return
    color, sign = _SIGNS.get(mark.kind, _SIGNS["mark"])
    face = color if sign == "x" else "none"
    axes.scatter(
        [x],
        [y],
        s=170,
        marker=sign,
        facecolors=face,
        edgecolors=None if sign == "x" else color,
        linewidths=1.3,
        zorder=5,
    )
    _name(axes, taken, mark.name, x, y, color)


def _name(axes: Any, taken: list[Any], text: str, x: float, y: float, color: str) -> None:
    """Write a name beside a sign, where no other name stands; those that do are `taken`."""
    renderer = axes.figure.canvas.get_renderer()
    for dx, dy, ha, va in (
        (9, 6, "left", "bottom"),
        (9, -6, "left", "top"),
        (-9, 6, "right", "bottom"),
        (-9, -6, "right", "top"),
        (0, 12, "center", "bottom"),
    ):
        label = axes.annotate(
            text, (x, y), xytext=(dx, dy), textcoords="offset points", ha=ha, va=va, fontsize=9, color=color, zorder=6
        )
        box = label.get_window_extent(renderer)
        if not any(box.overlaps(other) for other in taken):
            taken.append(box)
            return
        label.remove()
    axes.annotate(text, (x, y), xytext=(9, 6), textcoords="offset points", fontsize=9, color=color, zorder=6)


def _furniture(figure: Any, axes: Any, chart: Chart, limits: tuple[float, float]) -> None:
    """Add title, directions, a bar of a round angle, and what the discs mean."""
    axes.set_title(chart.title or "Finder chart", fontsize=11, loc="left", pad=20)
    place = f"{_ra_text(chart.ra)}  {_dec_text(chart.dec)}  ICRS, side {angle_words(chart.width_deg)}"
    axes.annotate(place, (0, 1), xytext=(0, 6), xycoords="axes fraction", textcoords="offset points", fontsize=8.5)
    plain = {"xycoords": "axes fraction", "textcoords": "offset points", "fontsize": 9, "fontweight": "bold"}
    axes.annotate("N", (0.5, 1), xytext=(0, 3), ha="center", **plain)
    ground = {"facecolor": "white", "edgecolor": "none", "pad": 1.0}
    axes.annotate("E", (0, 0.5), xytext=(4, 0), va="center", bbox=ground, zorder=7, **plain)
    bar = next(
        b for b in (10, 5, 2, 1, 0.5, 1 / 6, 1 / 12, 1 / 30, 1 / 60, 1 / 180, 1 / 360, 1e-9) if b <= chart.width_deg / 4
    )
    foot = figure.add_axes((0.11, 0.02, 0.85, 0.075))
    foot.set_axis_off()
    foot.set_xlim(0, 1)
    foot.set_ylim(0, 1)
    length = bar / chart.width_deg
    foot.plot([0, length], [0.35, 0.35], color="black", linewidth=1.4)
    foot.text(length / 2, 0.5, angle_words(bar), ha="center", va="bottom", fontsize=8.5)
    bright, faint = limits
    if math.isfinite(bright) and faint > bright:
        steps = np.unique(np.round(np.linspace(math.ceil(bright), math.floor(faint), 6)))
        at = np.linspace(0.42, 0.98, len(steps))
        foot.scatter(at, np.full(len(steps), 0.62), s=disc_size(steps, bright, faint), color="black")
        for x, step in zip(at, steps):
            foot.text(x, 0.18, f"{step:.0f}", ha="center", va="center", fontsize=8)
        foot.text(0.40, 0.18, "mag", ha="right", va="center", fontsize=8)


def angle_words(degrees: float) -> str:
    """Return an angle in degrees, minutes or seconds, whichever suits."""
    for unit, scale in (("°", 1.0), ("′", 60.0)):
        if degrees * scale >= 0.999:
            return f"{degrees * scale:.3g}{unit}"
    return f"{degrees * 3600:.3g}″"


def _ra_text(ra: float) -> str:
    tenths = round(ra / 15 * 36_000) % 864_000
    return f"{tenths // 36_000:02d}h {tenths // 600 % 60:02d}m {tenths % 600 / 10:04.1f}s"


def _dec_text(dec: float) -> str:
    total = round(abs(dec) * 3600)
    sign = "−" if dec < 0 else "+"
    return f"{sign}{total // 3600:02d}° {total // 60 % 60:02d}′ {total % 60:02d}″"
