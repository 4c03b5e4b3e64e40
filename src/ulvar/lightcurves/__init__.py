"""Time scales, detrending, eclipse models, minima, periods."""

from ulvar.lightcurves.airmass import airmass_at, altitude_deg, moon_at, sun_altitude_deg
from ulvar.lightcurves.curve import CURVE_COLUMNS, LightCurve, differential_curve, write_curve
from ulvar.lightcurves.eclipse import EclipseFit, TemplateShape, eclipse_template, fit_eclipse
from ulvar.lightcurves.minimum import Minimum, kwee_van_woerden
from ulvar.lightcurves.period import PeriodResult, find_period
from ulvar.lightcurves.times import barycentric_jd, jd_from_utc, julian_year

__all__ = [
    "CURVE_COLUMNS",
    "EclipseFit",
    "LightCurve",
    "Minimum",
    "PeriodResult",
    "TemplateShape",
    "airmass_at",
    "altitude_deg",
    "barycentric_jd",
    "differential_curve",
    "eclipse_template",
    "find_period",
    "fit_eclipse",
    "jd_from_utc",
    "julian_year",
    "kwee_van_woerden",
    "moon_at",
    "sun_altitude_deg",
    "write_curve",
]
