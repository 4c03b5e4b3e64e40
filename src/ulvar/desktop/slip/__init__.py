"""The slip: settings, findings and the station's one action."""
