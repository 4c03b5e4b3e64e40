"""The storm: damaged files, kills and full disks against the real commands, counted."""
