"""Plate solutions for files."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from ulvar.astrometry import (
    CatalogueError,
    PlateSolution,
    SolveHints,
    StarCatalogue,
    Wcs,
    load_catalogue,
    solve_plate,
    wcs_from_header,
)
from ulvar.engine import Failed, JobContext, atomic_path, place_words
from ulvar.flows.common import SOLVED_BEFORE, Outcome, may_write
from ulvar.flows.starfind import FINDING_BYTES_PX
from ulvar.frames import (
    ExposureFacts,
    FrameError,
    carried_cards,
    distinct_stems,
    extensions_of,
    fingerprint,
    header_of,
    identity,
    is_fits_path,
    read_frame,
    read_plane,
    scan_file,
    write_fits,
)
from ulvar.frames.fits_header import BESIDE
from ulvar.lightcurves import julian_year
from ulvar.stars import StarTable


@dataclass(frozen=True)
class PlateOptions:
    """Hints; None means: from the header, else unknown."""

    at: tuple[float, float] | None = None
    radius_deg: float = 1.0
    scale: tuple[float, float] | None = None
    again: bool = False


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


def hints_for(facts: ExposureFacts, options: PlateOptions) -> SolveHints:
    """Return what is known of an exposure: options first, then its header, then a wide range of scales."""
    at = options.at
    if at is None and facts.ra_deg is not None and facts.dec_deg is not None:
        at = facts.ra_deg, facts.dec_deg
    if options.scale is not None:
        low, high = options.scale
    elif facts.scale_arcsec_px:
        low, high = 0.8 * facts.scale_arcsec_px, 1.25 * facts.scale_arcsec_px
    else:
        low, high = 0.3, 6.0
    epoch = julian_year(facts.mid_utc) if facts.mid_utc is not None else 2016.0
    return SolveHints(at[0] if at else None, at[1] if at else None, options.radius_deg, low, high, epoch)


def solve_exposure(
    facts: ExposureFacts, catalogue: StarCatalogue, options: PlateOptions, stars: StarTable | None
) -> PlateSolution | Failed:
    """Solve one exposure, finding its stars if they are not given."""
    if stars is None:
        from ulvar.stars import find_stars

        try:
            frame = read_frame(facts)
        except FrameError as error:
            return Failed(error.reason, facts.path)
        stars = find_stars(frame.data, mask=frame.mask, cfa=facts.cfa).stars
    return solve_plate(stars.x, stars.y, stars.snr, (facts.height, facts.width), catalogue, hints_for(facts, options))


def _lost(task: PlateTask, reason: str) -> Outcome:
    return Outcome(task.facts.path, False, reason)


def plate_item(task: PlateTask) -> Outcome:
    """Solve and write one file (runs in a worker)."""
    start = time.perf_counter()
    path = Path(task.output)
    stamp = fingerprint(
        "plate",
        identity(task.facts),
        [task.options.at, task.options.radius_deg, task.options.scale],
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
    solution = solve_exposure(task.facts, task.catalogue, task.options, task.stars)
    if isinstance(solution, Failed):
        return Outcome(task.facts.path, False, solution.reason, values={"seconds": time.perf_counter() - start})
    try:
        size = task.facts.height, task.facts.width
        cards = [*solution.wcs.cards(size), ("RECIPEID", stamp, "fingerprint of inputs and settings")]
        note = f"plate solution: {solution.matched} stars, rms {solution.rms_arcsec:.3f} arcsec"
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
    return Outcome(task.facts.path, True, "", task.output, values=values)


# What another way of writing a solution would leave beside a new one.
WCS_KEYS = (
    "CDELT1", "CDELT2", "CROTA1", "CROTA2", "PC1_1", "PC1_2", "PC2_1", "PC2_2", "LONPOLE", "LATPOLE", "EQUINOX",
    "A_ORDER", "B_ORDER", "AP_ORDER", "BP_ORDER",
)  # fmt: skip


def describe(wcs: Wcs, facts: ExposureFacts) -> dict[str, object]:
    """Return the numbers of the contract: centre, scale, rotation, parity."""
    ra, dec = wcs.sky((facts.width - 1) / 2, (facts.height - 1) / 2)
    return {
        "ra": float(ra), "dec": float(dec), "scale_arcsec_px": wcs.scale_arcsec_px, "rotation_deg": wcs.rotation_deg,
        "flipped": wcs.flipped, "matched": None, "rms_arcsec": None, "seconds": 0.0,
    }  # fmt: skip


def put_solution(path: Path, wcs: Wcs, note: str, more: Sequence[tuple[str, Any, str]] = ()) -> None:
    """Write a plate solution into the header of a product, whose pixels and other cards stay as they are, atomically.

    `more` are cards that come with it.

    Raises
    ------
    FrameError
        If it cannot be read.
    OSError
        If it cannot be written.
    """
    frame = read_frame(scan_file(str(path)))
    # The maps of a stack stay in its file.
    maps = {
        n: read_plane(f"{path}[{k}]") for k, n in enumerate(extensions_of(str(path))) if n in BESIDE and n != "MASK"
    }
    cards = [*wcs.cards((frame.facts.height, frame.facts.width)), *more]
    write_fits(
        path, frame.data, like=str(path), cards=cards, history=[note], mask=frame.mask, drop=WCS_KEYS,
        replace=True, maps=maps or None,
    )  # fmt: skip


def write_wcs_file(path: Path, wcs: Wcs, note: str, size: tuple[int, int] | None = None) -> None:
    """Write a header-only ``.wcs`` file: FITS cards of 80 characters, atomically; `size` is the picture's height and width."""
    cards = [("SIMPLE", True, "header of a plate solution"), ("BITPIX", 8, ""), ("NAXIS", 0, "")]
    cards += wcs.cards(size)  # type: ignore[arg-type]
    lines = []
    for name, value, comment in cards:
        if isinstance(value, bool):
            text = "T" if value else "F"
        elif isinstance(value, str):
            text = f"'{value:<8s}'"
        elif isinstance(value, int):
            text = str(value)
        else:
            text = f"{value:.15G}"
            text = text if any(letter in text for letter in ".E") else text + ".0"
        padded = text if isinstance(value, str) else f"{text:>20s}"
        lines.append(f"{name:<8s}= {padded:<20s}{' / ' + comment if comment else ''}"[:80].ljust(80))
    lines += [f"HISTORY {note}"[:80].ljust(80), "END".ljust(80)]
    block = "".join(lines)
    block += " " * (-len(block) % 2880)
    with atomic_path(path) as temporary:
        temporary.write_bytes(block.encode("ascii", "replace"))


