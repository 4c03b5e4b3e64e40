"""Small windows for one thing each: facts, sessions, flats."""
