"""Which exposures show the same stars: the reference is the best of those that most others agree with."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from ulvar.engine import Failed, JobContext, counted
from ulvar.flows.align import Aligned, align_all, align_item, align_pointed, known_score, positions
from ulvar.flows.starfind import Scored
from ulvar.inspection import Finding, Mend, notice
from ulvar.registration import LEAST_STARS, PixelMap, Transform
from ulvar.registration.pointed import Pair
from ulvar.stars import StarTable

# After so many exposures with which no larger set agrees the search ends.
_PIVOTS = 12
# Within so much of its place a detection has stayed where it was; beyond so much the field has moved [px].
_STAYED_PX, _MOVED_PX = 0.8, 2.0
# So many detections that stay while the field moves are a pattern of defects.
_PATTERN = 4
# Where nothing moved, so many exposures are asked whether they show stars beside what stays.
_ASKED = 4


@dataclass(frozen=True)
class Agreement:
    """Exposures that show the same stars, and those that do not.

    Attributes
    ----------
    reference : Scored
        The best of the largest set.
    aligned : list of Aligned
        The set, the reference included, in the order given.
    failed : list of Failed
        Everything else, with the reason.
    groups : tuple of tuples of str
        Files of further sets that agree among themselves, the largest first.
    defects : int
        Detections that stayed on the same pixels while the field moved, and were not counted as stars.
    """

    reference: Scored
    aligned: list[Aligned]
    failed: list[Failed]
    groups: tuple[tuple[str, ...], ...] = ()
    defects: int = 0


@dataclass(frozen=True)
class _Set:
    pivot: Scored
    others: list[Aligned]
    refused: list[Failed]

    @property
    def files(self) -> tuple[str, ...]:
        return (self.pivot.facts.path, *(a.scored.facts.path for a in self.others))


def told_apart(agreement: Agreement, names: Sequence[str] = ()) -> list[Finding]:
    """Return a finding for each further set that agrees among itself, and one where nothing agrees.

    Parameters
    ----------
    agreement : Agreement
    names : sequence of str
        What the sets' fields may be called, for the offer to make each a series of its own; without names there is
        no offer.
    """
    reference = Path(agreement.reference.facts.path).name
    if len(agreement.aligned) < 2 and agreement.failed:
        files = (*(a.scored.facts.path for a in agreement.aligned), *(f.file for f in agreement.failed))
        count = len(files)
        return [notice("no_agreement", "No common stars", f"No two of {count} exposures show the same stars.", files)]
    found = []
    for n, files in enumerate(agreement.groups):
        first = ", ".join(Path(path).name for path in files[:3]) + (" …" if len(files) > 3 else "")
        text = (
            f"{counted(len(files), 'exposure', 'shows', 'show')} the same stars, but not those of {reference}: {first}."
        )
        mend = Mend(f"Make a series of {len(files)}", f"object:{names[n]}", files) if n < len(names) else None
        found.append(notice("other_field", "Another field among them", text, files, mend=mend))
    return found


# Stars that were pointed out as the same in an exposure and in another one, by the path of the first.
Common = Mapping[str, "Pointed"]


@dataclass(frozen=True)
class Pointed:
    """Stars of an exposure that another one shows, too: the other's path, and the places in both [px, 0-based]."""

    other: str
    pairs: tuple[Pair, ...]


def helped(agreement: Agreement, scored: Sequence[Scored], common: Common) -> Agreement:
    """Return the agreement with exposures that failed brought in by stars that were pointed out.

    The other exposure need not be the reference: one that is aligned will do.
    """
    by_path = {one.facts.path: one for one in scored}
    aligned = {a.scored.facts.path: a for a in agreement.aligned}
    failed = []
    for failure in agreement.failed:
        told = common.get(failure.file)
        base = None if told is None else aligned.get(told.other)
        if told is None or failure.file not in by_path:
            failed.append(failure)
        elif base is None:
            why = f"{Path(told.other).name}, in which its stars were pointed out, is not aligned itself"
            failed.append(Failed(why, failure.file))
        else:
            places = np.array([there for _, there in told.pairs], dtype=np.float64)
            there = np.column_stack(base.transform(*places.T))
            pairs = [(here, (float(x), float(y))) for (here, _), (x, y) in zip(told.pairs, there)]
            made = align_pointed(by_path[failure.file], agreement.reference.stars, pairs)
            if isinstance(made, Failed):
                failed.append(made)
            else:
                aligned[failure.file] = made
    kept = [aligned[one.facts.path] for one in scored if one.facts.path in aligned]
    groups = tuple(tuple(p for p in group if p not in aligned) for group in agreement.groups)
    return replace(agreement, aligned=kept, failed=failed, groups=tuple(g for g in groups if len(g) > 1))