def read_wcs_file(path: Path) -> Wcs | None:
    """Return the solution of a ``.wcs`` file, or None when it holds none."""
    try:
        text = path.read_bytes().decode("ascii", "replace")
    except OSError:
        return None
    header: dict[str, object] = {}
    for start in range(0, len(text), 80):
        card = text[start : start + 80]
        if card.startswith("END") or card[8:10] != "= ":
            continue
        value = card[10:].split(" / ")[0].strip()
        if value.startswith("'"):
            header[card[:8].strip()] = value.strip("'").strip()
        else:
            try:
                header[card[:8].strip()] = float(value)
            except ValueError:
                continue
    return wcs_from_header(header)


def wcs_of(path: str) -> Wcs | None:
    """Return the plate solution of an exposure: its own header's, else that of the ``.wcs`` file beside it.

    Raises
    ------
    FrameError
        If the exposure cannot be read.
    """
    # Camera raw and TIFF hold no solution.
    own = wcs_from_header(header_of(path)) if is_fits_path(path) else None
    if own is not None:
        return own
    place = Path(path)
    stem = ExposureFacts(path).stem
    return read_wcs_file(place.with_name(f"{stem}.wcs"))


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
) -> list[Outcome]:
    """Solve exposures in parallel into copies in `out`, or ``.wcs`` headers beside them (or in `wcs_folder`).

    `arrived` is told of each exposure when it is done.
    """
    settings = options or PlateOptions()
    stamp = catalogue_print(catalogue)
    stems = distinct_stems(facts.path for facts in exposures)
    tasks = []
    cut: dict[tuple[float, float, float] | None, StarCatalogue] = {}
    for facts in exposures:
        context.stop.check()
        cone = _hinted_cone(facts, settings)
        # Exposures of one field share a pointing as a rule: a large catalogue is cut down once for all of them.
        if cone not in cut:
            cut[cone] = _near(catalogue, cone)
        near = cut[cone]
        if out is not None:
            output = out / f"{stems[facts.path]}.fits"
        elif wcs_folder is not None:
            output = wcs_folder / f"{stems[facts.path]}.wcs"
        else:
            output = Path(facts.path).parent / f"{facts.stem}.wcs"
        found = stars.get(facts.path) if stars else None
        tasks.append(PlateTask(facts, near, settings, found, str(output), stamp, replace_existing, out is not None))
    # With stars given nothing is read but their positions.
    held = max((FINDING_BYTES_PX * t.facts.width * t.facts.height for t in tasks if t.stars is None), default=0)
    outcomes: dict[str, Outcome] = {}
    for task, outcome in context.each(plate_item, tasks, "Solving plates", item_bytes=held, lost=_lost):
        outcomes[task.facts.path] = outcome
        if arrived is not None:
            arrived(outcome)
    return [outcomes[f.path] for f in exposures]


