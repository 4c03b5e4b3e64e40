"""The slip: the few settings that matter, findings, and the station's one action."""

from __future__ import annotations

from PySide6.QtCore import QSize, Qt, Signal
from PySide6.QtWidgets import (
    QHBoxLayout,
    QLabel,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from ulvar.desktop.models.model import Model
from ulvar.desktop.models.plan import is_done, plan_action, plan_run
from ulvar.desktop.parts.theme import Theme
from ulvar.desktop.parts.widgets import clear, hairline, label
from ulvar.desktop.slip.cards import CardButton, FindingCard
from ulvar.desktop.slip.editors import Editors
from ulvar.desktop.slip.fields import FIELDS
from ulvar.desktop.slip.told import show_result
from ulvar.desktop.work.soon import Soon
from ulvar.inspection import Finding, Severity
from ulvar.night import SERIES_STATIONS

# Settings that others' units or values hang on, and those whose row looks otherwise with a value.
_DECIDES = ("in_fwhm", "inner_px", "outer_px", "bodies", "body_table")


class Slip(QWidget):
    """The region at the right."""

    action_wanted = Signal()
    again_wanted = Signal()
    every_wanted = Signal()

    def __init__(self, model: Model, theme: Theme) -> None:
        super().__init__()
        self._model = model
        self.theme = theme
        self.setObjectName("slip")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setMinimumWidth(264)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.setSpacing(0)
        self._scroll = QScrollArea()
        self._scroll.setWidgetResizable(True)
        self._scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        inside = QWidget()
        self._inside = QVBoxLayout(inside)
        self._inside.setContentsMargins(16, 12, 16, 8)
        self._inside.setSpacing(8)
        self._results = QVBoxLayout()
        self._settings = QVBoxLayout()
        self._findings = QVBoxLayout()
        self._findings.setSpacing(2)
        for part in (self._results, self._settings):
            self._inside.addLayout(part)
        self._inside.addWidget(hairline())
        self._inside.addLayout(self._findings)
        self._inside.addStretch(1)
        self._scroll.setWidget(inside)
        outer.addWidget(self._scroll, 1)
        outer.addWidget(hairline())
        foot = QWidget()
        foot.setFixedHeight(84)
        column = QVBoxLayout(foot)
        column.setContentsMargins(16, 8, 16, 12)
        column.setSpacing(6)
        self.consequence = label("", "unit", wrap=True)
        self.action = QPushButton("")
        self.action.setProperty("kind", "action")
        self.action.clicked.connect(self._act)
        self.every = QPushButton("")
        self.every.setToolTip("Do it for every series, one after the other (Ctrl+Shift+R)")
        self.every.clicked.connect(self.every_wanted.emit)
        column.addWidget(self.consequence)
        row = QHBoxLayout()
        row.setSpacing(8)
        self.again = QPushButton("Again")
        self.again.clicked.connect(self.again_wanted.emit)
        row.addWidget(self.action, 1)
        row.addWidget(self.again)
        row.addWidget(self.every)
        column.addLayout(row)
        outer.addWidget(foot)
        self._editors = Editors(self, model, self._set, self.rebuild)
        self._panels: dict[str, tuple[tuple, QWidget]] = {}
        self._all_findings = False
        self._told: tuple = ()
        self._unfolded = False
        # Whether a change of settings under way is the slip's own.
        self._own = False
        self.result: QLabel | None = None
        # Another station fills and paints most of the window: the slip follows after its board.
        self._soon = Soon(self, self.rebuild)
        model.station_changed.connect(self._soon.ask)
        model.findings_changed.connect(lambda: None if self._soon.isActive() else self._fill_findings())
        model.results_changed.connect(self.rebuild)
        model.selection_changed.connect(lambda: self.rebuild() if model.station == "curve" else self._fill_findings())
        model.exposures_changed.connect(self.refresh_action)
        model.stars_changed.connect(self.refresh_action)
        model.settings_changed.connect(self._settings_arrived)
        model.jobs.changed.connect(self.refresh_action)
        self.rebuild()

    def sizeHint(self) -> QSize:
        """Its usual width."""
        return QSize(288, 600)

    def set_theme(self, theme: Theme) -> None:
        """Take another theme."""
        self.theme = theme
        self.rebuild()

    # ---- building

    def rebuild(self) -> None:
        """Show settings and findings of the current station."""
        clear(self._results)
        if self._model.station == "curve":
            product = self._model.of_series("curve")
            fit = product.values.get("fit") if product is not None else None
            self.result = show_result(self._results, fit) if fit and "values" in fit else None
        self._show_settings()
        self._fill_findings()
        self.refresh_action()

    def _show_settings(self) -> None:
        """Bring the station's fields in sight; those that still say what is stored are not built again."""
        station, stands = self._model.station, self._stands()
        known, panel = self._panels.get(station, (None, None))
        if panel is None or known != stands:
            if panel is not None:
                self._settings.removeWidget(panel)
                panel.hide()
                panel.deleteLater()
            panel = self._panel(station)
            self._panels[station] = (stands, panel)
            self._settings.addWidget(panel)
        for _, other in self._panels.values():
            other.setVisible(other is panel)

    def _panel(self, station: str) -> QWidget:
        # Whatever is moved into another part of the window is styled anew with all that is in it.
        panel = QWidget(self._settings.parentWidget())
        column = QVBoxLayout(panel)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        column.addWidget(label("Settings", "section"))
        fields = FIELDS[station]
        for field in fields:
            if not field.folded or self._unfolded:
                column.addLayout(self._editors.row(field))
        folded = [f for f in fields if f.folded]
        if folded:
            self.fold = QPushButton("▾  Fewer settings" if self._unfolded else f"▸  {len(folded)} more settings")
            self.fold.setProperty("kind", "plain")
            self.fold.setToolTip("Seldom needed: " + ", ".join(f.title.lower() for f in folded))
            self.fold.clicked.connect(self._toggle_fold)
            column.addWidget(self.fold, 0, Qt.AlignmentFlag.AlignLeft)
        return panel

    def _set(self, section: str, name: str, value: object) -> None:
        station = self._model.station
        self._own = True
        try:
            accepted = self._model.change_settings(section, self._together(section, name, value))
        finally:
            self._own = False
        if station in self._panels:
            # The field shows what is stored now; one that was refused is built anew when it comes in sight again.
            stands = self._stands() if accepted else ()
            self._panels[station] = (stands, self._panels[station][1])
            # What decides on another field's unit, or its own buttons, has them built anew, once this click is over.
            if name in _DECIDES:
                self._panels[station] = ((), self._panels[station][1])
                self._soon.ask()

    def _together(self, section: str, name: str, value: object) -> dict[str, object]:
        """Return a setting with those that go with it: the annulus has both of its radii or none."""
        ring = ("inner_px", "outer_px")
        if section != "measure" or name not in ring:
            return {name: value}
        other = ring[1 - ring.index(name)]
        if not isinstance(value, float):
            return dict.fromkeys(ring)
        if getattr(self._model.settings().measure, other) is not None:
            return {name: value}
        # As far apart as the annulus that follows the aperture.
        return {
            name: value,
            other: round(max(1.8 * value, value + 6) if name == "inner_px" else min(value / 1.8, value - 6), 1),
        }

    def _settings_arrived(self) -> None:
        """Show settings that were changed elsewhere, or by undo."""
        if not self._own and not self._soon.isActive():
            self._show_settings()
        self._fill_findings()
        self.refresh_action()

    def _stands(self) -> tuple:
        """Return what a panel depends on."""
        return self._model.settings(), self._unfolded, self.theme.name

    def _toggle_fold(self) -> None:
        self._unfolded = not self._unfolded
        self.rebuild()

    def _fill_findings(self) -> None:
        every = self._model.jobs.findings()
        here = (self._model.station, self._model.jobs.finding)
        findings = [f for f in every if f.station == here[0] or f is here[1]]
        done = [self._model.jobs.done_about(f) for f in findings]
        elsewhere = [
            f for f in every if f not in findings and f.severity < Severity.NOTE and not self._model.jobs.done_about(f)
        ]
        # Several signals say the same one after the other; cards that stand already are not built again.
        told = (findings, done, elsewhere, self._all_findings, self.theme.name)
        if told == self._told:
            return
        self._told = told
        clear(self._findings)
        heading = QHBoxLayout()
        heading.addWidget(label("Findings", "section"), 1)
        count = sum(not words for words in done)
        heading.addWidget(label(str(count) if count else "none open" if findings else "none", "unit"))
        self._findings.addLayout(heading)
        self._findings.addSpacing(4)
        shown = findings if self._all_findings else findings[:4]
        for finding, words in zip(shown, done):
            shows = any(self._model.facts(path) is not None for path in finding.files)
            mend = self._model.take_mend_back if words else self._model.mend
            card = FindingCard(finding, self.theme, mend, self._show if shows else None, words)
            self._findings.addWidget(card)
        if len(findings) > 4:
            more = QPushButton("fewer" if self._all_findings else f"{len(findings) - 4} more  ›")
            more.setProperty("kind", "plain")
            more.setToolTip("Show all findings" if not self._all_findings else "Show only the most serious")
            more.clicked.connect(self._fold)
            self._findings.addWidget(more, 0, Qt.AlignmentFlag.AlignLeft)

        if elsewhere:
            self._findings.addSpacing(4)
            self._findings.addWidget(self._elsewhere(elsewhere), 0, Qt.AlignmentFlag.AlignLeft)

    def _elsewhere(self, findings: list[Finding]) -> QPushButton:
        """One line for what is still to be looked at in other stations; it leads to the worst of it."""
        blocks = sum(f.severity is Severity.BLOCKS for f in findings)
        parts = [f"{blocks} blocking"] if blocks else []
        if len(findings) > blocks:
            parts.append(f"{len(findings) - blocks} to check")
        worst = min(findings, key=lambda f: f.severity)
        button = CardButton(f"Elsewhere: {', '.join(parts)}  ›")
        button.setProperty("kind", "plain")
        button.setToolTip("\n".join(f"{f.station.title()}: {f.title}" for f in findings[:12]))
        button.clicked.connect(lambda: self._model.set_station(worst.station))
        return button

    def _fold(self) -> None:
        self._all_findings = not self._all_findings
        self._fill_findings()

    def _show(self, finding: Finding) -> None:
        known = [p for p in finding.files if self._model.facts(p) is not None]
        if known:
            self._model.set_brush(known)
            self._model.set_current(known[0])

    # ---- the action

    def refresh_action(self) -> None:
        """Say what the action would do now."""
        count = len(self._model.all_series())
        several = count > 1 and self._model.station in SERIES_STATIONS
        self.every.setVisible(several)
        self.every.setText(f"All {count}")
        self.every.setEnabled(several and not self._model.jobs.busy)
        done = not self._model.jobs.busy and is_done(self._model)
        self.again.setVisible(done)
        if done:
            run = plan_run(self._model)
            self.again.setToolTip(f"{run[0]} once more (Ctrl+R). {run[1]}")
        if self._model.jobs.busy:
            stopping = self._model.jobs.job is not None and self._model.jobs.job.token.stopping
            if self._model.jobs.station == self._model.station:
                self.consequence.setText(self._model.jobs.stopping_keeps)
                self.action.setText("Stopping…" if stopping else "Stop   Esc")
                self.action.setEnabled(not stopping)
                return
            self.consequence.setText(f"{self._model.jobs.station.title()} is running.")
            self.action.setText(plan_action(self._model)[0])
            self.action.setEnabled(plan_action(self._model)[2].startswith("go"))
            return
        text, consequence, command = plan_action(self._model)
        key = "   Ctrl+R" if command.startswith(("run", "propose")) else ""
        # Beside other buttons there is room for its words only; the tip has the key.
        self.action.setText(text if several or done else text + key)
        self.consequence.setText(consequence)
        self.action.setEnabled(bool(command))
        self.action.setToolTip(f"{consequence}{' Ctrl+R' if key else ''}")

    def _act(self) -> None:
        self.action_wanted.emit()
