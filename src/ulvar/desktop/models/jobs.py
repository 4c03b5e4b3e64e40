"""The part of the model about running: a station's job, and telling the views of its end in portions."""

from __future__ import annotations

import logging
import time
from collections.abc import Callable, Iterable, Iterator
from functools import partial
from pathlib import Path

from PySide6.QtCore import QObject, Signal

from ulvar.desktop.models import edits
from ulvar.desktop.models.ground import Ground
from ulvar.desktop.models.looking import Looking
from ulvar.desktop.models.mends import done_words
from ulvar.desktop.models.numbers import METRICS, Numbers
from ulvar.desktop.work.soon import Soon
from ulvar.engine import Job, JobContext, PoolKeeper, WorkerDied, place_words
from ulvar.inspection import CODES, Finding, Severity, notice
from ulvar.night import RUNNERS, SERIES_STATIONS, STATIONS, Night, StationResult
from ulvar.night.stations import (
    SERIES_RUNNERS,
    for_each_series,
    run_bodies,
    run_colour,
    run_deep,
    run_field,
    run_follow,
    run_growth,
    run_mosaic,
    run_pair,
    run_plate_harder,
    run_score,
    run_stack,
    run_watch,
)
from ulvar.night.stations.camera import run_camera

log = logging.getLogger(__name__)

# Views are told of the end of a job in portions of this length; then the user's clicks have their turn [s].
_TELLING_S = 0.008
_A_TURN_OF_ITS_OWN = None
# What is left of a job that was stopped: single exposures are kept as they are finished, a stack is whole or not there.
_GOES_ON = "what was finished is kept, and a new run goes on from there"
_KEEPS = dict.fromkeys(
    ("stack", "deep", "colour", "camera", "mosaic", "pair", "bodies", "growth", "field"),
    "nothing was changed, and a new run begins anew",
)


