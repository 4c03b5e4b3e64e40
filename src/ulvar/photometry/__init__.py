"""Apertures, sky, errors, series, comparison ensembles."""

import lazy_loader

# What is taken from the room is imported when it is taken; the stub beside this file says from where.
__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
