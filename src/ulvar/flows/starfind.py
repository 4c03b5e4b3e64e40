"""Finding stars and judging exposures."""

from __future__ import annotations

import csv
import io
import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from ulvar.engine import Failed, JobContext, place_words, write_text
from ulvar.flows.calibrate import CalibrateTask
from ulvar.flows.common import Outcome, failed_task, write_same_text
from ulvar.flows.lights import Calibrations, held_bytes, read_light
from ulvar.flows.pace import timed
from ulvar.frames import ExposureFacts, FrameError, MaskBit, Shape, distinct_stems, is_mosaic, shapes_mask
from ulvar.frames.gate import reading
from ulvar.stars import (
    STAR_COLUMNS,
    Detection,
    DetectOptions,
    ExposureQuality,
    StarFlag,
    StarTable,
    Trail,
    flag_words,
    measure_quality,
    relative_scores,
)


@dataclass(frozen=True)
class Scored:
    """Stars and quality of one exposure."""

    facts: ExposureFacts
    stars: StarTable
    quality: ExposureQuality
    trails: tuple[Trail, ...] = ()
    # What it is calibrated with on the way, where it is raw.
    calibration: CalibrateTask | None = None


# What finding the stars of a frame holds at most, by pixel [bytes]: the frame, its mask, background and noise, the
# picture without stars and the filtered one (measured, see docs/benchmarks.md).
FINDING_BYTES_PX = 50
# The same of the quick form.
QUICK_BYTES_PX = 14
# A frame that is not easy is searched in full at once where that takes no more than this [bytes]; a larger one waits for its turn.
_AT_ONCE = 200_000_000


@dataclass(frozen=True)
class FindTask:
    """One exposure whose stars are looked for; with a `table` they are written there too; `quick` asks for the brightest few hundred."""

    facts: ExposureFacts
    options: DetectOptions
    regions: tuple[Shape, ...]
    table: str = ""
    quick: bool = False
    calibration: CalibrateTask | None = None


def stars_item(task: FindTask) -> Scored | Failed | None:
    """Find the stars of one exposure (runs in a worker); None where only the full search would, which takes more memory."""
    facts, options, regions = task.facts, task.options, task.regions
    try:
        detection = detect_in(facts, options, regions, quick=task.quick, calibration=task.calibration)
    except FrameError as error:
        return Failed(error.reason, facts.path)
    if detection is None:
        return None
    if not math.isfinite(detection.background.sky_adu):
        return Failed("it has no pixels with a value", facts.path)
    quality = measure_quality(detection, gain_e_per_adu=facts.gain_e_per_adu, read_noise_e=facts.read_noise_e)
    if task.table:
        try:
            write_text(Path(task.table), star_csv(detection.stars), replace=True)
        except OSError as error:
            return Failed(f"its star table could not be written: {place_words(error)}", facts.path)
        # What follows works with the numbers as they are written: a run that goes on after a stop reads them back, and
        # has to come to the same result.
        return Scored(facts, read_stars(Path(task.table)), quality, detection.trails, task.calibration)
    return Scored(facts, detection.stars, quality, detection.trails, task.calibration)


def detect_in(
    facts: ExposureFacts,
    options: DetectOptions,
    regions: Sequence[Shape] = (),
    *,
    quick: bool = False,
    calibration: CalibrateTask | None = None,
) -> Detection | None:
    """Read an exposure and find its stars outside of regions; the brightest alone where it is `quick` and that is easy.

    None where a `quick` one is not easy and large (see `stars_item`).

    Raises
    ------
    FrameError
        If it cannot be read.
    """
    from ulvar.stars import find_brightest, find_stars

    frame = read_light(facts, calibration)
    data, mask = frame.above_pedestal(), frame.mask
    if regions:
        mask = np.zeros(data.shape, dtype=np.uint16) if mask is None else mask
        mask[shapes_mask(regions, *data.shape)] |= np.uint16(MaskBit.NO_DATA)
    if quick:
        found = find_brightest(data, mask=mask, gain_e_per_adu=facts.gain_e_per_adu, options=options)
        if found is not None or FINDING_BYTES_PX * data.size > _AT_ONCE:
            return found
    return find_stars(data, mask=mask, gain_e_per_adu=facts.gain_e_per_adu, cfa=facts.cfa, options=options)


def find_all(
    exposures: Sequence[ExposureFacts],
    context: JobContext,
    *,
    options: DetectOptions | None = None,
    regions: Sequence[Shape] = (),
    known: Mapping[str, Scored] | None = None,
    tables: Mapping[str, str] | None = None,
    arrived: Callable[[Scored], None] | None = None,
    quick: bool = False,
    calibrations: Calibrations | None = None,
) -> tuple[list[Scored], list[Failed]]:
    """Find the stars of exposures, outside of regions, and score them within their filter and exposure time.

    Parameters
    ----------
    exposures : sequence of ExposureFacts
    context : JobContext
    options : DetectOptions, optional
    regions : sequence of Shape
    known : mapping of str to Scored, optional
        Path to what was found before: it is not looked for again.
    tables : mapping of str to str, optional
        Path to the file that the stars are written to as soon as they are found.
    arrived : callable, optional
        Told of each exposure when it is done.
    quick : bool
        The brightest few hundred stars of an easy exposure are enough, as they are to align it.
    calibrations : mapping of str to CalibrateTask, optional
        Path to what a raw exposure is calibrated with on the way.
    """
    settings = options or DetectOptions()
    done: dict[str, Scored] = dict(known or {})
    failed: list[Failed] = []
    # A mosaic of colours has no light that halves could tell.
    tasks = [
        FindTask(
            f, settings, tuple(regions), (tables or {}).get(f.path, ""), quick and not is_mosaic(f.cfa),
            (calibrations or {}).get(f.path),
        )
        for f in exposures
        if f.path not in done
    ]  # fmt: skip
    whole = bool(tasks) and not tasks[0].quick
    kind = " ".join(["find", *(["quick"] if not whole else []), *(["raw"] if calibrations else [])])
    with timed(kind) as work:
        work.frames = len(tasks)
        work.megapixels = sum(t.facts.width * t.facts.height for t in tasks) / 1e6
        _find(tasks, done, failed, context, arrived)
    order = {f.path: n for n, f in enumerate(exposures)}
    failed.sort(key=lambda one: order[one.file])
    _score_within(exposures, done)
    return [done[f.path] for f in exposures if f.path in done], failed


