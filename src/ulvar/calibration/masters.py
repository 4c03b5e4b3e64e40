"""Master bias, dark, dark flat and flat frames."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from ulvar.calibration.comparing import compare_frames, make_thumb
from ulvar.calibration.prepare import Preparation
from ulvar.combine import Rejection, RowsOf, RowSource, ScaledRows, combine_sources
from ulvar.engine import F32Array, Failed, Progress, StopToken, silent
from ulvar.frames import (
    ExposureFacts,
    FrameError,
    Role,
    carried_cards,
    header_of,
    is_fits_path,
    median,
    open_rows,
    read_plane,
    scan_file,
    write_fits,
)


@dataclass(frozen=True)
class Master:
    """A combined calibration frame.

    Attributes
    ----------
    data : float32 array, shape (height, width)
        [ADU]; a flat is relative with median 1 over the illuminated area.
    kind : Role
    facts : ExposureFacts
        Of the inputs, with the temperature averaged.
    count : int
        Frames combined.
    noise_adu : float
        Standard error per pixel, from the spread of the frames kept [ADU, or relative for a flat].
    rejected_fraction : float
        Pixels rejected over pixels given.
    inputs : tuple of str
    left_out : tuple of Failed
        Inputs that could not be used, with why.
    level_adu : float
        Median level of the inputs after subtraction [ADU].
    drift_adu : float
        Steady change of the level through the set [ADU], 0 when there is none.
    rejected : uint16 array or None
        How many frames were rejected at each pixel; None when none was.
    rejected_fractions : tuple of float
        Of each input.
    levels_adu : tuple of float
        Level of every frame that could be read, left-out ones included, in order [ADU].
    """

    data: F32Array
    kind: Role
    facts: ExposureFacts
    count: int
    noise_adu: float
    rejected_fraction: float
    inputs: tuple[str, ...]
    left_out: tuple[Failed, ...] = ()
    level_adu: float = math.nan
    drift_adu: float = 0.0
    rejected: np.ndarray | None = None
    rejected_fractions: tuple[float, ...] = ()
    levels_adu: tuple[float, ...] = ()

    @property
    def caution(self) -> str:
        """A word on a small set, empty when there were frames enough."""
        if self.count == 1:
            return "one frame is its own master: nothing can be rejected, and its noise goes into every light"
        if self.count <= 3:
            return (
                f"of {self.count} frames only what stands far off the noise of the pixels around was rejected; "
                "take ten or more"
            )
        return ""


def build_master(
    kind: Role,
    exposures: Sequence[ExposureFacts],
    *,
    rejection: Rejection | None = None,
    subtract: F32Array | None = None,
    preparation: Preparation | None = None,
    compare: bool = True,
    budget_bytes: int = 512 * 1024**2,
    threads: int = 1,
    progress: Progress = silent,
    stop: StopToken | None = None,
) -> Master | Failed:
    """Combine calibration frames of one group into a master.

    Parameters
    ----------
    kind : Role
        BIAS, DARK, DARK_FLAT or FLAT.
    exposures : sequence of ExposureFacts
        Of one group, in the order of time. Files that cannot be read, and with `compare` frames that do not
        look like their fellows (see `compare_frames`), are left out with the reason.
    rejection : Rejection, optional
        Default: mean with 4-sigma clipping, which also judges sets of two and three frames.
    subtract : float32 array, optional
        For flats: the master dark flat, bias or scaled dark [ADU].
    preparation : Preparation, optional
        Overscan, trimming and linearity, done to each frame first.
    compare : bool
        Whether frames are compared before they are combined.
    budget_bytes, threads, progress, stop
        As `ulvar.combine.combine_sources`.

    Returns
    -------
    Master, or Failed when no input could be used.

    Raises
    ------
    ValueError
        If `kind` is not a calibration role, or a plane to subtract is given for another kind than a flat.
    StopRequested
        If stop was asked.

    Notes
    -----
    Flats are each scaled to their own level after subtraction, then rejected and averaged, then divided by
    the median over the illuminated area, so a changing sky brightness does not widen the spread. On a mosaic
    sensor levels and medians are those of each colour, so that dividing by the flat leaves the colours alone.
    """
    if kind not in (Role.BIAS, Role.DARK, Role.DARK_FLAT, Role.FLAT):
        raise ValueError(f"a master cannot be made of {kind.value} frames")
    if subtract is not None and kind is not Role.FLAT:
        raise ValueError("only flats are subtracted before they are combined")
    sources, used, left_out = _opened(exposures, subtract, preparation or Preparation())
    thumbs = [make_thumb(source, subtract) for source in sources]
    comparison = compare_frames(kind, thumbs)
    out_of_it = {odd.index: (odd.reason, odd.code) for odd in comparison.odd if compare or odd.code == "no_pixels"}
    if kind is Role.FLAT:
        for i, level in enumerate(comparison.levels_adu):
            if level <= 0:
                out_of_it[i] = ("it has no light: its level is not above the dark flat or bias", "no_light")
    left_out += [Failed(reason, used[i].path, code) for i, (reason, code) in sorted(out_of_it.items())]
    chosen = [i for i in range(len(used)) if i not in out_of_it]
    if not chosen:
        reason = left_out[0].reason if left_out else "there are no frames"
        return Failed(f"no {kind.word} frame could be used: {reason}")
    members = [used[i] for i in chosen]
    rows = [sources[i] for i in chosen]
    mosaic = kind is Role.FLAT and bool(members[0].cfa)
    if kind is Role.FLAT:
        rows = [_levelled(source, subtract, float(comparison.levels_adu[i]), mosaic) for source, i in zip(rows, chosen)]
    combined = combine_sources(
        rows, rejection=rejection or Rejection(few=True), budget_bytes=budget_bytes, threads=threads, progress=progress,
        stop=stop,
    )  # fmt: skip
    data = combined.data
    sample = (slice(None, None, 3), slice(None, None, 3))
    kept = np.maximum(combined.kept[sample], 1)
    noise = float(np.nanmedian(combined.spread[sample] / np.sqrt(kept))) if len(members) > 1 else math.nan
    if kind is Role.FLAT:
        norm = _normalise(data, mosaic)
        noise /= norm
    temperatures = [f.sensor_temperature_c for f in members if f.sensor_temperature_c is not None]
    facts = replace(
        members[0],
        role=kind,
        is_master=True,
        count=len(members),
        width=data.shape[1],
        height=data.shape[0],
        temperature_c=float(np.mean(temperatures)) if temperatures else None,
    )
    rejected = (len(members) - combined.kept).astype(np.uint16) if combined.rejected_fraction > 0 else None
    return Master(
        data=data, kind=kind, facts=facts, count=len(members), noise_adu=noise,
        rejected_fraction=combined.rejected_fraction, inputs=tuple(f.path for f in members),
        left_out=tuple(left_out), level_adu=float(np.median(comparison.levels_adu[chosen])),
        drift_adu=comparison.drift_adu, rejected=rejected,
        rejected_fractions=tuple(float(f) for f in combined.rejected_fractions),
        levels_adu=tuple(float(v) for v in comparison.levels_adu),
    )  # fmt: skip


def _opened(
    exposures: Sequence[ExposureFacts], subtract: F32Array | None, preparation: Preparation
) -> tuple[list[RowSource], list[ExposureFacts], list[Failed]]:
    sources: list[RowSource] = []
    used: list[ExposureFacts] = []
    left_out: list[Failed] = []
    # The size that most frames have is the size of the set; a first odd one out must not turn it round.
    sizes = [(f.width, f.height) for f in exposures if f.width]
    wanted = max(set(sizes), key=sizes.count) if sizes else None
    for facts in exposures:
        try:
            source: RowSource = open_rows(facts.path)
        except FrameError as error:
            left_out.append(Failed(error.reason, facts.path))
            continue
        size = (source.width, source.height)
        if wanted is not None and size != wanted:
            left_out.append(Failed(f"its size {size[0]} x {size[1]} px differs from the set", facts.path))
            continue
        regions = [r for r in (preparation.overscan, preparation.trim) if r is not None]
        outside = [r for r in regions if not r.inside(source.width, source.height)]
        if outside:
            left_out.append(
                Failed(f"the region {outside[0].text} lies outside its {size[0]} x {size[1]} px", facts.path)
            )
            continue
        source = preparation.rows(source)
        if subtract is not None and subtract.shape != (source.height, source.width):
            left_out.append(Failed("its size is not that of the frame to subtract", facts.path))
            continue
        sources.append(source)
        used.append(facts)
    return sources, used, left_out


def _levelled(source: RowSource, subtract: F32Array | None, level: float, mosaic: bool) -> RowSource:
    if not mosaic:
        return ScaledRows(source, subtract, 1.0 / level)
    levels = np.ones((2, 2), dtype=np.float32)
    y0, y1 = source.height // 4 // 2 * 2, max(2, 3 * source.height // 4)
    band = ScaledRows(source, subtract).rows(y0, y1)
    for dy in (0, 1):
        for dx in (0, 1):
            cell = float(np.nanmedian(band[dy::2, dx::2]))
            levels[dy, dx] = cell if cell > 0 else level
    return ColorScaledRows(source, subtract, levels)


@dataclass
class ColorScaledRows(RowsOf):
    """A source with a plane subtracted and each colour of the 2 x 2 cell divided by its own level."""

    subtract: F32Array | None
    levels: F32Array

    def rows(self, y0: int, y1: int) -> F32Array:
        """Return rows ``y0 <= y < y1``."""
        band = ScaledRows(self.source, self.subtract).rows(y0, y1)
        for dy in (0, 1):
            for dx in (0, 1):
                band[dy::2, dx::2] /= self.levels[(y0 + dy) % 2, dx]
        return band


def _normalise(data: F32Array, mosaic: bool) -> float:
    """Divide a flat (in place) by its median over the illuminated area, colour by colour on a mosaic."""
    if not mosaic:
        norm = _illuminated_median(data)
        data /= np.float32(norm)
        return norm
    norms = []
    for dy in (0, 1):
        for dx in (0, 1):
            part = data[dy::2, dx::2]
            norms.append(_illuminated_median(part))
            part /= np.float32(norms[-1])
    return float(np.mean(norms))


def _illuminated_median(data: F32Array) -> float:
    """Median over pixels that saw light: above a fifth of the bright end (a stopped-down field has dark corners)."""
    sample = data.ravel()[:: max(1, data.size // 2_000_000)]
    finite = sample[np.isfinite(sample)]
    if finite.size == 0:
        return 1.0
    bright = float(np.percentile(finite, 98))
    lit = finite[finite > 0.2 * bright]
    return median(lit) if lit.size else 1.0


def write_master(path: Path, master: Master, *, fingerprint: str = "", replace_existing: bool = False) -> None:
    """Write a master as float32 FITS with its provenance, atomically.

    Raises
    ------
    OutputExists
        If `path` exists and may not be replaced.
    """
    facts = master.facts
    cards: list[tuple[str, Any, str]] = [
        ("IMAGETYP", f"Master {master.kind.word}", "combined frame"),
        ("NCOMBINE", master.count, "frames combined"),
        (
            "MNOISE",
            None if math.isnan(master.noise_adu) else round(master.noise_adu, 6),
            "standard error per pixel",
        ),
        ("MREJECT", round(master.rejected_fraction, 8), "fraction of pixels rejected"),
        (
            "MLEVEL",
            None if math.isnan(master.level_adu) else round(master.level_adu, 3),
            "[adu] level of the inputs",
        ),
        (
            "CCD-TEMP",
            None if facts.temperature_c is None else round(facts.temperature_c, 3),
            "[C] mean of the inputs",
        ),
        ("MDRIFT", round(master.drift_adu, 4) if master.drift_adu else None, "[adu] drift of the level"),
        ("EXPTIME", facts.exposure_s, "[s]"),
        ("FILTER", facts.filter or None, ""),
        ("GAIN", facts.gain, "camera setting"),
        ("OFFSET", facts.offset, "camera setting"),
        ("EGAIN", facts.gain_e_per_adu, "[e-/adu]"),
        ("RDNOISE", facts.read_noise_e, "[e-]"),
        ("BUNIT", "adu" if master.kind is not Role.FLAT else "relative", ""),
        ("RECIPEID", fingerprint or None, "fingerprint of inputs and settings"),
    ]
    history = [f"input {Path(name).name}" for name in master.inputs]
    like, carried = carried_cards(replace(facts, path=master.inputs[0]), (name for name, _, _ in cards))
    # A frame's own exposure keyword may be spelled otherwise; one spelling is kept.
    write_fits(
        path, master.data, like=like, cards=[*carried, *cards], history=history, replace=replace_existing,
        drop=("EXPOSURE", "FRAME", "OBSTYPE", "SATURATE"), maps={} if master.rejected is None else {"REJECTED": master.rejected},
    )  # fmt: skip


def read_master(path: str) -> Master:
    """Read a master back, also one that another program made.

    A flat that is not relative is divided by its median over the illuminated area.

    Raises
    ------
    FrameError
        If the file cannot be read or does not say which kind it is.
    """
    facts = scan_file(path)
    if facts.role in (Role.LIGHT, Role.UNKNOWN):
        raise FrameError(path, "it does not say which kind of master it is")
    numbers = master_numbers(path)
    data = read_plane(path)
    if not np.isfinite(data).any():
        raise FrameError(path, "none of its pixels has a value")
    if facts.role is Role.FLAT:
        norm = _illuminated_median(data)
        # Made here it is 1 to rounding, on a mosaic to the difference between its colours' samples.
        if norm > 0 and abs(norm - 1) > 0.02:
            data /= np.float32(norm)
    return Master(
        data=data, kind=facts.role, facts=facts, count=facts.count, noise_adu=numbers.get("MNOISE", math.nan),
        rejected_fraction=numbers.get("MREJECT", math.nan), inputs=(path,), level_adu=numbers.get("MLEVEL", math.nan),
        drift_adu=numbers.get("MDRIFT", 0.0),
    )  # fmt: skip


def master_numbers(path: str) -> dict[str, float]:
    """Return the numbers that `write_master` put into a master's header, those that are there."""
    if not is_fits_path(path):
        return {}
    header = header_of(path)
    found = {}
    for name in ("MNOISE", "MREJECT", "MLEVEL", "MDRIFT"):
        try:
            found[name] = float(header[name])
        except (KeyError, TypeError, ValueError):
            continue
    return found
