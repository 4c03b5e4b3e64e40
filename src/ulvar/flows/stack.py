"""Aligning and combining exposures."""

from __future__ import annotations

import math
import shutil
from collections.abc import Sequence
from dataclasses import dataclass
from dataclasses import replace as changed
from datetime import timedelta
from pathlib import Path
from typing import Any

import numpy as np
import tifffile

from ulvar.astrometry import Wcs
from ulvar.combine import Method, Rejection
from ulvar.engine import F32Array, Failed, JobContext, atomic_path, check_disk, temporary_name
from ulvar.flows.agreement import Agreement, align_agreeing
from ulvar.flows.align import Aligned, align_all, align_by_sky, pick_reference
from ulvar.flows.common import KEPT, Outcome, failed_task, may_write
from ulvar.flows.plate import WCS_KEYS, wcs_of
from ulvar.flows.starfind import Scored, find_all
from ulvar.flows.warping import ScratchRows, WarpTask, warp_item
from ulvar.frames import (
    ExposureFacts,
    carried_cards,
    fingerprint,
    header_of,
    identity,
    is_fits_path,
    is_mosaic,
    write_fits,
)
from ulvar.frames.times import later
from ulvar.registration import Transform
from ulvar.stacking import (
    STACK_REJECTION,
    Frame2D,
    Framing,
    Normalise,
    Stacked,
    StackInput,
    Weighting,
    frame_exposures,
    stack_warped,
)
from ulvar.stars import estimate_background

# What tells a mosaic from a grey picture.
_COLOUR_CARDS = ("BAYERPAT", "CFAPAT", "COLORTYP", "XBAYROFF", "YBAYROFF")
_TIMES = (
    "MJD-OBS", "JD", "JD-OBS", "JD_UTC", "JD-UTC", "MJD", "DATE-AVG", "DATE-END", "DATE-BEG", "MJD-AVG", "MJD-BEG", "MJD-END",
    "TIME-OBS", "TIME-END", "UT", "UTC", "UTSTART", "UTEND", "LST", "ST", "HJD", "BJD", "AIRMASS", "HA", "OBJCTHA", "OBJCTALT",
    "OBJCTAZ", "CENTALT", "CENTAZ", "ALTITUDE", "AZIMUTH", "SEQNUM", "FRAMENUM",
)  # fmt: skip


@dataclass(frozen=True)
class StackOptions:
    """How exposures are combined; names as on the command line."""

    align: str = "stars"
    framing: Framing = Framing.REFERENCE
    rejection: Rejection = STACK_REJECTION
    normalise: Normalise = Normalise.BOTH
    weighting: Weighting = Weighting.SNR
    depth: int = 16
    reference: str | None = None


@dataclass(frozen=True)
class StackResult:
    """The outcome of a stack."""

    output: str
    frames: tuple[Outcome, ...]
    width: int = 0
    height: int = 0
    skipped: bool = False
    reason: str = ""
    code: str = ""
    stacked: Stacked | None = None
    reference: str = ""
    aligned: tuple[Aligned, ...] = ()
    agreement: Agreement | None = None

    @property
    def ok(self) -> bool:
        """Whether there is a stack."""
        return not self.reason


