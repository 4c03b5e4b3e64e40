"""What a station would do next: the words of its one action, and what it costs."""

from __future__ import annotations

from pathlib import Path

from ulvar.desktop.models.model import Model
from ulvar.engine import counted
from ulvar.flows import expected_needs
from ulvar.frames import Role
from ulvar.night import SERIES_STATIONS, STATIONS
from ulvar.night.stations import stack_options

_CALIBRATION = (Role.BIAS, Role.DARK, Role.DARK_FLAT, Role.FLAT)


def plan_action(model: Model) -> tuple[str, str, str]:
    """Return (button text, consequence, command) of the way on: the station's work, once that is done the next station.

    An empty command disables the button.
    """
    if not is_done(model):
        return plan_run(model)
    station = STATIONS[STATIONS.index(model.station) + 1]
    several = len(model.all_series()) > 1 and model.station in SERIES_STATIONS
    of = f" for {model.series_name()}" if several else ""
    return f"Go on to {station.title()}", f"{model.station.title()} is done{of}.", f"go {station}"


def _calibrates_on_the_way(model: Model) -> bool:
    """Whether lights are calibrated as they are read: masters are there, and no calibrated copies."""
    return model.matching.has_masters() and not model.products("calibrated")


def _on_the_way(model: Model) -> str:
    """Return words on raw lights that are calibrated on the way; empty where copies or no masters are there."""
    return ", calibrated on the way: no copies are written" if _calibrates_on_the_way(model) else ""


def _stack_takes(model: Model) -> str:
    """Return what the next stack takes of this machine, in a sentence."""
    keep = [facts for raw in model.looking.stack_plan()[0] if (facts := model.facts(raw)) is not None]
    if not keep:
        return ""
    needs = expected_needs(
        keep, stack_options(model.settings().combine), found=True, calibrated=_calibrates_on_the_way(model)
    )
    words = needs.refusal or needs.brief
    return f"{words[:1].upper()}{words[1:]}."


def is_done(model: Model) -> bool:
    """Whether a station's work is done and holds, so that the next one comes."""
    station = model.station
    if station in (STATIONS[0], STATIONS[-1]) or model.jobs.state(station) not in ("done", "part"):
        return False
    if station == "combine" and model.of_series("stack") is None:
        # Scored is half of it.
        return False
    return plan_run(model)[2].startswith("run")


def plan_run(model: Model) -> tuple[str, str, str]:
    """Return (button text, consequence, command) of the station's own work; an empty command disables it."""
    station = model.station
    if model.night is None or not model.exposures():
        return "Open a folder", "Raw files are never changed.", "open"
    out = model.left_out()
    lights = [f for f in model.lights() if f.path not in out]
    of_series = len(model.members() - set(out))
    if station not in ("intake", "masters") and not lights:
        why = "every light is left out" if model.lights() else "there are none in this night"
        return "Add a folder…", f"Lights are needed here, and {why}.", "add folder"
    if station == "intake":
        return (
            "Go on to Masters",
            f"{counted(len(model.exposures()), 'exposure')}, {counted(len(lights), 'light')} kept.",
            "go masters",
        )
    if station == "masters":
        groups = [g for g in model.groups() if g.role in _CALIBRATION]
        n = sum(any(f not in out for f in g.files) for g in groups)
        if not n:
            return "Go on to Combine", "No calibration frames: lights are used as they are.", "go combine"
        return f"Make {counted(n, 'master')}", "Written into the night; raw files stay as they are.", "run masters"
    if station == "calibrate":
        if not model.matching.has_masters():
            if not any(g.role in _CALIBRATION for g in model.groups()):
                return "Go on to Combine", "No calibration frames: lights are used as they are.", "go combine"
            return "Go to Masters", "There are no masters yet.", "go masters"
        done = len(model.products("calibrated"))
        size = sum(4 * f.width * f.height for f in lights) / 1e6
        partial = model.settings().calibrate.partial
        ready = sum(
            sum(f not in out for f in group.files)
            for group, match in model.matching.matches()
            if match.safe or (partial and any(c.usable for c in match.choices[:3]))
        )
        if not ready:
            # Not back to Masters, which are made: what is missing has to be taken first.
            return (
                "Go on to Combine",
                "No light has safe masters (see Masters): they are used as they are.",
                "go combine",
            )
        return (
            f"Calibrate {ready} of {len(lights)}" if ready < len(lights) else f"Calibrate {counted(ready, 'light')}",
            f"{done} done; about {size * ready / max(1, len(lights)):.0f} MB on disk. Lights without a safe match are skipped and listed in the findings.",
            "run calibrate",
        )
    if station == "combine":
        if not model.scores():
            return (
                f"Score {counted(of_series, 'exposure')}",
                f"{model.series_name()}: finds stars, judges and aligns each exposure{_on_the_way(model)}.",
                "run score",
            )
        kept, ruled, gone = model.looking.counts()
        if not kept:
            return "Score again", "No exposure is left to stack.", "run score"
        return (
            f"Stack {counted(kept, 'exposure')}",
            f"{model.series_name()}; {ruled} ruled out, {gone} left out. {_stack_takes(model)}",
            "run stack",
        )
    if station == "plate":
        if not model.settings().plate.catalogue:
            return "Solve", "Choose a star catalogue first.", ""
        n = len(model.scores())
        if not n:
            return "Go to Combine", "Score the exposures first.", "go combine"
        return (
            f"Solve {counted(n, 'exposure')}",
            f"{model.series_name()}, with {Path(model.settings().plate.catalogue).name}.",
            "run plate",
        )
    if station == "measure":
        stars = model.night.stars()
        if not model.scores():
            return "Go to Combine", "Score the exposures first: it carries stars from one to the next.", "go combine"
        if not any(s.role == "target" for s in stars):
            return "Measure", "Click the target in the picture, or give its place (Ctrl+T).", ""
        if not any(s.role == "comparison" for s in stars):
            return (
                "Propose comparison stars",
                "Of like brightness, alone and away from the edge.",
                "propose",
            )
        return (
            f"Measure {counted(of_series, 'exposure')}",
            f"{counted(len(stars), 'star')} in {model.series_name()}.",
            "run measure",
        )
    if model.curves.series() is None:
        return "Go to Measure", "There are no measurements yet.", "go measure"
    return "Make the light curve", f"Of {model.series_name()}, written into the night's products.", "run curve"
