"""A board a station: its own way of seeing its objects."""
