"""Sessions and tags by example: click the folder that names it, and see how all files would fall."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QLineEdit, QPushButton, QWidget

from ulvar.desktop.dialogs.base import Panel
from ulvar.desktop.models.model import Model
from ulvar.desktop.parts.flow import FlowLayout
from ulvar.desktop.parts.inputs import Choice
from ulvar.desktop.parts.widgets import Rows, label, table
from ulvar.frames import Role, TagRule, preview_rule
from ulvar.frames.sessions import SESSION, folder_parts, pattern_by_example
from ulvar.night.settings import TagSettings

# Words, a sentence, and whether calibration frames must have the lights' value, and lights of another are stacked apart.
_MEANINGS = (
    ("only a label", "It is shown and searched for; nothing follows from it", (False, False)),
    ("other calibration frames", "Lights take darks and flats of their own value only", (True, False)),
    ("another stack", "Lights of another value are another series, with a stack of their own", (False, True)),
    ("both", "Other calibration frames, and a stack of their own", (True, True)),
)


class SessionsPanel(Panel):
    """Where in the folders' names the session, or a tag, stands."""

    def __init__(self, parent: QWidget, model: Model) -> None:
        super().__init__(
            parent, "Sessions and tags",
            "A session is a night from noon to noon, found from the times. Where folders say it better, click the folder "
            "that names it. In the pattern {} is the value, * is anything.", "Use this",
        )  # fmt: skip
        self._model = model
        self._roots = [str(p) for p in model.night.raw_paths] if model.night else []
        exposures = model.exposures()
        lights = [f for f in exposures if f.role is Role.LIGHT] or exposures
        deepest = max(lights, key=lambda f: len(folder_parts(f.path, self._roots)), default=None)
        self.example = deepest.path if deepest else ""
        row = QHBoxLayout()
        row.addWidget(label("What is it?"))
        self.name = Choice()
        self.name.setEditable(True)
        self.name.addItem(SESSION)
        for tag in model.settings().intake.tags:
            if tag.name != SESSION:
                self.name.addItem(tag.name)
        self.name.setToolTip("session, or a name of your own for a tag")
        self.name.setAccessibleName("Name of the tag")
        self.name.currentTextChanged.connect(self._named)
        row.addWidget(self.name, 1)
        self.body.addLayout(row)
        self.body.addWidget(label("Click the folder that names it:"))
        parts = QWidget()
        flow = FlowLayout(parts, 4)
        self.part_buttons: list[QPushButton] = []
        folders = folder_parts(self.example, self._roots)
        for index, folder in enumerate(folders):
            button = QPushButton(folder)
            button.setToolTip(f"The value is the name of folder {index + 1} below the one that was opened")
            button.clicked.connect(lambda _=False, i=index: self._picked(i))
            flow.addWidget(button)
            self.part_buttons.append(button)
        name = label(self.example.rpartition("/")[2], "unit")
        flow.addWidget(name)
        self.body.addWidget(parts)
        if not folders:
            self.body.addWidget(label("All files lie in one folder: there is no folder name to take it from.", "unit"))
        row = QHBoxLayout()
        row.addWidget(label("Pattern"))
        self.pattern = QLineEdit()
        self.pattern.setPlaceholderText("{}/*")
        self.pattern.setToolTip("One folder a part: {} is the value, * anything; deeper folders are not looked at")
        self.pattern.setAccessibleName("Pattern")
        self.pattern.textChanged.connect(self._preview)
        row.addWidget(self.pattern, 1)
        self.body.addLayout(row)
        row = QHBoxLayout()
        row.addWidget(label("Another value means"))
        self.means = Choice()
        for index, (words, sentence, meaning) in enumerate(_MEANINGS):
            self.means.addItem(words, meaning)
            self.means.setItemData(index, sentence, Qt.ItemDataRole.ToolTipRole)
        self.means.setToolTip("What exposures of different values have to do with each other")
        self.means.setAccessibleName("Another value means")
        row.addWidget(self.means, 1)
        self.body.addLayout(row)
        self.body.addWidget(label("All files would fall so:"))
        self.rows = Rows(["Value", "Files"])
        self.rows.theme = getattr(parent, "theme", None)
        view = table(self.rows, "Values, and how many files have them")
        view.setFixedHeight(150)
        self.body.addWidget(view)
        self._named(self.name.currentText())

    def _named(self, name: str) -> None:
        known = next((t for t in self._model.settings().intake.tags if t.name == name), None)
        self.pattern.setText(known.pattern if known else "")
        meaning = (known.matches, known.stacks) if known else (False, False)
        self.means.setCurrentIndex([entry[2] for entry in _MEANINGS].index(meaning))
        self._preview()

    def _picked(self, part: int) -> None:
        self.pattern.setText(pattern_by_example(self.example, self._roots, part))

    def rule(self) -> TagRule:
        """Return the rule as the fields have it."""
        matches, stacks = _MEANINGS[self.means.currentIndex()][2]
        return TagRule(self.name.currentText().strip() or SESSION, self.pattern.text().strip(), matches, stacks)

    def _preview(self) -> None:
        rule = self.rule()
        if not rule.pattern:
            values: dict[str, int] = {}
            for facts in self._model.exposures():
                value = facts.session if rule.name == SESSION else facts.tags.get(rule.name, "")
                values[value] = values.get(value, 0) + 1
            counts = dict(sorted(values.items()))
        else:
            try:
                counts = preview_rule(rule, self._model.exposures(), self._roots)
            except ValueError as error:
                self.tell(str(error).capitalize() + ".")
                return
        self.tell("")
        rows = [(value or "no value", str(count)) for value, count in counts.items()]
        self.rows.fill(rows, list(counts), dim={i for i, value in enumerate(counts) if not value})

    def apply(self) -> None:
        """Store the rule, undoably; an empty pattern takes it back."""
        rule = self.rule()
        try:
            if rule.pattern:
                preview_rule(rule, self._model.exposures()[:1], self._roots)
            made = TagSettings(name=rule.name, pattern=rule.pattern, matches=rule.matches, stacks=rule.stacks)
        except ValueError as error:
            self.tell(str(error).splitlines()[-1])
            return
        others = [t for t in self._model.settings().intake.tags if t.name != rule.name]
        keep = rule.pattern or (rule.name == SESSION and (rule.matches or rule.stacks))
        self._model.matching.set_tags([*others, made] if keep else others)
        self.accept()
