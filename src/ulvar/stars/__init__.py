"""Background, detection, centroids, shape; the quality of an exposure."""

from ulvar.stars.background import Background, estimate_background
from ulvar.stars.detection import Detection, DetectOptions, find_stars
from ulvar.stars.profile import measured_fwhm
from ulvar.stars.quality import ExposureQuality, measure_quality, relative_scores
from ulvar.stars.table import STAR_COLUMNS, StarFlag, StarTable, flag_words

__all__ = [
    "STAR_COLUMNS",
    "Background",
    "DetectOptions",
    "Detection",
    "ExposureQuality",
    "StarFlag",
    "StarTable",
    "estimate_background",
    "find_stars",
    "flag_words",
    "measure_quality",
    "measured_fwhm",
    "relative_scores",
]
