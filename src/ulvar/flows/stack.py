"""Aligning and combining exposures."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from dataclasses import replace as changed
from pathlib import Path

from ulvar.astrometry import Wcs
from ulvar.combine import Method, Rejection
from ulvar.engine import Failed, JobContext, check_disk
from ulvar.flows.agreement import Agreement, Pointed, align_agreeing, helped
from ulvar.flows.align import Aligned, align_all, align_by_sky, pick_reference
from ulvar.flows.body import Body, BodyStack, stack_body
from ulvar.flows.combining import combine_field
from ulvar.flows.common import KEPT, Outcome, may_write
from ulvar.flows.drops import drops_file, write_drops
from ulvar.flows.gridding import grid_for, pixel_cards
from ulvar.flows.lights import Calibrations, ready_facts
from ulvar.flows.mosaicking import align_mosaic, combine_mosaic, mosaic_windows
from ulvar.flows.needs import Needs, stack_kind, stack_needs
from ulvar.flows.pace import expected_s, timed
from ulvar.flows.proper import proper_file, write_proper
from ulvar.flows.stackfile import Told, sky_cards, write_stack
from ulvar.flows.starfind import Scored, find_all
from ulvar.flows.warping import (
    Cut,
    moving_trails,
)
from ulvar.frames import (
    ExposureFacts,
    Plane,
    fingerprint,
    header_of,
    identity,
    is_tiff_name,
)
from ulvar.registration import RESAMPLING, Resampling, Transform, map_values
from ulvar.registration.transform import Chained
from ulvar.stacking import (
    GRID,
    STACK_REJECTION,
    Colours,
    Frame2D,
    Framing,
    GridOptions,
    Normalise,
    Stacked,
    Weighting,
)
from ulvar.stacking.drops import Dropped
from ulvar.stacking.proper import ProperCoadd


@dataclass(frozen=True)
class StackOptions:
    """How exposures are combined; names as on the command line."""

    align: str = "stars"
    grid: GridOptions = GRID
    rejection: Rejection = STACK_REJECTION
    normalise: Normalise = Normalise.BOTH
    weighting: Weighting = Weighting.SNR
    depth: int = 16
    reference: str | None = None
    # Pixels under trails of satellites and aeroplanes are left out whole.
    trails: bool = True
    # What happened at each pixel is written beside the picture.
    maps: bool = True
    # The proper coadd is made, too, as a file of its own.
    proper: bool = False
    # The reconstruction on the stack's grid is made, too: the side of a drop over that of a pixel.
    drop: float | None = None
    resampling: Resampling = RESAMPLING
    # Over so many pixels exposures of a mosaic fade in from their edges.
    feather_px: float = 0.0
    # Whether colours of a colour sensor get stacks of their own besides (`ulvar.flows.stack_planes`).
    colours: Colours = Colours.MIXED
    # One colour alone of exposures of a colour sensor.
    plane: Plane | None = None
    # A second stack is made on which this body stays where it is.
    body: Body | None = None
    # Stars that were pointed out in exposures that do not match by themselves.
    common: Mapping[str, Pointed] = field(default_factory=dict)


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
    # Of the sky, measured.
    noise_adu: float = math.nan
    # The file of the proper coadd, or why there is none; empty where none was asked for.
    proper: str = ""
    no_proper: str = ""
    # The file of the reconstruction, or why there is none; why exposures do not support pixels of that size.
    drops: str = ""
    no_drops: str = ""
    uneven: str = ""
    # The stack on a moving body; None where none was asked for.
    body: BodyStack | None = None
    # What it takes of this machine; None before the grid is known.
    needs: Needs | None = None

    @property
    def ok(self) -> bool:
        """Whether there is a stack."""
        return not self.reason


def stack_print(
    exposures: Sequence[ExposureFacts], settings: StackOptions, calibrations: Calibrations | None = None
) -> str:
    """Return the fingerprint of exposures and settings, by which a stack is known again."""
    return fingerprint(
        "stack",
        [identity(f, timed=True) for f in exposures],
        vars(settings)
        | {name: vars(getattr(settings, name)) for name in ("rejection", "grid", "resampling")}
        | {name: None if (part := getattr(settings, name)) is None else vars(part) for name in ("plane", "body")},
        *([[calibrations[f.path].print for f in exposures]] if calibrations else []),
    )


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
    calibrations: Calibrations | None = None,
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
    calibrations : mapping of str to CalibrateTask, optional
        Path to what a raw exposure is calibrated with on the way: it is read twice, and nothing is written in between.

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
    stamp = stack_print(exposures, settings, calibrations)
    if not is_tiff_name(output.name):
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
        ready = [ready_facts(f, calibrations[f.path]) for f in exposures] if calibrations else exposures
        scored, failed = find_all(ready, context, quick=True, calibrations=calibrations)
    if not scored:
        return StackResult(str(output), _frames(exposures, [], failed, None), reason="no exposure could be read")
    agreement = _aligned(scored, aligned, settings, context)
    if settings.common:
        agreement = helped(agreement, scored, settings.common)
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
    wanted = settings.grid
    if settings.align == "mosaic" and wanted.framing is Framing.REFERENCE:
        # The frame of one pointing is none of a mosaic's.
        wanted = changed(wanted, framing=Framing.UNION)
    grid = grid_for(aligned_list, reference, solution, wanted)
    if isinstance(grid, Failed):
        return StackResult(str(output), _frames(exposures, [], failed, None), reason=grid.reason, agreement=agreement)
    needs = _needs(aligned_list, grid, settings)
    if needs.refusal:
        return StackResult(
            str(output), _frames(exposures, [], failed, None), reason=needs.refusal, agreement=agreement, needs=needs
        )
    check_disk(output.parent, needs.disk_bytes)
    context.progress(0, 0, f"{grid.width} × {grid.height} px, {needs.words}")
    with timed(stack_kind(settings, bool(calibrations))) as work:
        if settings.align == "mosaic":
            made = combine_mosaic(aligned_list, reference, grid, output, settings, context)
        else:
            cut = moving_trails(aligned_list) if settings.trails else {}
            made = combine_field(aligned_list, reference, grid, output, settings, context, cut)
        work.frames = len(made.kept)
        work.megapixels = work.frames * grid.width * grid.height / 1e6
    failed += made.failed
    stacked, kept = made.stacked, made.kept
    if stacked is None:
        return StackResult(str(output), _frames(exposures, [], failed, None), reason="no exposure could be resampled")
    moved = [Aligned(a.scored, grid.shifted(a.transform), a.flux_ratio) for a in kept]
    frames = _frames(exposures, moved, failed, stacked, made.cuts)
    placed = [*sky_cards(reference, solution, grid), *pixel_cards(reference.facts, settings.grid.scale)]
    told = Told(reference, kept, stacked.weights, placed, settings, stamp, made.gain_share)
    write_stack(
        output, stacked, told, replace=replace, name=name, noise_adu=made.noise_adu, correlation=made.correlation
    )  # fmt: skip
    beside = {}
    if isinstance(made.coadd, ProperCoadd):
        beside["proper"] = proper_file(output)
        write_proper(beside["proper"], made.coadd, told)
    if isinstance(made.dropped, Dropped) and settings.drop is not None:
        beside["drops"] = drops_file(output)
        write_drops(beside["drops"], made.dropped, settings.drop, told)
    body = None
    if settings.body is not None:
        body = stack_body(
            kept, reference, output, settings, context, solution=solution, stamp=stamp, replace=replace, name=name
        )  # fmt: skip
    return StackResult(
        str(output), frames, grid.width, grid.height, stacked=stacked, reference=reference.facts.path,
        aligned=tuple(kept), agreement=agreement, noise_adu=made.noise_adu,
        proper=str(beside.get("proper", "")), no_proper=made.coadd.reason if isinstance(made.coadd, Failed) else "",
        drops=str(beside.get("drops", "")), no_drops=made.dropped.reason if isinstance(made.dropped, Failed) else "",
        uneven=made.dropped.problem if isinstance(made.dropped, Dropped) else "", body=body, needs=needs,
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
    if settings.align == "mosaic":
        return align_mosaic(scored, context, wanted[0] if wanted else None)
    if settings.align == "sky":
        return Agreement(reference, *align_by_sky(scored, reference))
    if wanted and len(scored) > 1:
        return Agreement(reference, *align_all(scored, reference.stars, context))
    return align_agreeing(scored, context)


def _needs(aligned: Sequence[Aligned], grid: Frame2D, settings: StackOptions) -> Needs:
    if settings.align == "mosaic":
        parts = (math.prod(w.shape) for w in mosaic_windows(aligned, grid) if w is not None)
        return stack_needs(grid, sum(parts), 6, drops=False)
    resampled = len(aligned) * grid.width * grid.height
    kind = stack_kind(settings, aligned[0].scored.calibration is not None)
    seconds = expected_s(kind, resampled / 1e6, len(aligned))
    return changed(stack_needs(grid, resampled, 2, drops=settings.drop is not None), seconds=seconds)


def _frames(
    exposures: Sequence[ExposureFacts],
    kept: Sequence[Aligned],
    failed: Sequence[Failed],
    stacked: Stacked | None,
    cuts: Mapping[str, tuple[Cut, ...]] | None = None,
) -> tuple[Outcome, ...]:
    used = {a.scored.facts.path: (i, a) for i, a in enumerate(kept)}
    why = {f.file: f.reason for f in failed}
    frames = []
    for facts in exposures:
        if facts.path in used and stacked is not None:
            i, a = used[facts.path]
            values = {
                "matrix": a.transform.at_middle(a.scored.facts.width, a.scored.facts.height).matrix.tolist(), "residual_px": a.transform.rms_px,
                "weight": float(stacked.weights[i]), "rejected_fraction": float(stacked.rejected_fractions[i]),
                "map": a.transform.kind, "bent": None if isinstance(a.transform, Chained) else map_values(a.transform),
                "trails_cut": [cut.told for cut in (cuts or {}).get(facts.path, ())],
                "surface": None if stacked.surfaces[i] is None else vars(stacked.surfaces[i]),
                "factor": stacked.scaling[i][0], "addend_adu": stacked.scaling[i][1],
            }  # fmt: skip
            frames.append(Outcome(facts.path, True, values=values))
        else:
            empty = {"matrix": None, "residual_px": None, "weight": 0.0, "rejected_fraction": None}
            frames.append(Outcome(facts.path, False, why.get(facts.path, "it was not used"), values=empty))
    return tuple(frames)
