"""Which settings the slip shows at each station; what is told of each stands in the settings' own schema."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cache

from ulvar.night.schema import Setting, setting_of
from ulvar.night.settings import NightSettings


@cache
def _told(section: str, name: str) -> Setting:
    return setting_of(type(getattr(NightSettings(), section)), name)


@dataclass(frozen=True)
class Field:
    """A row of the slip.

    Attributes
    ----------
    section, name : str
        Where the setting is stored.
    term : str
        For a list of terms: the one that this row switches.
    words : tuple of str
        Title and sentence, where the schema's do not suit the station.
    unit_of : callable or None
        Returns the unit where another setting decides on it.
    seldom : bool
        Whether this row is folded away where the setting itself is not.
    """

    section: str
    name: str
    term: str = ""
    words: tuple[str, str] | None = None
    unit_of: Callable[[NightSettings], str] | None = None
    seldom: bool = False

    @property
    def told(self) -> Setting:
        """What the schema tells of it."""
        return _told(self.section, self.name)

    @property
    def folded(self) -> bool:
        """Whether it comes in sight only when it is asked for."""
        return self.seldom or self.told.fold

    @property
    def title(self) -> str:
        """What it is called here."""
        return self.words[0] if self.words else self.told.title

    @property
    def tip(self) -> str:
        """What it does."""
        return self.words[1] if self.words else self.told.sentence


def _rows(section: str, *names: str) -> tuple[Field, ...]:
    return tuple(Field(section, name) for name in names)


FIELDS: dict[str, tuple[Field, ...]] = {
    "intake": (
        Field(
            "masters", "temperature_c",
            words=("Temperature within", "Exposures whose sensor temperature differs by more are another group"),
        ),
        *_rows("intake", "clock_s", "row_us"),
    ),
    "masters": _rows(
        "masters", "exposure_s", "temperature_c", "age_d", "method", "low", "high", "exposure_fraction", "compare",
        "scale_darks", "use_library",
    ),
    "calibrate": _rows(
        "calibrate", "partial", "repair", "cosmic", "pedestal", "pedestal_adu", "cosmic_sigma", "cosmic_contrast",
        "dark_scale", "overscan", "trim", "overscan_fit", "linearity", "linear_adu", "overlays", "use_defect_list", "folder",
        "suffix",
    ),
    "combine": _rows(
        "combine", "method", "weights", "normalise", "framing", "lost", "low", "high", "threshold", "trails", "part", "scale",
        "north_up", "turn_deg", "kernel", "clamp", "colours", "white", "gradient", "saturation", "ratios", "drop", "proper", "maps",
        "align", "feather_px",
        "body_rate", "body_angle", "body_table",
    ),
    "plate": _rows(
        "plate", "catalogue", "bodies", "radius_deg", "faintest_mag", "blind", "seconds", "body_radius_arcsec"
    ),
    "measure": (
        Field("measure", "radius", unit_of=lambda settings: "× FWHM" if settings.measure.in_fwhm else "px"),
        *_rows(
            "measure", "in_fwhm", "several", "centre", "bodies", "inner_px", "outer_px", "sky", "elliptical", "profile",
        ),
        Field(
            "combine", "body_rate",
            words=("The body moves by", "Speed on the sky of the body that is marked in one exposure; marks in two or more tell it themselves"),
        ),
        Field("combine", "body_angle"),
    ),
    "curve": (
        Field("curve", "model"),
        *_rows("curve", "harmonics", "degree", "limb_1", "limb_2", "free_law", "light"),
        Field("curve", "detrend", "auto", ("Trends that the points ask for", "The linear terms that a criterion (BIC) chooses, in the place of those below")),
        *(
            Field("curve", "detrend", term, (f"Detrend by {word}", f"A linear term in {words}, fitted together with the model"), seldom=term not in ("airmass", "fwhm"))
            for term, word, words in (
                ("airmass", "airmass", "airmass"), ("fwhm", "FWHM", "FWHM"), ("sky", "sky", "the sky level"),
                ("x", "x", "the star's place along x"), ("y", "y", "the star's place along y"), ("time", "time", "the time"),
                ("comparisons", "comparison light", "what the comparison stars lost"),
            )
        ),
    ),
}  # fmt: skip
