"""Finding stars and judging exposures."""

from __future__ import annotations

import csv
import io
import math
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from ulvar.engine import Failed, JobContext
from ulvar.frames import ExposureFacts, FrameError, read_frame
from ulvar.night.flows.common import Outcome, write_same_text
from ulvar.stars import (
    STAR_COLUMNS,
    DetectOptions,
    ExposureQuality,
    StarFlag,
    StarTable,
    find_stars,
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


def stars_item(task: tuple[ExposureFacts, DetectOptions]) -> Scored | Failed:
    """Find the stars of one exposure (runs in a worker)."""
    facts, options = task
    try:
        frame = read_frame(facts)
        pedestal = np.float32(facts.pedestal_adu)
        data = frame.data - pedestal if pedestal else frame.data
        detection = find_stars(data, mask=frame.mask, gain_e_per_adu=facts.gain_e_per_adu, options=options)
    except FrameError as error:
        return Failed(error.reason, facts.path)
    if not math.isfinite(detection.background.sky_adu):
        return Failed("it has no pixels with a value", facts.path)
    return Scored(facts, detection.stars, measure_quality(detection))


def find_all(
    exposures: Sequence[ExposureFacts], context: JobContext, *, options: DetectOptions | None = None
) -> tuple[list[Scored], list[Failed]]:
    """Find the stars of exposures and score them within their filter and exposure time."""
    settings = options or DetectOptions()
    done: dict[str, Scored] = {}
    failed: list[Failed] = []
    for (facts, _), result in context.each(stars_item, [(f, settings) for f in exposures], "Finding stars"):
        if isinstance(result, Failed):
            failed.append(result)
        else:
            done[facts.path] = result
    groups: dict[tuple, list[str]] = {}
    for facts in exposures:
        if facts.path in done:
            groups.setdefault((facts.filter, facts.exposure_s), []).append(facts.path)
    for paths in groups.values():
        for path, quality in zip(paths, relative_scores([done[p].quality for p in paths])):
            done[path] = Scored(done[path].facts, done[path].stars, quality)
    return [done[f.path] for f in exposures if f.path in done], failed


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


def write_stars(scored: Scored, folder: Path, replace: bool) -> Outcome:
    """Write ``<stem>.stars.csv`` into a folder."""
    return write_same_text(folder / f"{scored.facts.stem}.stars.csv", star_csv(scored.stars), replace)


def read_stars(path: Path) -> StarTable:
    """Read a star table back."""
    bits = {flag.name.lower(): int(flag) for flag in StarFlag if flag.name}
    with path.open(newline="", encoding="utf-8") as handle:
        rows = list(csv.DictReader(handle))
    columns: dict[str, Any] = {}
    for name, _, _, _ in STAR_COLUMNS:
        if name == "flags":
            columns[name] = np.array([sum(bits[w] for w in r[name].split("|") if w) for r in rows], dtype=np.int64)
        else:
            columns[name] = np.array([float(r[name]) if r[name] else math.nan for r in rows])
    return StarTable(**columns)
