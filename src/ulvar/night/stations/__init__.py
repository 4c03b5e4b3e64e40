"""Running the stations of a night: flows on its files, results into its store."""

from ulvar.night.stations.calibrate import run_calibrate
from ulvar.night.stations.combine import run_combine, run_deep, run_score, run_stack
from ulvar.night.stations.intake import run_intake
from ulvar.night.stations.masters import run_masters
from ulvar.night.stations.measure import curve_path, night_curve, run_curve, run_measure, series_path
from ulvar.night.stations.plate import run_plate, solutions
from ulvar.night.stations.selection import QualityRow, night_rules, quality_rows, ruled_out, stack_candidates
from ulvar.night.stations.shared import (
    StationResult,
    measured_files,
    star_table_path,
    working_exposures,
    working_filter,
)

RUNNERS = {
    "intake": run_intake,
    "masters": run_masters,
    "calibrate": run_calibrate,
    "combine": run_combine,
    "plate": run_plate,
    "measure": run_measure,
    "curve": run_curve,
}

__all__ = [
    "RUNNERS",
    "QualityRow",
    "StationResult",
    "curve_path",
    "measured_files",
    "night_curve",
    "night_rules",
    "quality_rows",
    "ruled_out",
    "run_calibrate",
    "run_combine",
    "run_curve",
    "run_deep",
    "run_intake",
    "run_masters",
    "run_measure",
    "run_plate",
    "run_score",
    "run_stack",
    "series_path",
    "solutions",
    "stack_candidates",
    "star_table_path",
    "working_exposures",
    "working_filter",
]
