"""What of the window is saved as a picture, and how large."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from PySide6.QtCore import QSettings
from PySide6.QtWidgets import QCheckBox, QFileDialog, QHBoxLayout, QLabel, QWidget

from ulvar.desktop.dialogs.base import Panel
from ulvar.desktop.parts.inputs import Choice
from ulvar.desktop.parts.plots import Plot
from ulvar.desktop.parts.printing import SHARP
from ulvar.desktop.parts.widgets import label
from ulvar.desktop.picture.canvas import Canvas
from ulvar.desktop.picture.saving import Size, sizes_of

_PLOT_SIZES = (("As on screen", 1.0), ("For print, on white", SHARP))


def exports_folder(settings: QSettings, beside: Path) -> Path:
    """Return where exports went last, or a first place for them."""
    last = Path(str(settings.value("exports", "")))
    return last if last.is_absolute() and last.is_dir() else beside


def ask_place(
    parent: QWidget, settings: QSettings, beside: Path, words: str, name: str, kinds: str
) -> Path | None:  # fmt: skip
    """Ask where something is saved, and remember the folder; a name without an ending takes that of the chosen kind. None: nowhere."""
    start = exports_folder(settings, beside) / name
    chosen, kind = QFileDialog.getSaveFileName(parent, words, str(start), kinds)
    if not chosen:
        return None
    path = Path(chosen)
    if not path.suffix:
        path = Path(chosen + kind.partition("*")[2].rstrip(")"))
    settings.setValue("exports", str(path.parent))
    return path


class SavingPanel(Panel):
    """What, how large, with marks and caption or without; then the file.

    Parameters
    ----------
    parent : QWidget
    canvas : Canvas
    plots : sequence of Plot
        The board's plots; they are offered first where there are any.
    name : str
        What the picture is called, without an ending; with plots, the light curve's name beside it.
    settings : QSettings
        Where exports went last.
    beside : Path
        A first place for them.
    """

    def __init__(
        self, parent: QWidget, canvas: Canvas, plots: Sequence[Plot], names: tuple[str, str], settings: QSettings,
        beside: Path,
    ) -> None:  # fmt: skip
        super().__init__(parent, "Save a picture", "", "Save as…")
        self.sentence.hide()
        self._canvas, self._plots, self._names, self._settings = canvas, plots, names, settings
        self._beside = beside
        self.path = Path()
        self.what = Choice()
        self.what.setToolTip("What is saved")
        if plots:
            self.what.addItem("The plots of the board", "plots")
        if canvas.picture is not None:
            self.what.addItem("The picture", "picture")
        self.sizes = Choice()
        self.sizes.setToolTip("Width × height of the file, in dots")
        self.marks = QCheckBox("With marks")
        self.marks.setToolTip("Stars, regions, lines and the like, as they are switched on")
        self.marks.setChecked(True)
        self.caption = QCheckBox("With caption and scale")
        self.caption.setToolTip("Object, exposure, time, filter, stretch and a scale bar, in a band of its own")
        self.caption.setChecked(True)
        for words, field in (("Save", self.what), ("Size", self.sizes)):
            row = QHBoxLayout()
            title: QLabel = label(words)
            title.setFixedWidth(60)
            title.setBuddy(field)
            field.setAccessibleName(words)
            row.addWidget(title)
            row.addWidget(field, 1)
            self.body.addLayout(row)
        self.body.addWidget(self.marks)
        self.body.addWidget(self.caption)
        self.what.currentIndexChanged.connect(self._offer)
        self.action.setEnabled(self.what.count() > 0)
        if not self.what.count():
            self.tell("There is no picture yet: open a folder of exposures first.")
        self._offer()

    @property
    def of_plots(self) -> bool:
        """Whether the plots are to be saved."""
        return self.what.currentData() == "plots"

    def _offer(self) -> None:
        """Offer the sizes of what is chosen."""
        self.sizes.clear()
        for words, size in _PLOT_SIZES if self.of_plots else sizes_of(self._canvas):
            self.sizes.addItem(words, size)
        self.marks.setVisible(not self.of_plots)
        self.caption.setText("With title" if self.of_plots else "With caption and scale")

    @property
    def picture_size(self) -> Size:
        """The size of the picture that is chosen."""
        size = self.sizes.currentData()
        assert isinstance(size, Size)
        return size

    def apply(self) -> None:
        """Ask for the file."""
        name = self._names[1] if self.of_plots else self._names[0]
        start = exports_folder(self._settings, self._beside) / f"{name}.png"
        kinds = "PNG (*.png);;PDF (*.pdf)" if self.of_plots else "PNG (*.png)"
        path, kind = QFileDialog.getSaveFileName(self, "Save a picture", str(start), kinds)
        if not path:
            return
        self.path = Path(path)
        if self.path.suffix.lower() not in (".png", ".pdf"):
            self.path = self.path.with_name(self.path.name + (".pdf" if "pdf" in kind else ".png"))
        self._settings.setValue("exports", str(self.path.parent))
        self.accept()