def align_agreeing(scored: Sequence[Scored], context: JobContext, *, first: str = "") -> Agreement:
    """Align exposures on the best of the largest set of them that agrees.

    The best exposure is asked first; those that do not match it are asked among themselves, and so on. Detections that
    stay on the same pixels while the field moves are defects of the camera, and count for no match.

    Parameters
    ----------
    scored : sequence of Scored
        At least one.
    context : JobContext
    first : str, optional
        The exposure that is asked first in the place of the best one: that which others were aligned on before.

    Notes
    -----
    With one exposure, or a set in which no two agree, the reference is the best by its score alone.
    """
    given = list(scored)
    sets = _sets(given, context, first)
    defects = _defects(given, sets)
    if len(defects):
        # The same exposures without what is no star.
        given = [_without(one, defects) for one in given]
        sets = _sets(given, context, first)
    whole = {one.facts.path: one for one in scored}
    chosen = _largest(sets)
    reference, members = chosen.pivot, {a.scored.facts.path: a for a in chosen.others}
    reasons = {f.file: f.reason for f in chosen.refused}
    # Those of sets found before were asked by another exposure only; some may lie between the two.
    unasked = [s for s in given if s.facts.path not in {*reasons, *chosen.files}]
    late, lost = align_all(unasked, reference.stars, context)
    members |= {a.scored.facts.path: a for a in late}
    reasons |= {f.file: f.reason for f in lost}
    if len(given) == 1 or len(reference.stars) >= LEAST_STARS:
        members[reference.facts.path] = Aligned(reference, Transform.identity(), 1.0)
    else:
        # Nothing will ever lie on it.
        reasons[reference.facts.path] = f"too few stars: {len(reference.stars)}, at least {LEAST_STARS} are needed"
    groups = []
    for one in sorted(sets, key=lambda s: -len(s.files)):
        left = tuple(path for path in one.files if path in reasons)
        if one is not chosen and len(left) > 1:
            groups.append(left)
            for path in left:
                reasons[path] = (
                    f"it shows the same stars as {counted(len(left) - 1, 'other exposure')}, "
                    f"not those of the reference {Path(reference.facts.path).name}"
                )
    aligned = [replace(members[s.facts.path], scored=whole[s.facts.path]) for s in given if s.facts.path in members]
    failed = [Failed(reasons[s.facts.path], s.facts.path) for s in given if s.facts.path in reasons]
    return Agreement(whole[reference.facts.path], aligned, failed, tuple(groups), len(defects))


def _sets(scored: Sequence[Scored], context: JobContext, first: str) -> list[_Set]:
    # The earliest of equals first, as in `pick_reference`.
    rest, found = sorted(scored, key=known_score, reverse=True), list[_Set]()
    rest.sort(key=lambda one: one.facts.path != first)
    while rest and len(found) < _PIVOTS:
        pivot, others = rest[0], rest[1:]
        found.append(_Set(pivot, *align_all(others, pivot.stars, context)))
        taken = set(found[-1].files)
        rest = [s for s in rest if s.facts.path not in taken]
    return found


def _largest(sets: Sequence[_Set]) -> _Set:
    return max(sets, key=lambda one: len(one.files))


def _moved(transform: PixelMap, places: np.ndarray) -> np.ndarray:
    """Return how far stars are carried [px]."""
    x, y = transform(*places.T)
    return np.hypot(x - places[:, 0], y - places[:, 1])


def _near(places: np.ndarray, others: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Return which places have another one on the same pixels, and which one."""
    from scipy.spatial import cKDTree

    if not len(places) or not len(others):
        return np.empty(0, dtype=np.int64), np.empty(0, dtype=np.int64)
    distance, index = cKDTree(others).query(places, distance_upper_bound=_STAYED_PX)
    here = np.flatnonzero(np.isfinite(distance))
    return here, index[here]


def _stayed(stars: StarTable, others: StarTable) -> tuple[np.ndarray, np.ndarray]:
    return _near(positions(stars), positions(others))


def _defects(scored: Sequence[Scored], sets: Sequence[_Set]) -> np.ndarray:
    """Return places (n, 2) on the sensor at which detections stay while the field moves [px]."""
    size = {(s.facts.width, s.facts.height) for s in scored}
    largest = _largest(sets)
    if len(size) > 1 or not largest.others:
        return np.empty((0, 2))
    pivot = largest.pivot.stars
    seen, moved = np.zeros(len(pivot), dtype=np.int64), 0
    for one in largest.others:
        stars = one.scored.stars
        far = _moved(one.transform, positions(stars)) > _MOVED_PX
        here, there = _stayed(stars, pivot)
        if np.median(far):
            moved += 1
            seen[there[far[here]]] += 1
    if moved:
        # A chance meeting of two stars does not come again in another exposure.
        places = positions(pivot)[seen >= max(2 if moved > 1 else 1, math.ceil(moved / 2))]
        return places if len(places) >= _PATTERN else np.empty((0, 2))
    return _pattern_beside_stars(largest)


def _pattern_beside_stars(one: _Set) -> np.ndarray:
    """Return what stays on its pixels, where beside it there is another pattern that moves: then that is the stars."""
    pivot = one.pivot.stars
    # Those first that show most beside the pattern.
    first, *rest = sorted((a.scored for a in one.others), key=lambda s: len(_stayed(s.stars, pivot)[0]) - len(s.stars))
    for second in [*rest[:: max(1, len(rest) // _ASKED)][:_ASKED], one.pivot]:
        here, there = _stayed(first.stars, second.stars)
        if len(here) < _PATTERN:
            continue
        mine, theirs = np.ones(len(first.stars), dtype=bool), np.ones(len(second.stars), dtype=bool)
        mine[here] = theirs[there] = False
        alone = replace(first, stars=first.stars.select(mine))
        found = align_item((alone, second.stars.select(theirs)))
        if isinstance(found, Aligned) and np.median(_moved(found.transform, positions(alone.stars))) > _MOVED_PX:
            return positions(first.stars)[here]
    return np.empty((0, 2))


def _without(one: Scored, defects: np.ndarray) -> Scored:
    keep = np.ones(len(one.stars), dtype=bool)
    keep[_near(positions(one.stars), defects)[0]] = False
    return replace(one, stars=one.stars.select(keep))
