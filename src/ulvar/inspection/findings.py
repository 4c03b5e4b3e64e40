"""Findings: what was noticed. Every kind stands in one table: its code, severity, station, and where it shows."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from enum import IntEnum
from typing import Any

from ulvar.frames import Role


class Severity(IntEnum):
    """How serious a finding is; the order is the order of display."""

    BLOCKS = 0
    CHECK = 1
    NOTE = 2

    @property
    def word(self) -> str:
        """The lower-case word used in files and on the command line."""
        return self.name.lower()


@dataclass(frozen=True)
class Mend:
    """An offer to put a finding right: what the button says, and what it does to which files."""

    label: str
    action: str
    files: tuple[str, ...] = ()

    @classmethod
    def make(cls, role: Role, files: Iterable[str]) -> Mend:
        """Return the offer to give exposures another role; the button says how many of what."""
        paths = tuple(files)
        return cls(f"Make {role.counted(len(paths))}", f"role:{role.value}", paths)

    @classmethod
    def leave_out_star(cls, name: str) -> Mend:
        """Return the offer not to use a comparison star."""
        return cls(f"Leave out {name}", "leave_out_star", (name,))

    @classmethod
    def leave_out(cls, files: Iterable[str]) -> Mend:
        """Return the offer to leave exposures out; the button says how many."""
        paths = tuple(files)
        return cls(f"Leave out {len(paths)}", "leave_out", paths)


@dataclass(frozen=True)
class Finding:
    """Something noticed: how serious, what, the evidence, the frames, and a mend where one exists.

    Attributes
    ----------
    severity : Severity
    code : str
        Stable lower-case identifier, such as ``truncated`` or ``dark_temperature``.
    title : str
        A few words.
    text : str
        One sentence with the number in it.
    files : tuple of str
        The frames it speaks of.
    evidence : dict
        Numbers behind it; ``series`` holds a short list of numbers worth a small plot.
    mend : Mend or None
    station : str
        The station whose work raised it.
    """

    severity: Severity
    code: str
    title: str
    text: str
    files: tuple[str, ...] = ()
    evidence: dict[str, Any] = field(default_factory=dict)
    mend: Mend | None = None
    station: str = "intake"

    def as_json(self) -> dict[str, Any]:
        """Return the finding as the command line's JSON has it."""
        return {
            "severity": self.severity.word,
            "code": self.code,
            "title": self.title,
            "text": self.text,
            "files": list(self.files),
        }


def sort_findings(findings: Iterable[Finding]) -> list[Finding]:
    """Return findings most serious first, keeping the given order within a severity."""
    return sorted(findings, key=lambda finding: finding.severity)


@dataclass(frozen=True)
class Code:
    """One kind of finding.

    Attributes
    ----------
    code : str
    severity : Severity
    station : str
        Whose work raises it.
    meaning : str
        What it says, without its numbers.
    line : str
        Its word on the night line; empty where it has none there.
    dots : bool
        Whether the exposures that it speaks of are marked.
    """

    code: str
    severity: Severity
    station: str
    meaning: str
    line: str = ""
    dots: bool = False


