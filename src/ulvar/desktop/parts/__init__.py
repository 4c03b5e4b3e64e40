"""Widgets, plots, glyphs, layouts and themes: what every region is made of. Knows nothing of a night."""
