"""Settings of the stations: plain data, stored with the night and in its recipe."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, ConfigDict, Field, field_validator

from ulvar.combine import Method, Rejection
from ulvar.frames import TagRule, Tolerances
from ulvar.stacking import Framing, Normalise, Weighting


class _Section(BaseModel):
    model_config = ConfigDict(extra="forbid", validate_assignment=True)


class TagSettings(_Section):
    """A session or tag that stands in the path."""

    name: str = Field(min_length=1, max_length=40)
    pattern: str = ""
    matches: bool = False
    stacks: bool = False

    @field_validator("pattern")
    @classmethod
    def _names_the_value_once(cls, pattern: str) -> str:
        if pattern and pattern.count("{}") != 1:
            raise ValueError("a pattern names the value once, with {}")
        return pattern

    @property
    def rule(self) -> TagRule:
        """As the core takes it."""
        return TagRule(self.name, self.pattern, self.matches, self.stacks)


class IntakeSettings(_Section):
    """Sessions and tags by path."""

    tags: list[TagSettings] = []

    @property
    def rules(self) -> list[TagRule]:
        """As the core takes them."""
        return [tag.rule for tag in self.tags]


class MastersSettings(_Section):
    """How far off still fits, and how calibration frames are combined."""

    exposure_s: float = Field(0.5, ge=0)
    exposure_fraction: float = Field(0.02, ge=0, le=0.5)
    temperature_c: float = Field(1.0, ge=0)
    age_d: float = Field(30.0, ge=0)
    method: Method = Method.SIGMA
    low: float = Field(4.0, gt=0)
    high: float = Field(4.0, gt=0)

    @property
    def tolerances(self) -> Tolerances:
        """As the core takes them."""
        return Tolerances(self.exposure_s, self.exposure_fraction, self.temperature_c, self.age_d)

    @property
    def rejection(self) -> Rejection:
        """As the core takes it."""
        return Rejection(self.method, self.low, self.high)


class CalibrateSettings(_Section):
    """Calibration."""

    partial: bool = False


class CombineSettings(_Section):
    """Scoring rules and stacking. Limits of None rule nothing out."""

    filter: str = ""
    threshold: float = Field(5.0, gt=0)
    fwhm_over: float | None = None
    transparency_under: float | None = 0.8
    ellipticity_over: float | None = 0.3
    method: Method = Method.SIGMA
    low: float = Field(4.0, gt=0)
    high: float = Field(3.0, gt=0)
    normalise: Normalise = Normalise.BOTH
    weights: Weighting = Weighting.SNR
    framing: Framing = Framing.REFERENCE


class PlateSettings(_Section):
    """Where to look on the sky."""

    catalogue: str = ""
    radius_deg: float = Field(1.0, gt=0)
    scale_low: float | None = None
    scale_high: float | None = None


class MeasureSettings(_Section):
    """Aperture photometry."""

    radius: float = Field(1.7, gt=0)
    in_fwhm: bool = True
    inner_px: float | None = None
    outer_px: float | None = None
    centre: Literal["forced", "refined"] = "forced"


class CurveSettings(_Section):
    """Light curve and fit."""

    model: Literal["none", "eclipse"] = "eclipse"
    detrend: list[str] = []
    leave_out: list[str] = []


class NightSettings(_Section):
    """All stations' settings."""

    intake: IntakeSettings = IntakeSettings()
    masters: MastersSettings = MastersSettings()
    calibrate: CalibrateSettings = CalibrateSettings()
    combine: CombineSettings = CombineSettings()
    plate: PlateSettings = PlateSettings()
    measure: MeasureSettings = MeasureSettings()
    curve: CurveSettings = CurveSettings()
