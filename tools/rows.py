"""A row of a series table for tests, of which no two numbers are alike."""

from datetime import UTC, datetime

from ulvar.photometry import SeriesRow
from ulvar.stars import StarFlag

MID = datetime(2027, 2, 11, 21, 4, 5, 250000, tzinfo=UTC)


def whole_row(**changes: object) -> SeriesRow:
    """Return a row whose every field has a value of its own."""
    values = {
        "file": "night/a.fits", "time_utc_mid": MID, "jd_utc": 2461448.377838542, "bjd_tdb": 2461448.382512345, "name": "Tarnholt 12",
        "role": "target", "x": 101.25, "y": 57.5, "flux": 18234.5678, "flux_error": 42.125, "sky": 301.12345, "sky_error": 0.51234,
        "peak": 4021.75, "fwhm_px": 3.125, "airmass": 1.234567, "flags": int(StarFlag.SATURATED | StarFlag.NEIGHBOUR),
        "radius_px": 5.3125, "inner_px": 9.5625, "outer_px": 17.125, "covered": 0.125, "noise_source": 30.5, "noise_sky": 20.25,
        "noise_read": 11.125, "noise_level": 7.75, "noise_flat": 3.375, "noise_scintillation": 13.0625, "profile_flux": 18200.5,
        "profile_error": 40.625, "ra": 115.5226046, "dec": 41.3041667, "aperture": 1.7,
    }  # fmt: skip
    return SeriesRow(**{**values, **changes})  # type: ignore[arg-type]