class Jobs(QObject):
    """Starts and stops jobs, and tells the views of their end in portions.

    Attributes
    ----------
    changed : Signal
        A job began, went on or ended.
    job : Job or None
    station : str
        The station whose job it is.
    finding : Finding or None
        Why the last job broke off.
    """

    changed = Signal()
    made = Signal(str, str)
    # A running stack stands otherwise: its file, and how.
    seen = Signal(str, str)
    _event = Signal(object)
    # A job that goes on for the night has brought everything up to date once more.
    _brought_up = Signal()

    def __init__(self, ground: Ground, looking: Looking, numbers: Numbers) -> None:
        super().__init__(ground)
        self._ground, self._looking, self._numbers = ground, looking, numbers
        self.pools = PoolKeeper()
        self.job: Job | None = None
        self.station = ""
        self.finding: Finding | None = None
        self._what = ""
        self._running = False
        self._ending: Iterator[Callable[[], object] | None] | None = None
        self._portions = Soon(self, self._go_on_telling)
        self._event.connect(self._on_event)
        self._brought_up.connect(self._on_brought_up)
        self._once_more = self._over = False
        ground.reading_wanted.connect(self._read_folders)

    def end(self) -> None:
        """Stop what runs and wait for it."""
        if self.job is not None and not self.job.finished:
            self.job.stop()
            self.job.join(60)
        self._end_telling()
        self._running = False

    def run_station(self, station: str, what: str = "", *, every: bool = False) -> bool:
        """Start a station's work in the background; False when something runs already.

        From Combine on it is done for the chosen series, or with `every` for all of them.
        """
        if self._ground.night is None or self.busy:
            return False
        night = self._ground.night
        runner = self._runner(night, station, what, every)
        self.station = station
        self.finding = None
        self._what = what
        self._over = self._once_more = False
        self.job = Job(station, runner, pools=self.pools, on_change=self._event.emit)
        self._running = True
        self.job.start()
        self.changed.emit()
        self._ground.states_changed.emit()
        return True

    def _runner(self, night: Night, station: str, what: str, every: bool) -> Callable[[JobContext], StationResult]:
        if what == "watch":
            return lambda context: run_watch(night, context, self.seen.emit)
        if what == "follow":
            return lambda context: run_follow(night, context, self._told_of)
        special = {
            "score": run_score, "stack": run_stack, "deep": run_deep, "colour": run_colour, "mosaic": run_mosaic,
            "pair": run_pair, "bodies": run_bodies, "harder": run_plate_harder, "growth": run_growth, "field": run_field,
        }  # fmt: skip
        of_series = special.get(what) or (None if what else SERIES_RUNNERS.get(station))
        if of_series is None:
            whole = run_camera if what == "camera" else RUNNERS[station]
            return lambda context: whole(night, context)
        # The job keeps to the series it was started for, whatever is chosen meanwhile.
        series = self._ground.chosen_series()
        if every:
            return lambda context: for_each_series(night, context, of_series)
        return lambda context: of_series(night, context, series)

    def stop(self) -> None:
        """Ask the running job to stop."""
        if self.job is not None and not self.job.finished:
            self.job.stop()
            self.changed.emit()

    @property
    def stopping_keeps(self) -> str:
        """What a stop of the running job would leave, as a sentence."""
        if self._what == "watch":
            return "It ends with the stack of all that came."
        if self._what == "follow":
            return "All that came so far is kept."
        return "What is finished is kept." if self._what not in _KEEPS else "A stop leaves things as they were."

    def state(self, station: str) -> str:
        """Bead of a station."""
        if self.job is not None and not self.job.finished and self.station == station:
            return "running"
        return self._ground.cached(f"state {station}", lambda: self._state(station))

    def _state(self, station: str) -> str:
        if self._ground.night is None:
            return "empty"
        state = self._ground.night.state(station, self._ground.chosen_series())
        blocks = [f for f in self._found() if f.station == station and f.severity is Severity.BLOCKS]
        # What was put right since does not call any more.
        return "done" if state == "attention" and blocks and all(map(self.done_about, blocks)) else state

    def series_done(self, station: str) -> tuple[int, int]:
        """How many of the night's series are done at a station, and how many there are; (0, 0) before Combine."""
        night = self._ground.night
        if night is None or station not in SERIES_STATIONS:
            return 0, 0
        series = self._ground.all_series()
        return self._ground.cached(
            f"state of series {station}",
            lambda: (sum(night.state(station, one) in ("done", "part") for one in series), len(series)),
        )

    def findings(self) -> list[Finding]:
        """Findings of all stations up to now, those of the current station first within a severity."""
        found = list(self._ground.cached("findings", self._found))
        if self.finding is not None:
            found.insert(0, self.finding)
        return sorted(found, key=lambda f: (f is not self.finding and f.station != self._ground.station, f.severity))

    def _found(self) -> list[Finding]:
        series = self._ground.chosen_series()
        return self._ground.night.findings(series=series.key if series else "") if self._ground.night else []

    def done_about(self, finding: Finding) -> str:
        """Return what was done about a finding, in words; empty while it is open."""
        return done_words(finding, self._ground.left_out(), self._ground.settings())

    def files_with_findings(self) -> set[str]:
        """Exposures that a check or a block speaks of."""

        def make() -> set[str]:
            return {
                path for f in self.findings()
                if f.code in CODES and CODES[f.code].dots
                for path in f.files
            }  # fmt: skip

        return self._ground.cached("files_with_findings", make)

    def add_folders(self, paths: Iterable[Path]) -> bool:
        """Add raw folders or files to the open night and read them; False when there was nothing new."""
        night = self._ground.night
        fresh = night.new_raw(paths) if night is not None else []
        if self.busy or not fresh:
            return False
        self._ground.undo.push(edits.Folders(self._ground, fresh))
        return True

    def _read_folders(self) -> None:
        if not self.run_station("intake"):
            self._ground.message.emit("Something runs; read the folders with F5 when it is done.")

    @property
    def working(self) -> bool:
        """Whether a job's own work is under way: what it has stored already, and the telling of it, is no reason to wait."""
        return self.job is not None and not self.job.finished

    @property
    def busy(self) -> bool:
        """Whether a job runs."""
        # Until the end was told here, not only reached in the job's own thread.
        return self._running

    def _on_event(self, job: Job) -> None:
        if job is not self.job:
            return
        if not job.finished:
            self.changed.emit()
            return
        if self._ending is not None or not self._running:
            # The last progress may be told after the end: one end is enough.
            return
        self._over = True
        self._ground.drop()
        if job.state == "failed":
            if self._ground.night is not None:
                self._ground.night.clear_leftovers()
            self.finding = _failure_finding(self.station, job.error)
        elif job.state == "stopped":
            if self._ground.night is not None:
                # What a worker was at when it was ended.
                self._ground.night.clear_leftovers()
            self._ground.message.emit(f"{self.station.title()} stopped; {_KEEPS.get(self._what, _GOES_ON)}.")
        elif isinstance(job.result, StationResult):
            self._ground.message.emit(job.result.problem or job.result.text)
        if not self._ground.current:
            lights = self._ground.lights()
            self._ground.current = (
                lights[0].path if lights else (self._ground.exposures()[0].path if self._ground.exposures() else "")
            )
        self._tell_end()

    def _told_of(self, result: StationResult | None) -> None:
        """Hear, in the job's thread, of a station that was done, or that all are."""
        if result is None:
            self._brought_up.emit()

    def _on_brought_up(self) -> None:
        """Let the views follow while the job goes on; somebody who looks at the last exposure goes on to the new one."""
        if self._ending is not None:
            self._once_more = True
            return
        if not self.working:
            # Its end is told anyway.
            return
        before = self._ground.lights()
        at_end = bool(before) and self._ground.current in ("", before[-1].path)
        self._ground.drop()
        lights = self._ground.lights()
        if lights and (at_end or not self._ground.current):
            self._ground.current = lights[-1].path
        self._tell_end()

    def _tell_end(self) -> None:
        """Tell the views that a job ended, one after the other with room for the user's hand between them.

        All at once would hold the window up for several frames. The model is busy until the last one is told.
        """
        self._ground.telling_count += 1
        steps: list[Callable[[], object] | None] = [
            self._looking.quality, partial(self._looking.read_tables_ahead, [self._ground.current]), self._looking.stack_plan, self.findings,
            *(partial(self.state, station) for station in STATIONS), *(partial(self.series_done, station) for station in SERIES_STATIONS),
            *(partial(self._numbers.knows_metric, metric) for metric in METRICS), self._numbers.choose_metric,
            self._ground.exposures_changed.emit, self._ground.stars_changed.emit, self._ground.results_changed.emit, self._ground.states_changed.emit,
            self._ground.findings_changed.emit, self._ground.current_changed.emit, _A_TURN_OF_ITS_OWN, self._end_telling,
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
                    log.exception("telling the end of %s", self.station)
            # Several small steps go together; a long one is followed by whatever waits.
            if step is _A_TURN_OF_ITS_OWN or time.perf_counter() - began > _TELLING_S:
                self._portions.ask()
                return

    def _go_on_following(self) -> None:
        """See what happened while the views were told: the job's end, or more that came."""
        job, again = self.job, self._once_more
        self._once_more = False
        self.changed.emit()
        if job is not None and job.finished:
            self._on_event(job)
        elif again:
            self._on_brought_up()

    def _end_telling(self) -> None:
        """Let the boards follow: they are brought up to date with the last word."""
        if self._ending is None:
            return
        self._ending = None
        self._ground.telling_count -= 1
        if not self._ground.telling_count:
            self._ground.told_all.emit()
        if self.job is not None and self._what == "follow" and not self._over:
            self._go_on_following()
            return
        self._running = False
        self.changed.emit()
        job = self.job
        if job is not None and isinstance(job.result, StationResult) and not job.result.problem:
            self.made.emit(self.station, self._what)


def _failure_finding(station: str, error: BaseException | None) -> Finding:
    if isinstance(error, WorkerDied):
        text = (
            f"{str(error).capitalize()}. Nothing is lost: finished products are kept, and a new run goes on from there."
        )
        return notice("worker_died", "A worker process died", text, station=station)
    reason = place_words(error) if isinstance(error, OSError) else f"{type(error).__name__}: {error}"
    text = f"{reason}. Finished products are kept; details are in the log."
    return notice("job_failed", f"{station.title()} could not finish", text, station=station)
