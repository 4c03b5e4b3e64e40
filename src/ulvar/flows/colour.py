"""A colour picture from the stacks of several filters."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np

from ulvar.astrometry import StarCatalogue
from ulvar.engine import F32Array, F64Array, Failed, JobContext
from ulvar.flows.align import Aligned, align_item
from ulvar.flows.common import KEPT
from ulvar.flows.magnitudes import colour_index, light_of, stars_alone, white_by_colours
from ulvar.flows.starfind import Scored, find_all
from ulvar.flows.warping import laid_open
from ulvar.flows.wcsfile import wcs_of
from ulvar.frames import ExposureFacts, FrameError, read_frame, write_fits, write_picture, write_png
from ulvar.photometry import measure_apertures
from ulvar.registration import PixelMap, Transform, resample
from ulvar.stacking import CHANNELS, ColourOptions, smooth_surface, star_balance, stretched, with_luminance
from ulvar.stars import estimate_background

# A picture that lies on the others to within this is not resampled [px].
_HERE_PX = 0.02
# Between places at which a gradient is fitted [px].
_BOX_PX = 32
# Stars that tell the balance: of this SNR at least, so many at most.
_BALANCE_SNR, _BALANCE_STARS = 30.0, 400


@dataclass(frozen=True)
class Channel:
    """What became of one channel.

    Attributes
    ----------
    name : str
        ``red``, ``green``, ``blue`` or ``luminance``.
    file : str
    reason : str
        Why it could not be used; empty when it was.
    factor : float
        What its light was multiplied with.
    residual_px : float
        Of its alignment on the first; NaN for the first itself.
    resampled : bool
    """

    name: str
    file: str
    reason: str = ""
    factor: float = 1.0
    residual_px: float = math.nan
    resampled: bool = False


@dataclass(frozen=True)
class ColourResult:
    """The outcome: a picture, or why there is none.

    Attributes
    ----------
    output : str
    channels : tuple of Channel
    reason, code : str
        Why there is no picture.
    width, height : int
    balance_stars : int
        Stars that told the white balance.
    white_in : str
        The colour index that white was told in; empty where it was the average star, or none.
    """

    output: str
    channels: tuple[Channel, ...] = ()
    reason: str = ""
    code: str = ""
    width: int = 0
    height: int = 0
    balance_stars: int = 0
    white_in: str = ""

    @property
    def ok(self) -> bool:
        """Whether there is a picture."""
        return not self.reason


@dataclass
class _Plane:
    data: F32Array
    scored: Scored
    way: PixelMap = field(default_factory=Transform.identity)
    residual_px: float = math.nan
    resampled: bool = False


def make_colour(
    stacks: Mapping[str, ExposureFacts],
    output: Path,
    context: JobContext,
    *,
    options: ColourOptions | None = None,
    depth: int = 16,
    also: Sequence[Path] = (),
    replace_existing: bool = False,
    catalogue: StarCatalogue | None = None,
) -> ColourResult:
    """Align stacks of red, green and blue, and perhaps luminance, and write a colour picture.

    Parameters
    ----------
    stacks : mapping of str to ExposureFacts
        ``red``, ``green``, ``blue``, and perhaps ``luminance``.
    output : Path
        ``.fits``: three planes, linear, over a background of 0; ``.tif``: 16 bits as the eye sees it, or 32 bits, linear;
        ``.png``: 8 bits as the eye sees it.
    context : JobContext
    options : ColourOptions, optional
    depth : int
        Bits of a TIFF.
    also : sequence of Path
        Further files of the same picture.
    replace_existing : bool
        Whether an existing file may be replaced.
    catalogue : StarCatalogue, optional
        With two bands, for a balance by it; the plate of green must be solved.

    Raises
    ------
    ValueError
        If a channel is missing.
    """
    missing = [name for name in CHANNELS if name not in stacks]
    if missing:
        raise ValueError(f"a colour picture needs {', '.join(missing)}, too")
    settings = options or ColourOptions()
    if output.exists() and not replace_existing:
        return ColourResult(str(output), reason=f"{output.name} exists; it is kept", code=KEPT)
    planes, failed = _aligned(stacks, context)
    channels = tuple(
        Channel(name, facts.path, failed.get(name, ""), residual_px=planes[name].residual_px, resampled=planes[name].resampled)
        if name in planes
        else Channel(name, facts.path, failed.get(name, "it could not be used"))
        for name, facts in stacks.items()
    )  # fmt: skip
    if failed:
        name, reason = next(iter(failed.items()))
        return ColourResult(str(output), channels, f"{name} ({Path(stacks[name].path).name}): {reason}")
    context.stop.check()
    levelled = {name: _levelled(plane.data, settings.gradient) for name, plane in planes.items()}
    factors, count, white_in = np.ones(3), 0, ""
    if settings.balance == "stars":
        factors, count = star_balance(_fluxes(levelled, planes["green"].scored))
    elif settings.balance == "catalogue":
        found = _by_catalogue(levelled, planes["green"].scored, catalogue, settings.white)
        if isinstance(found, Failed):
            return ColourResult(str(output), channels, found.reason)
        factors, count, white_in = found
    factors = factors * np.array(settings.ratios)
    picture = np.stack([levelled[name] * np.float32(f) for name, f in zip(CHANNELS, factors)])
    scale = 1.0
    if "luminance" in levelled:
        scale = _as_bright(levelled["luminance"], picture.mean(axis=0), planes["green"].scored)
        picture = with_luminance(picture, levelled["luminance"] * np.float32(scale))
    # What one channel lacks has no colour: the borders of the stacks.
    picture[:, ~np.isfinite(picture).all(axis=0)] = np.nan
    context.stop.check()
    for path in (output, *also):
        _write(path, picture, settings, depth, planes["green"].scored.facts, channels, factors)
    known = dict(zip((*CHANNELS, "luminance"), (*factors, scale)))
    return ColourResult(
        str(output), tuple(replace(c, factor=float(known[c.name])) for c in channels), width=picture.shape[2],
        height=picture.shape[1], balance_stars=count, white_in=white_in,
    )  # fmt: skip


def _aligned(stacks: Mapping[str, ExposureFacts], context: JobContext) -> tuple[dict[str, _Plane], dict[str, str]]:
    """Return the channels on green's grid, or why one is not."""
    scored, unread = find_all(list(stacks.values()), context)
    by_path = {one.facts.path: one for one in scored}
    why = {f.file: f.reason for f in unread}
    planes: dict[str, _Plane] = {}
    failed = {name: why[facts.path] for name, facts in stacks.items() if facts.path in why}
    if failed:
        return planes, failed
    base = by_path[stacks["green"].path]
    shape = base.facts.height, base.facts.width
    for name, facts in stacks.items():
        one = by_path[facts.path]
        try:
            data = laid_open(read_frame(facts), mix=False).data
        except FrameError as error:
            failed[name] = error.reason
            continue
        planes[name] = _Plane(data, one)
        if facts.path == base.facts.path:
            continue
        found = align_item((one, base.stars))
        if isinstance(found, Failed):
            failed[name] = found.reason
            continue
        planes[name] = _on_grid(data, found, shape)
    return planes, failed


