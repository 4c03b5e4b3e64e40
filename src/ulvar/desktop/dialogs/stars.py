"""Stars by their places on the sky: typed, pasted or from a list."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import QFileDialog, QHBoxLayout, QPlainTextEdit, QPushButton, QWidget

from ulvar.desktop.dialogs.base import Panel
from ulvar.desktop.models.model import Model
from ulvar.desktop.models.starpick import add_stars, where_words
from ulvar.desktop.parts.inputs import Choice
from ulvar.desktop.parts.widgets import Rows, label, table
from ulvar.desktop.picture.tools import sexagesimal
from ulvar.engine import counted
from ulvar.photometry import ListedStar, StarListError, read_star_line, read_star_list

# Words, and the role of the first star without one, and of the others.
_FIRST = (
    ("target, then comparison stars", ("target", "comparison")), ("comparison stars", ("comparison", "comparison")),
    ("check stars", ("check", "check")),
)  # fmt: skip


class StarsPanel(Panel):
    """A text with a star a line; below it what was understood, and where each star is in the picture."""

    def __init__(self, parent: QWidget, model: Model) -> None:
        super().__init__(
            parent, "Stars by coordinates",
            "A star a line: name, right ascension, declination, role, with commas between; name and role may be left "
            "away. Right ascension in hours when it has colons or spaces, in degrees when it is one number.", "Add stars",
        )  # fmt: skip
        self.setMinimumWidth(600)
        self._model = model
        self.stars: list[ListedStar] = []
        self.text = QPlainTextEdit()
        self.text.setPlaceholderText("T, 07:42:10.5, +41:18:03, target\na, 115.52, 41.33, comparison")
        self.text.setToolTip("A star a line; Ctrl+V pastes a list")
        self.text.setAccessibleName("Stars, one a line")
        self.text.setTabChangesFocus(True)
        self.text.setFixedHeight(96)
        self.text.textChanged.connect(self._read)
        self.body.addWidget(self.text)
        row = QHBoxLayout()
        row.addWidget(label("Without a role they are"))
        self.first = Choice()
        for words, roles in _FIRST:
            self.first.addItem(words, roles)
        self.first.setToolTip("What stars become whose line names no role")
        self.first.setAccessibleName("Role of stars without one")
        has_target = any(s.role == "target" for s in model.night.stars()) if model.night else False
        self.first.setCurrentIndex(1 if has_target else 0)
        self.first.currentIndexChanged.connect(self._read)
        row.addWidget(self.first, 1)
        self.choose = QPushButton("Open a list…")
        self.choose.setToolTip("A CSV file with the columns name, role, ra and dec")
        self.choose.clicked.connect(self._open)
        row.addWidget(self.choose)
        self.body.addLayout(row)
        self.rows = Rows(["Star", "Role", "Place", "In the picture"])
        self.rows.theme = getattr(parent, "theme", None)
        view = table(self.rows, "Stars that were understood")
        view.setToolTip("What was understood; a star outside of the picture cannot be measured there")
        view.setFixedHeight(150)
        self.body.addWidget(view)
        self._read()
        self.text.setFocus()

    def _read(self) -> None:
        """Understand the text anew."""
        self.stars, problems = [], []
        first, other = self.first.currentData()
        waits = True
        for number, line in enumerate(self.text.toPlainText().splitlines(), 1):
            if not line.strip() or line.lstrip().startswith("#"):
                continue
            try:
                star = read_star_line(line)
            except StarListError as error:
                problems.append(f"Line {number}: {error}.")
                continue
            role = star.role or (first if waits else other)
            waits = waits and bool(star.role)
            self.stars.append(ListedStar(star.name, role, ra=star.ra, dec=star.dec))
        self.tell("\n".join(problems[:3]))
        self.action.setEnabled(bool(self.stars) and not problems)
        self.action.setText(f"Add {len(self.stars)} stars" if len(self.stars) > 1 else "Add the star")
        rows = [
            (s.name or "–", s.role, sexagesimal(s.ra or 0.0, s.dec or 0.0), where_words(self._model, s)) for s in self.stars
        ]  # fmt: skip
        self.rows.fill(rows, [str(k) for k in range(len(rows))])

    def _open(self) -> None:
        """Take the stars of a file into the text, where they can be changed."""
        start = str(self._model.night.folder) if self._model.night is not None else str(Path.home())
        name, _ = QFileDialog.getOpenFileName(
            self, "Open a list of stars", start, "Tables (*.csv *.txt);;All files (*)"
        )
        if not name:
            return
        try:
            stars = read_star_list(name)
        except StarListError as error:
            self.tell(f"{error}.")
            return
        on_sky = [s for s in stars if s.ra is not None and s.dec is not None]
        lines = [f"{s.name}, {s.ra:.6f}, {s.dec:+.6f}, {s.role}" for s in on_sky]
        text = self.text.toPlainText().rstrip()
        self.text.setPlainText("\n".join([*([text] if text else []), *lines]))
        if len(on_sky) < len(stars):
            self.tell(
                f"{counted(len(stars) - len(on_sky), 'star')} of {Path(name).name} without a fixed place on the sky: passed over."
            )

    def apply(self) -> None:
        """Add the stars, as one step of undo."""
        self._model.message.emit(add_stars(self._model, self.stars))
        self.accept()
