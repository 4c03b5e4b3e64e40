"""The stations' own ways of seeing their objects."""
