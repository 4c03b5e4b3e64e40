"""The slip: the few settings that matter, findings, and the station's one action."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from PySide6.QtCore import QLocale, QSize, Qt, Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDoubleSpinBox,
    QFileDialog,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from ulvar.desktop.models.model import Model
from ulvar.desktop.models.plan import plan_action
from ulvar.desktop.parts.theme import Theme
from ulvar.desktop.parts.widgets import clear, decimals_of, hairline, label
from ulvar.desktop.slip.cards import FindingCard
from ulvar.desktop.slip.fields import FIELDS, Field
from ulvar.desktop.work.soon import Soon
from ulvar.engine import Finding


class Slip(QWidget):
    """The region at the right."""

    action_wanted = Signal()

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
        column.addWidget(self.consequence)
        column.addWidget(self.action)
        outer.addWidget(foot)
        self._panels: dict[str, tuple[tuple, QWidget]] = {}
        self._all_findings = False
        self._told: tuple = ()
        self._unfolded = False
        # Whether a change of settings under way is the slip's own.
        self._own = False
        # Another station fills and paints most of the window: the slip follows after its board.
        self._soon = Soon(self, self.rebuild)
        model.station_changed.connect(self._soon.ask)
        model.findings_changed.connect(lambda: None if self._soon.isActive() else self._fill_findings())
        model.results_changed.connect(self.rebuild)
        model.selection_changed.connect(lambda: self.rebuild() if model.station == "curve" else None)
        model.exposures_changed.connect(self.refresh_action)
        model.stars_changed.connect(self.refresh_action)
        model.settings_changed.connect(self._settings_arrived)
        model.job_changed.connect(self.refresh_action)
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
            self._fill_curve_result()
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
        panel = QWidget()
        column = QVBoxLayout(panel)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        column.addWidget(label("Settings", "section"))
        fields = FIELDS[station]
        for field in fields:
            if not field.fold or self._unfolded:
                column.addLayout(self._row(field))
        folded = [f for f in fields if f.fold]
        if folded:
            self.fold = QPushButton("▾  Fewer settings" if self._unfolded else f"▸  {len(folded)} more settings")
            self.fold.setProperty("kind", "plain")
            self.fold.setToolTip("Seldom needed: " + ", ".join(f.label.lower() for f in folded))
            self.fold.clicked.connect(self._toggle_fold)
            column.addWidget(self.fold, 0, Qt.AlignmentFlag.AlignLeft)
        return panel

    def _set(self, section: str, name: str, value: object) -> None:
        station = self._model.station
        self._own = True
        try:
            accepted = self._model.set_setting(section, name, value)
        finally:
            self._own = False
        if station in self._panels:
            # The field shows what is stored now; one that was refused is built anew when it comes in sight again.
            stands = self._stands() if accepted else ()
            self._panels[station] = (stands, self._panels[station][1])

    def _settings_arrived(self) -> None:
        """Show settings that were changed elsewhere, or by undo."""
        if not self._own and not self._soon.isActive():
            self._show_settings()
        self.refresh_action()

    def _stands(self) -> tuple:
        """Return what a panel depends on."""
        return self._model.settings(), self._unfolded, self.theme.name

    def _toggle_fold(self) -> None:
        self._unfolded = not self._unfolded
        self.rebuild()

    def _row(self, field: Field) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setSpacing(8)
        value = getattr(getattr(self._model.settings(), field.section), field.name)
        if field.kind == "check" or field.kind.startswith("term:"):
            box = QCheckBox(field.label)
            box.setToolTip(field.tip)
            if field.kind == "check":
                box.setChecked(bool(value))
                box.toggled.connect(lambda on: self._set(field.section, field.name, on))
            else:
                term = field.kind.split(":")[1]
                box.setChecked(term in value)
                box.toggled.connect(lambda on: self._toggle_term(field, term, on))
            row.addWidget(box)
            return row
        row.addWidget(label(field.label, wrap=True), 1)
        editor: QWidget
        if field.kind == "choice":
            editor = self._choice(field, value)
        elif field.kind == "file":
            editor = self._file(field, value)
        elif field.kind in ("region", "regions"):
            editor = self._region(field, value)
        elif field.kind == "folder":
            editor = self._folder(field, value)
        elif field.kind in ("text", "numbers"):
            editor = self._text(field, value)
        else:
            editor = self._number(field, value)
        editor.setToolTip(field.tip)
        editor.setAccessibleName(field.label)
        editor.setObjectName(f"{field.section}.{field.name}")
        row.addWidget(editor)
        return row

    def _number(self, field: Field, value: Any) -> QDoubleSpinBox:
        spin = QDoubleSpinBox()
        spin.setLocale(QLocale.c())
        spin.setButtonSymbols(QDoubleSpinBox.ButtonSymbols.NoButtons)
        spin.setAlignment(Qt.AlignmentFlag.AlignRight)
        spin.setRange(field.low, field.high)
        wanted = 0.0 if value is None else float(value) * field.scale
        spin.setDecimals(max(field.decimals, decimals_of(wanted)))
        spin.setFixedWidth(96)
        if field.unit:
            spin.setSuffix(f" {field.unit}")
        spin.setValue(wanted)
        shown = spin.value()

        def changed() -> None:
            # Going through a field with Tab ends its editing too; what nobody changed stays as it is stored.
            nonlocal shown
            if spin.value() != shown:
                shown = spin.value()
                self._set(field.section, field.name, shown / field.scale)

        spin.editingFinished.connect(changed)
        return spin

    def _choice(self, field: Field, value: Any) -> QComboBox:
        box = QComboBox()
        for key, text in (field.choices or {}).items():
            box.addItem(text, key)
        box.setCurrentIndex(max(0, box.findData(value)))
        box.setFixedWidth(160)
        box.activated.connect(lambda index: self._set(field.section, field.name, box.itemData(index)))
        return box

    def _region(self, field: Field, value: Any) -> QWidget:
        """A field to type a region, with a button to draw it; several are told by their number."""
        place = QWidget()
        row = QHBoxLayout(place)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(4)
        if field.kind == "region":
            line = QLineEdit(value)
            line.setPlaceholderText("[x1:x2,y1:y2]")
            line.setFixedWidth(98)
            line.setToolTip(field.tip)
            line.editingFinished.connect(lambda: self._set(field.section, field.name, line.text().strip()))
            row.addWidget(line)
        else:
            count = QPushButton(f"{len(value)} ×" if value else "none")
            count.setEnabled(bool(value))
            count.setToolTip("Take them all back: " + ", ".join(value) if value else "There is none")

            def none_left() -> None:
                self._set(field.section, field.name, [])
                self.rebuild()

            count.clicked.connect(none_left)
            row.addWidget(count)
        draw = QPushButton("Draw")
        draw.setToolTip("Drag a rectangle on the picture")
        draw.clicked.connect(lambda: self._model.region_wanted.emit(field.name))
        row.addWidget(draw)
        return place

    def _folder(self, field: Field, value: str) -> QWidget:
        button = QPushButton(Path(value).name if value else "The night's own")
        button.setMaximumWidth(152)

        def choose() -> None:
            path = QFileDialog.getExistingDirectory(
                self, "Folder of the calibrated exposures", value or str(Path.home())
            )
            self._set(field.section, field.name, path)
            self.rebuild()

        button.clicked.connect(choose)
        return button

    def _text(self, field: Field, value: Any) -> QLineEdit:
        line = QLineEdit(", ".join(f"{v:g}" for v in value) if field.kind == "numbers" else str(value))
        line.setFixedWidth(120)
        shown = line.text()

        def changed() -> None:
            nonlocal shown
            if line.text() == shown:
                return
            shown = line.text()
            wanted: object = line.text().strip()
            if field.kind == "numbers":
                try:
                    wanted = [float(t) for t in line.text().replace(",", " ").split()]
                except ValueError:
                    self._model.message.emit(f"{field.label}: numbers with commas between, such as 0.012, 0.003.")
                    return
            self._set(field.section, field.name, wanted)

        line.editingFinished.connect(changed)
        return line

    def _file(self, field: Field, value: str) -> QWidget:
        button = QPushButton(Path(value).name if value else "Choose…")
        button.setMaximumWidth(152)

        def choose() -> None:
            path, _ = QFileDialog.getOpenFileName(
                self, "Choose a star catalogue", value or "", "Tables (*.csv *.parquet);;All files (*)"
            )
            if path:
                chosen = str(Path(path).parent) if path.endswith(".parquet") else path
                self._set(field.section, field.name, chosen)
                self.rebuild()

        button.clicked.connect(choose)
        return button

    def _toggle_term(self, field: Field, term: str, on: bool) -> None:
        terms = [t for t in self._model.settings().curve.detrend if t != term] + ([term] if on else [])
        self._set(field.section, field.name, terms)

    def _fill_curve_result(self) -> None:
        product = next(iter(self._model.products("curve").values()), None)
        fit = product.values.get("fit") if product else None
        if not fit or product is None:
            return
        self._results.setSpacing(4)
        head = QHBoxLayout()
        head.addWidget(label("Minimum", "section"), 1)
        head.addWidget(label("BJD_TDB", "unit"))
        self._results.addLayout(head)
        whole, part = divmod(fit["mid_bjd_tdb"], 1)
        self.result = label(f"{int(whole):,}".replace(",", "\u2009") + f"{part:.5f}"[1:], "result")
        self._results.addWidget(self.result)
        self._results.addWidget(label(f"± {fit['mid_error_d']:.5f} d = {fit['mid_error_d'] * 86400:.0f} s", "value"))
        rows = []
        if "kwee_van_woerden_mid" in fit:
            off = (fit["kwee_van_woerden_mid"] - fit["mid_bjd_tdb"]) * 86400
            rows.append(("Kwee–van Woerden", f"{off:+.0f} s ± {fit['kwee_van_woerden_error_d'] * 86400:.0f}"))
        rows.append(("Depth", f"{fit['depth_mag']:.3f} ± {fit['depth_error_mag']:.3f} mag"))
        rows.append(("Duration", f"{24 * fit['duration_d']:.2f} ± {24 * fit['duration_error_d']:.2f} h"))
        rows.append(("Residual scatter", f"{1000 * fit['rms_mag']:.1f} mmag"))
        for name, text in rows:
            line = QHBoxLayout()
            line.addWidget(label(name), 1)
            line.addWidget(label(text.replace("-", "−"), "value"))
            self._results.addLayout(line)
        self._results.addSpacing(6)
        self._results.addWidget(hairline())
        self._results.addSpacing(4)

    def _fill_findings(self) -> None:
        findings = self._model.findings()
        # Several signals say the same one after the other; cards that stand already are not built again.
        told = (findings, self._all_findings, self.theme.name)
        if told == self._told:
            return
        self._told = told
        clear(self._findings)
        heading = QHBoxLayout()
        heading.addWidget(label("Findings", "section"), 1)
        heading.addWidget(label(str(len(findings)) if findings else "none", "unit"))
        self._findings.addLayout(heading)
        self._findings.addSpacing(4)
        shown = findings if self._all_findings else findings[:4]
        for finding in shown:
            self._findings.addWidget(FindingCard(finding, self.theme, self._mend, self._show))
        if len(findings) > 4:
            more = QPushButton("fewer" if self._all_findings else f"{len(findings) - 4} more  ›")
            more.setProperty("kind", "plain")
            more.setToolTip("Show all findings" if not self._all_findings else "Show only the most serious")
            more.clicked.connect(self._fold)
            self._findings.addWidget(more, 0, Qt.AlignmentFlag.AlignLeft)

    def _fold(self) -> None:
        self._all_findings = not self._all_findings
        self._fill_findings()

    def _mend(self, finding: Finding) -> None:
        self._model.mend(finding)

    def _show(self, finding: Finding) -> None:
        known = [p for p in finding.files if self._model.facts(p) is not None]
        if known:
            self._model.set_brush(known)
            self._model.set_current(known[0])

    # ---- the action

    def refresh_action(self) -> None:
        """Say what the action would do now."""
        if self._model.busy:
            stopping = self._model.job is not None and self._model.job.token.stopping
            if self._model.job_station == self._model.station:
                self.consequence.setText(self._model.stopping_keeps)
                self.action.setText("Stopping…" if stopping else "Stop   Esc")
                self.action.setEnabled(not stopping)
                return
            self.consequence.setText(f"{self._model.job_station.title()} is running.")
            self.action.setText(plan_action(self._model)[0])
            self.action.setEnabled(plan_action(self._model)[2].startswith("go"))
            return
        text, consequence, command = plan_action(self._model)
        key = "   Ctrl+R" if command.startswith(("run", "propose")) else ""
        self.action.setText(text + key)
        self.consequence.setText(consequence)
        self.action.setEnabled(bool(command))
        self.action.setToolTip("" if command else consequence)

    def _act(self) -> None:
        self.action_wanted.emit()
