"""Running the stations of a night: flows on its files, results into its store."""

from collections.abc import Callable, Mapping, Sequence

from ulvar.engine import JobContext
from ulvar.flows import Series
from ulvar.night.project import Night
from ulvar.night.stations.calibrate import run_calibrate
from ulvar.night.stations.colour import colour_stacks, run_colour, what_is_missing
from ulvar.night.stations.combine import run_combine, run_deep, run_score, run_stack
from ulvar.night.stations.following import run_follow
from ulvar.night.stations.intake import run_intake
from ulvar.night.stations.lights import Working, working_exposures, working_of
from ulvar.night.stations.masters import run_masters
from ulvar.night.stations.measure import (
    Beside,
    curves_beside,
    night_curve,
    run_curve,
    run_measure,
)
from ulvar.night.stations.origins import keep_origin, star_origin, way_to_origin
from ulvar.night.stations.photometric import (
    Candidates,
    field_of,
    find_candidates,
    growths_of,
    proposal_of,
    run_field,
    run_growth,
)
from ulvar.night.stations.plate import run_plate, run_plate_harder, solutions
from ulvar.night.stations.pointing import stack_options
from ulvar.night.stations.results import differing, name_result, results_of
from ulvar.night.stations.selection import QualityRow, night_rules, quality_rows, ruled_out, stack_candidates
from ulvar.night.stations.shared import (
    StationResult,
    curve_path,
    measured_files,
    series_file,
    series_path,
    star_table_path,
)
from ulvar.night.stations.sky import body_rows, pair_rows, run_bodies, run_pair
from ulvar.night.stations.tables import series_table, star_table
from ulvar.night.stations.together import mosaic_of, mosaic_series, no_mosaic, run_mosaic, run_watch, running_of

_OF_NIGHT = {"intake": run_intake, "masters": run_masters, "calibrate": run_calibrate}
SERIES_RUNNERS = {"combine": run_combine, "plate": run_plate, "measure": run_measure, "curve": run_curve}
# Each takes the night and a job's context, and works on the current series from Combine on.
RUNNERS: Mapping[str, Callable[[Night, JobContext], StationResult]] = {**_OF_NIGHT, **SERIES_RUNNERS}


def run_station(
    night: Night, context: JobContext, station: str, *, series: Sequence[Series] | None = None
) -> StationResult:
    """Run a station; from Combine on for each of several series (by default all of the night), one after the other.

    What one series lacks does not keep the others from their turn: the result counts what was done and says of
    which series it was not.
    """
    if station in _OF_NIGHT:
        return _OF_NIGHT[station](night, context)
    return for_each_series(night, context, SERIES_RUNNERS[station], series)


def for_each_series(
    night: Night,
    context: JobContext,
    runner: Callable[[Night, JobContext, Series | None], StationResult],
    series: Sequence[Series] | None = None,
) -> StationResult:
    """Run a station's work for several series (by default all of the night) and tell of them together."""
    chosen = night.series() if series is None else series
    if len(chosen) < 2:
        return runner(night, context, chosen[0] if chosen else None)
    results = [(one, runner(night, context, one)) for one in chosen]
    good = [(one, r) for one, r in results if not r.problem]
    bad = [(one, r) for one, r in results if r.problem]
    told = [f"{one.title}: {r.text}" for one, r in good] + [f"{one.title}: {r.problem}" for one, r in bad]
    return StationResult(
        results[0][1].station, f"{len(good)} of {len(results)} series. " + "; ".join(told),
        sum(r.done for _, r in results), sum(r.failed for _, r in results) + len(bad),
        "" if good else "; ".join(told),
    )  # fmt: skip


__all__ = [
    "RUNNERS",
    "SERIES_RUNNERS",
    "Beside",
    "Candidates",
    "QualityRow",
    "StationResult",
    "Working",
    "body_rows",
    "colour_stacks",
    "curve_path",
    "curves_beside",
    "differing",
    "field_of",
    "find_candidates",
    "for_each_series",
    "growths_of",
    "keep_origin",
    "measured_files",
    "mosaic_of",
    "mosaic_series",
    "name_result",
    "night_curve",
    "night_rules",
    "no_mosaic",
    "pair_rows",
    "proposal_of",
    "quality_rows",
    "results_of",
    "ruled_out",
    "run_bodies",
    "run_calibrate",
    "run_colour",
    "run_combine",
    "run_curve",
    "run_deep",
    "run_field",
    "run_follow",
    "run_growth",
    "run_intake",
    "run_masters",
    "run_measure",
    "run_mosaic",
    "run_pair",
    "run_plate",
    "run_plate_harder",
    "run_score",
    "run_stack",
    "run_station",
    "run_watch",
    "running_of",
    "series_file",
    "series_path",
    "series_table",
    "solutions",
    "stack_candidates",
    "stack_options",
    "star_origin",
    "star_table",
    "star_table_path",
    "way_to_origin",
    "what_is_missing",
    "working_exposures",
    "working_of",
]
