"""Background, detection, centroids, shape; the quality of an exposure."""

from ulvar.stars.background import Background, estimate_background
from ulvar.stars.detection import Detection, DetectOptions, find_stars, limit_stars
from ulvar.stars.fieldmap import FieldMap, field_map
from ulvar.stars.mosaic import EvenMosaic, even_frame, even_mosaic
from ulvar.stars.psf import MeasuredPsf
from ulvar.stars.quality import (
    BLENDS,
    DEFAULT_BLEND,
    QUALITIES,
    ExposureQuality,
    Quality,
    blend_scores,
    measure_quality,
    relative_scores,
)
from ulvar.stars.table import STAR_COLUMNS, StarFlag, StarTable, flag_words
from ulvar.stars.trails import Trail, find_trails, mask_trails

__all__ = [
    "BLENDS",
    "DEFAULT_BLEND",
    "QUALITIES",
    "STAR_COLUMNS",
    "Background",
    "DetectOptions",
    "Detection",
    "EvenMosaic",
    "ExposureQuality",
    "FieldMap",
    "MeasuredPsf",
    "Quality",
    "StarFlag",
    "StarTable",
    "Trail",
    "blend_scores",
    "estimate_background",
    "even_frame",
    "even_mosaic",
    "field_map",
    "find_stars",
    "find_trails",
    "flag_words",
    "limit_stars",
    "mask_trails",
    "measure_quality",
    "relative_scores",
]
