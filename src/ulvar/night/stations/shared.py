"""What the stations share: results, files of a series."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from ulvar.engine import counted
from ulvar.flows import Outcome, Series
from ulvar.frames import ExposureFacts
from ulvar.inspection import Finding, Severity, notice, sort_findings
from ulvar.night.products import Product
from ulvar.night.project import Night
from ulvar.night.recipe import record_step
from ulvar.registration import Fit
from ulvar.stars import Trail


@dataclass(frozen=True)
class StationResult:
    """What a station did: counts and a sentence; `problem` is set when nothing could be done."""

    station: str
    text: str
    done: int = 0
    failed: int = 0
    problem: str = ""
    values: dict[str, Any] | None = None
    series: str = ""


def finish(night: Night, result: StationResult, findings: list[Finding], series: Series | None = None) -> StationResult:
    """Store a station's findings and state (from Combine on those of a series), and its step in the recipe."""
    night.set_findings(result.station, sort_findings(findings), series.key if series else "")
    blocks = any(f.severity is Severity.BLOCKS for f in findings)
    state = "attention" if result.problem or blocks else "part" if result.failed else "done"
    night.mark_run(result.station, state, series)
    record_step(night, result.station)
    return result


def no_series(night: Night, station: str) -> StationResult:
    """Say that there is nothing to work on."""
    return finish(night, StationResult(station, "no lights", problem="there is no light to work on"), [])


def told_failures(
    station: str, code: str, done: str, bad: Sequence[Outcome], raw_of: Mapping[str, str]
) -> list[Finding]:
    """Return one finding that counts exposures which failed at a station and gives the first one's reason."""
    if not bad:
        return []
    return [
        notice(
            code,
            f"{counted(len(bad), 'exposure', 'is', 'are')} not {done}",
            f"{Path(bad[0].file).name}: {bad[0].reason}.",
            tuple(raw_of[o.file] for o in bad),
            station=station,
        )
    ]


def kept_lights(night: Night) -> list[ExposureFacts]:
    out = night.left_out
    return [f for f in night.lights() if f.path not in out]


def star_table_path(night: Night, score: Product) -> Path:
    """Return the file of the stars that were found when an exposure was scored."""
    # Nights scored before tables had names of their own have them under the file's; before series, in one folder.
    name = score.values.get("table") or f"{ExposureFacts(score.output).stem}.stars.csv"
    return night.products / name if "/" in name else night.products / "stars" / name


def series_file(night: Night, series: Series, name: str) -> Path:
    """Return where a file of a series is: in a folder of its own, named after the series."""
    return night.series_folder(series.key) / f"{series.key}-{name}"


def series_path(night: Night, series: Series) -> Path:
    """Return where the table of a measured series is."""
    return series_file(night, series, "series.csv")


def curve_path(night: Night, series: Series) -> Path:
    """Return where the light curve of a series is."""
    return series_file(night, series, "curve.csv")


def measured_files(night: Night, series: Series) -> dict[str, str]:
    """Return raw path to what the series table calls the exposure."""
    calibrated = night.products_of("calibrated")
    result = {}
    for raw, product in night.products_of("measured", series.key).items():
        copy = calibrated.get(raw)
        result[raw] = product.values.get("file") or Path(copy.output if copy else raw).name
    return result


def fit_of(values: Mapping[str, Any]) -> Fit:
    """Return what the stored way of a scored exposure was fitted to."""
    tried = tuple((str(kind), float(missed)) for kind, missed in values.get("maps_tried") or ())
    return Fit(number_of(values["residual_px"]), values["matched"], tried=tried)


def trails_of(values: Mapping[str, Any]) -> tuple[Trail, ...]:
    """Return where the trails of a scored exposure run; of their light nothing is stored."""
    lines = values.get("trail_lines") or ()
    return tuple(Trail(x0, y0, x1, y1, width, math.nan, math.nan) for x0, y0, x1, y1, width in lines)


def stored_number(value: float) -> float | None:
    """Return a number as a row holds it: what is not finite is missing."""
    return float(value) if math.isfinite(value) else None


def number_of(value: Any) -> float:
    """Return a stored number; what is missing is NaN."""
    return math.nan if value is None else float(value)
