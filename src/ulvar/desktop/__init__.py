"""The window: everything that imports Qt."""