def _on_grid(data: F32Array, found: Aligned, shape: tuple[int, int]) -> _Plane:
    x, y = np.meshgrid([0.0, data.shape[1] - 1.0], [0.0, data.shape[0] - 1.0])
    u, v = found.transform(x, y)
    here = data.shape == shape and float(np.hypot(u - x, v - y).max()) <= _HERE_PX
    moved = data if here else resample(data, found.transform, shape)
    return _Plane(moved, found.scored, found.transform, found.transform.rms_px, not here)


def _levelled(data: F32Array, order: int) -> F32Array:
    """Return a channel over a background of 0: its level taken off, or a smooth surface."""
    if order == 0:
        return np.asarray(data - np.float32(estimate_background(data).sky_adu))
    # Small boxes keep an object to itself, so that it can be told from the sky around it.
    level = estimate_background(data, box_px=_BOX_PX).level
    return np.asarray(data - smooth_surface(level, order, box_px=_BOX_PX))


def _fluxes(levelled: Mapping[str, F32Array], base: Scored) -> F64Array:
    """Return what bright, clean stars of green give in each channel, shape (stars, 3)."""
    stars = base.stars
    clean = np.flatnonzero((stars.snr > _BALANCE_SNR) & (stars.flags == 0))[:_BALANCE_STARS]
    radius = 1.5 * base.quality.fwhm_px if math.isfinite(base.quality.fwhm_px) else 5.0
    columns = [
        measure_apertures(
            levelled[name], stars.x[clean], stars.y[clean], radius_px=radius, inner_px=3 * radius, outer_px=5 * radius
        ).flux
        for name in CHANNELS
    ]
    return np.column_stack(columns)


