"""Plate solutions for files."""

from __future__ import annotations

import math
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from ulvar.astrometry import (
    ANY_SCALE,
    CatalogueError,
    PlateSolution,
    Sky,
    SolveHints,
    StarCatalogue,
    Wcs,
    WholeSky,
    build_index,
    fit_wcs,
    has_index,
    index_catalogue,
    load_catalogue,
    separation_deg,
    solve_plate,
    wcs_from_header,
)
from ulvar.engine import Failed, JobContext, atomic_path, place_words
from ulvar.flows.common import SOLVED_BEFORE, Outcome, may_write
from ulvar.flows.starfind import FINDING_BYTES_PX, detect_in
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
    is_mosaic,
    read_frame,
    read_plane,
    scan_file,
    write_fits,
)
from ulvar.frames.fits_header import BESIDE
from ulvar.lightcurves import julian_year
from ulvar.registration import PixelMap
from ulvar.stars import StarTable


@dataclass(frozen=True)
class PlateOptions:
    """Hints; None means: from the header, else unknown."""

    at: tuple[float, float] | None = None
    radius_deg: float = 1.0
    scale: tuple[float, float] | None = None
    again: bool = False
    blind: bool = False
    seconds: float = 10.0

    @property
    def stamped(self) -> list[object]:
        """What a solution depends on."""
        told: list[object] = [self.at, self.radius_deg, self.scale]
        return [*told, "blind"] if self.blind else told


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


def hints_for(facts: ExposureFacts, options: PlateOptions) -> SolveHints:
    """Return what is known of an exposure: options first, then, unless it is to be solved blindly, its header."""
    at = options.at
    firm = True
    if at is None and not options.blind and facts.ra_deg is not None and facts.dec_deg is not None:
        at = facts.ra_deg, facts.dec_deg
    if options.scale is not None:
        low, high = options.scale
    elif facts.scale_arcsec_px and not options.blind:
        # Binning is counted twice in some headers, and focal lengths are rounded.
        low, high, firm = 0.8 * facts.scale_arcsec_px, 1.25 * facts.scale_arcsec_px, False
    else:
        low, high = ANY_SCALE
    epoch = julian_year(facts.mid_utc) if facts.mid_utc is not None else 2016.0
    ra, dec = at or (None, None)
    return SolveHints(ra, dec, options.radius_deg, low, high, epoch, options.seconds, firm)


def pixel_aspect(header: Mapping[str, Any]) -> float:
    """Return the height of a pixel over its width, by the sizes or else the binnings that a header tells; 1 where it tells none."""
    for across, down in (("XPIXSZ", "YPIXSZ"), ("XBINNING", "YBINNING")):
        try:
            ratio = float(header[down]) / float(header[across])
        except (KeyError, TypeError, ValueError, ZeroDivisionError):
            continue
        if ratio != 1.0 and 0.2 <= ratio <= 5.0:
            return ratio
    return 1.0


