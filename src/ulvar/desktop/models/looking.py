"""The part of the model about looking and choosing: qualities, rules, the chosen star, regions, the deep view."""

from __future__ import annotations

from collections.abc import Iterable
from functools import partial
from pathlib import Path

import numpy as np
from PySide6.QtCore import QObject, Signal

from ulvar.desktop.models import edits
from ulvar.desktop.models.ground import Ground
from ulvar.desktop.work.background import Asker
from ulvar.engine import default_budget
from ulvar.frames import FrameError, Shape
from ulvar.night import Night, NightSettings, Product
from ulvar.night.settings import RuleSettings, ShapeSettings
from ulvar.night.stations import (
    QualityRow,
    night_rules,
    quality_rows,
    stack_candidates,
    star_table,
    star_table_path,
    way_to_origin,
)
from ulvar.registration import PixelMap, stored_map
from ulvar.stacking import RuleCount, StackOutlook, count_rules, stack_outlook
from ulvar.stars import FieldMap, StarTable, field_map


class Looking(QObject):
    """What the sky view and the Combine board ask.

    Attributes
    ----------
    star_chosen : Signal
        Another detected star was chosen, or none.
    """

    star_chosen = Signal()

    def __init__(self, ground: Ground) -> None:
        super().__init__(ground)
        self._ground = ground
        # Positions of stars that limits under the user's hand would leave, or None when nothing is tuned.
        self.tuned_stars: np.ndarray | None = None
        self.chosen_star: tuple[float, float] | None = None
        # Whether the picture shows the deep view, on whose pixels clicks then are.
        self.deep_shown = False
        self._tables = Asker("star tables")
        self._tables.found.connect(self._table_arrived)

    def close(self) -> None:
        """End the thread that reads ahead."""
        self._tables.close(wait=True)

    @property
    def picture_bytes(self) -> int:
        """Memory for pictures that are kept for stepping: a quarter of the budget, two gigabytes at most."""
        return int(min(default_budget() / 4, 2 * 1024**3))

    def transform_of(self, raw: str) -> PixelMap | None:
        """Alignment of an exposure onto its reference."""
        product = self._ground.products("score").get(raw)
        if product is None or product.values["matrix"] is None:
            return None
        return stored_map(product.values["matrix"], product.values.get("bent"))

    def way_to_stars(self, raw: str) -> PixelMap | None:
        """The way from an exposure's pixels to those that positions of listed stars are in; None when there is none."""
        night, series, own = self._ground.night, self._ground.series_of_exposure(raw), self.transform_of(raw)
        if night is None or series is None or own is None:
            return None
        scores = self._ground.products("score")
        way = self._ground.cached(f"way of {series.key}", lambda: way_to_origin(night, series, scores))
        return own.then(way) if isinstance(way, PixelMap) else None

    # ---- qualities and rules

    def quality(self) -> dict[str, QualityRow]:
        """Raw path to every quality of each scored exposure of the series."""
        return self._ground.cached(
            "quality",
            lambda: quality_rows(self._ground.night, scores=self._ground.scores()) if self._ground.night else {},
        )

    def stack_plan(self) -> tuple[dict[str, Product], dict[str, str]]:
        """Exposures to stack, and those that a rule takes out with why."""

        def make() -> tuple[dict[str, Product], dict[str, str]]:
            series = self._ground.chosen_series()
            if self._ground.night is None or series is None:
                return {}, {}
            return stack_candidates(self._ground.night, series, rows=self.quality(), scores=self._ground.scores())

        return self._ground.cached("plan", make)

    def counts(self) -> tuple[int, int, int]:
        """How many exposures of the series are in the stack, ruled out, left out: the words of board, line and button."""
        keep, ruled = self.stack_plan()
        return len(keep), len(ruled), len(self._ground.members() & set(self._ground.left_out()))

    def comparable(self) -> dict[str, QualityRow]:
        """Qualities of the exposures of the series that are not left out."""
        out = self._ground.left_out()
        return {raw: row for raw, row in self.quality().items() if raw not in out}

    def rule_counts(self) -> list[RuleCount]:
        """What each rule takes of them."""
        return count_rules(night_rules(self._ground.settings()), list(self.comparable().values()))

    def outlook(self) -> tuple[StackOutlook, StackOutlook]:
        """Return what the stack will be like, and what it would be with every exposure."""
        rows = self.comparable()
        scores = self._ground.scores()
        aligned = [row for raw, row in rows.items() if scores[raw].values["matrix"] is not None]
        return stack_outlook([rows[raw] for raw in self.stack_plan()[0] if raw in rows]), stack_outlook(aligned)

    def _choose(self, settings: NightSettings, text: str) -> None:
        if self._ground.night is not None:
            self._ground.undo.push(edits.Choices(self._ground, settings, text))

    def set_rules(self, rules: list[RuleSettings], text: str) -> None:
        """Change the rules, undoably."""
        settings = self._ground.own_settings()
        settings.combine.rules = rules
        self._choose(settings, text)

    def set_blend(self, blend: dict[str, float]) -> None:
        """Change what the score weighs, undoably."""
        settings = self._ground.own_settings()
        settings.combine.blend = blend
        self._choose(settings, "Change the score")

    # ---- stars

    def star_file(self, raw: str) -> Path | None:
        """Return the file with the detected stars of an exposure, or None when it is not scored."""
        scored = self._scored(raw)
        return None if scored is None else star_table_path(*scored)

    def _scored(self, raw: str) -> tuple[Night, Product] | None:
        """Return the night and the score of an exposure whose detected stars are there."""
        night, product = self._ground.night, self._ground.products("score").get(raw)
        if night is None or product is None or not star_table_path(night, product).exists():
            return None
        return night, product

    def star_table(self, raw: str) -> StarTable | None:
        """Return the detected stars of an exposure, or None when it is not scored."""

        def make() -> StarTable | None:
            scored = self._scored(raw)
            try:
                return None if scored is None else star_table(*scored)
            except FrameError as error:
                self._ground.message.emit(f"{Path(error.path).name}: {error.reason}. Score again to have it made anew.")
                return None

        return self._ground.cached(f"star table {raw}", make)

    def field_map(self, raw: str) -> FieldMap | None:
        """Return width and elongation of the stars over an exposure, or None when there are too few."""

        def make() -> FieldMap | None:
            stars, facts = self.star_table(raw), self._ground.facts(raw)
            return None if stars is None or facts is None else field_map(stars, facts.width, facts.height)

        return self._ground.cached(f"field map {raw}", make)

    def read_tables_ahead(self, paths: Iterable[str]) -> None:
        """Read the stars of exposures that will probably be looked at next, and map them, in another thread."""
        for raw in paths:
            scored, facts = self._scored(raw), self._ground.facts(raw)
            if scored is not None and facts is not None and f"star table {raw}" not in self._ground.caches:
                self._tables.ask((self._ground.order, raw), partial(_stars_and_map, *scored, facts.width, facts.height))

    def _table_arrived(self, asked: tuple[int, str], result: object) -> None:
        order, raw = asked
        if order == self._ground.order and isinstance(result, tuple):
            self._ground.caches.setdefault(f"star table {raw}", result[0])
            self._ground.caches.setdefault(f"field map {raw}", result[1])

    def choose_star(self, place: tuple[float, float] | None) -> None:
        """Choose a detected star of the current exposure, in picture and table alike."""
        if place != self.chosen_star:
            self.chosen_star = place
            self.star_chosen.emit()

    def tune_stars(self, places: np.ndarray | None) -> None:
        """Show which stars limits would leave; None goes back to the stored ones."""
        self.tuned_stars = places
        self._ground.preview_changed.emit()

    # ---- regions

    def regions(self) -> list[Shape]:
        """Regions without star finding."""
        return [region.shape for region in self._ground.settings().combine.regions]

    def add_region(self, kind: str, points: list[tuple[float, float]]) -> None:
        """Leave a region out of star finding, undoably."""
        settings = self._ground.own_settings()
        settings.combine.regions = [*settings.combine.regions, ShapeSettings(kind=kind, points=points)]  # type: ignore[arg-type]
        self._choose(settings, f"Leave a {kind} out")

    def clear_regions(self) -> int:
        """Take all regions back, undoably; returns how many there were."""
        settings = self._ground.own_settings()
        count = len(settings.combine.regions)
        if count:
            settings.combine.regions = []
            self._choose(settings, "Remove the regions left out")
        return count

    # ---- the deep view

    def deep_view(self) -> Product | None:
        """The median of the aligned series, where it was made."""
        return self._ground.of_series("deep")

    def at_hand(self) -> str:
        """Return the exposure whose pixels the picture shows: the current one, or the deep view's reference."""
        deep = self.deep_view()
        return str(deep.values["reference"]) if deep is not None and self.deep_shown else self._ground.current


def _stars_and_map(night: Night, product: Product, width: int, height: int) -> tuple[StarTable, FieldMap | None]:
    stars = star_table(night, product)
    return stars, field_map(stars, width, height)