def catalogue_print(catalogue: StarCatalogue) -> str:
    """Return a fingerprint of a catalogue's stars."""
    return fingerprint(len(catalogue), float(catalogue.ra.sum()), float(catalogue.dec.sum()))


def _hinted_cone(facts: ExposureFacts, options: PlateOptions) -> tuple[float, float, float] | None:
    """Return the part of the sky (RA, Dec, radius) [deg] that an exposure's hint can reach."""
    reach = max(5.0, 3 * options.radius_deg)
    if options.at is not None:
        return *options.at, reach
    if facts.ra_deg is None or facts.dec_deg is None:
        return None
    return facts.ra_deg, facts.dec_deg, reach


def hinted_cones(exposures: Sequence[ExposureFacts], options: PlateOptions) -> list[tuple[float, float, float]] | None:
    """Return the parts of the sky that a catalogue is needed of; None where an exposure could be anywhere."""
    cones: dict[tuple[int, int], tuple[float, float, float]] = {}
    for facts in exposures:
        cone = _hinted_cone(facts, options)
        if cone is None:
            return None
        # Pointings within a degree are one: the cone is a degree wider for them.
        cones[round(cone[0]), round(cone[1])] = round(cone[0]), round(cone[1]), cone[2] + 1.0
    return list(cones.values())


def check_catalogue(path: str, exposures: Sequence[ExposureFacts], options: PlateOptions | None = None) -> str:
    """Return why a catalogue cannot serve exposures, in a sentence; empty when it can.

    It is none, has no positions, or has no star near where the headers say that the exposures point.
    """
    settings = options or PlateOptions()
    cones = hinted_cones(exposures, settings)
    try:
        catalogue = load_catalogue(path, near=cones)
    except (CatalogueError, OSError) as error:
        return f"{error}."
    if not cones or any(len(catalogue.cone(*cone)) for cone in cones):
        return ""
    ra, dec = float(np.median(catalogue.ra)), float(np.median(catalogue.dec))
    facts = exposures[0]
    return (
        f"{Path(path).name}: its {len(catalogue)} stars lie about RA {ra:.1f}° Dec {dec:+.1f}°, but the exposures point at "
        f"RA {facts.ra_deg:.1f}° Dec {facts.dec_deg:+.1f}°. If the headers are wrong, correct the pointing in Facts."
    )


def _near(catalogue: StarCatalogue, cone: tuple[float, float, float] | None) -> StarCatalogue:
    """Cut a large catalogue down to what a hint can reach, so that little travels to the worker."""
    slim = replace(catalogue, bands={})
    if cone is None or len(catalogue) < 50_000:
        return slim
    near = slim.cone(*cone)
    return near if len(near) > 100 else slim