_ALL = (
    Code("truncated", Severity.CHECK, "intake", "A file ends before its pixels do", dots=True),
    Code("unreadable", Severity.CHECK, "intake", "A file cannot be read", dots=True),
    Code("role_unknown", Severity.CHECK, "intake", "Nothing says what an exposure is for", dots=True),
    Code("role_guessed", Severity.CHECK, "intake", "No header names a role, so all are taken for lights", dots=True),
    Code("clock_assumed", Severity.CHECK, "intake", "A camera's clock was taken as universal time", dots=True),
    Code("no_time", Severity.CHECK, "intake", "Lights have no time", dots=True),
    Code("times_equal", Severity.CHECK, "intake", "Lights of one camera have the same time", dots=True),
    Code("times_overlap", Severity.CHECK, "intake", "Lights of one camera overlap in time", dots=True),
    Code("clock_step", Severity.CHECK, "intake", "The clock was set during the night", dots=True),
    Code("times_of_end", Severity.CHECK, "intake", "Times seem to be of the end of exposures"),
    Code("times_by_day", Severity.CHECK, "intake", "By their times lights were taken by day"),
    Code("no_egain", Severity.NOTE, "intake", "The gain in electrons is unknown"),
    Code("no_site", Severity.NOTE, "intake", "The place of the telescope is unknown"),
    Code("gain_missing", Severity.NOTE, "intake", "Headers do not tell the camera's gain setting"),
    Code("bit_depth", Severity.NOTE, "intake", "Pixels saturate below the file's full range"),
    Code("mixed_depth", Severity.BLOCKS, "intake", "Exposures of one setting differ in bit depth", dots=True),
    Code("dark_temperature", Severity.CHECK, "intake", "Darks were taken at another temperature than the lights", dots=True),
    Code("mixed_exposures", Severity.CHECK, "intake", "A folder of calibration frames holds several exposure times", dots=True),
    Code("several_images", Severity.NOTE, "intake", "A file holds several images"),
    Code("bias_gain", Severity.CHECK, "intake", "Bias frames have another gain than the lights", dots=True),
    Code("bias_offset", Severity.CHECK, "intake", "Bias frames have another offset than the lights", dots=True),
    Code("dark_gain", Severity.CHECK, "intake", "Darks have another gain than the lights", dots=True),
    Code("dark_offset", Severity.CHECK, "intake", "Darks have another offset than the lights", dots=True),
    Code("dark_flat_gain", Severity.CHECK, "intake", "Dark flats have another gain than the lights", dots=True),
    Code("dark_flat_offset", Severity.CHECK, "intake", "Dark flats have another offset than the lights", dots=True),
    Code("flat_gain", Severity.BLOCKS, "intake", "Flats have another gain than the lights", dots=True),
    Code("flat_offset", Severity.BLOCKS, "intake", "Flats have another offset than the lights", dots=True),
    Code("other_software", Severity.CHECK, "intake", "Calibration frames come from another capture program", dots=True),
    Code("other_driver", Severity.CHECK, "intake", "Calibration frames come from another driver", dots=True),
    Code("no_pixels", Severity.CHECK, "intake", "No pixel has a value", dots=True),
    Code("constant", Severity.CHECK, "intake", "All pixels are alike", dots=True),
    Code("dark_has_stars", Severity.BLOCKS, "intake", "A bias or dark shows stars", dots=True),
    Code("bias_exposed", Severity.CHECK, "intake", "Bias frames were exposed", dots=True),
    Code("flat_no_light", Severity.BLOCKS, "intake", "Flats saw no light", dots=True),
    Code("flat_too_bright", Severity.CHECK, "intake", "Flats are near saturation", dots=True),
    Code("light_is_dark", Severity.BLOCKS, "intake", "Lights show neither sky nor stars", dots=True),
    Code("light_no_stars", Severity.CHECK, "intake", "Lights show no stars", dots=True),
    Code("nothing_found", Severity.BLOCKS, "intake", "A folder holds no exposure", dots=True),
    Code("file_changed", Severity.CHECK, "intake", "A file is another than when it was read", dots=True),
    Code("night_rebuilt", Severity.CHECK, "intake", "The night's file was damaged, and the night made anew"),
    Code("file_missing", Severity.CHECK, "intake", "A file is gone", dots=True),
    Code("mixed_filters", Severity.CHECK, "combine", "Exposures of several filters went into one stack", dots=True),
    Code("no_calibration", Severity.NOTE, "masters", "There are no calibration frames"),
    Code("not_used", Severity.CHECK, "masters", "Frames are in no master: their pixels contradict their role"),
    Code("dark_below_bias", Severity.NOTE, "masters", "This sensor's bias is no part of its darks"),
    Code("flat_not_subtracted", Severity.CHECK, "masters", "There is nothing to take off flats"),
    Code("light_leak", Severity.CHECK, "masters", "Frames of a set are brighter at one side", line="light leak", dots=True),
    Code("odd_level", Severity.CHECK, "masters", "Frames of a set have another level", line="level", dots=True),
    Code("odd_pattern", Severity.CHECK, "masters", "Frames of a set have another pattern", line="pattern", dots=True),
    Code("frame_left_out", Severity.CHECK, "masters", "A frame could not be combined"),
    Code("level_drift", Severity.NOTE, "masters", "The level of a set drifts"),
    Code("few_frames", Severity.NOTE, "masters", "A set has few frames"),
    Code("much_rejected", Severity.NOTE, "masters", "Far more was rejected of a frame than of its fellows"),
    Code("no_safe_dark", Severity.BLOCKS, "masters", "No dark is safe for these lights"),
    Code("no_safe_flat", Severity.BLOCKS, "masters", "No flat is safe for these lights"),
    Code("no_safe_bias", Severity.BLOCKS, "masters", "No bias is safe for these lights"),
    Code("near_match", Severity.NOTE, "masters", "A master fits with reserve"),
    Code("no_dark", Severity.CHECK, "masters", "No dark was taken"),
    Code("no_flat", Severity.CHECK, "masters", "No flat was taken"),
    Code("not_calibrated", Severity.CHECK, "calibrate", "A light could not be calibrated"),
    Code("noise_over", Severity.CHECK, "calibrate", "Calibrated lights are noisier than photons, dark current and read noise make them"),
    Code("flat_over", Severity.CHECK, "calibrate", "The flat corrects too much"),
    Code("flat_under", Severity.CHECK, "calibrate", "The flat corrects too little"),
    Code("not_scored", Severity.CHECK, "combine", "An exposure could not be scored", dots=True),
    Code("not_aligned", Severity.CHECK, "combine", "An exposure does not match the reference", dots=True),
    Code("other_field", Severity.CHECK, "combine", "Exposures agree among themselves, not with the others", dots=True),
    Code("no_agreement", Severity.BLOCKS, "combine", "No two exposures show the same stars"),
    Code("cloud", Severity.CHECK, "combine", "Stars lost light together", line="cloud", dots=True),
    Code("focus", Severity.CHECK, "combine", "The stars grew wide, or the focus was set anew", line="focus", dots=True),
    Code("trailing", Severity.CHECK, "combine", "Stars are long", line="trailing", dots=True),
    Code("dawn", Severity.CHECK, "combine", "The sky is bright with twilight", line="twilight", dots=True),
    Code("jump", Severity.CHECK, "combine", "The field jumped", line="jump", dots=True),
    Code("flip", Severity.NOTE, "combine", "The field is turned by 180 degrees", line="flip"),
    Code("uneven_drops", Severity.CHECK, "combine", "The exposures do not support so fine a grid"),
    Code("no_body", Severity.CHECK, "combine", "There is no stack on the moving body, or not of all exposures"),
    Code("body_long", Severity.NOTE, "combine", "The moving body moves by more than a star's width during an exposure"),
    Code("trail", Severity.NOTE, "combine", "A satellite or aeroplane crossed", line="trail"),
    Code("outliers", Severity.NOTE, "combine", "Stacking rejected far more of an exposure than of its fellows"),
    Code("catalogue", Severity.BLOCKS, "plate", "The star catalogue cannot be used"),
    Code("not_solved", Severity.CHECK, "plate", "Exposures are not solved"),
    Code("stated_wrong", Severity.CHECK, "plate", "The plate solution that a header states is wrong"),
    Code("not_written", Severity.CHECK, "plate", "The stack could not take its solution into its header"),
    Code("not_measured", Severity.CHECK, "measure", "Exposures are not measured"),
    Code("star_full", Severity.CHECK, "measure", "A measured star is saturated or over the linear limit"),
    Code("star_left", Severity.CHECK, "measure", "A measured star leaves the frame"),
    Code("star_blended", Severity.CHECK, "measure", "Another star shines into the aperture"),
    Code("sky_covered", Severity.NOTE, "measure", "Much of an annulus lies on other stars"),
    Code("star_lost", Severity.CHECK, "measure", "A star is not found where it should be"),
    Code("small_aperture", Severity.CHECK, "measure", "The aperture is too small for the seeing"),
    Code("centre_jumped", Severity.CHECK, "measure", "An aperture jumps to another place"),
    Code("flat_follows", Severity.CHECK, "measure", "Light follows the place on the sensor"),
    Code("film_note", Severity.NOTE, "measure", "A film's format leaves something to be known"),
    Code("frames_missing", Severity.CHECK, "measure", "Frames of a film were not recorded"),
    Code("frames_still", Severity.CHECK, "measure", "Times of a film stand still or run backwards"),
    Code("frames_jitter", Severity.NOTE, "measure", "Times of a film scatter"),
    Code("frames_doubled", Severity.CHECK, "measure", "Frames of a film repeat the one before"),
    Code("frames_undated", Severity.CHECK, "measure", "A film has no time"),
    Code("tracking_lost", Severity.CHECK, "measure", "The tracking star of a film is not seen"),
    Code("comparison_varies", Severity.CHECK, "curve", "A comparison star varies"),
    Code("no_error_bars", Severity.CHECK, "curve", "The gain is unknown, so there are no error bars"),
    Code("no_fit", Severity.CHECK, "curve", "Nothing was fitted"),
    Code("no_curve", Severity.BLOCKS, "curve", "There is no light curve"),
    Code("damaged", Severity.BLOCKS, "combine", "A product is damaged"),
    Code("worker_died", Severity.BLOCKS, "intake", "A worker process died"),
    Code("job_failed", Severity.BLOCKS, "intake", "A station could not finish"),
)  # fmt: skip
CODES = {entry.code: entry for entry in _ALL}
# What is told anew of a series of exposures whenever it is scored or stacked.
OF_A_SERIES = frozenset({"cloud", "focus", "trailing", "flip", "jump", "trail", "outliers", "dawn"})


def notice(
    code: str,
    title: str,
    text: str,
    files: Iterable[str] = (),
    evidence: dict[str, Any] | None = None,
    mend: Mend | None = None,
    *,
    severity: Severity | None = None,
    station: str = "",
) -> Finding:
    """Return a finding of a kind in the table.

    Parameters
    ----------
    code : str
        A key of `CODES`.
    title, text : str
        A few words, and a sentence with the number in it.
    files : iterable of str
        The exposures that it speaks of.
    evidence : dict, optional
    mend : Mend, optional
    severity, station : optional
        Where they are others than the table's.

    Raises
    ------
    KeyError
        For a code that is not in the table.
    """
    entry = CODES[code]
    return Finding(
        entry.severity if severity is None else severity, code, title, text, tuple(files), evidence or {}, mend,
        station or entry.station,
    )  # fmt: skip
