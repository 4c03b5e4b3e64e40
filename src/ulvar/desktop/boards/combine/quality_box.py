"""The choice of a quality, from those that are known of any exposure."""

from __future__ import annotations

from collections.abc import Collection

from ulvar.desktop.parts.inputs import Choice
from ulvar.night.stations import QualityRow
from ulvar.stars import QUALITIES


class QualityBox(Choice):
    """Lists qualities with their units; the current data is the quality's key."""

    def __init__(self) -> None:
        super().__init__()
        # It may come in sight before it is filled.
        self.setSizeAdjustPolicy(Choice.SizeAdjustPolicy.AdjustToContents)

    def offer(self, rows: Collection[QualityRow], chosen: str) -> bool:
        """List what is known of any of the exposures, `chosen` picked; returns whether that changed the list."""
        known = [key for key in QUALITIES if any(row.get(key) is not None for row in rows)]
        if [self.itemData(i) for i in range(self.count())] == known:
            return False
        self.clear()
        for key in known:
            quality = QUALITIES[key]
            self.addItem(f"{quality.title}, {quality.unit}" if quality.unit else quality.title, key)
        self.setCurrentIndex(max(0, self.findData(chosen)))
        return True
