"""The work of the stations on plain files: what the command line and the night share."""

from ulvar.flows.align import Aligned, align_all, pick_reference
from ulvar.flows.calibrate import calibrate_lights, calibrated_facts, load_masters, match_groups, prepared
from ulvar.flows.camera import CameraMeasure, measure_settings, plan_by_filter
from ulvar.flows.common import KEPT, NO_MATCH, SOLVED_BEFORE, Outcome
from ulvar.flows.curve import CurveOptions, CurveResult, make_curve
from ulvar.flows.intake import Sorted, contradicted, look_at_pixels, scan_files, scan_paths, sort_exposures
from ulvar.flows.library import PREFIX, CameraNumbers, Entry, Library, default_library, library_at, master_file_name
from ulvar.flows.masters import KINDS, MasterOptions, make_masters
from ulvar.flows.measure import Measured, MeasureOptions, Reference, make_reference, measure_series
from ulvar.flows.plate import (
    PlateOptions,
    catalogue_print,
    check_catalogue,
    hinted_cones,
    put_solution,
    read_wcs_file,
    solve_files,
    wcs_of,
)
from ulvar.flows.series import Field, Series, find_series, folded, picked
from ulvar.flows.stack import StackOptions, StackResult, stack_exposures
from ulvar.flows.starfind import FindTask, Scored, detect_in, find_all, read_stars, stars_item, write_stars

__all__ = [
    "KEPT",
    "KINDS",
    "NO_MATCH",
    "PREFIX",
    "SOLVED_BEFORE",
    "Aligned",
    "CameraMeasure",
    "CameraNumbers",
    "CurveOptions",
    "CurveResult",
    "Entry",
    "Field",
    "FindTask",
    "Library",
    "MasterOptions",
    "MeasureOptions",
    "Measured",
    "Outcome",
    "PlateOptions",
    "Reference",
    "Scored",
    "Series",
    "Sorted",
    "StackOptions",
    "StackResult",
    "align_all",
    "calibrate_lights",
    "calibrated_facts",
    "catalogue_print",
    "check_catalogue",
    "contradicted",
    "default_library",
    "detect_in",
    "find_all",
    "find_series",
    "folded",
    "hinted_cones",
    "library_at",
    "load_masters",
    "look_at_pixels",
    "make_curve",
    "make_masters",
    "make_reference",
    "master_file_name",
    "match_groups",
    "measure_series",
    "measure_settings",
    "pick_reference",
    "picked",
    "plan_by_filter",
    "prepared",
    "put_solution",
    "read_stars",
    "read_wcs_file",
    "scan_files",
    "scan_paths",
    "solve_files",
    "sort_exposures",
    "stack_exposures",
    "stars_item",
    "wcs_of",
    "write_stars",
]
