"""The night line at the bottom of the window."""
