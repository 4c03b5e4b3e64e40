"""The header of a file, with search; what was corrected in it; which steps made a product."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtWidgets import QLineEdit, QWidget

from ulvar.desktop.dialogs.base import Panel
from ulvar.desktop.dialogs.facts import FIELDS, shown
from ulvar.desktop.parts.theme import Theme
from ulvar.desktop.parts.widgets import Rows, label, table
from ulvar.engine import counted
from ulvar.frames import ExposureFacts, FrameError
from ulvar.frames.fits_header import header_cards
from ulvar.frames.readers import is_fits_path

_ORIGINS = {"user": "you", "path": "its path", "guessed": "a guess", "measured": "a measurement"}


def corrected_lines(facts: ExposureFacts) -> list[str]:
    """Return the facts that do not come from the header, in words."""
    titles = {name: text for name, text, *_ in FIELDS}
    lines = []
    for name, origin in sorted(facts.origins.items()):
        if origin in _ORIGINS and name in titles:
            lines.append(f"{titles[name]}: {shown(facts, name)} (from {_ORIGINS[origin]})")
    return lines


def _fact_cards(facts: ExposureFacts | None) -> list[tuple[str, str, str]]:
    """Return what is known of a file that has no FITS header, in the same form."""
    if facts is None:
        return []
    return [
        (text, f"{shown(facts, name)} {unit}".strip(), facts.origins.get(name, "")) for name, text, unit, _ in FIELDS
        if shown(facts, name)
    ]  # fmt: skip


class HeaderPanel(Panel):
    """Cards of one file; typing narrows them."""

    def __init__(self, parent: QWidget, theme: Theme, path: str, facts: ExposureFacts | None) -> None:
        name = path.rsplit("/", 1)[-1]
        super().__init__(parent, f"Header of {name}", "As it stands in the file, which is never changed.")
        self.setMinimumSize(640, 560)
        self.cards: list[tuple[str, str, str]] = []
        try:
            self.cards = header_cards(path) if is_fits_path(path) else _fact_cards(facts)
        except FrameError as error:
            self.tell(f"{error.reason[:1].upper()}{error.reason[1:]}.")
        corrected = corrected_lines(facts) if facts is not None else []
        if corrected:
            self.body.addWidget(label("Not from the header", "section"))
            self.body.addWidget(label("\n".join(corrected), wrap=True))
        steps = [value for key, value, _ in self.cards if key == "HISTORY"]
        if steps:
            self.body.addWidget(label("Steps that made it", "section"))
            self.body.addWidget(label("\n".join(steps), wrap=True))
        self.search = QLineEdit()
        self.search.setPlaceholderText("Find in names, values and comments")
        self.search.setAccessibleName("Find in the header")
        self.search.setToolTip("Only cards whose name, value or comment contains this")
        self.search.setClearButtonEnabled(True)
        self.search.textChanged.connect(self._narrow)
        self.body.addWidget(self.search)
        self.rows = Rows(["Keyword", "Value", "Comment"], words=True)
        self.rows.theme = theme
        self.view = table(self.rows, "Cards of the header", stretch=2)
        # One long comment is not to push all others out of sight: what is cut is in the cell's tooltip.
        self.view.horizontalHeader().setMaximumSectionSize(300)
        self.body.addWidget(self.view, 1)
        self.count = label("", "unit")
        self.body.addWidget(self.count)
        self._narrow("")

    def _narrow(self, text: str) -> None:
        wanted = text.strip().lower()
        found: Sequence[tuple[str, str, str]] = [c for c in self.cards if wanted in " ".join(c).lower()]
        self.rows.fill(list(found), [str(i) for i in range(len(found))])
        self.count.setText(
            f"{len(found)} of {counted(len(self.cards), 'card')}" if wanted else counted(len(self.cards), "card")
        )
