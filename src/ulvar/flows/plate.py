"""Plate solutions for files."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from ulvar.astrometry import (
    CatalogueError,
    PlateSolution,
    Sky,
    StarCatalogue,
    Wcs,
    WholeSky,
    separation_deg,
    solve_plate,
    wcs_from_header,
)
from ulvar.engine import Failed, JobContext, counted, place_words
from ulvar.flows.common import SOLVED_BEFORE, Outcome, may_write
from ulvar.flows.platesky import (
    SMALL_FIELD_DEG,
    PlateOptions,
    all_of,
    catalogue_print,
    hinted_cone,
    hints_for,
    near_hint,
    pixel_aspect,
    sky_near,
)
from ulvar.flows.starfind import FINDING_BYTES_PX, detect_in
from ulvar.flows.wcsfile import WCS_KEYS, describe, read_wcs_file, write_wcs_file
from ulvar.frames import (
    ExposureFacts,
    FrameError,
    carried_cards,
    distinct_stems,
    fingerprint,
    header_of,
    identity,
    is_fits_path,
    is_mosaic,
    read_frame,
    write_fits,
)
from ulvar.stars import StarTable


@dataclass(frozen=True)
class PlateTask:
    """One file to solve."""

    facts: ExposureFacts
    catalogue: StarCatalogue
    options: PlateOptions
    stars: StarTable | None
    output: str
    catalogue_print: str
    again: bool
    copy: bool
    whole: WholeSky | None = None


def solve_exposure(
    facts: ExposureFacts, catalogue: StarCatalogue, options: PlateOptions, stars: StarTable | None,
    *, header: Mapping[str, Any] | None = None, stamp: str = "", whole: WholeSky | None = None,
) -> PlateSolution | Failed:  # fmt: skip
    """Solve one exposure, finding its stars if they are not given.

    Parameters
    ----------
    facts : ExposureFacts
    catalogue : StarCatalogue
        Where the hints point.
    options : PlateOptions
    stars : StarTable, optional
    header : mapping, optional
        Of the file: what it states of the place and of the pixels.
    stamp : str
        Of the catalogue: exposures of one field share what is made of it.
    whole : WholeSky, optional
        Searched where nothing is found there.
    """
    if stars is None:
        from ulvar.stars import DetectOptions

        try:
            # A few hundred of the brightest are enough where they are easily found.
            found = detect_in(facts, DetectOptions(), quick=not is_mosaic(facts.cfa)) or detect_in(
                facts, DetectOptions()
            )
        except FrameError as error:
            return Failed(error.reason, facts.path)
        assert found is not None
        stars = found.stars
    hints, shape = hints_for(facts, options), (facts.height, facts.width)
    hints = replace(hints, aspect=pixel_aspect(header or {}))
    sky: StarCatalogue | Sky = catalogue
    try:
        if hints.ra is not None and hints.dec is not None and stamp:
            field_deg = min(shape) * hints.scale_high / 3600
            if whole is not None and whole.is_folder and field_deg > SMALL_FIELD_DEG:
                # The index is there and holds patterns of its size: none is to be made.
                sky = whole.sky()
            else:
                sky = sky_near(stamp, catalogue, shape, hints)
        solution = solve_plate(
            stars.x,
            stars.y,
            stars.snr,
            shape,
            sky,
            hints,
            stated=wcs_from_header(header or {}),
            whole=whole.sky if whole is not None else lambda: all_of(stamp, catalogue),
        )
    except CatalogueError as error:
        return Failed(str(error), facts.path)
    if isinstance(solution, Failed):
        best = stars.ellipticity[(stars.snr > _TRAILED_SNR) & np.isfinite(stars.ellipticity)]
        if len(best) > _TRAILED_STARS and float(np.median(best)) > _TRAILED:
            reason = f"{solution.reason}; its stars are trailed (ellipticity {float(np.median(best)):.2f})"
            return replace(solution, reason=reason)
    return solution


# So long in the middle are images of stars whose places are in doubt: one axis under half of the other.
_TRAILED, _TRAILED_SNR, _TRAILED_STARS = 0.5, 15.0, 4


def _lost(task: PlateTask, reason: str) -> Outcome:
    return Outcome(task.facts.path, False, reason)


def plate_item(task: PlateTask) -> Outcome:
    """Solve and write one file (runs in a worker)."""
    start = time.perf_counter()
    path = Path(task.output)
    stamp = fingerprint(
        "plate",
        identity(task.facts),
        task.options.stamped,
        task.catalogue_print,
    )
    if task.copy:
        there = may_write(path, stamp, task.again or task.options.again)
        if there is not None:
            known = wcs_from_header(header_of(task.output)) if there.ok else None
            values = {} if known is None else describe(known, task.facts)
            return replace(there, file=task.facts.path, output=task.output, values=values)
    elif path.exists() and not task.options.again and not task.again:
        known = read_wcs_file(path)
        if known is not None:
            return Outcome(
                task.facts.path,
                True,
                "solved before",
                task.output,
                skipped=True,
                code=SOLVED_BEFORE,
                values=describe(known, task.facts),
            )
    header = _header(task.facts)
    stated = wcs_from_header(header)
    solution = solve_exposure(
        task.facts,
        task.catalogue,
        task.options,
        task.stars,
        header=header,
        stamp=task.catalogue_print,
        whole=task.whole,
    )
    if isinstance(solution, Failed):
        more = "; what its header states of its place is not confirmed either" if stated is not None else ""
        return Outcome(
            task.facts.path, False, f"{solution.reason}{more}", values={"seconds": time.perf_counter() - start}
        )
    try:
        size = task.facts.height, task.facts.width
        cards = [*solution.wcs.cards(size), ("RECIPEID", stamp, "fingerprint of inputs and settings")]
        note = f"plate solution: {counted(solution.matched, 'star')}, rms {solution.rms_arcsec:.3f} arcsec"
        if task.copy:
            frame = read_frame(task.facts)
            like, carried = carried_cards(task.facts)
            write_fits(
                path, frame.data, like=like, cards=[*carried, *cards], history=[note], mask=frame.mask,
                drop=WCS_KEYS, replace=task.again or task.options.again,
            )  # fmt: skip
        else:
            write_wcs_file(path, solution.wcs, note, size)
    except (FrameError, OSError) as error:
        return Outcome(task.facts.path, False, place_words(error), values={"seconds": time.perf_counter() - start})
    values = describe(solution.wcs, task.facts) | {
        "matched": solution.matched, "rms_arcsec": solution.rms_arcsec, "seconds": time.perf_counter() - start,
        "residuals": np.column_stack([solution.x, solution.y, solution.dx, solution.dy]).round(3).tolist(),
        "order": solution.order,
    }  # fmt: skip
    if stated is not None:
        values |= {"stated": "confirmed" if solution.confirms else "wrong"}
        values |= {"stated_off_arcsec": 3600 * _apart_deg(stated, solution.wcs, task.facts)}
    return Outcome(task.facts.path, True, "", task.output, values=values)


def _header(facts: ExposureFacts) -> Mapping[str, Any]:
    """Return a file's header; empty where it has none, or cannot be read: with stars given nothing else of it is needed."""
    try:
        return header_of(facts.path) if is_fits_path(facts.path) else {}
    except FrameError:
        return {}


