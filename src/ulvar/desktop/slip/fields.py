"""Which settings the slip shows at each station: a table of plain data."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from ulvar.combine import Method
from ulvar.stacking import Framing, Weighting

_METHODS = {
    Method.SIGMA: "Sigma clipping", Method.WINSORIZED: "Winsorized sigma", Method.MAD: "Median deviation",
    Method.LINEAR: "Line through ranks", Method.MEDIAN: "Median", Method.MEAN: "Mean, no rejection",
}  # fmt: skip
_WEIGHTS = {
    Weighting.SNR: "Point-source SNR", Weighting.NOISE: "Noise", Weighting.FWHM: "FWHM", Weighting.SCORE: "Score",
    Weighting.EQUAL: "Equal",
}  # fmt: skip
_FRAMINGS = {
    Framing.REFERENCE: "Reference exposure",
    Framing.UNION: "Everything",
    Framing.COMMON: "Common area",
}


@dataclass(frozen=True)
class Field:
    """One setting as the slip shows it."""

    section: str
    name: str
    label: str
    tip: str
    unit: str = ""
    decimals: int = 1
    low: float = 0.0
    high: float = 1e4
    choices: dict[Any, str] | None = None
    kind: str = "number"
    scale: float = 1.0
    fold: bool = False


FIELDS: dict[str, tuple[Field, ...]] = {
    "intake": (Field("masters", "temperature_c", "Same temperature", "Exposures whose sensor temperature differs by more are another group", "°C"),),
    "masters": (
        Field("masters", "exposure_s", "Exposure within", "A dark's exposure may differ by this much, or by 2 %", "s"),
        Field("masters", "temperature_c", "Temperature within", "A dark's sensor temperature may differ by this much", "°C"),
        Field("masters", "age_d", "Warn when older than", "Older calibration frames are used with a warning", "d", 0),
        Field("masters", "method", "Combine by", "How the frames of a set become one", choices=_METHODS, kind="choice"),
        Field("masters", "low", "Reject below", "Values this many deviations under the rest are left away", "σ", 1, 0.5, 50, fold=True),
        Field("masters", "high", "Reject above", "Values this many deviations over the rest are left away", "σ", 1, 0.5, 50, fold=True),
        Field("masters", "exposure_fraction", "Or exposure within", "The larger of the two limits counts", "%", 1, 0, 50, scale=100, fold=True),
        Field("masters", "compare", "Leave out frames that differ", "Frames with a light leak, another level or pattern are in no master", kind="check", fold=True),
        Field("masters", "scale_darks", "Scale darks of another exposure", "Needs a bias; noisier than a dark of the right exposure", kind="check", fold=True),
        Field("masters", "use_library", "Use the library", "Masters of the library serve where this night's own do not fit", kind="check", fold=True),
    ),
    "calibrate": (
        Field("calibrate", "partial", "Use what fits", "Calibrate also where a kind of calibration frame has nothing safe", kind="check"),
        Field("calibrate", "repair", "Repair defective pixels", "Replace hot and cold pixels and columns by their neighbours; they stay marked", kind="check"),
        Field("calibrate", "cosmic", "Clean cosmic rays", "Find them by their sharp edges in each exposure; repaired pixels stay marked", kind="check"),
        Field("calibrate", "pedestal", "Pedestal", "A constant added so that no pixel is negative; photometry takes it off again", choices={"off": "Off", "auto": "Where needed", "fixed": "Always"}, kind="choice"),
        Field("calibrate", "pedestal_adu", "Pedestal of", "Added when Pedestal is Always", "ADU", 0, 0, 60000, fold=True),
        Field("calibrate", "cosmic_sigma", "Cosmic rays over", "Edges that stand this many deviations over those around", "σ", 1, 2, 50, fold=True),
        Field("calibrate", "cosmic_contrast", "Sharper than stars by", "Larger spares the cores of sharp stars", "×", 1, 0.5, 50, fold=True),
        Field("calibrate", "dark_scale", "Scaled darks follow", "The exposure times, or the factor that takes most hot pixels out", choices={"exposure": "Exposure time", "noise": "Hot pixels"}, kind="choice", fold=True),
        Field("calibrate", "overscan", "Overscan", "Pixels without light, whose level is taken off; empty: what the header says", kind="region", fold=True),
        Field("calibrate", "trim", "Keep only", "The part of the frame that holds the picture; empty: what the header says", kind="region", fold=True),
        Field("calibrate", "overscan_fit", "Overscan by", "One level for the frame, a smooth level for each row, or a line", choices={"rows": "Each row", "median": "One level", "line": "A line"}, kind="choice", fold=True),
        Field("calibrate", "linearity", "Linearity", "c1, c2 … of true = d (1 + c1 u + c2 u² …), u = d / 65535; empty: none", kind="numbers", fold=True),
        Field("calibrate", "overlays", "Masked rectangles", "A burnt-in time stamp or logo: no data", kind="regions", fold=True),
        Field("calibrate", "use_defect_list", "Use the camera's defect list", "Pixels listed for this camera in the library", kind="check", fold=True),
        Field("calibrate", "folder", "Write into", "Folder of the calibrated exposures; empty: the night's own", kind="folder", fold=True),
        Field("calibrate", "suffix", "Suffix", "Put behind each exposure's name", kind="text", fold=True),
    ),
    "combine": (
        Field("combine", "method", "Reject", "How outliers are found at each pixel", choices=_METHODS, kind="choice"),
        Field("combine", "weights", "Weigh by", "What a better exposure counts more for", choices=_WEIGHTS, kind="choice"),
        Field("combine", "framing", "Frame", "Which part of the sky the stack shows", choices=_FRAMINGS, kind="choice"),
        Field("combine", "low", "Reject below", "Values this many deviations under the rest are left away", "σ", 1, 0.5, 50, fold=True),
        Field("combine", "high", "Reject above", "Values this many deviations over the rest are left away", "σ", 1, 0.5, 50, fold=True),
        Field("combine", "threshold", "Find stars over", "Smallest signal-to-noise ratio of a star; the board's page Stars shows what it does", "σ", 1, 2, 100, fold=True),
    ),
    "plate": (
        Field("plate", "catalogue", "Catalogue", "Star catalogue: a CSV file with ra and dec, or a folder of tiles", kind="file"),
        Field("plate", "radius_deg", "Search radius", "How far the header's position may be off", "°", 1, 0.1, 90),
    ),
    "measure": (
        Field("measure", "radius", "Aperture radius", "Aperture radius, in the unit below", "", 2, 0.2, 200),
        Field("measure", "in_fwhm", "In units of the FWHM", "The aperture follows each exposure's FWHM; otherwise the radius is in pixels", kind="check"),
        Field("measure", "centre", "Aperture at", "At the star's own position on the sky, or on the star found there", choices={"forced": "Sky position", "refined": "Star found there"}, kind="choice"),
    ),
    "curve": (
        Field("curve", "model", "Model", "What is fitted to the light curve", choices={"eclipse": "Eclipse", "none": "None"}, kind="choice"),
        Field("curve", "detrend", "Take out airmass", "A linear term in airmass, fitted together with the model", kind="term:airmass"),
        Field("curve", "detrend", "Take out FWHM", "A linear term in FWHM, fitted together with the model", kind="term:fwhm"),
        Field("curve", "detrend", "Take out sky", "A linear term in the sky level, fitted together with the model", kind="term:sky"),
    ),
}  # fmt: skip
