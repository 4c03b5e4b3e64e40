"""The work of the stations on plain files: what the command line and the night share."""
