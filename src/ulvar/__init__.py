"""Ulvar: from a night of raw telescope exposures to a stack, a plate solution and a light curve."""

__version__ = "0.1.0"
