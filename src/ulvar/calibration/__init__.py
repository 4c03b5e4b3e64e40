"""Masters, matching, the calibration steps."""

from ulvar.calibration.calibrate import Calibrator, make_calibrator
from ulvar.calibration.defects import dark_defects, flat_defects
from ulvar.calibration.masters import Master, build_master, read_master, write_master
from ulvar.calibration.matching import Candidate, Choice, Fit, Match, Verdict, match_flat, match_lights, suits

__all__ = [
    "Calibrator",
    "Candidate",
    "Choice",
    "Fit",
    "Master",
    "Match",
    "Verdict",
    "build_master",
    "dark_defects",
    "flat_defects",
    "make_calibrator",
    "match_flat",
    "match_lights",
    "read_master",
    "suits",
    "write_master",
]
