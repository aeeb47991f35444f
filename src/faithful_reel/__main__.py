"""`faithful-reel`, or `python -m faithful_reel`: where the program begins."""

from __future__ import annotations

import signal


def main() -> None:
    """Run the shell; a signal that comes while it is still being loaded ends it without a word."""
    signal.signal(signal.SIGINT, signal.SIG_DFL)
    from faithful_reel.cli import main as run

    run()


if __name__ == "__main__":
    main()
