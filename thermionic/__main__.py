"""``python -m thermionic``: see cli."""

from thermionic.cli import main

if __name__ == "__main__":
    raise SystemExit(main())
