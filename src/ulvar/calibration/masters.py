"""Master bias, dark, dark flat and flat frames."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from ulvar.combine import Rejection, RowSource, ScaledRows, combine_sources
from ulvar.engine import F32Array, Failed
from ulvar.frames import ExposureFacts, FileRows, FrameError, Role, read_plane, scan_file, write_fits


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


def _central_level(source: RowSource, subtract: F32Array | None) -> float:
    y0, y1 = source.height // 4, max(source.height // 4 + 1, 3 * source.height // 4)
    x0, x1 = source.width // 4, max(source.width // 4 + 1, 3 * source.width // 4)
    band = source.rows(y0, y1)[:, x0:x1]
    if subtract is not None:
        band = band - subtract[y0:y1, x0:x1]
    return float(np.nanmedian(band))


def build_master(
    kind: Role,
    exposures: Sequence[ExposureFacts],
    *,
    rejection: Rejection | None = None,
    subtract: F32Array | None = None,
    budget_bytes: int = 512 * 1024**2,
    threads: int = 1,
) -> Master | Failed:
    """Combine calibration frames of one group into a master.

    Parameters
    ----------
    kind : Role
        BIAS, DARK, DARK_FLAT or FLAT.
    exposures : sequence of ExposureFacts
        Of one group. Files that cannot be read are left out, with the reason.
    rejection : Rejection, optional
        Default: mean with 4-sigma clipping.
    subtract : float32 array, optional
        For flats: the master dark flat or bias [ADU].
    budget_bytes, threads
        As `ulvar.combine.combine_sources`.

    Returns
    -------
    Master, or Failed when no input could be used.

    Raises
    ------
    ValueError
        If `kind` is not a calibration role, or a plane to subtract is given for another kind than a flat.

    Notes
    -----
    Flats are each scaled to their own level after subtraction, then rejected and averaged, then divided by
    the median over the illuminated area, so a changing sky brightness does not widen the spread.
    """
    if kind not in (Role.BIAS, Role.DARK, Role.DARK_FLAT, Role.FLAT):
        raise ValueError(f"a master cannot be made of {kind.value} frames")
    if subtract is not None and kind is not Role.FLAT:
        raise ValueError("only flats are subtracted before they are combined")
    sources: list[RowSource] = []
    used: list[ExposureFacts] = []
    levels: list[float] = []
    left_out: list[Failed] = []
    for facts in exposures:
        try:
            source: RowSource = FileRows(facts.path)
        except FrameError as error:
            left_out.append(Failed(error.reason, facts.path))
            continue
        if used and (source.width, source.height) != (sources[0].width, sources[0].height):
            left_out.append(Failed(f"its size {source.width} x {source.height} px differs from the set", facts.path))
            continue
        level = _central_level(source, subtract)
        if not math.isfinite(level):
            left_out.append(Failed("it has no pixels with a value", facts.path))
            continue
        if kind is Role.FLAT:
            if level <= 0:
                left_out.append(Failed("it has no light: its level is not above the dark flat or bias", facts.path))
                continue
            source = ScaledRows(source, subtract, 1.0 / level)
        sources.append(source)
        used.append(facts)
        levels.append(level)
    if not used:
        reason = left_out[0].reason if left_out else "there are no frames"
        return Failed(f"no {kind.value.replace('_', ' ')} frame could be used: {reason}")
    combined = combine_sources(sources, rejection=rejection or Rejection(), budget_bytes=budget_bytes, threads=threads)
    data = combined.data
    kept = np.maximum(combined.kept, 1)
    noise = float(np.nanmedian(combined.spread / np.sqrt(kept))) if len(used) > 1 else math.nan
    if kind is Role.FLAT:
        norm = _illuminated_median(data)
        data = data / np.float32(norm)
        noise /= norm
    temperatures = [f.sensor_temperature_c for f in used if f.sensor_temperature_c is not None]
    facts = replace(
        used[0],
        role=kind,
        is_master=True,
        count=len(used),
        temperature_c=float(np.mean(temperatures)) if temperatures else None,
    )
    return Master(
        data=data, kind=kind, facts=facts, count=len(used), noise_adu=noise,
        rejected_fraction=combined.rejected_fraction, inputs=tuple(f.path for f in used),
        left_out=tuple(left_out), level_adu=float(np.median(levels)),
    )  # fmt: skip


def _illuminated_median(data: F32Array) -> float:
    """Median over pixels that saw light: above a fifth of the bright end (a stopped-down field has dark corners)."""
    finite = data[np.isfinite(data)]
    bright = float(np.percentile(finite, 98))
    lit = finite[finite > 0.2 * bright]
    return float(np.median(lit)) if lit.size else 1.0


def write_master(path: Path, master: Master, *, fingerprint: str = "", replace_existing: bool = False) -> None:
    """Write a master as float32 FITS with its provenance, atomically.

    Raises
    ------
    OutputExists
        If `path` exists and may not be replaced.
    """
    facts = master.facts
    cards: list[tuple[str, Any, str]] = [
        ("IMAGETYP", f"Master {master.kind.value.replace('_', ' ')}", "combined frame"),
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
        ("EXPTIME", facts.exposure_s, "[s]"),
        ("GAIN", facts.gain, "camera setting"),
        ("OFFSET", facts.offset, "camera setting"),
        ("EGAIN", facts.gain_e_per_adu, "[e-/adu]"),
        ("RDNOISE", facts.read_noise_e, "[e-]"),
        ("BUNIT", "adu" if master.kind is not Role.FLAT else "relative", ""),
        ("RECIPEID", fingerprint or None, "fingerprint of inputs and settings"),
    ]
    history = [f"input {Path(name).name}" for name in master.inputs]
    # A frame's own exposure keyword may be spelled otherwise; one spelling is kept.
    write_fits(
        path, master.data, like=master.inputs[0], cards=cards, history=history, replace=replace_existing,
        drop=("EXPOSURE", "FRAME", "OBSTYPE", "SATURATE"),
    )  # fmt: skip


def read_master(path: str) -> Master:
    """Read a master back.

    Raises
    ------
    FrameError
        If the file cannot be read or does not say which kind it is.
    """
    facts = scan_file(path)
    if facts.role in (Role.LIGHT, Role.UNKNOWN):
        raise FrameError(path, "it does not say which kind of master it is")
    return Master(
        data=read_plane(path), kind=facts.role, facts=facts, count=facts.count, noise_adu=math.nan,
        rejected_fraction=math.nan, inputs=(path,),
    )  # fmt: skip
