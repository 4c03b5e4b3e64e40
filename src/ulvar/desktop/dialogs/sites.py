"""Sites that were typed before: offered by name wherever one is asked for."""

from __future__ import annotations

from PySide6.QtCore import QSettings, Qt
from PySide6.QtWidgets import QCompleter, QLineEdit

from ulvar.desktop.parts.glyphs import icon
from ulvar.desktop.parts.theme import Theme

# As many are remembered, the last ones first.
_MOST = 30


def split_site(text: str) -> tuple[str, str]:
    """Return name and coordinates of a site as it is typed: ``61.2, 9.7, 640`` or ``Hill: 61.2, 9.7, 640``."""
    name, colon, place = text.rpartition(":")
    return (name.strip(), place.strip()) if colon else ("", text.strip())


def known_sites(settings: QSettings) -> list[str]:
    """Return the sites as they are typed, the last used first."""
    stored = settings.value("sites", [])
    # A list of one comes back as a text.
    return [str(one) for one in stored] if isinstance(stored, list) else [str(stored)] if stored else []


def remember_site(settings: QSettings, text: str) -> None:
    """Keep a site; one of the same name or place, unless it has a name and this one none, makes way for it."""
    name, place = split_site(text)
    kept = []
    for one in known_sites(settings):
        other, there = split_site(one)
        if there == place and not name:
            name = other
        elif there != place and (not name or other != name):
            kept.append(one)
    settings.setValue("sites", [f"{name}: {place}" if name else place, *kept][:_MOST])


class SiteField(QLineEdit):
    """A site that is typed, or chosen of those that were typed before."""

    def __init__(self, text: str, settings: QSettings, theme: Theme) -> None:
        super().__init__(text)
        known = known_sites(settings)
        if known:
            offered = QCompleter(known, self)
            offered.setFilterMode(Qt.MatchFlag.MatchContains)
            offered.setCaseSensitivity(Qt.CaseSensitivity.CaseInsensitive)
            self.setCompleter(offered)
            arrow = self.addAction(icon(theme, "down"), self.ActionPosition.TrailingPosition)
            arrow.setToolTip("Sites that were typed before")
            arrow.triggered.connect(self.offer)

    def offer(self) -> None:
        """List all known sites."""
        offered = self.completer()
        offered.setCompletionPrefix("")
        self.setFocus()
        offered.complete()