def _apart_deg(one: Wcs, other: Wcs, facts: ExposureFacts) -> float:
    """How far the middle of a frame lies from itself by two solutions."""
    x, y = (facts.width - 1) / 2, (facts.height - 1) / 2
    return float(separation_deg(*one.sky(x, y), *other.sky(x, y)))


def solve_files(
    exposures: Sequence[ExposureFacts],
    catalogue: StarCatalogue,
    context: JobContext,
    *,
    options: PlateOptions | None = None,
    out: Path | None = None,
    stars: dict[str, StarTable] | None = None,
    replace_existing: bool = False,
    wcs_folder: Path | None = None,
    arrived: Callable[[Outcome], None] | None = None,
    whole: WholeSky | None = None,
) -> list[Outcome]:
    """Solve exposures in parallel into copies in `out`, or ``.wcs`` headers beside them (or in `wcs_folder`).

    `arrived` is told of each exposure when it is done. `whole` is searched where nothing is found in the `catalogue` where
    hints point; without it the rest of the catalogue is.
    """
    settings = options or PlateOptions()
    stamp = catalogue_print(catalogue)
    stems = distinct_stems(facts.path for facts in exposures)
    tasks = []
    cut: dict[tuple[float, float, float] | None, StarCatalogue] = {}
    for facts in exposures:
        context.stop.check()
        cone = hinted_cone(facts, settings)
        # Exposures of one field share a pointing as a rule: a large catalogue is cut down once for all of them.
        if cone not in cut:
            cut[cone] = near_hint(catalogue, cone)
        near = cut[cone]
        if out is not None:
            output = out / f"{stems[facts.path]}.fits"
        elif wcs_folder is not None:
            output = wcs_folder / f"{stems[facts.path]}.wcs"
        else:
            output = Path(facts.path).parent / f"{facts.stem}.wcs"
        found = stars.get(facts.path) if stars else None
        tasks.append(
            PlateTask(facts, near, settings, found, str(output), stamp, replace_existing, out is not None, whole)
        )
    # With stars given nothing is read but their positions.
    held = max((FINDING_BYTES_PX * t.facts.width * t.facts.height for t in tasks if t.stars is None), default=0)
    outcomes: dict[str, Outcome] = {}
    for task, outcome in context.each(plate_item, tasks, "Solving plates", item_bytes=held, lost=_lost):
        outcomes[task.facts.path] = outcome
        if arrived is not None:
            arrived(outcome)
    return [outcomes[f.path] for f in exposures]
