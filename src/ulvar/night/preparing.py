"""Settings of the first half of a night, from sorting to calibrated exposures, and what all settings share."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, ValidationError, field_validator

from ulvar.calibration import CalibrateOptions, DefectOptions, MatchOptions, Region, parse_region
from ulvar.calibration.prepare import Preparation
from ulvar.combine import Method, Rejection
from ulvar.frames import TagRule, Tolerances
from ulvar.night.schema import told

# What the core does unless it is told otherwise is what a night does unless somebody says otherwise.
_TOLERANCES, _MASTERS, _STEPS = Tolerances(), Rejection(few=True), CalibrateOptions()

METHODS = {
    Method.SIGMA: ("Sigma clipping", "values far from the median are left away, again and again"),
    Method.WINSORIZED: ("Winsorized sigma", "the same with a spread that outliers cannot widen"),
    Method.MAD: ("Median deviation (MAD)", "the same by the median absolute deviation from the median"),
    Method.LINEAR: ("Line through ranks", "values far from a line through the sorted values; for 15 and more"),
    Method.MEDIAN: ("Median", "the middle value, without weights"),
    Method.MEAN: ("Mean, no rejection", "every value counts"),
}


class Section(BaseModel):
    """Settings of a station: unknown names and values beyond their limits are refused."""

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


class TagSettings(Section):
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


class IntakeSettings(Section):
    """Sessions and tags by path."""

    tags: list[TagSettings] = []
    clock_s: float = told(
        0.0, "Clock offset", "Added to the times of all headers: by as much the camera's clock, or its driver, is off", unit="s", decimals=3,
        span=(-90000.0, 90000.0), fold=True,
    )  # fmt: skip
    row_us: float = told(
        0.0, "Rolling shutter", "From the beginning of one row to that of the next; each star's time is that of its row", unit="µs",
        decimals=3, span=(-10000.0, 10000.0), fold=True,
    )  # fmt: skip

    @property
    def rules(self) -> list[TagRule]:
        """As the core takes them."""
        return [tag.rule for tag in self.tags]


class PinSettings(Section):
    """A choice made by hand on the match board."""

    lights: str
    kind: Literal["bias", "dark", "flat", "dark_flat"]
    choice: str


def told_rejection(default: float | None, side: str, word: str) -> Any:
    """Return the limit of a rejection on one side, as masters and stacks have it; None: by the number of values."""
    sentence = f"Values this many deviations {word} the rest are left away"
    if default is not None:
        return told(default, f"Reject {side}", sentence, unit="σ", span=(0.5, 50), fold=True, gt=0)
    sentence += "; where none is given, as far as the good values lost allow"
    return told(
        default, f"Reject {side}", sentence, unit="σ", span=(0, 50), decimals=2, fold=True, gt=0, unset="by count",
    )  # fmt: skip


class MastersSettings(Section):
    """How far off still fits, and how calibration frames are combined."""

    exposure_s: float = told(
        _TOLERANCES.exposure_s,
        "Exposure within",
        "A dark's exposure may differ by this much, or by 2 %",
        unit="s",
        ge=0,
    )
    exposure_fraction: float = told(
        _TOLERANCES.exposure_fraction,
        "Or exposure within",
        "The larger of the two limits counts",
        unit="%",
        scale=100,
        span=(0, 50),
        fold=True,
        ge=0,
        le=0.5,
    )
    temperature_c: float = told(
        _TOLERANCES.temperature_c,
        "Temperature within",
        "A dark's sensor temperature may differ by this much",
        unit="°C",
        ge=0,
    )
    age_d: float = told(
        _TOLERANCES.age_d,
        "Warn when older than",
        "Older calibration frames are used with a warning",
        unit="d",
        decimals=0,
        ge=0,
    )
    scale_darks: bool = told(
        False, "Scale darks of another exposure", "Needs a bias; noisier than a dark of the right exposure", fold=True
    )
    use_library: bool = told(
        True, "Use the library", "Masters of the library serve where this night's own do not fit", fold=True
    )
    compare: bool = told(
        True, "Leave out frames that differ", "Frames with a light leak, another level or pattern are in no master",
        fold=True,
    )  # fmt: skip
    method: Method = told(_MASTERS.method, "Combine by", "How the frames of a set become one", choices=METHODS)
    low: float = told_rejection(_MASTERS.low, "below", "under")
    high: float = told_rejection(_MASTERS.high, "above", "over")
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


class CalibrateSettings(Section):
    """Calibration: every step is optional."""

    partial: bool = told(False, "Use what fits", "Calibrate also where a kind of calibration frame has nothing safe")
    overscan: RegionText = told(
        "", "Overscan", "Pixels without light, whose level is taken off; empty: what the header says", kind="region",
        fold=True,
    )  # fmt: skip
    trim: RegionText = told(
        "", "Picture area", "The part of the frame that holds the picture; empty: what the header says", kind="region",
        fold=True,
    )  # fmt: skip
    header_regions: bool = True
    overscan_fit: Literal["median", "rows", "line"] = told(
        "rows", "Overscan by", "One level for the frame, a smooth level for each row, or a line",
        choices={
            "rows": ("Each row", "a smooth level for each row"), "median": ("One level", "one for the frame"),
            "line": ("A line", "a line along the rows"),
        }, fold=True,
    )  # fmt: skip
    linearity: list[float] = told(
        [], "Linearity", "c1, c2 … of true = d (1 + c1 u + c2 u² …), u = d / 65535; empty: none", kind="numbers",
        fold=True,
    )  # fmt: skip
    linearity_zero_adu: float = 0.0
    linear_adu: float | None = told(
        None, "Linear up to", "Stars with a pixel of the raw exposure over this are flagged as not linear", unit="ADU", decimals=0,
        span=(0, 1e6), fold=True, unset="as the header says", gt=0,
    )  # fmt: skip
    dark_scale: Literal["exposure", "noise"] = told(
        "exposure", "Scaled darks follow", "The exposure times, or the factor that takes most hot pixels out",
        choices={
            "exposure": ("Exposure time", "as the exposure times tell"), "noise": ("Hot pixels", "as hot pixels tell"),
        }, fold=True,
    )  # fmt: skip
    mark_defects: bool = True
    repair: bool = told(
        True, "Repair defective pixels",
        "Replace hot and cold pixels and columns by their neighbours; they stay marked, and nothing is measured in them",
    )  # fmt: skip
    hot_sigma: float = told(
        _STEPS.defects.hot_sigma,
        "Hot pixels over",
        "Hot pixels stand this far over the dark",
        unit="σ",
        span=(2, 100),
        ge=2,
        le=100,
    )
    cold_below: float = Field(_STEPS.defects.cold_below, ge=0, lt=1)
    bright_above: float = Field(_STEPS.defects.bright_above, gt=1)
    columns: bool = True
    use_defect_list: bool = told(
        True, "Use the camera's defect list", "Pixels listed for this camera in the library", fold=True
    )
    cosmic: bool = told(
        False, "Clean cosmic rays",
        "Find them by their sharp edges in each exposure; repaired pixels stay marked",
    )  # fmt: skip
    cosmic_sigma: float = told(
        _STEPS.cosmic_sigma, "Cosmic rays over", "Edges that stand this many deviations over those around", unit="σ", span=(2, 50),
        fold=True, ge=2, le=50,
    )  # fmt: skip
    cosmic_contrast: float = told(
        _STEPS.cosmic_contrast, "Sharper than stars by", "Larger spares the cores of sharp stars", unit="×", span=(0.5, 50), fold=True,
        gt=0, le=50,
    )  # fmt: skip
    overlays: list[RegionText] = told(
        [], "Masked rectangles", "A burnt-in time stamp or logo: no data", kind="regions", fold=True
    )
    pedestal: Literal["off", "auto", "fixed"] = told(
        "off", "Pedestal", "A constant added so that no pixel is negative; photometry takes it off again",
        choices={
            "off": ("Off", "none"), "auto": ("Where needed", "where pixels would be negative"),
            "fixed": ("Always", "the same for all"),
        },
    )  # fmt: skip
    pedestal_adu: float = told(
        0.0, "Pedestal of", "Added when Pedestal is Always", unit="ADU", decimals=0, span=(0, 60000), fold=True, ge=0
    )
    folder: str = told(
        "", "Write into", "Folder of the calibrated exposures; empty: the night's own", kind="folder", fold=True
    )
    suffix: str = told("-cal", "Suffix", "Put behind each exposure's name", kind="text", fold=True, min_length=1)

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
