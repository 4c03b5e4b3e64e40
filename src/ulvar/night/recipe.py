"""The recorded recipe: settings, stars and steps as TOML, to be run again on other data."""

from __future__ import annotations

import json
import tomllib
from datetime import UTC, datetime
from functools import lru_cache
from pathlib import Path
from typing import Any, Literal

import tomlkit
from pydantic import BaseModel, Field, ValidationError, model_validator

from ulvar import __version__
from ulvar.engine import reason_words, write_text
from ulvar.night.checking import remember_sums
from ulvar.night.project import Night
from ulvar.night.settings import NightSettings
from ulvar.night.state import STATIONS
from ulvar.photometry import ListedStar


class RecipeError(Exception):
    """A recipe that cannot be run: which file and why."""


def record_step(night: Night, station: str) -> None:
    """Write the night's recipe after a station ran."""
    steps = [s for s in night.meta("steps", []) if s["station"] != station]
    steps.append({"station": station, "at": datetime.now(UTC).isoformat(timespec="seconds")})
    steps.sort(key=lambda s: STATIONS.index(s["station"]))
    night.set_meta("steps", steps)
    write_text(night.folder / "recipe.toml", recipe_text(night))
    remember_sums(night)


def recipe_text(night: Night) -> str:
    """Return the night's recipe as TOML."""
    document = tomlkit.document()
    document.add(
        tomlkit.comment("Recorded by Ulvar; run it on other exposures with: ulvar run recipe.toml --night FOLDER")
    )
    document["version"] = __version__
    document["steps"] = [s["station"] for s in night.meta("steps", [])]
    stars = tomlkit.aot()
    for field in {one.field.key: one.field for one in night.series()}.values():
        for star in night.stars_of(field.key):
            places = {k: getattr(star, k) for k in ("ra", "dec", "x", "y") if getattr(star, k) is not None}
            stars.append(tomlkit.item({"name": star.name, "role": star.role, "field": field.name, **places}))
    settings = _settings_text(json.dumps(_without_none(night.settings.model_dump(mode="json"))))
    parts = [tomlkit.dumps(document), settings, *([tomlkit.dumps({"stars": stars})] if len(stars) else [])]
    return "\n".join(parts)


# A recipe is written after each station, mostly with the settings of the one before.
@lru_cache(maxsize=4)
def _settings_text(told: str) -> str:
    return tomlkit.dumps({"settings": json.loads(told)})


def _without_none(value: Any) -> Any:
    # TOML has no null. An unset limit is written as the text "none", so that it is not taken for the default.
    if isinstance(value, dict):
        return {k: _without_none(v) for k, v in value.items()}
    if isinstance(value, list):
        return [_without_none(v) for v in value]
    return "none" if value is None else value


def _with_none(value: Any) -> Any:
    if isinstance(value, dict):
        # What the user calls something is what it says.
        return {k: v if k == "name" else _with_none(v) for k, v in value.items()}
    if isinstance(value, list):
        return [_with_none(v) for v in value]
    return None if value == "none" else value


class _Star(BaseModel):
    """A star as a recipe lists it."""

    name: str = Field(min_length=1)
    role: Literal["target", "comparison", "check"]
    field: str = ""
    ra: float | None = Field(default=None, ge=0, le=360, allow_inf_nan=False)
    dec: float | None = Field(default=None, ge=-90, le=90, allow_inf_nan=False)
    x: float | None = Field(default=None, allow_inf_nan=False)
    y: float | None = Field(default=None, allow_inf_nan=False)

    @model_validator(mode="after")
    def _placed(self) -> _Star:
        if (self.ra is None or self.dec is None) and (self.x is None or self.y is None):
            raise ValueError("it has neither ra and dec nor x and y")
        return self


class _Recipe(BaseModel):
    """What a recipe's file holds."""

    steps: list[str] = Field(default_factory=lambda: list(STATIONS))
    settings: dict[str, dict[str, Any]] = Field(default_factory=dict)
    stars: list[_Star] = Field(default_factory=list)


def _problem(error: ValidationError) -> str:
    """Return the first thing that is wrong, with where it stands."""
    first = error.errors()[0]
    place = ".".join(str(part + 1 if isinstance(part, int) else part) for part in first["loc"])
    return f"{place}: {first['msg'].removeprefix('Value error, ')}"


def read_recipe(path: Path) -> tuple[list[str], NightSettings, dict[str, list[ListedStar]]]:
    """Return (stations, settings, field's name to stars) of a recipe.

    Raises
    ------
    RecipeError
        If the file cannot be read, or names an unknown station or setting.
    """
    try:
        body = _Recipe.model_validate(tomllib.loads(path.read_text(encoding="utf-8-sig")))
        # "none" is a limit taken away, except where it is a choice of its own.
        cleaned = {
            name: {k: v if k in ("normalise", "model") else _with_none(v) for k, v in section.items()}
            for name, section in body.settings.items()
        }
        settings = NightSettings.model_validate(cleaned)
    except ValidationError as error:
        raise RecipeError(f"{path}: {_problem(error)}") from None
    except (OSError, UnicodeDecodeError, tomllib.TOMLDecodeError) as error:
        raise RecipeError(f"{path}: {reason_words(error)}") from None
    except RecursionError:
        raise RecipeError(f"{path}: its lists or tables are nested too deeply") from None
    unknown = [s for s in body.steps if s not in STATIONS]
    if unknown:
        raise RecipeError(f"{path}: there is no station '{unknown[0]}'")
    stars: dict[str, list[ListedStar]] = {}
    for s in body.stars:
        stars.setdefault(s.field, []).append(ListedStar(s.name, s.role, s.ra, s.dec, s.x, s.y))
    return [s for s in STATIONS if s in body.steps], settings, stars
