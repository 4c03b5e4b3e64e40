"""Masters, their matching, the calibration steps, defects, cosmic rays, and what calibration tells of a camera."""

from ulvar.calibration.calibrate import CalibrateOptions, Calibrator, make_calibrator
from ulvar.calibration.candidates import Candidate, Verdict, suits
from ulvar.calibration.comparing import Comparison, OddFrame, Thumb, compare_frames, make_thumb
from ulvar.calibration.cosmic import clean_cosmic_rays, find_cosmic_rays
from ulvar.calibration.defects import DefectOptions, Defects, dark_excess, find_defects, repair
from ulvar.calibration.flatplan import FlatPlan, plan_flat
from ulvar.calibration.levels import bias_is_unsafe, dark_current
from ulvar.calibration.masters import Master, build_master, master_numbers, read_master, write_master
from ulvar.calibration.matching import (
    NO_MASTER,
    Choice,
    Fit,
    Match,
    MatchOptions,
    match_flat,
    match_lights,
)
from ulvar.calibration.overscan import Region, correct_overscan, parse_region
from ulvar.calibration.shooting import Shot, shooting_list
from ulvar.calibration.transfer import PairPoint, Transfer, fit_transfer, measure_pair

__all__ = [
    "NO_MASTER",
    "CalibrateOptions",
    "Calibrator",
    "Candidate",
    "Choice",
    "Comparison",
    "DefectOptions",
    "Defects",
    "Fit",
    "FlatPlan",
    "Master",
    "Match",
    "MatchOptions",
    "OddFrame",
    "PairPoint",
    "Region",
    "Shot",
    "Thumb",
    "Transfer",
    "Verdict",
    "bias_is_unsafe",
    "build_master",
    "clean_cosmic_rays",
    "compare_frames",
    "correct_overscan",
    "dark_current",
    "dark_excess",
    "find_cosmic_rays",
    "find_defects",
    "fit_transfer",
    "make_calibrator",
    "make_thumb",
    "master_numbers",
    "match_flat",
    "match_lights",
    "measure_pair",
    "parse_region",
    "plan_flat",
    "read_master",
    "repair",
    "shooting_list",
    "suits",
    "write_master",
]
