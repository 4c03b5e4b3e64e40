"""Made-up sky and camera with truth; the demo night. A library of its own worth for tests and benchmarks."""

from ulvar.simulation.camera import Camera, CameraState
from ulvar.simulation.demo import make_demo_night
from ulvar.simulation.demo_plan import DEMO_NAME, DemoSize
from ulvar.simulation.eclipse import EclipsingBinary
from ulvar.simulation.optics import Pointing, Psf, recorded_fwhm
from ulvar.simulation.render import add_stars, star_field
from ulvar.simulation.sky import MadeUpSky, make_sky

__all__ = [
    "DEMO_NAME",
    "Camera",
    "CameraState",
    "DemoSize",
    "EclipsingBinary",
    "MadeUpSky",
    "Pointing",
    "Psf",
    "add_stars",
    "make_demo_night",
    "make_sky",
    "recorded_fwhm",
    "star_field",
]
