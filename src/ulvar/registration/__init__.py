"""Star-pattern matching, transforms, resampling."""

from ulvar.registration.matching import MatchOptions, match_stars
from ulvar.registration.resample import resample
from ulvar.registration.transform import Transform, fit_transform

__all__ = ["MatchOptions", "Transform", "fit_transform", "match_stars", "resample"]
