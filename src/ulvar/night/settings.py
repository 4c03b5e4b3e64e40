"""Settings of the stations: plain data, stored with the night and in its recipe."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, ValidationError, field_validator, model_validator

from ulvar.calibration import CalibrateOptions, DefectOptions, MatchOptions, Region, parse_region
from ulvar.calibration.prepare import Preparation
from ulvar.combine import Method, Rejection
from ulvar.frames import Shape, TagRule, Tolerances
from ulvar.stacking import Framing, Normalise, Rule, Weighting
from ulvar.stars import BLENDS, DEFAULT_BLEND, QUALITIES, DetectOptions


class _Section(BaseModel):
    model_config = ConfigDict(extra="forbid", validate_assignment=True)


_BOUNDS = {
    "greater_than_equal": ("at least", "ge"), "greater_than": ("above", "gt"),
    "less_than_equal": ("at most", "le"), "less_than": ("below", "lt"),
}  # fmt: skip


def first_problem(error: ValidationError) -> tuple[str, str]:
    """Return the name of the first setting that is wrong, and why, in plain words."""
    first = error.errors()[0]
    name = str(first["loc"][-1]) if first["loc"] else ""
    if first["type"] in _BOUNDS:
        word, key = _BOUNDS[first["type"]]
        return name, f"it must be {word} {first['ctx'][key]:g}, not {first['input']}"
    return name, str(first["msg"]).removeprefix("Value error, ")


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


class PinSettings(_Section):
    """A choice made by hand on the match board."""

    lights: str
    kind: Literal["bias", "dark", "flat", "dark_flat"]
    choice: str


class MastersSettings(_Section):
    """How far off still fits, and how calibration frames are combined."""

    exposure_s: float = Field(0.5, ge=0)
    exposure_fraction: float = Field(0.02, ge=0, le=0.5)
    temperature_c: float = Field(1.0, ge=0)
    age_d: float = Field(30.0, ge=0)
    scale_darks: bool = False
    use_library: bool = True
    compare: bool = True
    method: Method = Method.SIGMA
    low: float = Field(4.0, gt=0)
    high: float = Field(4.0, gt=0)
    pins: list[PinSettings] = []

    @property
    def tolerances(self) -> Tolerances:
        """As the core takes them."""
        return Tolerances(self.exposure_s, self.exposure_fraction, self.temperature_c, self.age_d)

    @property
    def rejection(self) -> Rejection:
        """As the core takes it."""
        return Rejection(self.method, self.low, self.high, few=True)

    def pin(self, lights: str, kind: str, choice: str | None) -> None:
        """Choose by hand what a group of lights uses; None gives the choice back to matching."""
        pins = [p for p in self.pins if (p.lights, p.kind) != (lights, kind)]
        if choice is not None:
            pins.append(PinSettings(lights=lights, kind=kind, choice=choice))  # type: ignore[arg-type]
        self.pins = pins

    def matching(self, tags: list[TagSettings]) -> MatchOptions:
        """Return tolerances, bound tags and pins as the core takes them."""
        pins: dict[str, dict[str, str]] = {}
        for pin in self.pins:
            pins.setdefault(pin.lights, {})[pin.kind] = pin.choice
        return MatchOptions(self.tolerances, self.scale_darks, tuple(t.name for t in tags if t.matches), pins)


def _region(text: str) -> str:
    if text:
        parse_region(text)
    return text


RegionText = Annotated[str, AfterValidator(_region)]


class CalibrateSettings(_Section):
    """Calibration: every step is optional."""

    partial: bool = False
    overscan: RegionText = ""
    trim: RegionText = ""
    header_regions: bool = True
    overscan_fit: Literal["median", "rows", "line"] = "rows"
    linearity: list[float] = []
    linearity_zero_adu: float = 0.0
    dark_scale: Literal["exposure", "noise"] = "exposure"
    mark_defects: bool = True
    repair: bool = False
    hot_sigma: float = Field(8.0, ge=2, le=100)
    cold_below: float = Field(0.5, ge=0, lt=1)
    bright_above: float = Field(1.5, gt=1)
    columns: bool = True
    use_defect_list: bool = True
    cosmic: bool = False
    cosmic_sigma: float = Field(4.5, ge=2, le=50)
    cosmic_contrast: float = Field(3.0, gt=0, le=50)
    overlays: list[RegionText] = []
    pedestal: Literal["off", "auto", "fixed"] = "off"
    pedestal_adu: float = Field(0.0, ge=0)
    folder: str = ""
    suffix: str = Field("-cal", min_length=1)

    @field_validator("suffix")
    @classmethod
    def _fits_a_file_name(cls, suffix: str) -> str:
        if "/" in suffix or suffix.lower().endswith(".fits"):
            raise ValueError("the suffix goes before .fits and holds no slash")
        return suffix

    def preparation(self, header_overscan: str = "", header_trim: str = "") -> Preparation:
        """Return overscan, trimming and linearity; regions of the header count where none is set here.

        A header region that cannot be read is passed over.
        """

        def region(own: str, told: str) -> Region | None:
            if own:
                return parse_region(own)
            try:
                return parse_region(told) if told and self.header_regions else None
            except ValueError:
                return None

        overscan = region(self.overscan, header_overscan)
        # A header's region to keep is of use only where there is something beside it to cut away.
        trim = region(self.trim, header_trim if overscan is not None else "")
        return Preparation(overscan, trim, self.overscan_fit, tuple(self.linearity), self.linearity_zero_adu)

    def options(self, preparation: Preparation) -> CalibrateOptions:
        """Return the steps as the core takes them."""
        pedestal: float | Literal["off", "auto"] = self.pedestal_adu if self.pedestal == "fixed" else "off"
        return CalibrateOptions(
            preparation=preparation, dark_scale=self.dark_scale, mark_defects=self.mark_defects, repair=self.repair,
            defects=DefectOptions(self.hot_sigma, self.cold_below, self.bright_above, self.columns),
            cosmic=self.cosmic, cosmic_sigma=self.cosmic_sigma, cosmic_contrast=self.cosmic_contrast,
            overlays=tuple(parse_region(t) for t in self.overlays),
            pedestal="auto" if self.pedestal == "auto" else pedestal,
        )  # fmt: skip


class ShapeSettings(_Section):
    """A region of the sensor where no stars are looked for."""

    kind: Literal["rectangle", "circle", "polygon"]
    points: list[tuple[float, float]]

    @model_validator(mode="after")
    def _makes_a_region(self) -> ShapeSettings:
        Shape(self.kind, tuple(self.points))
        return self

    @property
    def shape(self) -> Shape:
        """As the core takes it."""
        return Shape(self.kind, tuple(self.points))


class RuleSettings(_Section):
    """A rule that keeps exposures from the stack; the limit is in stored units (shares, not per cent)."""

    quality: str
    side: Literal["over", "under"]
    limit: float

    @field_validator("quality")
    @classmethod
    def _is_a_quality(cls, quality: str) -> str:
        if quality not in QUALITIES:
            raise ValueError(f"there is no quality '{quality}'; these are: {', '.join(QUALITIES)}")
        return quality

    @property
    def rule(self) -> Rule:
        """As the core takes it."""
        return Rule(self.quality, self.side, self.limit)


# Rules were three fixed limits before they became a list.
_OLD_RULES = {
    "fwhm_over": ("fwhm_px", "over"), "transparency_under": ("transparency", "under"),
    "ellipticity_over": ("ellipticity", "over"),
}  # fmt: skip


class CombineSettings(_Section):
    """Star finding, scoring, rules and stacking."""

    filter: str = ""
    threshold: float = Field(5.0, ge=2, le=100)
    smallest: float = Field(0.55, ge=0, lt=1)
    widest: float = Field(3.0, gt=1, le=20)
    longest: float = Field(2.2, gt=1, le=20)
    rules: list[RuleSettings] = [
        RuleSettings(quality="transparency", side="under", limit=0.8),
        RuleSettings(quality="ellipticity", side="over", limit=0.3),
    ]
    blend: dict[str, float] = dict(DEFAULT_BLEND)
    regions: list[ShapeSettings] = []
    method: Method = Method.SIGMA
    low: float = Field(4.0, gt=0)
    high: float = Field(3.0, gt=0)
    normalise: Normalise = Normalise.BOTH
    weights: Weighting = Weighting.SNR
    framing: Framing = Framing.REFERENCE

    @model_validator(mode="before")
    @classmethod
    def _from_older_nights(cls, data: Any) -> Any:
        if isinstance(data, dict) and any(name in data for name in _OLD_RULES):
            known = {name: data[name] for name in _OLD_RULES if data.get(name) is not None}
            data = {k: v for k, v in data.items() if k not in _OLD_RULES}
            data.setdefault(
                "rules",
                [{"quality": _OLD_RULES[n][0], "side": _OLD_RULES[n][1], "limit": v} for n, v in known.items()],
            )
        return data

    @field_validator("blend")
    @classmethod
    def _can_be_weighed(cls, blend: dict[str, float]) -> dict[str, float]:
        for name, weight in blend.items():
            if name not in BLENDS:
                raise ValueError(f"'{name}' cannot be weighed; these can: {', '.join(BLENDS)}")
            if not 0 <= weight <= 10:
                raise ValueError("weights go from 0 to 10")
        return blend

    @property
    def detection(self) -> DetectOptions:
        """As the core takes it."""
        return DetectOptions(self.threshold, smallest=self.smallest, widest=self.widest, longest=self.longest)


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
