"""The part of the model about looking and choosing: qualities, rules, the chosen star, regions, the deep view."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from ulvar.desktop.models import edits
from ulvar.engine import default_budget
from ulvar.flows import read_stars
from ulvar.frames import ExposureFacts, Shape
from ulvar.night import Night, NightSettings, Product
from ulvar.night.settings import RuleSettings, ShapeSettings
from ulvar.night.stations import QualityRow, night_rules, quality_rows, stack_candidates, star_table_path
from ulvar.registration import Transform
from ulvar.stacking import RuleCount, StackOutlook, count_rules, stack_outlook
from ulvar.stars import FieldMap, StarTable, field_map

if TYPE_CHECKING:
    from PySide6.QtGui import QUndoStack


class Looking:
    """What the sky view and the Combine board ask; it reads what the model caches."""

    if TYPE_CHECKING:
        night: Night | None
        current: str
        undo: QUndoStack
        star_chosen: Any
        preview_changed: Any

        def products(self, kind: str) -> dict[str, Product]: ...
        def settings(self) -> NightSettings: ...
        def facts(self, path: str) -> ExposureFacts | None: ...
        def left_out(self) -> dict[str, str]: ...
        def working_filter(self) -> str: ...
        def transform_of(self, raw: str) -> Transform | None: ...
        def cached(self, key: str, make: Callable[[], Any]) -> Any: ...

    # Positions of stars that limits under the user's hand would leave, or None when nothing is tuned.
    tuned_stars: np.ndarray | None = None
    chosen_star: tuple[float, float] | None = None
    # Whether the picture shows the deep view, on whose pixels clicks then are.
    deep_shown: bool = False

    @property
    def picture_bytes(self) -> int:
        """Memory for pictures that are kept for stepping: a quarter of the budget, two gigabytes at most."""
        return int(min(default_budget() / 4, 2 * 1024**3))

    # ---- qualities and rules

    def quality(self) -> dict[str, QualityRow]:
        """Raw path to every quality of each scored exposure."""
        return self.cached(
            "quality", lambda: quality_rows(self.night, scores=self.products("score")) if self.night else {}
        )

    def stack_plan(self) -> tuple[dict[str, Product], dict[str, str]]:
        """Exposures to stack, and those that a rule takes out with why."""

        def make() -> tuple[dict[str, Product], dict[str, str]]:
            if self.night is None:
                return {}, {}
            return stack_candidates(self.night, rows=self.quality(), scores=self.products("score"))

        return self.cached("plan", make)

    def comparable(self) -> dict[str, QualityRow]:
        """Qualities of the exposures of the working filter that are not left out."""
        name, out = self.working_filter(), self.left_out()
        scores = self.products("score")
        return {
            raw: row for raw, row in self.quality().items() if scores[raw].values["filter"] == name and raw not in out
        }

    def rule_counts(self) -> list[RuleCount]:
        """What each rule takes of them."""
        return count_rules(night_rules(self.settings()), list(self.comparable().values()))

    def outlook(self) -> tuple[StackOutlook, StackOutlook]:
        """Return what the stack will be like, and what it would be with every exposure."""
        rows = self.comparable()
        scores = self.products("score")
        aligned = [row for raw, row in rows.items() if scores[raw].values["matrix"] is not None]
        return stack_outlook([rows[raw] for raw in self.stack_plan()[0] if raw in rows]), stack_outlook(aligned)

    def _choose(self, settings: NightSettings, text: str) -> None:
        if self.night is not None:
            self.undo.push(edits.Choices(self, settings, text))  # type: ignore[arg-type]

    def set_rules(self, rules: list[RuleSettings], text: str) -> None:
        """Change the rules, undoably."""
        settings = self.settings()
        settings.combine.rules = rules
        self._choose(settings, text)

    def set_blend(self, blend: dict[str, float]) -> None:
        """Change what the score weighs, undoably."""
        settings = self.settings()
        settings.combine.blend = blend
        self._choose(settings, "Change the score")

    # ---- stars

    def star_file(self, raw: str) -> Path | None:
        """Return the file with the detected stars of an exposure, or None when it is not scored."""
        product = self.products("score").get(raw)
        if product is None or self.night is None:
            return None
        path = star_table_path(self.night, product)
        return path if path.exists() else None

    def star_table(self, raw: str) -> StarTable | None:
        """Return the detected stars of an exposure, or None when it is not scored."""

        def make() -> StarTable | None:
            path = self.star_file(raw)
            return None if path is None else read_stars(path)

        return self.cached(f"star table {raw}", make)

    def field_map(self, raw: str) -> FieldMap | None:
        """Return width and elongation of the stars over an exposure, or None when there are too few."""

        def make() -> FieldMap | None:
            stars, facts = self.star_table(raw), self.facts(raw)
            return None if stars is None or facts is None else field_map(stars, facts.width, facts.height)

        return self.cached(f"field map {raw}", make)

    def choose_star(self, place: tuple[float, float] | None) -> None:
        """Choose a detected star of the current exposure, in picture and table alike."""
        if place != self.chosen_star:
            self.chosen_star = place
            self.star_chosen.emit()

    def tune_stars(self, places: np.ndarray | None) -> None:
        """Show which stars limits would leave; None goes back to the stored ones."""
        self.tuned_stars = places
        self.preview_changed.emit()

    # ---- regions

    def regions(self) -> list[Shape]:
        """Regions without star finding."""
        return [region.shape for region in self.settings().combine.regions]

    def add_region(self, kind: str, points: list[tuple[float, float]]) -> None:
        """Leave a region out of star finding, undoably."""
        settings = self.settings()
        settings.combine.regions = [*settings.combine.regions, ShapeSettings(kind=kind, points=points)]  # type: ignore[arg-type]
        self._choose(settings, f"Leave a {kind} out")

    def clear_regions(self) -> int:
        """Take all regions back, undoably; returns how many there were."""
        settings = self.settings()
        count = len(settings.combine.regions)
        if count:
            settings.combine.regions = []
            self._choose(settings, "Take the regions back")
        return count

    # ---- the deep view

    def deep_view(self) -> Product | None:
        """The median of the aligned night, where it was made."""
        return self.products("deep").get(self.working_filter())

    def at_hand(self) -> str:
        """Return the exposure whose pixels the picture shows: the current one, or the deep view's reference."""
        deep = self.deep_view()
        return str(deep.values["reference"]) if deep is not None and self.deep_shown else self.current
