"""The slip: the few settings that matter, findings, and the station's one action."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from PySide6.QtCore import QLocale, QSize, Qt, Signal
from PySide6.QtGui import QPainter, QPaintEvent
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

from ulvar.combine import Method
from ulvar.desktop import glyphs
from ulvar.desktop.model import Model
from ulvar.desktop.plots import Sparkline
from ulvar.desktop.theme import Theme
from ulvar.desktop.widgets import clear, hairline, label
from ulvar.engine import Finding
from ulvar.frames import Role
from ulvar.stacking import Framing, Weighting

_METHODS = {
    Method.SIGMA: "Sigma clipping", Method.WINSORIZED: "Winsorized sigma", Method.MAD: "Median deviation",
    Method.LINEAR: "Line through ranks", Method.MEDIAN: "Median", Method.MEAN: "Mean, no rejection",
}  # fmt: skip
_WEIGHTS = {
    Weighting.SNR: "Point-source SNR", Weighting.NOISE: "Noise", Weighting.FWHM: "FWHM", Weighting.SCORE: "Score",
    Weighting.EQUAL: "Equal",
}  # fmt: skip
_FRAMINGS = {
    Framing.REFERENCE: "Reference exposure",
    Framing.UNION: "Everything",
    Framing.COMMON: "Common area",
}


@dataclass(frozen=True)
class Field:
    """One setting as the slip shows it."""

    section: str
    name: str
    label: str
    tip: str
    unit: str = ""
    decimals: int = 1
    low: float = 0.0
    high: float = 1e4
    choices: dict[Any, str] | None = None
    kind: str = "number"
    scale: float = 1.0
    fold: bool = False


FIELDS: dict[str, tuple[Field, ...]] = {
    "intake": (Field("masters", "temperature_c", "Same temperature", "Exposures whose sensor temperature differs by more are another group", "°C"),),
    "masters": (
        Field("masters", "exposure_s", "Exposure within", "A dark's exposure may differ by this much, or by 2 %", "s"),
        Field("masters", "temperature_c", "Temperature within", "A dark's sensor temperature may differ by this much", "°C"),
        Field("masters", "age_d", "Warn when older than", "Older calibration frames are used with a warning", "d", 0),
        Field("masters", "method", "Combine by", "How the frames of a set become one", choices=_METHODS, kind="choice"),
        Field("masters", "low", "Reject below", "Values this many deviations under the rest are left away", "σ", 1, 0.5, 50, fold=True),
        Field("masters", "high", "Reject above", "Values this many deviations over the rest are left away", "σ", 1, 0.5, 50, fold=True),
        Field("masters", "exposure_fraction", "Or exposure within", "The larger of the two limits counts", "%", 1, 0, 50, scale=100, fold=True),
        Field("masters", "compare", "Leave out frames that differ", "Frames with a light leak, another level or pattern are in no master", kind="check", fold=True),
        Field("masters", "scale_darks", "Scale darks of another exposure", "Needs a bias; noisier than a dark of the right exposure", kind="check", fold=True),
        Field("masters", "use_library", "Use the library", "Masters of the library serve where this night's own do not fit", kind="check", fold=True),
    ),
    "calibrate": (
        Field("calibrate", "partial", "Use what fits", "Calibrate also where a kind of calibration frame has nothing safe", kind="check"),
        Field("calibrate", "repair", "Repair defective pixels", "Replace hot and cold pixels and columns by their neighbours; they stay marked", kind="check"),
        Field("calibrate", "cosmic", "Clean cosmic rays", "Find them by their sharp edges in each exposure; repaired pixels stay marked", kind="check"),
        Field("calibrate", "pedestal", "Pedestal", "A constant added so that no pixel is negative; photometry takes it off again", choices={"off": "Off", "auto": "Where needed", "fixed": "Always"}, kind="choice"),
        Field("calibrate", "pedestal_adu", "Pedestal of", "Added when Pedestal is Always", "ADU", 0, 0, 60000, fold=True),
        Field("calibrate", "cosmic_sigma", "Cosmic rays over", "Edges that stand this many deviations over those around", "σ", 1, 2, 50, fold=True),
        Field("calibrate", "cosmic_contrast", "Sharper than stars by", "Larger spares the cores of sharp stars", "×", 1, 0.5, 50, fold=True),
        Field("calibrate", "dark_scale", "Scaled darks follow", "The exposure times, or the factor that takes most hot pixels out", choices={"exposure": "Exposure time", "noise": "Hot pixels"}, kind="choice", fold=True),
        Field("calibrate", "overscan", "Overscan", "Pixels without light, whose level is taken off; empty: what the header says", kind="region", fold=True),
        Field("calibrate", "trim", "Keep only", "The part of the frame that holds the picture; empty: what the header says", kind="region", fold=True),
        Field("calibrate", "overscan_fit", "Overscan by", "One level for the frame, a smooth level for each row, or a line", choices={"rows": "Each row", "median": "One level", "line": "A line"}, kind="choice", fold=True),
        Field("calibrate", "linearity", "Linearity", "c1, c2 … of true = d (1 + c1 u + c2 u² …), u = d / 65535; empty: none", kind="numbers", fold=True),
        Field("calibrate", "overlays", "Masked rectangles", "A burnt-in time stamp or logo: no data", kind="regions", fold=True),
        Field("calibrate", "use_defect_list", "Use the camera's defect list", "Pixels listed for this camera in the library", kind="check", fold=True),
        Field("calibrate", "folder", "Write into", "Folder of the calibrated exposures; empty: the night's own", kind="folder", fold=True),
        Field("calibrate", "suffix", "Suffix", "Put behind each exposure's name", kind="text", fold=True),
    ),
    "combine": (
        Field("combine", "fwhm_over", "FWHM over", "Exposures with wider stars stay out of the stack; 0 rules nothing out", "px", 2, kind="limit"),
        Field("combine", "transparency_under", "Transparency under", "Exposures that lost more light stay out of the stack; 0 rules nothing out", "%", 0, high=100, kind="limit", scale=100),
        Field("combine", "ellipticity_over", "Ellipticity over", "Exposures with longer stars stay out of the stack; 0 rules nothing out", "", 2, high=1, kind="limit"),
        Field("combine", "method", "Reject", "How outliers are found at each pixel", choices=_METHODS, kind="choice"),
        Field("combine", "weights", "Weigh by", "What a better exposure counts more for", choices=_WEIGHTS, kind="choice"),
        Field("combine", "framing", "Frame", "Which part of the sky the stack shows", choices=_FRAMINGS, kind="choice"),
    ),
    "plate": (
        Field("plate", "catalogue", "Catalogue", "Star catalogue: a CSV file with ra and dec, or a folder of tiles", kind="file"),
        Field("plate", "radius_deg", "Search radius", "How far the header's position may be off", "°", 1, 0.1, 90),
    ),
    "measure": (
        Field("measure", "radius", "Aperture radius", "Aperture radius, in the unit below", "", 2, 0.2, 200),
        Field("measure", "in_fwhm", "In units of the FWHM", "The aperture follows each exposure's FWHM; otherwise the radius is in pixels", kind="check"),
        Field("measure", "centre", "Aperture at", "At the star's own position on the sky, or on the star found there", choices={"forced": "Sky position", "refined": "Star found there"}, kind="choice"),
    ),
    "curve": (
        Field("curve", "model", "Model", "What is fitted to the light curve", choices={"eclipse": "Eclipse", "none": "None"}, kind="choice"),
        Field("curve", "detrend", "Take out airmass", "A linear term in airmass, fitted together with the model", kind="term:airmass"),
        Field("curve", "detrend", "Take out FWHM", "A linear term in FWHM, fitted together with the model", kind="term:fwhm"),
        Field("curve", "detrend", "Take out sky", "A linear term in the sky level, fitted together with the model", kind="term:sky"),
    ),
}  # fmt: skip


class SeverityMark(QWidget):
    """A finding's glyph."""

    def __init__(self, theme: Theme, word: str) -> None:
        super().__init__()
        self._theme, self._word = theme, word
        self.setFixedSize(18, 18)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw it."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        glyphs.draw_severity(painter, self._theme, 9, 9, self._word)