def _by_catalogue(
    levelled: Mapping[str, F32Array], base: Scored, catalogue: StarCatalogue | None, white: float | None
) -> tuple[F64Array, int, str] | Failed:
    """Return what the channels are multiplied with by the colours of catalogue stars, of how many, and in which index."""
    name = Path(base.facts.path).name
    wcs = wcs_of(base.facts.path)
    if wcs is None:
        return Failed(f"where its stars are in the catalogue is not known: solve the plate of {name} first")
    told = None if catalogue is None else colour_index(catalogue)
    if catalogue is None or told is None:
        return Failed("the catalogue tells no colours: it needs two bands, such as B and V")
    fwhm = base.quality.fwhm_px if math.isfinite(base.quality.fwhm_px) else 3.0
    stars = stars_alone(base.facts, wcs, catalogue, fwhm)
    _, sun, index = told
    known = colour_index(stars.catalogue)
    light = {channel: light_of(levelled[channel], stars, fwhm) for channel in CHANNELS}
    factors, count = (
        (np.ones(3), 0) if known is None else white_by_colours(light, known[0], sun if white is None else white)
    )
    if not count:
        return Failed(f"too few stars of the catalogue stand alone in {name} and have a colour")
    return factors, count, index


def _as_bright(luminance: F32Array, mean: F32Array, base: Scored) -> float:
    """Return what the luminance is multiplied with for stars to be as bright in it as in the mean of the colours."""
    both = _fluxes({"red": luminance, "green": mean, "blue": mean}, base)
    good = (both > 0).all(axis=1)
    return float(np.median(both[good, 1] / both[good, 0])) if good.any() else 1.0


def _write(
    output: Path, picture: F32Array, options: ColourOptions, depth: int, like: ExposureFacts, channels: tuple[Channel, ...],
    factors: F64Array,
) -> None:  # fmt: skip
    output.parent.mkdir(parents=True, exist_ok=True)
    if output.suffix.lower() not in (".tif", ".tiff", ".png"):
        cards: list[tuple[str, Any, str]] = [
            ("OBJECT", like.object or None, ""), ("BUNIT", "adu", "over a background of 0"), ("CTYPE3", "COLOUR", "red, green, blue"),
        ]  # fmt: skip
        history = [f"{c.name}: {Path(c.file).name}" for c in channels]
        history.append(
            f"multiplied with {', '.join(f'{f:.4f}' for f in factors)}; gradient of order {options.gradient}"
        )
        write_fits(output, picture, cards=cards, history=history, replace=True)
        return
    if depth == 32 and output.suffix.lower() != ".png":
        shown: np.ndarray = np.nan_to_num(picture)
    else:
        noise = float(estimate_background(picture.mean(axis=0)).noise_adu)
        lifted = stretched(picture, noise, saturation=options.saturation)
        top, kind = (255, np.uint8) if output.suffix.lower() == ".png" else (65535, np.uint16)
        shown = np.rint(lifted * top).astype(kind)
    if output.suffix.lower() != ".png":
        write_picture(output, shown, {"header": {"OBJECT": like.object}}, replace=True)
        return
    write_png(output, shown)