def solve_exposure(
    facts: ExposureFacts, catalogue: StarCatalogue, options: PlateOptions, stars: StarTable | None,
    *, stamp: str = "", whole: WholeSky | None = None,
) -> PlateSolution | Failed:  # fmt: skip
    """Solve one exposure, finding its stars if they are not given.

    Parameters
    ----------
    facts : ExposureFacts
    catalogue : StarCatalogue
        Where the hints point.
    options : PlateOptions
    stars : StarTable, optional
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
    stated = _stated(facts)
    if is_fits_path(facts.path):
        hints = replace(hints, aspect=pixel_aspect(header_of(facts.path)))
    sky: StarCatalogue | Sky = catalogue
    try:
        if hints.ra is not None and hints.dec is not None and stamp:
            field_deg = min(shape) * hints.scale_high / 3600
            if whole is not None and whole.is_folder and field_deg > _SMALL_FIELD_DEG:
                # The index is there and holds patterns of its size: none is to be made.
                sky = whole.sky()
            else:
                sky = _sky_near(stamp, catalogue, shape, hints)
        return solve_plate(
            stars.x,
            stars.y,
            stars.snr,
            shape,
            sky,
            hints,
            stated=stated,
            whole=whole.sky if whole is not None else lambda: _all_of(stamp, catalogue),
        )
    except CatalogueError as error:
        return Failed(str(error), facts.path)


# What a worker made of catalogues, the latest last; frames of a series come one after the other.
_SKIES: dict[tuple[object, ...], Sky] = {}
_KEPT_SKIES = 3
# The index of a whole catalogue serves fields of this size and larger.
_SMALL_FIELD_DEG = 10 / 60


def _kept(key: tuple[object, ...], make: Callable[[], Sky]) -> Sky:
    if key not in _SKIES:
        while len(_SKIES) >= _KEPT_SKIES:
            del _SKIES[next(iter(_SKIES))]
        _SKIES[key] = make()
    return _SKIES[key]


def _all_of(stamp: str, catalogue: StarCatalogue) -> Sky:
    return _kept((stamp, len(catalogue)), lambda: Sky(catalogue.cone, build_index(catalogue)))


def _sky_near(stamp: str, catalogue: StarCatalogue, shape: tuple[int, int], hints: SolveHints) -> Sky:
    """Return the stars that exposures about a place can show, indexed once for all that point there within a tenth of the radius."""
    assert hints.ra is not None and hints.dec is not None
    step = max(0.1 * hints.radius_deg, 1e-3)
    dec = round(hints.dec / step) * step
    across = step / max(math.cos(math.radians(dec)), 1e-3)
    place = round(hints.ra / across) * across, max(-90.0, min(90.0, dec)), hints.radius_deg + 1.5 * step
    key = stamp, place, shape, round(math.log(hints.scale_low), 2), round(math.log(hints.scale_high), 2)
    return _kept(key, lambda: Sky.near(catalogue, place, shape, hints))


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
    solution = solve_exposure(
        task.facts, task.catalogue, task.options, task.stars, stamp=task.catalogue_print, whole=task.whole
    )
    stated = _stated(task.facts)
    if isinstance(solution, Failed):
        more = "; what its header states of its place is not confirmed either" if stated is not None else ""
        return Outcome(
            task.facts.path, False, f"{solution.reason}{more}", values={"seconds": time.perf_counter() - start}
        )
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
    if stated is not None:
        values |= {"stated": "confirmed" if solution.confirms else "wrong"}
        values |= {"stated_off_arcsec": 3600 * _apart_deg(stated, solution.wcs, task.facts)}
    return Outcome(task.facts.path, True, "", task.output, values=values)


def _stated(facts: ExposureFacts) -> Wcs | None:
    return wcs_from_header(header_of(facts.path)) if is_fits_path(facts.path) else None


def _apart_deg(one: Wcs, other: Wcs, facts: ExposureFacts) -> float:
    """How far the middle of a frame lies from itself by two solutions."""
    x, y = (facts.width - 1) / 2, (facts.height - 1) / 2
    return float(separation_deg(*one.sky(x, y), *other.sky(x, y)))


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


def open_catalogue(
    path: str, exposures: Sequence[ExposureFacts], options: PlateOptions, context: JobContext
) -> tuple[StarCatalogue, WholeSky | None]:
    """Read what exposures need of a catalogue, and have the rest of the sky at hand where they may be anywhere.

    A folder of tiles is indexed, once, where an exposure has no hint, or no tile is where the hints point.

    Returns
    -------
    catalogue : StarCatalogue
        A table's stars, or those of the tiles where hints point.
    whole : WholeSky, optional
        None where the catalogue is all that there is.

    Raises
    ------
    CatalogueError
        If the catalogue cannot be used.
    """
    if not Path(path).is_dir():
        catalogue = load_catalogue(path)
        return catalogue, None if len(catalogue) < _LARGE else WholeSky.of(path)
    cones = [] if options.blind else [c for c in (_hinted_cone(facts, options) for facts in exposures) if c is not None]
    near = _no_stars()
    if cones:
        try:
            near = load_catalogue(path, near=_rounded(cones))
        except CatalogueError:
            if not any(Path(path).glob("*.parquet")):
                raise
    if (not len(near) or len(cones) < len(exposures)) and not has_index(path):
        try:
            index_catalogue(path, threads=context.workers, progress=context.progress, stop=context.stop)
        except OSError as error:
            raise CatalogueError(f"{path}: its index cannot be kept: {place_words(error)}") from error
    return near, WholeSky.of(path) if has_index(path) else None


def _no_stars() -> StarCatalogue:
    none = np.empty(0)
    return StarCatalogue(none, none, none, none, none, none)


def carried_solution(known: Wcs, way: PixelMap, shape: tuple[int, int]) -> Wcs:
    """Return the solution of an exposure whose pixels lead to those of one that is solved.

    Parameters
    ----------
    known : Wcs
        Of the solved one.
    way : PixelMap
        From the exposure's pixels to those of the solved one.
    shape : (int, int)
        Height and width of the exposure [px].
    """
    height, width = shape
    x, y = (g.ravel() for g in np.meshgrid(np.linspace(0, width - 1, _NODES), np.linspace(0, height - 1, _NODES)))
    ra, dec = known.sky(*way(x, y))
    centre = (width - 1) / 2, (height - 1) / 2
    middle = known.sky(*way(np.array([centre[0]]), np.array([centre[1]])))
    start = float(middle[0][0]), float(middle[1][0])
    plain = fit_wcs(x, y, ra, dec, centre=centre, start=start)
    px, py = plain.pixel(ra, dec)
    if np.hypot(px - x, py - y).max() < _STRAIGHT_PX:
        return plain
    return fit_wcs(x, y, ra, dec, centre=centre, start=start, order=5)


# Places each way at which a solution is carried over; a way that is as straight as this needs no distortion [px].
_NODES, _STRAIGHT_PX = 21, 0.005


def catalogue_print(catalogue: StarCatalogue) -> str:
    """Return a fingerprint of a catalogue's stars."""
    return fingerprint(len(catalogue), float(catalogue.ra.sum()), float(catalogue.dec.sum()))


# A catalogue of so many stars travels to the workers in parts.
_LARGE = 50_000


def _hinted_cone(facts: ExposureFacts, options: PlateOptions) -> tuple[float, float, float] | None:
    """Return the part of the sky (RA, Dec, radius) [deg] that an exposure's hint can reach; None where it has none."""
    reach = max(5.0, 3 * options.radius_deg)
    if options.at is not None:
        return *options.at, reach
    if options.blind:
        return None
    if facts.ra_deg is None or facts.dec_deg is None:
        return None
    return facts.ra_deg, facts.dec_deg, reach


def hinted_cones(exposures: Sequence[ExposureFacts], options: PlateOptions) -> list[tuple[float, float, float]] | None:
    """Return the parts of the sky that a catalogue is needed of; None where an exposure could be anywhere."""
    cones = [_hinted_cone(facts, options) for facts in exposures]
    known = [cone for cone in cones if cone is not None]
    return _rounded(known) if len(known) == len(cones) else None


def _rounded(cones: Sequence[tuple[float, float, float]]) -> list[tuple[float, float, float]]:
    """Return fewer cones that hold them: pointings within a degree are one, a degree wider."""
    return list({(round(ra), round(dec)): (round(ra), round(dec), reach + 1.0) for ra, dec, reach in cones}.values())


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
    if cone is None or len(catalogue) < _LARGE:
        return slim
    near = slim.cone(*cone)
    return near if len(near) > 100 else slim
