"""The lights of a series as stations work on them: calibrated copies, raw ones that are calibrated on the way, or raw ones."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from ulvar.engine import counted
from ulvar.flows import CalibrateTask, Outcome, Series, calibrated_facts, plan_calibration, ready_facts
from ulvar.frames import ExposureFacts
from ulvar.inspection import Finding, notice
from ulvar.night.project import Night
from ulvar.night.stations.masters import given_masters, library_of, made_masters, matching_of, preparation_of
from ulvar.night.stations.shared import kept_lights


@dataclass(frozen=True)
class Working:
    """What stations read of a series.

    Attributes
    ----------
    facts : dict of str to ExposureFacts
        Raw path to what is true of the file that is worked on, once it is calibrated.
    calibrations : dict of str to CalibrateTask
        Path of a raw file to what it is calibrated with on the way.
    refused : tuple of Outcome
        Lights without a safe master, which are not worked on.
    """

    facts: dict[str, ExposureFacts]
    calibrations: Mapping[str, CalibrateTask] = field(default_factory=dict)
    refused: tuple[Outcome, ...] = ()

    def print_of(self, raw: str) -> str:
        """Return the fingerprint of what a light is calibrated with on the way; empty for one that is not."""
        task = self.calibrations.get(self.facts[raw].path)
        return "" if task is None else task.print


def working_of(night: Night, series: Series) -> Working:
    """Return what is worked on of a series' kept lights.

    Where lights of the night were calibrated, their copies. Where none was but there are masters, the raw lights that have
    safe ones, calibrated on the way: nothing is written in between. Only where no master fits any light of the night, raw lights as they are.
    """
    members = set(series.files)
    calibrated = night.products_of("calibrated")
    every = kept_lights(night)
    lights = [f for f in every if f.path in members]
    if calibrated:
        return Working(
            {
                f.path: calibrated_facts(f, calibrated[f.path].output, calibrated[f.path].values)
                for f in lights
                if f.path in calibrated
            }
        )
    masters = [*made_masters(night), *given_masters(night)]
    if masters and lights:
        settings = night.settings.calibrate
        plan = plan_calibration(
            every, masters, matching=matching_of(night), options=settings.options(preparation_of(night, every)),
            defect_library=str(library_of(night).folder) if settings.use_defect_list else "", partial=settings.partial,
        )  # fmt: skip
        if plan.tasks:
            tasks = {task.facts.path: task for task in plan.tasks}
            return Working(
                {f.path: ready_facts(f, tasks[f.path]) for f in lights if f.path in tasks},
                tasks,
                tuple(o for o in plan.refused if o.file in members),
            )
    return Working({f.path: f for f in lights})


def working_exposures(night: Night, series: Series) -> dict[str, ExposureFacts]:
    """Return raw path to the facts of what is worked on, of a series' kept lights."""
    return working_of(night, series).facts


def without_masters(refused: Sequence[Outcome]) -> list[Finding]:
    """Return what is told of lights that cannot be calibrated on the way."""
    if not refused:
        return []
    text = f"{Path(refused[0].file).name}: {refused[0].reason}."
    title = f"{counted(len(refused), 'light', 'has', 'have')} no safe masters"
    return [notice("not_scored", title, text, tuple(o.file for o in refused))]
