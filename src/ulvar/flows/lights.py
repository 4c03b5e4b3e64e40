"""Lights as they are stacked: as their files have them, or calibrated on the way, so that nothing is written in between."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from ulvar.engine import counted, place_words
from ulvar.flows.calibrate import CalibrateTask, calibrator_for, prepared
from ulvar.frames import ExposureFacts, Frame, FrameError, read_frame

# What calibrating lights on the way takes beside what is done with them: the masters and the defects that a worker holds, and
# the raw pixels [bytes a pixel] (measured, see docs/benchmarks.md).
_HELD_BYTES_PX = 14
# What lights are calibrated with, by their paths.
Calibrations = Mapping[str, CalibrateTask]


def read_light(facts: ExposureFacts, calibration: CalibrateTask | None = None) -> Frame:
    """Read an exposure, calibrated where it is told with what.

    Raises
    ------
    FrameError
        If it or one of its masters cannot be read, or they do not fit each other; it names the exposure.
    """
    if calibration is None:
        return read_frame(facts)
    try:
        return calibrator_for(calibration)(read_frame(calibration.facts))
    except FrameError as error:
        # A master that cannot be read is named; the exposure itself stands beside the reason.
        raise FrameError(facts.path, error.reason if error.path == facts.path else str(error)) from error
    except (OSError, ValueError) as error:
        raise FrameError(facts.path, place_words(error)) from error


def held_bytes(facts: ExposureFacts, calibration: CalibrateTask | None) -> int:
    """Return what calibrating an exposure on the way takes beside what is done with it [bytes]; 0 where it is not."""
    return 0 if calibration is None else _HELD_BYTES_PX * facts.width * facts.height


def ready_facts(raw: ExposureFacts, calibration: CalibrateTask) -> ExposureFacts:
    """Return what is true of a raw exposure once it is calibrated; it stays the file that it is."""
    facts = prepared(raw, calibration.options.preparation)
    # What is saturated stands in the mask from now on.
    return replace(facts, saturation_adu=None, nonlinear_adu=None, bitpix=-32)


def calibrated_facts(raw: ExposureFacts, output: str, values: Mapping[str, Any]) -> ExposureFacts:
    """Return the raw exposure's facts for its calibrated copy, the user's corrections included."""
    status = Path(output).stat()
    return replace(
        raw,
        path=output,
        saturation_adu=None,
        nonlinear_adu=None,
        width=int(values.get("width") or raw.width),
        height=int(values.get("height") or raw.height),
        pedestal_adu=float(values.get("pedestal_adu") or 0.0),
        flat_noise=None if values.get("flat_noise") is None else float(values["flat_noise"]),
        bitpix=-32,
        hdu=0,
        size_bytes=status.st_size,
        mtime_ns=status.st_mtime_ns,
    )


def calibration_history(calibrations: Sequence[CalibrateTask | None]) -> list[str]:
    """Return the lines that tell what exposures were calibrated with on the way, each once."""
    used = [task for task in calibrations if task is not None]
    named = {
        (kind, name)
        for task in used
        for kind, name in (("bias", task.bias), ("dark", task.dark), ("flat", task.flat))
        if name
    }
    lines = [f"{kind} {name.rpartition('/')[2]}" for kind, name in sorted(named)]
    return [f"{counted(len(used), 'exposure')} calibrated on the way", *lines] if used else []
