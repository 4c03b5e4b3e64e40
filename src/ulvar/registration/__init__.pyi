from .matching import LEAST_STARS as LEAST_STARS
from .matching import MatchOptions as MatchOptions
from .matching import match_stars as match_stars
from .resample import resample as resample
from .transform import Transform as Transform
from .transform import fit_transform as fit_transform
