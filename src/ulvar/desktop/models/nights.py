"""A target over the nights of a folder: read, joined, fitted, timed and folded in other threads."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path

import numpy as np
from PySide6.QtCore import QObject

from ulvar.desktop.models.folding import Folding
from ulvar.desktop.work.background import Asker
from ulvar.engine import Failed, JobContext, StopRequested, StopToken
from ulvar.flows import (
    CurveOptions,
    CurveResult,
    NightMinimum,
    make_curve,
    read_geometry,
    rotation_points,
    time_minima,
)
from ulvar.lightcurves import Ephemeris, Rotation, find_rotation, fit_ephemeris
from ulvar.night.nights import MeasuredTarget, NightsRead, TargetPart, nights_in, read_nights


@dataclass(frozen=True)
class Timed:
    """Minima of nights, and why others have none."""

    minima: list[NightMinimum]
    missing: list[tuple[str, str]]


@dataclass(frozen=True)
class Turned:
    """A rotation, with the points that it was found in: times [d], magnitudes less the levels, sessions."""

    rotation: Rotation
    time: np.ndarray
    magnitude: np.ndarray
    error: np.ndarray
    sessions: list[str]


def _read(folder: Path, stop: StopToken) -> NightsRead | Failed:
    places = nights_in(folder)
    if not places:
        return Failed("there is no night in this folder, nor in the folders in it")
    try:
        return read_nights(places, JobContext(stop=stop))
    except StopRequested:
        return Failed("reading was stopped")


def _joined(parts: list[TargetPart], options: CurveOptions) -> CurveResult | Failed:
    return make_curve([one.part for one in parts], options)


def _timed(parts: list[TargetPart], options: CurveOptions) -> Timed:
    return Timed(*time_minima([one.part for one in parts], options))


def _turned(
    parts: list[TargetPart], low: float, high: float, order: int | None, table: str, slope: float
) -> Turned | Failed:
    told = [one.part for one in parts]
    geometry = read_geometry(Path(table)) if table else None
    points = rotation_points(told, CurveOptions(), geometry, slope)
    if isinstance(points, Failed):
        return points
    time, magnitude, error, sessions = points
    found = find_rotation(time, magnitude, error, sessions, shortest_h=low, longest_h=high, order=order)
    if isinstance(found, Failed):
        return found
    level = float(np.mean(magnitude - found.at(time) - np.array([found.offsets[one] for one in sessions])))
    apart = np.array([found.offsets[one] for one in sessions]) + level
    return Turned(found, time, magnitude - apart, error, sessions)


class TargetNights(Folding):
    """What all nights of a folder measured of one star.

    Attributes
    ----------
    folder : Path or None
    read : NightsRead, Failed or None
    busy : str
        What is being worked out, in words; empty when nothing is.
    stars : list of MeasuredTarget
    star : MeasuredTarget or None
    parts : list of TargetPart
        Of the star, in the order of time.
    away : set of str
        Names of parts that are not taken.
    model : str
    terms : int
        Harmonics of a sine, degree of a polynomial.
    levelled : bool
        Whether each part has a level of its own.
    minima : Timed, Failed or None
    ephemeris : Ephemeris, Failed or None
    turned : Turned, Failed or None
    """

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.folder: Path | None = None
        self.read: NightsRead | Failed | None = None
        self.busy = ""
        self.stars: list[MeasuredTarget] = []
        self.star: MeasuredTarget | None = None
        self.parts: list[TargetPart] = []
        self.away: set[str] = set()
        self.model, self.terms, self.levelled = "none", 4, True
        self.minima: Timed | Failed | None = None
        self.ephemeris: Ephemeris | Failed | None = None
        self.turned: Turned | Failed | None = None
        self._wanted = ""
        self._result: CurveResult | Failed | None = None
        self._stop = StopToken()
        self._number = 0
        # Where the answer goes that is waited for.
        self._into = ""
        self._asker = Asker("nights")
        self._asker.found.connect(self._answered)

    def _order(self) -> object:
        return self._number

    def close(self) -> None:
        """End what runs."""
        self._stop.stop()
        self._asker.close()
        super().close()

    # ---- what is looked at

    def open(self, folder: Path, wanted: str = "") -> None:
        """Read the nights of a folder, and show a star that is called so, else the one of most nights."""
        self._stop.stop()
        self._stop = StopToken()
        self.folder, self.read, self.stars, self.star, self.parts = folder, None, [], None, []
        self._wanted = wanted
        self.away.clear()
        self._forget()
        self._ask("Nights are being read", "read", partial(_read, folder, self._stop))

    def choose(self, star: MeasuredTarget | None) -> None:
        """Look at another star."""
        self.star = star
        self.parts = self.read.parts(star) if star is not None and isinstance(self.read, NightsRead) else []
        self.away.clear()
        self.unfold()
        self.fit()

    def take(self, name: str, on: bool) -> None:
        """Take a part, or leave it away."""
        (self.away.discard if on else self.away.add)(name)
        self.fit()

    def taken(self) -> list[TargetPart]:
        """The parts that are taken."""
        return [one for one in self.parts if one.part.name not in self.away]

    def _forget(self) -> None:
        self._result = self.minima = self.ephemeris = self.turned = None

    # ---- what is worked out

    def _ask(self, words: str, into: str, work) -> None:  # type: ignore[no-untyped-def]
        self._number += 1
        self.busy, self._into = words, into
        self._asker.ask(self._number, work)
        self.changed.emit()

    def fit(self) -> None:
        """Join what is taken and fit it."""
        self._forget()
        if not self.taken():
            self._number += 1
            self.busy = ""
            self.changed.emit()
            return
        options = CurveOptions(self.model, harmonics=self.terms, degree=self.terms)
        if self.model == "sine" and self.fold is not None:
            options = replace(options, period_d=self.fold[0])
        self._ask("The curves are being joined", "_result", partial(_joined, self.taken(), options))

    def time(self, model: str) -> None:
        """Time the minimum of each part by itself."""
        self.minima = self.ephemeris = None
        self._ask("Minima are being timed", "minima", partial(_timed, self.taken(), CurveOptions(model)))

    def tell_ephemeris(self, period_d: float, *, halves: bool, quadratic: bool) -> None:
        """Fit an ephemeris to the timed minima."""
        if isinstance(self.minima, Timed) and self.minima.minima:
            time, error = (np.array([getattr(one, what) for one in self.minima.minima]) for what in ("time", "error"))
            self.ephemeris = fit_ephemeris(time, error, period=period_d, halves=halves, quadratic=quadratic)
            self.changed.emit()

    def turn(self, low_h: float, high_h: float, order: int | None, table: str, slope: float) -> None:
        """Look for a rotation period."""
        self.turned = None
        self._ask(
            "A rotation period is being looked for",
            "turned",
            partial(_turned, self.taken(), low_h, high_h, order, table, slope),
        )

    def _answered(self, order: object, answer: object) -> None:
        if order != self._number:
            return
        self.busy = ""
        if isinstance(answer, str):
            answer = Failed(answer.partition(": ")[2] or answer)
        setattr(self, self._into, answer)
        if isinstance(answer, NightsRead):
            self.stars = answer.targets()
            wanted = answer.star(self._wanted) if self._wanted else None
            near = next((one for one in self.stars if wanted is not None and one.name == wanted.name), None)
            self.choose(near or (self.stars[0] if self.stars else None))
            return
        self.changed.emit()

    def curve(self) -> CurveResult | None:
        """The joined curve; without levels of their own the parts stay as they were measured."""
        if not isinstance(self._result, CurveResult):
            return None
        if not self.levelled and self._result.fit is not None and not self._result.modelled:
            return replace(self._result, fit=None)
        return self._result

    def problem(self) -> str:
        """Why there is no curve; empty where there is one, or it is not known yet."""
        for one in (self.read, self._result):
            if isinstance(one, Failed):
                return one.reason[:1].upper() + one.reason[1:] + "."
        if isinstance(self.read, NightsRead) and not self.stars:
            return "No night in this folder has measured a target yet."
        return ""
