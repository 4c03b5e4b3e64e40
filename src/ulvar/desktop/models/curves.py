"""The measured series and the light curve, which is made in another thread."""

from __future__ import annotations

from pathlib import Path

from ulvar.desktop.models.folding import Folding
from ulvar.desktop.models.ground import Ground
from ulvar.desktop.models.sampling import Sampling
from ulvar.desktop.work.background import Asker
from ulvar.flows import Beneath, CurveResult, Series, ShownStar, further_stars, other_series
from ulvar.frames import FrameError
from ulvar.lightcurves import LightCurve
from ulvar.night.stations import Beside, curve_path, curves_beside, night_curve, series_path, series_table
from ulvar.photometry import SeriesTable

# So many check stars are shown before anybody chooses.
_CHECKS = 2


class Curves(Folding):
    """Series and light curve of the night; `changed` tells when one that was being made is there.

    Attributes
    ----------
    coming : bool
        Whether one is being made.
    together : bool
        Whether the curves of the field's other series are shown as well.
    sampling : Sampling
        The posterior of the curve's model.
    apart_mag : float or None
        How far their medians are put apart [mag]; None: as far as they need.
    """

    def __init__(self, ground: Ground) -> None:
        super().__init__(ground)
        self._ground = ground
        self.coming = self.together = False
        self.apart_mag: float | None = None
        # How the curve is looked at: along which axis, as what, means over so many minutes.
        self.axis, self.in_flux, self.bin_min = "BJD_TDB", False, 0.0
        self._stars: dict[str, ShownStar] | None = None
        self._last_curve: CurveResult | None = None
        self._last_beside: tuple[Beside, ...] = ()
        self._asks_beside = False
        self.sampling = Sampling(self)
        self._asker = Asker("curve")
        self._asker.found.connect(self._arrived)
        ground.dropped.connect(self._call_off)
        ground.series_changed.connect(self.forget)

    def _call_off(self) -> None:
        self.coming = self._asks_beside = False

    def forget(self) -> None:
        """Show no curve of another night or series."""
        self._last_curve, self._last_beside, self._stars = None, (), None
        self.unfold()

    def show_together(self, on: bool, apart_mag: float | None = None) -> None:
        """Show the curves of the field's other series too, their medians so far apart [mag]."""
        self.together, self.apart_mag = on, apart_mag
        self.changed.emit()

    def stars(self) -> dict[str, ShownStar]:
        """Further stars under the curve, and how: two check stars until others are chosen."""
        if self._stars is not None:
            return self._stars
        table = self.series()
        return {} if table is None else dict.fromkeys(table.names("check")[:_CHECKS], ShownStar())

    def show_star(self, name: str, how: ShownStar | None) -> None:
        """Show a star under the curve so, or no longer."""
        shown = self.stars()
        self._stars = {n: h for n, h in shown.items() if n != name} if how is None else shown | {name: how}
        self.changed.emit()

    def others(self) -> list[Series]:
        """The field's other series that have a light curve."""

        def make() -> list[Series]:
            series, made = self._ground.chosen_series(), self._ground.products("curve")
            return [
                one
                for one in self._ground.all_series()
                if series is not None
                and one.field.key == series.field.key
                and one.key != series.key
                and one.key in made
            ]

        return self._ground.cached("curves of others", make)

    def beside(self) -> tuple[Beside, ...]:
        """The light curves of the field's other series, if they are to be shown; `changed` tells when they are there."""
        others = self.others() if self.together else []
        if not others:
            return ()
        if "curves beside" not in self._ground.caches and not self._asks_beside:
            night = self._ground.night
            if night is not None:
                self._asks_beside = True
                self._asker.ask(self._ground.order, lambda: curves_beside(night, others))
        return self._ground.caches.get("curves beside", self._last_beside)

    def beneath(self, curve: LightCurve) -> list[Beneath]:
        """What stands under the curve: other series of the field, or else further stars; in flux there is no place for them."""
        if self.in_flux:
            return []
        beside, table = self.beside(), self.series()
        if beside:
            others = [(other.series.filter or other.series.title, other.curve) for other in beside]
            return other_series(curve.magnitude, others, self.apart_mag)
        return [] if table is None else further_stars(table, curve, self.stars())

    def close(self) -> None:
        """End the threads."""
        self.sampling.close()
        self._asker.close(wait=True)
        super().close()

    def _order(self) -> object:
        return self._ground.order

    def look(self, **how: object) -> None:
        """Look at the curve in another way: `axis`, `in_flux`, `bin_min`, `fold`."""
        for name, value in how.items():
            setattr(self, name, value)
        self.changed.emit()

    def series(self) -> SeriesTable | None:
        """The measured series."""

        def make() -> SeriesTable | None:
            night, series = self._ground.night, self._ground.chosen_series()
            if night is None or series is None or not series_path(night, series).exists():
                return None
            try:
                return series_table(night, series)
            except FrameError as error:
                self._ground.message.emit(
                    f"{Path(error.path).name}: {error.reason}. Measure again to have it made anew."
                )
                return None

        return self._ground.cached("series", make)

    def curve(self) -> CurveResult | None:
        """The light curve without the points that are left out; as it was before until it is made anew.

        Its eclipse is fitted in another thread, which takes a second; `changed` tells when it is there.
        """
        if "curve" not in self._ground.caches and not self.coming:
            night, series = self._ground.night, self._ground.chosen_series()
            paths = () if night is None or series is None else (curve_path(night, series), series_path(night, series))
            if night is None or series is None or not all(path.exists() for path in paths):
                self._ground.caches["curve"] = self._last_curve = None
            else:
                self.coming = True
                self._asker.ask(self._ground.order, lambda: night_curve(night, series))
        return self._ground.caches.get("curve", self._last_curve)

    def _arrived(self, order: object, result: object) -> None:
        if order != self._ground.order:
            # Something changed while it was made: who asks next has it made again.
            return
        if isinstance(result, tuple):
            self._asks_beside = False
            self._ground.caches["curves beside"] = self._last_beside = result
            self.changed.emit()
            return
        self.coming = False
        if self.sampling.drawing is not None and not self.sampling.is_of(result):
            # Nobody would see it.
            self.sampling.stop()
        self._ground.caches["curve"] = self._last_curve = result if isinstance(result, CurveResult) else None
        for key in [k for k in self._ground.caches if k.startswith(("metric target", "line range", "line dots"))]:
            del self._ground.caches[key]
        self.changed.emit()
