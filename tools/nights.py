"""Nights that are made once for all tests, to be copied."""

import json
import shutil
from collections.abc import Callable
from pathlib import Path

from bench.made_nights import lay_eclipsing
from tools.cases import made_once, small_demo

from ulvar.cli.nights import prepare_demo
from ulvar.engine import JobContext
from ulvar.night import RUNNERS, STATIONS, Night, StationResult
from ulvar.night.stations import run_intake, run_plate, run_score


def eclipsing_nights(folder: Path) -> Path:
    """Lay three nights of the star: two around minima, the second in two filters, one beside a minimum; returns their folder."""
    shutil.copytree(made_once("eclipsing", lay_eclipsing), folder, dirs_exist_ok=True)
    return folder / "nights"


def worked(night: Night, *stations: Callable[[Night, JobContext], StationResult]) -> None:
    """Let stations do their work; none of them may have a problem."""
    for run in stations:
        if problem := run(night, JobContext()).problem:
            raise AssertionError(f"{run.__name__}: {problem}")


def with_catalogue(night: Night) -> Night:
    """Return a night that solves its plates by the small demo's catalogue."""
    settings = night.settings
    settings.plate.catalogue = str(small_demo() / "catalogue.csv")
    night.set_settings(settings)
    return night


def _score(folder: Path) -> None:
    night = Night.create(folder / "night", [small_demo() / "raw" / "lights" / "V"])
    worked(night, run_intake, run_score)
    night.close()


def _solve(folder: Path) -> None:
    shutil.copytree(scored_night(), folder / "night")
    night = with_catalogue(Night.for_path(folder / "night"))
    worked(night, run_plate)
    night.close()


def _work(folder: Path) -> None:
    for name in ("raw", "catalogue.csv", "stars.csv"):
        (folder / name).symlink_to(small_demo() / name)
    night = prepare_demo(folder, json.loads((small_demo() / "truth.json").read_text()))
    worked(night, *(RUNNERS[station] for station in STATIONS))
    night.close()


def worked_night() -> Path:
    """Return a folder with the small demo and its night that went all the way, made once for all: to be copied with its links."""
    return made_once("worked", _work)


def scored_night() -> Path:
    """Return the folder of a night of the small demo's 36 raw V lights, aligned and judged, made once for all: to be copied."""
    return made_once("scored", _score) / "night"


def solved_night() -> Path:
    """Return that of the scored night with its plates solved."""
    return made_once("solved", _solve) / "night"
