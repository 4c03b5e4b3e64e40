"""Settings of Combine: star finding, rules, alignment, stacking, colour."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field, field_validator, model_validator

from ulvar.calibration import parse_region
from ulvar.combine import Method, Rejection
from ulvar.frames import Shape
from ulvar.night.preparing import METHODS, RegionText, Section, told_rejection
from ulvar.night.schema import told
from ulvar.registration import Kernel, Resampling
from ulvar.stacking import STACK_REJECTION, Colours, Framing, GridOptions, Normalise, Rule, Weighting
from ulvar.stars import BLENDS, DEFAULT_BLEND, QUALITIES, DetectOptions

_DETECTION = DetectOptions()

WEIGHTS = {
    Weighting.SNR: ("Faint-star SNR", "by noise and FWHM, so that faint stars stand out most"), Weighting.NOISE: ("Noise", "by noise alone"),
    Weighting.FWHM: ("FWHM", "by FWHM alone"), Weighting.SCORE: ("Score", "by the score"),
    Weighting.EQUAL: ("Equal", "all alike"),
}  # fmt: skip
FRAMINGS = {
    Framing.REFERENCE: ("Reference exposure", "the reference exposure's"),
    Framing.UNION: ("Everything", "all that any exposure shows"),
    Framing.COMMON: ("Common area", "what all show"),
}
COLOURS = {
    Colours.MIXED: ("One grey stack", "one stack, colours brought to one scale and mixed"),
    Colours.MALVAR: (
        "And each, sharp",
        "a stack for each besides, missing pixels interpolated with the help of the other colours",
    ),
    Colours.BILINEAR: ("And each, plain", "a stack for each besides, missing pixels the mean of their neighbours"),
    Colours.HALF: (
        "And each, measured",
        "a stack for each besides, of nothing but what was measured in cells of four pixels",
    ),
}
WHITES = {
    "stars": ("The average star", "the average star"),
    "catalogue": ("A star like the Sun", "a star like the Sun, by the catalogue's colours; needs the plate of green"),
    "none": ("Nothing", "nothing: channels as they are"),
}
ALIGNS = {
    "stars": ("Star patterns", "by star patterns"),
    "sky": ("Plate solutions", "by plate solutions"),
    "none": ("Not at all", "not at all"),
}
KERNELS = {
    Kernel.LANCZOS3: ("Lanczos, 3 lobes", "sharp, and faint detail stays"),
    Kernel.LANCZOS4: ("Lanczos, 4 lobes", "a little sharper, and slower"),
    Kernel.BICUBIC: ("Bicubic", "smaller rings, a little softer"),
    Kernel.BILINEAR: ("Bilinear", "no rings, soft"),
    Kernel.NEAREST: ("Nearest pixel", "values stay as they are, places are off by up to half a pixel"),
}
NORMALISATIONS = {
    Normalise.BOTH: ("Level and scale", "sky level and brightness of stars"), Normalise.LEVEL: ("Level", "sky level"),
    Normalise.SCALE: ("Scale", "brightness of stars"),
    Normalise.LOCAL: ("Gradient and scale", "sky level all over the frame, where gradients differ, and brightness of stars"),
    Normalise.NONE: ("Nothing", "nothing"),
}  # fmt: skip


class ShapeSettings(Section):
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


class RuleSettings(Section):
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


class MarkSettings(Section):
    """Where something was pointed out in an exposure [px, 0-based]."""

    file: str
    x: float
    y: float


class CommonSettings(Section):
    """Stars of an exposure that another one shows, too: their places in both [px, 0-based]."""

    file: str
    other: str
    pairs: list[tuple[float, float, float, float]] = Field(min_length=1, max_length=2)


# Rules were three fixed limits before they became a list.
_OLD_RULES = {
    "fwhm_over": ("fwhm_px", "over"), "transparency_under": ("transparency", "under"),
    "ellipticity_over": ("ellipticity", "over"),
}  # fmt: skip


class CombineSettings(Section):
    """Star finding, scoring, rules and stacking."""

    threshold: float = told(
        _DETECTION.threshold, "Find stars over",
        "Smallest signal-to-noise ratio of a star; the board's page Stars shows what it does", unit="σ", span=(2, 100),
        fold=True, ge=2, le=100,
    )  # fmt: skip
    smallest: float = Field(_DETECTION.smallest, ge=0, lt=1)
    widest: float = Field(_DETECTION.widest, gt=1, le=20)
    longest: float = Field(_DETECTION.longest, gt=1, le=20)
    rules: list[RuleSettings] = [
        RuleSettings(quality="transparency", side="under", limit=0.8),
        RuleSettings(quality="ellipticity", side="over", limit=0.3),
    ]
    blend: dict[str, float] = dict(DEFAULT_BLEND)
    regions: list[ShapeSettings] = []
    # Raw path of the exposure that sets the grid; empty: the best.
    reference: str = ""
    align: Literal["stars", "sky", "none"] = told(
        "stars", "Align", "How exposures are brought together", choices=ALIGNS, fold=True
    )
    method: Method = told(STACK_REJECTION.method, "Reject", "How outliers are found at each pixel", choices=METHODS)
    lost: float = told(
        STACK_REJECTION.lost, "Good values lost",
        "How many good values rejection may lose at each pixel, expected; with the number of exposures it gives the limits",
        decimals=3, span=(0.001, 0.5), fold=True, gt=0, lt=1,
    )  # fmt: skip
    low: float | None = told_rejection(STACK_REJECTION.low, "below", "under")
    high: float | None = told_rejection(STACK_REJECTION.high, "above", "over")
    normalise: Normalise = told(
        Normalise.BOTH,
        "Match",
        "Whether sky level, brightness scale or both are matched before exposures are compared",
        choices=NORMALISATIONS,
    )
    weights: Weighting = told(Weighting.SNR, "Weigh by", "What a better exposure counts more for", choices=WEIGHTS)
    trails: bool = told(
        True, "Cut trails", "What lies under the trail of a satellite or aeroplane is left out whole, its faint edges too",
    )  # fmt: skip
    maps: bool = told(
        True, "Maps in the file",
        "Count, weight, noise and rejected values of each pixel are written into the stack's file beside the picture", fold=True,
    )  # fmt: skip
    proper: bool = told(
        False, "Proper coadd too",
        "The image in which faint things are found best where seeing varied, as a file of its own with its noise and profile",
        fold=True,
    )  # fmt: skip
    drop: float | None = told(
        None, "Drop size",
        "Where one is given, a reconstruction is made, too: pixels of the exposures, this much of their size, dropped onto the "
        "stack's grid, for dithered exposures that are sharper than their pixels",
        decimals=2, span=(0.05, 1), unset="none", fold=True, gt=0, le=1,
    )  # fmt: skip
    colours: Colours = told(
        Colours.MIXED,
        "Colour sensor",
        "What becomes of the colours of a colour sensor's exposures",
        choices=COLOURS,
        fold=True,
    )
    white: Literal["stars", "catalogue", "none"] = told(
        "stars", "White is", "What is white in a colour picture", choices=WHITES, fold=True
    )
    gradient: int = told(
        0, "Colour: gradient", "Order of the surface that is taken off each channel of a colour picture; 0: its level alone",
        decimals=0, span=(0, 4), fold=True, ge=0, le=4,
    )  # fmt: skip
    saturation: float = told(
        1.0,
        "Colour: saturation",
        "Strength of colours in a colour picture; 1 as they are",
        decimals=2,
        span=(0, 5),
        fold=True,
        ge=0,
        le=5,
    )
    ratios: list[float] = told(
        [1.0, 1.0, 1.0],
        "Colour: ratios",
        "What red, green and blue are multiplied with after the balance",
        kind="numbers",
        fold=True,
    )
    feather_px: float = told(
        0.0, "Mosaic: fade in", "Over so many pixels exposures of a mosaic fade in from their edges", unit="px", decimals=0,
        span=(0, 1000), fold=True, ge=0, le=1000,
    )  # fmt: skip
    framing: Framing = told(Framing.REFERENCE, "Frame", "Which part of the sky the stack shows", choices=FRAMINGS)
    part: RegionText = told(
        "", "Only a part", "The part of the reference exposure that is stacked, in the place of the frame; empty: all of it",
        kind="region", fold=True,
    )  # fmt: skip
    scale: float = told(
        1.0, "Finer by", "Pixels of the stack for one of the reference exposure: 2 makes them half as large, 0.5 twice",
        unit="×", decimals=2, span=(0.1, 8), fold=True, ge=0.1, le=8,
    )  # fmt: skip
    north_up: bool = told(
        False,
        "North up",
        "The stack is turned so that north is up and east left; the reference's plate must be solved",
        fold=True,
    )
    turn_deg: float = told(
        0.0,
        "Turned by",
        "How far the stack is turned clockwise",
        unit="°",
        span=(-360, 360),
        fold=True,
        ge=-360,
        le=360,
    )
    body_marks: list[MarkSettings] = []
    common: list[CommonSettings] = []
    body_rate: float | None = told(
        None, "A body moves by",
        "Speed of a moving body on the sky: a second stack is made on which it stays and stars trail; the plate must be solved. Marks in "
        "exposures (Mark a moving body) do without either",
        unit="″/h", decimals=2, span=(0.01, 360_000), unset="none", fold=True, gt=0, le=360_000,
    )  # fmt: skip
    body_angle: float = told(
        0.0,
        "… towards",
        "Position angle of the body's way, from north by east",
        unit="°",
        span=(-360, 360),
        fold=True,
        ge=-360,
        le=360,
    )
    body_table: str = told(
        "",
        "… or by a table",
        "A moving body's places by time (CSV with name, ra, dec, time_utc) or its orbital elements (name, e, q or a, i, node, peri, tp)",
        kind="file",
        fold=True,
    )
    kernel: Kernel = told(
        Kernel.LANCZOS3, "Resample by", "What a pixel of the stack is made of", choices=KERNELS, fold=True
    )
    clamp: bool = told(
        False, "No dark rings",
        "No pixel becomes darker than the darkest that it is made of: for stars that are sharper than two pixels", fold=True,
    )  # fmt: skip

    @model_validator(mode="before")
    @classmethod
    def _from_older_nights(cls, data: Any) -> Any:
        if isinstance(data, dict) and "filter" in data:
            # One filter of a night was worked on before there were series.
            data = {k: v for k, v in data.items() if k != "filter"}
        if isinstance(data, dict) and any(name in data for name in _OLD_RULES):
            known = {name: data[name] for name in _OLD_RULES if data.get(name) is not None}
            data = {k: v for k, v in data.items() if k not in _OLD_RULES}
            data.setdefault(
                "rules",
                [{"quality": _OLD_RULES[n][0], "side": _OLD_RULES[n][1], "limit": v} for n, v in known.items()],
            )
        return data

    @field_validator("ratios")
    @classmethod
    def _makes_a_picture(cls, ratios: list[float]) -> list[float]:
        if len(ratios) != 3 or not all(0 < r < 1e6 for r in ratios):
            raise ValueError("three numbers over 0, for red, green and blue")
        return ratios

    @field_validator("gradient", mode="before")
    @classmethod
    def _is_whole(cls, order: Any) -> Any:
        # Fields of numbers give what is not whole, too.
        return round(order) if isinstance(order, float) else order

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
    def rejection(self) -> Rejection:
        """As the core takes it."""
        return Rejection(self.method, self.low, self.high, lost=self.lost, slack=STACK_REJECTION.slack)

    @property
    def grid(self) -> GridOptions:
        """As the core takes it."""
        part = parse_region(self.part).corner_and_size if self.part else None
        return GridOptions(self.framing, self.scale, self.north_up, self.turn_deg, part)

    @property
    def resampling(self) -> Resampling:
        """As the core takes it."""
        return Resampling(self.kernel, self.clamp)

    @property
    def detection(self) -> DetectOptions:
        """As the core takes it."""
        return DetectOptions(self.threshold, smallest=self.smallest, widest=self.widest, longest=self.longest)