def stack_exposures(
    exposures: Sequence[ExposureFacts],
    output: Path,
    context: JobContext,
    *,
    options: StackOptions | None = None,
    replace: bool = False,
    scored: Sequence[Scored] | None = None,
    aligned: Sequence[Aligned] | None = None,
    solution: Wcs | None = None,
    name: str = "",
) -> StackResult:
    """Align exposures on the best of them and combine them into one file.

    Parameters
    ----------
    exposures : sequence of ExposureFacts
    output : Path
        ``.fits``, or ``.tif`` for a 16-bit (or 32-bit float) TIFF.
    context : JobContext
        Its memory budget bounds the combination.
    options : StackOptions, optional
    replace : bool
    scored, aligned : optional
        Results of earlier steps, so that a night does not find its stars twice.
    solution : Wcs, optional
        The reference's plate solution; by default that of its header, or of the ``.wcs`` file beside it.
    name : str
        Of the series, which the stack's history tells.

    Raises
    ------
    DiskFull
        If scratch and output would not fit.
    ValueError
        For options that do not go together.
    """
    settings = options or StackOptions()
    if settings.rejection.method is Method.MEDIAN and settings.weighting is not Weighting.EQUAL:
        raise ValueError("the median takes no weights: they must be equal")
    is_tiff = output.suffix.lower() in (".tif", ".tiff")
    stamp = fingerprint(
        "stack", [identity(f) for f in exposures], vars(settings) | {"rejection": vars(settings.rejection)}
    )
    if not is_tiff:
        there = may_write(output, stamp, replace)
        if there is not None:
            header = header_of(str(output)) if there.ok else {}
            return StackResult(
                str(output), tuple(Outcome(f.path, there.ok, there.reason, code=there.code) for f in exposures),
                int(header.get("NAXIS1", 0)), int(header.get("NAXIS2", 0)), there.skipped,
                "" if there.ok else there.reason, code=there.code,
            )  # fmt: skip
    elif output.exists() and not replace:
        return StackResult(str(output), (), reason=f"{output.name} exists; it is kept", code=KEPT)
    failed: list[Failed] = []
    if scored is None:
        scored, failed = find_all(exposures, context)
    if not scored:
        return StackResult(str(output), _frames(exposures, [], failed, None), reason="no exposure could be read")
    agreement = _aligned(scored, aligned, settings, context)
    aligned_list, reference = agreement.aligned, agreement.reference
    failed += agreement.failed
    if settings.align == "stars" and len(scored) > 1 and len(aligned_list) < 2 and aligned is None:
        reason = "no exposure shows the stars of another one"
        alone = Failed(reason, reference.facts.path)
        return StackResult(
            str(output), _frames(exposures, [], [*failed, alone], None), reason=reason, agreement=agreement
        )
    if not aligned_list:
        return StackResult(str(output), _frames(exposures, [], failed, None), reason="no exposure could be aligned")
    stacked, kept, grid, more = _combine(aligned_list, reference, output, settings, context)
    failed += more
    if stacked is None:
        return StackResult(str(output), _frames(exposures, [], failed, None), reason="no exposure could be resampled")
    moved = [Aligned(a.scored, grid.shifted(a.transform), a.flux_ratio) for a in kept]
    frames = _frames(exposures, moved, failed, stacked)
    if is_tiff:
        _write_tiff(output, stacked.data, settings.depth)
    else:
        placed = _sky_cards(reference, solution, grid)
        _write_stack(output, stacked, kept, reference, placed, stamp, settings, replace, name)
    return StackResult(
        str(output), frames, grid.width, grid.height, stacked=stacked, reference=reference.facts.path,
        aligned=tuple(kept), agreement=agreement,
    )  # fmt: skip


def _aligned(
    scored: Sequence[Scored], aligned: Sequence[Aligned] | None, settings: StackOptions, context: JobContext
) -> Agreement:
    wanted = [s for s in scored if settings.reference and s.facts.path == settings.reference]
    reference = wanted[0] if wanted else scored[pick_reference(scored)]
    if aligned is not None:
        return Agreement(reference, list(aligned), [])
    if settings.align == "none":
        return Agreement(reference, [Aligned(s, Transform.identity(), math.nan) for s in scored], [])
    if settings.align == "sky":
        return Agreement(reference, *align_by_sky(scored, reference))
    if wanted and len(scored) > 1:
        return Agreement(reference, *align_all(scored, reference.stars, context))
    return align_agreeing(scored, context)


