"""Combine, page Rules and score: what keeps exposures out, what the score weighs, what that makes of the stack."""

from __future__ import annotations

import math
from collections.abc import Mapping

from PySide6.QtCore import QLocale, Qt
from PySide6.QtWidgets import QDoubleSpinBox, QGridLayout, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from ulvar.desktop.boards.combine.quality_box import QualityBox
from ulvar.desktop.models.model import Model
from ulvar.desktop.parts.inputs import Choice, Number
from ulvar.desktop.parts.theme import Theme
from ulvar.desktop.parts.widgets import clear, hairline, label
from ulvar.engine import percent
from ulvar.night.settings import RuleSettings
from ulvar.stars import BLENDS, DEFAULT_BLEND, QUALITIES


def _spin(low: float, high: float, decimals: int, value: float, unit: str = "") -> QDoubleSpinBox:
    spin = Number()
    spin.setLocale(QLocale.c())
    spin.setButtonSymbols(QDoubleSpinBox.ButtonSymbols.NoButtons)
    spin.setAlignment(Qt.AlignmentFlag.AlignRight)
    spin.setRange(low, high)
    spin.setDecimals(decimals)
    spin.setFixedWidth(84)
    # Only a finished number counts: half of one would throw half of the night out.
    spin.setKeyboardTracking(False)
    if unit:
        spin.setSuffix(f" {unit}")
    spin.setValue(value)
    return spin