def _find(
    tasks: list[FindTask], done: dict[str, Scored], failed: list[Failed], context: JobContext,
    arrived: Callable[[Scored], None] | None,
) -> None:  # fmt: skip
    while tasks:
        later = []
        held = max(_finding_bytes(task) for task in tasks)
        for task, result in context.each(stars_item, tasks, "Finding stars", item_bytes=held, lost=failed_task):
            if result is None:
                later.append(replace(task, quick=False))
            elif isinstance(result, Failed):
                failed.append(result)
            else:
                done[task.facts.path] = result
                if arrived is not None:
                    arrived(result)
        tasks = later


def _score_within(exposures: Sequence[ExposureFacts], done: dict[str, Scored]) -> None:
    """Score exposures within their filter and exposure time."""
    groups: dict[tuple, list[str]] = {}
    for facts in exposures:
        if facts.path in done:
            groups.setdefault((facts.filter, facts.exposure_s), []).append(facts.path)
    for paths in groups.values():
        for path, quality in zip(paths, relative_scores([done[p].quality for p in paths])):
            done[path] = replace(done[path], quality=quality)


def _finding_bytes(task: FindTask) -> int:
    """Return what finding the stars of an exposure takes [bytes]."""
    pixels = task.facts.width * task.facts.height
    full = FINDING_BYTES_PX * pixels
    found = max(QUICK_BYTES_PX * pixels, min(full, _AT_ONCE)) if task.quick else full
    return found + held_bytes(task.facts, task.calibration)


def star_csv(stars: StarTable) -> str:
    """Return the table as CSV text."""
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow([name for name, _, _, _ in STAR_COLUMNS])
    columns = []
    for name, _, decimals, _ in STAR_COLUMNS:
        values = getattr(stars, name)
        if name == "flags":
            columns.append([flag_words(int(v)) for v in values])
        else:
            columns.append([f"{v:.{decimals}f}" if np.isfinite(v) else "" for v in values])
    writer.writerows(zip(*columns))
    return text.getvalue()


def write_stars(
    scored: Sequence[Scored], folder: Path, context: JobContext, *, replace_existing: bool
) -> dict[str, Outcome]:
    """Write ``<stem>.stars.csv`` of each exposure into a folder; returns what became of it, by the exposure's path.

    Of equal names in two folders the stems are made distinct (`distinct_stems`).
    Tables are put into words by the workers: thousands of numbers formatted beside a window would take its turns at
    Python's lock.
    """
    stems = distinct_stems(one.facts.path for one in scored)
    tasks = [
        (path, one.stars, folder / f"{stems[path]}.stars.csv", replace_existing)
        for one in scored
        if (path := one.facts.path)
    ]
    written = context.each(write_stars_item, tasks, "Writing star tables")
    return {task[0]: outcome for task, outcome in written}


def write_stars_item(task: tuple[str, StarTable, Path, bool]) -> Outcome:
    """Write one star table (runs in a worker)."""
    _, stars, path, replace_existing = task
    return write_same_text(path, star_csv(stars), replace_existing)


def read_stars(path: Path) -> StarTable:
    """Read a star table back.

    Raises
    ------
    FrameError
        If it cannot be read, or is none.
    """
    bits = {flag.name.lower(): int(flag) for flag in StarFlag if flag.name}
    with reading(str(path)), path.open(newline="", encoding="utf-8") as handle:
        reader = csv.reader(handle)
        names = next(reader, [])
        if not {"x", "y", "flux", "flags"} <= set(names):
            raise FrameError(str(path), "this is no table of stars")
        rows = list(reader)
    short = next((n for n, row in enumerate(rows, 2) if len(row) != len(names)), None)
    if short is not None:
        raise FrameError(str(path), f"line {short} has not as many columns as the first")
    found = dict(zip(names, zip(*rows)))
    count = len(next(iter(found.values()), ()))
    try:
        return StarTable(**_star_columns(found, bits, count))
    except (ValueError, KeyError) as error:
        raise FrameError(str(path), f"this is no table of stars: {error}") from None


def _star_columns(found: Mapping[str, Sequence[str]], bits: Mapping[str, int], count: int) -> dict[str, Any]:
    columns: dict[str, Any] = {}
    for name, _, _, _ in STAR_COLUMNS:
        texts = found.get(name)
        if name == "flags":
            # Few different words stand in thousands of rows.
            known = {text: sum(bits[w] for w in text.split("|") if w) for text in set(texts or ())}
            columns[name] = np.array([known[text] for text in texts or ()], dtype=np.int64)
        elif texts is None:
            # Tables of older versions lack a column; its numbers are unknown.
            columns[name] = np.full(count, math.nan)
        else:
            columns[name] = np.array([text or "nan" for text in texts], dtype=np.float64)
    return columns
