"""``python -m ulvar`` is the ``ulvar`` command."""

from ulvar.cli.main import main

if __name__ == "__main__":
    main()