def _combine(
    aligned: Sequence[Aligned], reference: Scored, output: Path, settings: StackOptions, context: JobContext
) -> tuple[Stacked | None, list[Aligned], Frame2D, list[Failed]]:
    shape = (reference.facts.height, reference.facts.width)
    grid = frame_exposures(
        [a.transform for a in aligned], [(a.scored.facts.height, a.scored.facts.width) for a in aligned], shape,
        settings.framing,
    )  # fmt: skip
    out_shape = (grid.height, grid.width)
    check_disk(output.parent, 4 * grid.width * grid.height * (len(aligned) + 2))
    output.parent.mkdir(parents=True, exist_ok=True)
    scratch = str(output.parent / temporary_name(output.name, mark="scratch"))
    Path(scratch).mkdir()
    failed: list[Failed] = []
    try:
        tasks = [
            WarpTask(
                a.scored.facts,
                grid.shifted(a.transform),
                out_shape,
                f"{scratch}/{i}.f32",
                settings.align == "none",
            )
            for i, a in enumerate(aligned)
        ]
        bad: set[str] = set()
        # A frame with its mask, its rows on the way, and what it becomes on the stack's grid.
        sizes = [18 * a.scored.facts.width * a.scored.facts.height + 4 * grid.width * grid.height for a in aligned]
        for task, problem in context.each(warp_item, tasks, "Resampling", item_bytes=max(sizes), lost=failed_task):
            if problem is not None:
                failed.append(problem)
                bad.add(task.facts.path)
        pairs = [(a, t) for a, t in zip(aligned, tasks) if a.scored.facts.path not in bad]
        if not pairs:
            return None, [], grid, failed
        inputs = [
            StackInput(
                ScratchRows(t.scratch, out_shape), a.scored.quality.sky_adu, a.scored.quality.noise_adu,
                a.scored.quality.fwhm_px, a.flux_ratio if math.isfinite(a.flux_ratio) else 1.0, a.scored.quality.score,
            )
            for a, t in pairs
        ]  # fmt: skip
        index = next((i for i, (a, _) in enumerate(pairs) if a.scored.facts.path == reference.facts.path), 0)
        stacked = stack_warped(
            inputs, reference=index, rejection=settings.rejection, normalise=settings.normalise,
            weighting=settings.weighting, budget_bytes=context.budget_bytes, threads=context.workers,
            progress=context.progress, stop=context.stop,
        )  # fmt: skip
        return stacked, [a for a, _ in pairs], grid, failed
    finally:
        shutil.rmtree(scratch, ignore_errors=True)


def _frames(
    exposures: Sequence[ExposureFacts],
    kept: Sequence[Aligned],
    failed: Sequence[Failed],
    stacked: Stacked | None,
) -> tuple[Outcome, ...]:
    used = {a.scored.facts.path: (i, a) for i, a in enumerate(kept)}
    why = {f.file: f.reason for f in failed}
    frames = []
    for facts in exposures:
        if facts.path in used and stacked is not None:
            i, a = used[facts.path]
            values = {
                "matrix": a.transform.matrix.tolist(), "residual_px": a.transform.rms_px,
                "weight": float(stacked.weights[i]), "rejected_fraction": float(stacked.rejected_fractions[i]),
            }  # fmt: skip
            frames.append(Outcome(facts.path, True, values=values))
        else:
            empty = {"matrix": None, "residual_px": None, "weight": 0.0, "rejected_fraction": None}
            frames.append(Outcome(facts.path, False, why.get(facts.path, "it was not used"), values=empty))
    return tuple(frames)


def _write_tiff(output: Path, data: F32Array, depth: int) -> None:
    filled = np.nan_to_num(data, nan=float(np.nanmin(data)) if np.isfinite(data).any() else 0.0)
    if depth == 16:
        low, high = float(filled.min()), float(filled.max())
        scaled = (filled - low) / max(high - low, 1e-9) * 65535
        picture = np.rint(scaled).astype(np.uint16)
    else:
        picture = filled
    with atomic_path(output) as temporary:
        # TIFF rows run downwards from the top; FITS rows upwards from the bottom.
        tifffile.imwrite(temporary, picture[::-1], metadata=None)


