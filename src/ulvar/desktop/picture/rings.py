"""Aperture and annulus on the picture, taken hold of and drawn wider or narrower."""

from __future__ import annotations

import math
from dataclasses import dataclass

from PySide6.QtCore import QPointF

from ulvar.desktop.picture.overlays import Overlay, RoleMark
from ulvar.desktop.picture.sight import Sight

# So near to a ring the pointer takes hold of it [screen px].
_NEAR = 5.0
# Rings are no narrower than this, and so far apart at least [px].
_LEAST, _APART = 0.5, 0.5
APERTURE, INNER, OUTER = 0, 1, 2


@dataclass(frozen=True)
class Grip:
    """A ring that the pointer holds: of which star, and which of its three."""

    mark: RoleMark
    ring: int


def grip_at(sight: Sight, overlay: Overlay, place: QPointF) -> Grip | None:
    """Return the ring under a place of the screen, None where there is none.

    Parameters
    ----------
    sight : Sight
    overlay : Overlay
    place : QPointF
        On the screen [px].
    """
    if overlay.aperture is None:
        return None
    best: tuple[float, Grip] | None = None
    for mark in overlay.roles:
        middle = sight.to_screen(mark.x, mark.y)
        away = math.hypot(place.x() - middle.x(), place.y() - middle.y())
        for ring, radius in enumerate(overlay.aperture):
            off = abs(away - radius * sight.scale)
            # Rings that lie on each other on the screen cannot be told apart: then the picture is moved.
            if off < _NEAR and radius * sight.scale > _NEAR and (best is None or off < best[0]):
                best = off, Grip(mark, ring)
    return None if best is None else best[1]


def drawn_to(radii: tuple[float, float, float], grip: Grip, sight: Sight, place: QPointF) -> tuple[float, float, float]:
    """Return the radii with the held ring drawn to a place of the screen [px]: it stays between its neighbours.

    Parameters
    ----------
    radii : (float, float, float)
        Aperture, inner and outer radius of the annulus [px].
    grip : Grip
    sight : Sight
    place : QPointF
        On the screen [px].
    """
    middle = sight.to_screen(grip.mark.x, grip.mark.y)
    wanted = math.hypot(place.x() - middle.x(), place.y() - middle.y()) / sight.scale
    aperture, inner, outer = radii
    if grip.ring == APERTURE:
        aperture = min(max(wanted, _LEAST), inner - _APART)
    elif grip.ring == INNER:
        inner = min(max(wanted, aperture + _APART), outer - _APART)
    else:
        outer = max(wanted, inner + _APART)
    return aperture, inner, outer
