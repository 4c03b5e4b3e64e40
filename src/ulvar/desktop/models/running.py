"""The part of the model about running: a station's job, and telling the views of its end in portions."""

from __future__ import annotations

import logging
import time
from collections.abc import Callable, Iterable, Iterator
from functools import partial
from typing import TYPE_CHECKING, Any

from ulvar.desktop.models.numbers import METRICS
from ulvar.desktop.work.soon import Soon
from ulvar.engine import Finding, Job, PoolKeeper, Severity, WorkerDied
from ulvar.frames import ExposureFacts
from ulvar.night import RUNNERS, STATIONS, Night, StationResult
from ulvar.night.stations import run_deep, run_score, run_stack
from ulvar.night.stations.camera import run_camera

log = logging.getLogger(__name__)

# Views are told of the end of a job in portions of this length; then the user's clicks have their turn [s].
_TELLING_S = 0.008
_A_TURN_OF_ITS_OWN = None
# What is left of a job that was stopped: single exposures are kept as they are finished, a stack is whole or not there.
_GOES_ON = "what was finished is kept, and a new run goes on from there"
_KEEPS = dict.fromkeys(("stack", "deep", "camera"), "nothing was changed, and a new run begins anew")


class Running:
    """Starts and stops jobs; it reads and tells what the model has."""

    if TYPE_CHECKING:
        night: Night | None
        current: str
        pools: PoolKeeper
        quality: Callable[[], Any]
        stack_plan: Callable[[], Any]
        findings: Callable[[], Any]
        message: Any
        told_all: Any
        job_changed: Any
        exposures_changed: Any
        stars_changed: Any
        results_changed: Any
        states_changed: Any
        findings_changed: Any
        current_changed: Any
        _job_event: Any
        _telling: int
        _portions: Soon

        def lights(self) -> list[ExposureFacts]: ...
        def exposures(self) -> list[ExposureFacts]: ...
        def state(self, station: str) -> str: ...
        def knows_metric(self, metric: str) -> bool: ...
        def _drop(self, *kept: str) -> None: ...
        def read_tables_ahead(self, paths: Iterable[str]) -> None: ...
        def _choose_metric(self) -> None: ...

    job: Job | None = None
    job_station: str = ""
    job_finding: Finding | None = None
    _what: str = ""
    _running: bool = False
    _ending: Iterator[Callable[[], object] | None] | None = None

    def run_station(self, station: str, what: str = "") -> bool:
        """Start a station's work in the background; False when something runs already."""
        if self.night is None or self.busy:
            return False
        night = self.night
        special = {"score": run_score, "stack": run_stack, "camera": run_camera, "deep": run_deep}
        runner = special.get(what, RUNNERS[station])
        self.job_station = station
        self.job_finding = None
        self._what = what
        self.job = Job(
            station, lambda context: runner(night, context), pools=self.pools, on_change=self._job_event.emit
        )
        self._running = True
        self.job.start()
        self.job_changed.emit()
        self.states_changed.emit()
        return True

    def stop_job(self) -> None:
        """Ask the running job to stop."""
        if self.job is not None and not self.job.finished:
            self.job.stop()
            self.job_changed.emit()

    @property
    def stopping_keeps(self) -> str:
        """What a stop of the running job would leave, as a sentence."""
        return "What is finished is kept." if self._what not in _KEEPS else "A stop leaves things as they were."

    @property
    def busy(self) -> bool:
        """Whether a job runs."""
        # Until the end was told here, not only reached in the job's own thread.
        return self._running

    def _on_job_event(self, job: Job) -> None:
        if job is not self.job:
            return
        if not job.finished:
            self.job_changed.emit()
            return
        if self._ending is not None or not self._running:
            # The last progress may be told after the end: one end is enough.
            return
        self._drop()
        if job.state == "failed":
            if self.night is not None:
                self.night.clear_leftovers()
            self.job_finding = _failure_finding(self.job_station, job.error)
        elif job.state == "stopped":
            self.message.emit(f"{self.job_station.title()} stopped; {_KEEPS.get(self._what, _GOES_ON)}.")
        elif isinstance(job.result, StationResult):
            self.message.emit(job.result.problem or job.result.text)
        if not self.current:
            lights = self.lights()
            self.current = lights[0].path if lights else (self.exposures()[0].path if self.exposures() else "")
        self._tell_end()

    def _tell_end(self) -> None:
        """Tell the views that a job ended, one after the other with room for the user's hand between them.

        All at once would hold the window up for several frames. The model is busy until the last one is told.
        """
        self._telling += 1
        steps: list[Callable[[], object] | None] = [
            self.quality, partial(self.read_tables_ahead, [self.current]), self.stack_plan, self.findings,
            *(partial(self.state, station) for station in STATIONS),
            *(partial(self.knows_metric, metric) for metric in METRICS), self._choose_metric,
            self.exposures_changed.emit, self.stars_changed.emit, self.results_changed.emit, self.states_changed.emit,
            self.findings_changed.emit, self.current_changed.emit, _A_TURN_OF_ITS_OWN, self._end_telling,
        ]  # fmt: skip
        self._ending = iter(steps)
        self._portions.ask()

    def _go_on_telling(self) -> None:
        if self._ending is None:
            return
        began = time.perf_counter()
        for step in self._ending:
            if step is not _A_TURN_OF_ITS_OWN:
                try:
                    step()
                except Exception:
                    # Whatever one view stumbles over, the window does not stay busy for it.
                    log.exception("telling the end of %s", self.job_station)
            # Several small steps go together; a long one is followed by whatever waits.
            if step is _A_TURN_OF_ITS_OWN or time.perf_counter() - began > _TELLING_S:
                self._portions.ask()
                return

    def _end_telling(self) -> None:
        """Let the boards follow: they are brought up to date with the last word."""
        if self._ending is None:
            return
        self._ending = None
        self._telling -= 1
        if not self._telling:
            self.told_all.emit()
        self._running = False
        self.job_changed.emit()


def _failure_finding(station: str, error: BaseException | None) -> Finding:
    if isinstance(error, WorkerDied):
        text = (
            f"{str(error).capitalize()}. Nothing is lost: finished products are kept, and a new run goes on from there."
        )
        return Finding(Severity.BLOCKS, "worker_died", "A worker process died", text, station=station)
    text = f"{type(error).__name__}: {error}. Finished products are kept; details are in the log."
    return Finding(Severity.BLOCKS, "job_failed", f"{station.title()} could not finish", text, station=station)
