"""Giving stars a role: by a click, or by a proposal."""

from __future__ import annotations

import string
from collections.abc import Sequence

from ulvar.desktop.models.fieldstars import candidate_name
from ulvar.desktop.models.listing import listed_at
from ulvar.desktop.models.model import Model
from ulvar.engine import counted
from ulvar.photometry import ListedStar

# So many stars are proposed at once.
_PROPOSED = 7


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


def propose_stars(model: Model) -> str | None:
    """Add the best candidates as comparison and check stars to the list; returns what was done, in words, None while they are looked for."""
    night = model.night
    if night is None:
        return "Open a night first."
    stars = night.stars()
    if not any(s.role == "target" for s in stars):
        return "Click the target in the picture first; comparison stars are chosen to suit it."
    found = model.field.candidates()
    if found is None:
        return None
    if found.problem:
        return found.problem
    good = [c for c in found.found if c.good]
    if not good:
        return "No star has nothing against it: see the reasons on the page Candidates."
    raw = model.looking.at_hand()
    places = model.field.candidate_places(raw, good)
    taken = model.field.listed_at(raw, places)
    new = list(stars)
    added = 0
    for candidate in good:
        name = candidate_name(candidate)
        if name not in places or name in taken:
            continue
        # Every fourth star checks the others.
        role = "check" if added == 3 else "comparison"
        listed = listed_at(model, model.looking, _next_name(new, role, ""), role, places[name])
        if listed is None:
            continue
        new.append(listed)
        added += 1
        if added == _PROPOSED:
            break
    if not added:
        return "All good candidates have a role already." if places else "Go to an exposure that is scored."
    model.matching.set_stars(new, f"Propose {counted(added, 'star')}")
    return f"{counted(added, 'star')} proposed, with nothing against them in {counted(found.looks, 'exposure')}."


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
