"""What is told of a setting: declared once beside its value, read by the slip, the command line, recipes and the docs."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from pydantic import BaseModel, Field


@dataclass(frozen=True)
class Setting:
    """One setting as people meet it.

    Attributes
    ----------
    name : str
    title : str
        What it is called.
    sentence : str
        What it does.
    unit : str
        As shown; the stored value times `scale` is in it.
    default : Any
    choices : mapping of value to (title, sentence)
        Empty where any value goes.
    kind : str
        ``number``, ``check``, ``choice``, ``text``, ``numbers``, ``file``, ``folder``, ``region`` or ``regions``.
    decimals : int
    span : (float, float)
        What can be set in the window, in the shown unit.
    scale : float
    fold : bool
        Whether it is seldom needed.
    unset : str
        What is shown where no value is given, for a setting that need not have one.
    """

    name: str
    title: str
    sentence: str
    unit: str
    default: Any
    choices: Mapping[Any, tuple[str, str]]
    kind: str
    decimals: int
    span: tuple[float, float]
    scale: float
    fold: bool
    unset: str = ""

    @property
    def help(self) -> str:
        """Return the sentence with its unit and choices, as the command line's help has it."""
        # Of a switch the sentence says how, and its title what.
        what = f"{self.title}. {self.sentence}" if self.kind == "check" else self.sentence
        text = f"{what}{f', in {_PLAIN.get(self.unit, self.unit)}' if self.unit else ''}."
        return text + "".join(f" {value}: {sentence}." for value, (_, sentence) in self.choices.items())


# Units in words that a terminal shows everywhere.
_PLAIN = {"σ": "sigma", "°": "degrees", "°C": "degrees C", "×": "times", "%": "per cent"}


def told(
    default: Any,
    title: str,
    sentence: str,
    *,
    unit: str = "",
    choices: Mapping[Any, tuple[str, str]] | None = None,
    kind: str = "",
    decimals: int = 1,
    span: tuple[float, float] = (0.0, 1e4),
    scale: float = 1.0,
    fold: bool = False,
    unset: str = "",
    **limits: Any,
) -> Any:
    """Return a field of a settings model with all that is told of it; `limits` are pydantic's."""
    guessed = "choice" if choices else "check" if isinstance(default, bool) else "number"
    extra: dict[str, Any] = {
        "unit": unit, "choices": dict(choices or {}), "kind": kind or guessed, "decimals": decimals, "span": span,
        "scale": scale, "fold": fold, "unset": unset,
    }  # fmt: skip
    return Field(default, title=title, description=sentence, json_schema_extra={"told": extra}, **limits)


def setting_of(model: type[BaseModel], name: str) -> Setting:
    """Return what is told of a setting.

    Raises
    ------
    KeyError
        If nothing is.
    """
    field = model.model_fields[name]
    extra = field.json_schema_extra
    if not isinstance(extra, dict) or "told" not in extra:
        raise KeyError(f"nothing is told of {name}")
    return Setting(name, field.title or name, field.description or "", default=field.default, **extra["told"])  # type: ignore[arg-type]


def settings_of(model: type[BaseModel]) -> list[Setting]:
    """Return all settings of a model that something is told of, in their order."""
    return [
        setting_of(model, name)
        for name, field in model.model_fields.items()
        if isinstance(field.json_schema_extra, dict) and "told" in field.json_schema_extra
    ]


def change_words(before: BaseModel, after: BaseModel, name: str) -> str:
    """Return a change of a setting in words, as people see its value: ``aperture radius 1.7 to 4.7``."""
    field = type(before).model_fields[name]
    title = (field.title or name.replace("_", " ")).lower()
    extra = field.json_schema_extra
    told = setting_of(type(before), name) if isinstance(extra, dict) and "told" in extra else None
    old, new = (_value_words(getattr(part, name), told) for part in (before, after))
    return f"{title} {old} to {new}" if old and new else f"change {title}"


def _value_words(value: Any, told: Setting | None) -> str:
    """Return a value in a few words; empty where it takes more."""
    if told is not None and value in told.choices if isinstance(value, str | int | float) else False:
        return told.choices[value][0].lower() if told is not None else ""
    if isinstance(value, bool):
        return "on" if value else "off"
    if value is None:
        return told.unset if told is not None and told.unset else "none"
    if isinstance(value, int | float):
        scaled = float(value) * (told.scale if told is not None else 1.0)
        return f"{scaled:.6g}{f' {told.unit}' if told is not None and told.unit else ''}"
    return ""
