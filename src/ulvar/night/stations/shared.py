"""What the stations share: results, the working exposures, the working filter."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from ulvar.flows import Outcome, calibrated_facts
from ulvar.frames import ExposureFacts
from ulvar.inspection import Finding, Severity, notice, sort_findings
from ulvar.night.products import Product
from ulvar.night.project import Night
from ulvar.night.recipe import record_step


@dataclass(frozen=True)
class StationResult:
    """What a station did: counts and a sentence; `problem` is set when nothing could be done."""

    station: str
    text: str
    done: int = 0
    failed: int = 0
    problem: str = ""
    values: dict[str, Any] | None = None


def finish(night: Night, result: StationResult, findings: list[Finding]) -> StationResult:
    night.set_findings(result.station, sort_findings(findings))
    blocks = any(f.severity is Severity.BLOCKS for f in findings)
    state = "attention" if result.problem or blocks else "part" if result.failed else "done"
    night.mark_run(result.station, state)
    record_step(night, result.station)
    return result


def told_failures(
    station: str, code: str, done: str, bad: Sequence[Outcome], raw_of: Mapping[str, str]
) -> list[Finding]:
    """Return one finding that counts exposures which failed at a station and gives the first one's reason."""
    if not bad:
        return []
    return [
        notice(
            code,
            f"{len(bad)} exposures are not {done}",
            f"{Path(bad[0].file).name}: {bad[0].reason}.",
            tuple(raw_of[o.file] for o in bad),
            station=station,
        )
    ]


def kept_lights(night: Night) -> list[ExposureFacts]:
    out = night.left_out
    return [f for f in night.lights() if f.path not in out]


def working_exposures(night: Night) -> dict[str, ExposureFacts]:
    """Return raw path to the facts of the file to work on: the calibrated copy.

    Only where the night has no calibrated light at all are raw lights themselves worked on.
    """
    calibrated = night.products_of("calibrated")
    lights = kept_lights(night)
    if calibrated:
        return {
            f.path: calibrated_facts(f, calibrated[f.path].output, calibrated[f.path].values)
            for f in lights
            if f.path in calibrated
        }
    return {f.path: f for f in lights}


def working_filter(night: Night) -> str:
    """Return the filter that is combined and measured: the one set, else the one with most exposures."""
    wanted = night.settings.combine.filter
    filters = [f.filter for f in working_exposures(night).values()]
    if wanted and wanted in filters:
        return wanted
    return max(sorted(set(filters)), key=filters.count) if filters else ""


def star_table_path(night: Night, score: Product) -> Path:
    """Return the file of the stars that were found when an exposure was scored."""
    # Nights scored before tables had names of their own have them under the file's.
    name = score.values.get("table") or f"{ExposureFacts(score.output).stem}.stars.csv"
    return night.products / "stars" / name


def measured_files(night: Night) -> dict[str, str]:
    """Return raw path to what the series table calls the exposure."""
    calibrated = night.products_of("calibrated")
    result = {}
    for raw, product in night.products_of("measured").items():
        copy = calibrated.get(raw)
        result[raw] = product.values.get("file") or Path(copy.output if copy else raw).name
    return result


def number_of(value: Any) -> float:
    """Return a stored number; what is missing is NaN."""
    return math.nan if value is None else float(value)