class FindingCard(QWidget):
    """One finding: mark, title, severity word, sentence, evidence, mend, Show."""

    def __init__(
        self, finding: Finding, theme: Theme, mend: Callable[[Finding], None], show: Callable[[Finding], None]
    ) -> None:
        super().__init__()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 2, 0, 6)
        column.setSpacing(4)
        top = QHBoxLayout()
        top.setSpacing(8)
        top.addWidget(SeverityMark(theme, finding.severity.word), 0, Qt.AlignmentFlag.AlignTop)
        top.addWidget(label(finding.title, "value", wrap=True), 1)
        top.addWidget(label(finding.severity.word.title(), finding.severity.word), 0, Qt.AlignmentFlag.AlignTop)
        column.addLayout(top)
        body = QVBoxLayout()
        body.setContentsMargins(26, 0, 0, 0)
        body.setSpacing(6)
        body.addWidget(label(finding.text, wrap=True))
        series = finding.evidence.get("series")
        if series and len(series) > 3:
            body.addWidget(Sparkline(theme, [float("nan") if v is None else v for v in series], finding.severity.word))
        if finding.mend is not None or finding.files:
            row = QHBoxLayout()
            row.setSpacing(6)
            if finding.mend is not None:
                self.mend = QPushButton(finding.mend.label)
                self.mend.setToolTip(f"{finding.mend.label}; undo with Ctrl+Z")
                self.mend.clicked.connect(lambda: mend(finding))
                row.addWidget(self.mend)
            if finding.files:
                shown = QPushButton("Show")
                shown.setProperty("kind", "plain")
                shown.setToolTip("Show the first of its exposures, and select them all")
                shown.clicked.connect(lambda: show(finding))
                row.addWidget(shown)
            row.addStretch(1)
            body.addLayout(row)
        column.addLayout(body)


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
        self._settings.setSpacing(6)
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
        self._all_findings = False
        self._unfolded = False
        model.station_changed.connect(lambda _: self.rebuild())
        model.findings_changed.connect(self._fill_findings)
        model.results_changed.connect(self.rebuild)
        model.exposures_changed.connect(self.refresh_action)
        model.stars_changed.connect(self.refresh_action)
        model.settings_changed.connect(self.refresh_action)
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
        """Build settings and findings of the current station."""
        clear(self._results)
        clear(self._settings)
        if self._model.station == "curve":
            self._fill_curve_result()
        heading = QHBoxLayout()
        heading.addWidget(label("Settings", "section"))
        heading.addStretch(1)
        self._settings.addLayout(heading)
        fields = FIELDS[self._model.station]
        for field in fields:
            if not field.fold or self._unfolded:
                self._settings.addLayout(self._row(field))
        folded = [f for f in fields if f.fold]
        if folded:
            self.fold = QPushButton("▾  Fewer settings" if self._unfolded else f"▸  {len(folded)} more settings")
            self.fold.setProperty("kind", "plain")
            self.fold.setToolTip("Seldom needed: " + ", ".join(f.label.lower() for f in folded))
            self.fold.clicked.connect(self._toggle_fold)
            self._settings.addWidget(self.fold, 0, Qt.AlignmentFlag.AlignLeft)
        self._fill_findings()
        self.refresh_action()

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
                box.toggled.connect(lambda on: self._model.set_setting(field.section, field.name, on))
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
        spin.setDecimals(field.decimals)
        spin.setFixedWidth(96)
        if field.unit:
            spin.setSuffix(f" {field.unit}")
        if field.kind == "limit":
            spin.setSpecialValueText("off")
        spin.setValue(0.0 if value is None else float(value) * field.scale)

        def changed(number: float) -> None:
            wanted: float | None = number / field.scale
            if field.kind == "limit" and number == 0:
                wanted = None
            self._model.set_setting(field.section, field.name, wanted)

        spin.editingFinished.connect(lambda: changed(spin.value()))
        return spin

    def _choice(self, field: Field, value: Any) -> QComboBox:
        box = QComboBox()
        for key, text in (field.choices or {}).items():
            box.addItem(text, key)
        box.setCurrentIndex(max(0, box.findData(value)))
        box.setFixedWidth(152)
        box.activated.connect(lambda index: self._model.set_setting(field.section, field.name, box.itemData(index)))
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
            line.editingFinished.connect(
                lambda: self._model.set_setting(field.section, field.name, line.text().strip())
            )
            row.addWidget(line)
        else:
            count = QPushButton(f"{len(value)} ×" if value else "none")
            count.setEnabled(bool(value))
            count.setToolTip("Take them all back: " + ", ".join(value) if value else "There is none")

            def none_left() -> None:
                self._model.set_setting(field.section, field.name, [])
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
            self._model.set_setting(field.section, field.name, path)
            self.rebuild()

        button.clicked.connect(choose)
        return button

    def _text(self, field: Field, value: Any) -> QLineEdit:
        line = QLineEdit(", ".join(f"{v:g}" for v in value) if field.kind == "numbers" else str(value))
        line.setFixedWidth(120)

        def changed() -> None:
            wanted: object = line.text().strip()
            if field.kind == "numbers":
                try:
                    wanted = [float(t) for t in line.text().replace(",", " ").split()]
                except ValueError:
                    self._model.message.emit(f"{field.label}: numbers with commas between, such as 0.012, 0.003.")
                    return
            self._model.set_setting(field.section, field.name, wanted)

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
                self._model.set_setting(field.section, field.name, chosen)
                self.rebuild()

        button.clicked.connect(choose)
        return button

    def _toggle_term(self, field: Field, term: str, on: bool) -> None:
        terms = [t for t in self._model.settings().curve.detrend if t != term] + ([term] if on else [])
        self._model.set_setting(field.section, field.name, terms)

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
        clear(self._findings)
        findings = self._model.findings()
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

    def plan(self) -> tuple[str, str, str]:
        """Return (button text, consequence, command) of the station's action; an empty command disables it."""
        model = self._model
        station = model.station
        if model.night is None or not model.exposures():
            return "Open a folder", "Raw files are never changed.", "open"
        out = model.left_out()
        lights = [f for f in model.lights() if f.path not in out]
        if station == "intake":
            return (
                "Go on to Masters",
                f"{len(model.exposures())} exposures, {len(lights)} lights kept.",
                "go masters",
            )
        if station == "masters":
            groups = [g for g in model.groups() if g.role in (Role.BIAS, Role.DARK, Role.DARK_FLAT, Role.FLAT)]
            n = sum(any(f not in out for f in g.files) for g in groups)
            if not n:
                return "Go on to Combine", "No calibration frames: lights are used as they are.", "go combine"
            return f"Make {n} masters", "Written into the night; raw files stay as they are.", "run masters"
        if station == "calibrate":
            if not model.has_masters():
                return "Go to Masters", "There are no masters yet.", "go masters"
            done = len(model.products("calibrated"))
            size = sum(4 * f.width * f.height for f in lights) / 1e6
            partial = model.settings().calibrate.partial
            ready = sum(
                sum(f not in out for f in group.files)
                for group, match in model.matches()
                if match.safe or (partial and any(c.usable for c in match.choices[:3]))
            )
            if not ready:
                return "Go to Masters", "No light has safe masters: see the match board.", "go masters"
            return (
                f"Calibrate {ready} of {len(lights)}" if ready < len(lights) else f"Calibrate {ready} lights",
                f"{done} done; about {size * ready / max(1, len(lights)):.0f} MB on disk. What has no safe match is told.",
                "run calibrate",
            )
        if station == "combine":
            scores = model.products("score")
            if not scores:
                return (
                    f"Score {len(lights)} exposures",
                    "Finds stars, judges and aligns each exposure.",
                    "run score",
                )
            keep, ruled = model.stack_plan()
            if not keep:
                return "Score again", "No exposure is left to stack.", "run score"
            return (
                f"Stack {len(keep)} exposures",
                f"Filter {model.working_filter() or 'none'}; {len(ruled)} ruled out, {len(out)} left out.",
                "run stack",
            )
        if station == "plate":
            if not model.settings().plate.catalogue:
                return "Solve", "Choose a star catalogue first.", ""
            n = sum(p.values["filter"] == model.working_filter() for p in model.products("score").values())
            if not n:
                return "Go to Combine", "Score the exposures first.", "go combine"
            return f"Solve {n} exposures", f"With {Path(model.settings().plate.catalogue).name}.", "run plate"
        if station == "measure":
            stars = model.night.stars()
            if not any(s.role == "target" for s in stars):
                return "Measure", "Click the target in the picture.", ""
            if not any(s.role == "comparison" for s in stars):
                return (
                    "Propose comparison stars",
                    "Of like brightness, alone and away from the edge.",
                    "propose",
                )
            n = sum(f.filter == model.working_filter() for f in lights)
            return (
                f"Measure {n} exposures",
                f"{len(stars)} stars in filter {model.working_filter() or 'none'}.",
                "run measure",
            )
        if model.series() is None:
            return "Go to Measure", "There are no measurements yet.", "go measure"
        return "Make the light curve", "Written as curve.csv into the night's products.", "run curve"

    def refresh_action(self) -> None:
        """Say what the action would do now."""
        if self._model.busy:
            stopping = self._model.job is not None and self._model.job.token.stopping
            if self._model.job_station == self._model.station:
                self.consequence.setText("What is finished is kept.")
                self.action.setText("Stopping…" if stopping else "Stop   Esc")
                self.action.setEnabled(not stopping)
                return
            self.consequence.setText(f"{self._model.job_station.title()} is running.")
            self.action.setText(self.plan()[0])
            self.action.setEnabled(self.plan()[2].startswith("go"))
            return
        text, consequence, command = self.plan()
        key = "   Ctrl+R" if command.startswith(("run", "propose")) else ""
        self.action.setText(text + key)
        self.consequence.setText(consequence)
        self.action.setEnabled(bool(command))
        self.action.setToolTip("" if command else consequence)

    def _act(self) -> None:
        self.action_wanted.emit()
