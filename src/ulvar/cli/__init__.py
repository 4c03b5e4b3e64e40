"""Ulvar on the command line."""