class RulesPage(QWidget):
    """Rules with their counts, weights of the score, and the outlook, all live."""

    def __init__(self, parent: QWidget, model: Model, theme: Theme) -> None:
        super().__init__(parent)
        self._model, self.theme = model, theme
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 8, 0)
        column.setSpacing(8)
        column.addWidget(label("Rules", "section"))
        column.addWidget(
            label("A rule holds exposures out of the stack. They stay in the night and in the light curve.", wrap=True)
        )
        self._rules = QGridLayout()
        self._rules.setHorizontalSpacing(8)
        self._rules.setVerticalSpacing(4)
        self._rules.setColumnStretch(3, 1)
        column.addLayout(self._rules)
        column.addLayout(self._adder())
        column.addSpacing(4)
        column.addWidget(hairline())
        head = QHBoxLayout()
        head.addWidget(label("Score", "section"))
        head.addStretch(1)
        self.reset = QPushButton("Reset to default")
        self.reset.setToolTip(
            "Back to the default: transparency over FWHM and noise, the signal-to-noise ratio of a faint star"
        )
        self.reset.clicked.connect(lambda: model.looking.set_blend(dict(DEFAULT_BLEND)))
        head.addWidget(self.reset)
        column.addLayout(head)
        self.score_words = label("", wrap=True)
        column.addWidget(self.score_words)
        grid = QGridLayout()
        grid.setHorizontalSpacing(8)
        self.weights: dict[str, QDoubleSpinBox] = {}
        for k, key in enumerate(BLENDS):
            quality = QUALITIES[key]
            spin = _spin(0, 10, 1, 0)
            spin.setSingleStep(0.5)
            spin.setAccessibleName(f"Weight of {quality.title}")
            spin.setToolTip(
                f"Power of {quality.title.lower()}: 0 leaves it out, 2 counts it twice. {quality.meaning.capitalize()}."
            )
            spin.valueChanged.connect(lambda _: self._weights_changed())
            self.weights[key] = spin
            grid.addWidget(label(quality.title), k // 2, 3 * (k % 2))
            grid.addWidget(spin, k // 2, 3 * (k % 2) + 1)
        grid.setColumnStretch(2, 1)
        grid.setColumnStretch(5, 2)
        column.addLayout(grid)
        column.addSpacing(4)
        column.addWidget(hairline())
        column.addWidget(label("What it comes to", "section"))
        self.outlook = label("", "value", wrap=True)
        column.addWidget(self.outlook)
        column.addWidget(
            label(
                "Each exposure weighed by the squared SNR of a faint star in it, as the stack does by default.",
                "unit",
                wrap=True,
            )
        )
        column.addStretch(1)
        self._filling = False

    def _adder(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setSpacing(6)
        self.new_quality = QualityBox()
        self.new_quality.setAccessibleName("Quality of the new rule")
        self.new_quality.setToolTip("What the rule goes by")
        self.new_quality.activated.connect(lambda _: self._suggest())
        self.new_side = Choice()
        for side in ("over", "under"):
            self.new_side.addItem(side, side)
        self.new_side.setAccessibleName("Over or under")
        self.new_side.setToolTip("On which side of the limit exposures stay out")
        self.new_limit = _spin(-1e7, 1e7, 2, 0)
        self.new_limit.setAccessibleName("Limit of the new rule")
        self.new_limit.setToolTip("The limit, in the unit that stands beside the quality")
        self.add = QPushButton("Add rule")
        self.add.setToolTip("Exposures beyond the limit stay out of the stack")
        self.add.clicked.connect(self._add)
        for widget in (self.new_quality, self.new_side, self.new_limit, self.add):
            row.addWidget(widget)
        row.addStretch(1)
        return row

    def _offer_qualities(self) -> None:
        """List the qualities that are known of any exposure, with a limit to begin from."""
        chosen = self.new_quality.currentData() or "fwhm_px"
        if self.new_quality.offer(self._model.looking.comparable().values(), chosen):
            self.add.setEnabled(self.new_quality.count() > 0)
            if self.new_quality.count():
                self._suggest()

    def _suggest(self) -> None:
        """Offer the limit that the worst tenth is beyond."""
        quality = QUALITIES[self.new_quality.currentData()]
        values = sorted(
            v * quality.factor
            for r in self._model.looking.comparable().values()
            if (v := r.get(quality.key)) is not None
        )
        over = quality.better <= 0
        self.new_side.setCurrentIndex(0 if over else 1)
        self.new_limit.setDecimals(quality.decimals)
        if values:
            self.new_limit.setValue(
                values[min(len(values) - 1, int(0.9 * len(values)))] if over else values[int(0.1 * len(values))]
            )

    def _add(self) -> None:
        quality = QUALITIES[self.new_quality.currentData()]
        self.new_limit.interpretText()
        rule = RuleSettings(
            quality=quality.key, side=self.new_side.currentData(), limit=self.new_limit.value() / quality.factor
        )
        rules = self._model.settings().combine.rules
        self._model.looking.set_rules([*rules, rule], f"Add a rule on {quality.title}")

    def refresh(self) -> None:
        """Show rules, counts, weights and outlook as they are now."""
        self._filling = True
        self._offer_qualities()
        clear(self._rules)
        counts = self._model.looking.rule_counts()
        for k, count in enumerate(counts):
            quality = QUALITIES[count.rule.quality]
            self._rules.addWidget(label(quality.title, "value"), k, 0)
            self._rules.addWidget(label(count.rule.side), k, 1)
            spin = _spin(-1e7, 1e7, quality.decimals, count.rule.limit * quality.factor, quality.unit)
            spin.setAccessibleName(f"Limit of {quality.title}")
            spin.setToolTip("Change the limit; the counts follow")
            spin.valueChanged.connect(lambda value, i=k, f=quality.factor: self._limit_changed(i, value / f))
            self._rules.addWidget(spin, k, 2)
            alone = f", {count.alone} of them alone" if 0 < count.alone < count.takes else ""
            self._rules.addWidget(label(f"rules out {count.takes}{alone}"), k, 3)
            gone = QPushButton("Remove")
            gone.setProperty("kind", "plain")
            gone.setToolTip("Remove this rule")
            gone.clicked.connect(lambda _=False, i=k: self._remove(i))
            self._rules.addWidget(gone, k, 4)
        if not counts:
            self._rules.addWidget(label("No rule: every aligned exposure is in."), 0, 0, 1, 4)
        blend = self._model.settings().combine.blend
        for key, spin in self.weights.items():
            spin.setValue(blend.get(key, 0.0))
        default = {k: w for k, w in blend.items() if w} == DEFAULT_BLEND
        self.reset.setEnabled(not default)
        self.score_words.setText(
            f"Score = {blend_formula(blend)}, beside the best exposure's"
            + (": the signal-to-noise ratio of a faint star." if default else ".")
        )
        self._tell_outlook()
        self._filling = False

    def _tell_outlook(self) -> None:
        here, everything = self._model.looking.outlook()
        gone = everything.count - here.count
        words = f"{here.count} stay, {gone} go."
        if math.isfinite(here.snr) and math.isfinite(everything.snr):
            change = here.snr / everything.snr - 1
            beside = f"{percent(abs(change), 1)} {'more' if change >= 0 else 'less'} than with all {everything.count}"
            words += (
                f" A faint star's SNR in the stack: {here.snr:.2f} × the best exposure's"
                f"{f', {beside}' if gone else ''}. FWHM {here.fwhm_px:.2f} px"
                f"{f' instead of {everything.fwhm_px:.2f}' if gone else ''}."
            )
        self.outlook.setText(words)

    def _weights_changed(self) -> None:
        if not self._filling:
            self._model.looking.set_blend({k: spin.value() for k, spin in self.weights.items() if spin.value() > 0})

    def _limit_changed(self, index: int, limit: float) -> None:
        if self._filling:
            return
        rules = self._model.settings().combine.rules
        changed = rules[index].model_copy(update={"limit": limit})
        self._model.looking.set_rules([*rules[:index], changed, *rules[index + 1 :]], "Change a rule")

    def _remove(self, index: int) -> None:
        rules = self._model.settings().combine.rules
        self._model.looking.set_rules([*rules[:index], *rules[index + 1 :]], "Remove a rule")

    def show_current(self, path: str) -> None:
        """Nothing here belongs to one exposure."""


# How a quality is written in the score's formula, and whether it divides.
_IN_FORMULA = {
    "transparency": ("transparency", False), "stars": ("stars", False), "ellipticity": ("(1 − ellipticity)", False),
    "fwhm_px": ("FWHM", True), "noise_adu": ("noise", True), "sky_adu": ("sky", True),
}  # fmt: skip


def blend_formula(blend: Mapping[str, float]) -> str:
    """Return the score as a formula: ``transparency / (FWHM × noise)``; powers other than 1 are written."""
    parts: tuple[list[str], list[str]] = ([], [])
    for key, (name, divides) in _IN_FORMULA.items():
        power = blend.get(key, 0.0)
        if power:
            parts[divides].append(name if power == 1 else f"{name}^{power:g}")
    above, below = (" × ".join(part) for part in parts)
    if not below:
        return above or "1"
    return f"{above or '1'} / {below if len(parts[1]) == 1 else f'({below})'}"
