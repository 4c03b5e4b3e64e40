"""Giving stars a role: by a click, or by a proposal."""

from __future__ import annotations

import string
from collections.abc import Sequence

import numpy as np

from ulvar.desktop.models.listing import listed_at
from ulvar.desktop.models.model import Model
from ulvar.photometry import ListedStar
from ulvar.stars import StarFlag, StarTable


def _next_name(stars: list[ListedStar], role: str, target: str) -> str:
    names = {s.name for s in stars}
    if role == "target":
        return target if target not in names else f"{target} {len(names)}"
    if role == "check":
        return next(f"k{i}" for i in range(1, 1000) if f"k{i}" not in names)
    return next((letter for letter in string.ascii_lowercase if letter not in names), f"c{len(names)}")


def give_role(model: Model, place: tuple[float, float], role: str) -> str:
    """Give the star at an image position of the current exposure a role; returns what was done, in words."""
    if model.night is None:
        return ""
    stars = model.night.stars()
    pixels = model.numbers.star_pixels(model.looking.at_hand())
    near = [n for n, (x, y) in pixels.items() if (x - place[0]) ** 2 + (y - place[1]) ** 2 < 8**2]
    kept = [s for s in stars if s.name not in near]
    if not role:
        if not near:
            return "There is no role at this place."
        model.matching.set_stars(kept, f"Remove {near[0]}")
        return f"{near[0]} has no role now."
    if role == "target":
        # One target at a time: the old one gives way.
        kept = [s for s in kept if s.role != "target"]
    name = _next_name(kept, role, model.night.name or "target")
    new = listed_at(model, model.looking, name, role, place)
    if new is None:
        return "Score the exposures first (Combine), so that the place can be carried to the others."
    model.matching.set_stars([new, *kept] if role == "target" else [*kept, new], f"Make {name} a {role}")
    return f"{name} is a {role} star now." if role != "target" else f"{name} is the target now."


def propose_stars(model: Model) -> str:
    """Add comparison and check stars like the target to the list; returns what was done, in words."""
    night = model.night
    if night is None:
        return "Open a night first."
    stars = night.stars()
    target = next((s for s in stars if s.role == "target"), None)
    if target is None:
        return "Click the target in the picture first; comparison stars are chosen to suit it."
    table = model.looking.star_table(model.current)
    if table is None:
        return "Go to an exposure that is scored."
    place = model.numbers.star_pixels(model.current).get(target.name)
    facts = model.facts(model.current)
    if place is None or facts is None:
        return "The target's place in this exposure is not known: solve it first."
    chosen = choose_comparisons(table, place, (facts.width, facts.height))
    if not len(chosen):
        return "No star is alone, of like brightness and away from the edge."
    taken = [xy for name, xy in model.numbers.star_pixels(model.current).items()]
    new = list(stars)
    added = 0
    for k in chosen:
        x, y = float(table.x[k]), float(table.y[k])
        if any((x - a) ** 2 + (y - b) ** 2 < 8**2 for a, b in taken):
            continue
        # Every fourth star checks the others.
        role = "check" if added == 3 else "comparison"
        listed = listed_at(model, model.looking, _next_name(new, role, ""), role, (x, y))
        if listed is None:
            continue
        new.append(listed)
        added += 1
        if added == 7:
            break
    if added:
        model.matching.set_stars(new, f"Propose {added} stars")
    return f"{added} stars proposed: like the target in brightness, alone, away from the edge."


def choose_comparisons(table: StarTable, place: tuple[float, float], size: tuple[int, int]) -> np.ndarray:
    """Return indices of stars that suit a target at a place, the best first.

    A comparison is unsaturated, 40 px or more from the edge, between a third and three times as bright as the
    target, and has no neighbour of a hundredth of its light within 20 px.
    """
    if not len(table):
        return np.empty(0, dtype=int)
    distance = np.hypot(table.x - place[0], table.y - place[1])
    own = int(np.argmin(distance))
    flux = table.flux[own]
    margin = 40
    good = (table.flags & (StarFlag.SATURATED | StarFlag.BAD_PIXEL | StarFlag.EDGE)) == 0
    good &= (table.flux > flux / 3) & (table.flux < 3 * flux) & (distance > 20)
    good &= (table.x > margin) & (table.y > margin) & (table.x < size[0] - margin) & (table.y < size[1] - margin)
    picked = []
    for k in np.flatnonzero(good):
        apart = np.hypot(table.x - table.x[k], table.y - table.y[k])
        near = (apart > 0.5) & (apart < 20)
        if not near.any() or table.flux[near].max() < 0.01 * table.flux[k]:
            picked.append(k)
    return np.array(sorted(picked, key=lambda k: abs(np.log(table.flux[k] / flux))), dtype=int)


def add_stars(model: Model, stars: Sequence[ListedStar]) -> str:
    """Add stars by their places on the sky to the list, undoably; returns what was done, in words.

    One of the same name gives way, and the target to a new one; names are found where there are none.
    """
    if model.night is None or model.chosen_series() is None:
        return "Open a folder of exposures first."
    kept = list(model.night.stars())
    added: list[ListedStar] = []
    for star in stars:
        if star.role == "target":
            kept = [s for s in kept if s.role != "target"]
        name = star.name or _next_name([*kept, *added], star.role, model.night.name or "target")
        kept = [s for s in kept if s.name != name]
        added = [s for s in added if s.name != name]
        added.append(ListedStar(name, star.role, ra=star.ra, dec=star.dec))
    targets = [s for s in added if s.role == "target"]
    # Of several targets the first one is it; the others are measured against the same stars as check stars.
    added = [ListedStar(s.name, "check", s.ra, s.dec) if s in targets[1:] else s for s in added]
    order = {"target": 0, "comparison": 1, "check": 2}
    words = f"{added[0].name} as {added[0].role}" if len(added) == 1 else f"{len(added)} stars"
    model.matching.set_stars(sorted([*kept, *added], key=lambda s: order.get(s.role, 3)), f"Add {words}")
    solved = bool(model.of_members("plate"))
    return f"Added {words}." + ("" if solved else " Solve the plates, so that they are found in the exposures.")


def where_words(model: Model, star: ListedStar) -> str:
    """Return where a star is in the exposure on screen, in words."""
    wcs, facts = model.plates().get(model.current), model.facts(model.current)
    if wcs is None or facts is None or star.ra is None or star.dec is None:
        return "known once it is solved"
    x, y = (float(v) for v in wcs.pixel(star.ra, star.dec))
    inside = -0.5 <= x < facts.width - 0.5 and -0.5 <= y < facts.height - 0.5
    return f"x {x + 1:.0f}, y {y + 1:.0f}" if inside else "outside of it"