def _write_stack(
    output: Path, stacked: Stacked, kept: Sequence[Aligned], reference: Scored, placed: list[tuple[str, Any, str]], stamp: str,
    settings: StackOptions, replace: bool, name: str,
) -> None:  # fmt: skip
    weights = stacked.weights
    # The mean of exposures counts fewer electrons per ADU of noise: gain for the error model of the stack.
    effective = float(weights.sum() ** 2 / (weights**2).sum())
    mixed = is_mosaic(reference.facts.cfa) and settings.align != "none"
    gain = None if mixed else reference.facts.gain_e_per_adu
    cards = [
        ("NCOMBINE", len(kept), "exposures combined"),
        ("EXPTOTAL", float(sum(a.scored.facts.exposure_s or 0.0 for a in kept)), "[s] exposure in all"),
        ("EGAIN", None if gain is None else gain * effective, "[e-/adu] of the mean"),
        ("RDNOISE", None, ""),
        ("RECIPEID", stamp, "fingerprint of inputs and settings"),
        ("BUNIT", "adu", ""),
        ("SKYNOISE", _known(estimate_background(stacked.data).noise_adu), "[adu] noise of the sky, measured"),
        *_time_cards([a.scored.facts for a in kept], weights),
    ]
    cards += placed
    history = [
        f"stack of {len(kept)} exposures{f' of the series {name}' if name else ''} on {Path(reference.facts.path).name}",
        f"reject {stacked.rejection.method.value} {stacked.rejection.low:g} {stacked.rejection.high:g}, "
        f"normalise {settings.normalise.value}, weights {settings.weighting.value}",
    ]
    # What the reference alone says of its time is not true of the stack.
    dropped = {"SATURATE", *_TIMES, *(_COLOUR_CARDS if mixed else ()), *(WCS_KEYS if len(placed) > 2 else ())}
    like, carried = carried_cards(reference.facts, {name for name, _, _ in cards} | dropped)
    if mixed:
        history.append("colours of the Bayer (CFA) pattern brought to the scale of green and mixed")
    write_fits(
        output, stacked.data, like=like, cards=[*carried, *cards], history=history, drop=dropped, replace=replace,
    )  # fmt: skip


def _sky_cards(reference: Scored, solution: Wcs | None, grid: Frame2D) -> list[tuple[str, Any, str]]:
    """Return where the stack lies on the sky: the reference's solution, carried to the corner of the stack."""
    sky = solution or wcs_of(reference.facts.path)
    if sky is not None:
        return changed(sky, x0=sky.x0 - grid.x0, y0=sky.y0 - grid.y0).cards()
    header = header_of(reference.facts.path) if is_fits_path(reference.facts.path) else {}
    if "CRPIX1" in header and "CRPIX2" in header:
        # A projection of another kind is carried as it is.
        return [("CRPIX1", float(header["CRPIX1"]) - grid.x0, ""), ("CRPIX2", float(header["CRPIX2"]) - grid.y0, "")]
    return []


def _known(value: float) -> float | None:
    return float(value) if math.isfinite(value) else None


def _time_cards(exposures: Sequence[ExposureFacts], weights: np.ndarray) -> list[tuple[str, str | float | None, str]]:
    """Return when the stack begins, ends, and lies on average by its weights (FITS standard 4.0, section 9)."""
    timed = [(f, w) for f, w in zip(exposures, weights) if f.start_utc is not None and f.mid_utc is not None]
    if not timed:
        return []
    begin = min(f.start_utc for f, _ in timed if f.start_utc)
    end = max(later(f.start_utc, f.exposure_s or 0.0) or f.start_utc for f, _ in timed if f.start_utc)
    total = sum(w for _, w in timed) or 1.0
    middle = begin + sum((w / total * (f.mid_utc - begin) for f, w in timed if f.mid_utc), timedelta())
    stamps = {
        name: f"{moment:%Y-%m-%dT%H:%M:%S.%f}"[:-3] for name, moment in (("beg", begin), ("end", end), ("avg", middle))
    }
    return [
        ("DATE-OBS", stamps["beg"], "start of the first exposure, UTC"),
        ("DATE-BEG", stamps["beg"], "start of the first exposure, UTC"),
        ("DATE-END", stamps["end"], "end of the last exposure, UTC"),
        ("DATE-AVG", stamps["avg"], "weighted middle of the exposures, UTC"),
        ("TELAPSE", (end - begin).total_seconds(), "[s] from the first start to the last end"),
    ]
