"""Pin every package that pyproject.toml asks for, with all that they need, in requirements/*.txt.  Needs `uv`."""

from __future__ import annotations

import subprocess
import sys
import tomllib
from pathlib import Path

ROOT = Path(__file__).parent.parent


def main() -> int:
    """Write one lock file per set."""
    project = tomllib.loads((ROOT / "pyproject.toml").read_text(encoding="utf-8"))
    extras, groups = project["project"]["optional-dependencies"], project["dependency-groups"]
    sets = {
        "run": [*project["project"]["dependencies"], *extras["ear"], *extras["second-ear"], *extras["third-ear"]],
        "test": groups["test"],
        "lint": groups["lint"],
        "mutate": groups["mutate"],
        "bench": groups["bench"],
        "demo-book": extras["demo-book"],
    }
    for name, wanted in sets.items():
        call = [
            "uv",
            "pip",
            "compile",
            "-q",
            "--no-header",
            "--no-annotate",
            "--python-version",
            "3.11",
            "-",
            "-o",
            f"requirements/{name}.txt",
        ]
        if name != "run":
            call += ["-c", "requirements/run.txt"]
        done = subprocess.run(call, input="\n".join(wanted), text=True, cwd=ROOT, check=False)
        if done.returncode:
            return done.returncode
    return 0


if __name__ == "__main__":
    sys.exit(main())
