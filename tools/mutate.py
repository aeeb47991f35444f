"""Change the core's code in small ways, and see which changes no test notices.

`./reel mutate` tries one change in eight, evenly over reel, splice, measure and work; `--every 1` tries all of them, which
takes hours.  Names of modules (`work.mending`) restrict it.  What went unnoticed is listed by function; `mutmut show NAME` in the
project's folder prints the change.
"""

from __future__ import annotations

import argparse
import json
import subprocess
import sys
from collections import Counter
from pathlib import Path

ROOT = Path(__file__).parent.parent
MADE = ROOT / "mutants" / "src" / "faithful_reel" / "core"
NOTICED, UNNOTICED, NO_TEST = "noticed", "unnoticed", "no test"
_BY_CODE = {0: UNNOTICED, 33: NO_TEST, 5: NO_TEST}
"""Exit codes as mutmut keeps them: 0 is a run that passed; all others but these are runs that failed, hung or crashed."""


def results() -> dict[str, int | None]:
    """The exit code of every change that was made, None where it was not tried."""
    found: dict[str, int | None] = {}
    for path in sorted(MADE.rglob("*.meta")):
        found |= json.loads(path.read_text(encoding="utf-8"))["exit_code_by_key"]
    return found


def tried(names: list[str], children: int) -> None:
    """Let mutmut try these changes; what it prints while it works goes to a file."""
    with (ROOT / "mutants" / "last.log").open("w", encoding="utf-8") as log:
        command = [str(Path(sys.executable).parent / "mutmut"), "run", "--max-children", str(children), *names]
        subprocess.run(command, cwd=ROOT, stdout=log, stderr=subprocess.STDOUT, check=False)


def main() -> int:
    """Try, count, print."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("modules", nargs="*", help="for example work.mending; all where none is named")
    parser.add_argument("--every", type=int, default=8, help="try one change in so many")
    parser.add_argument("--from", type=int, default=0, dest="first", help="begin with this one")
    parser.add_argument("--children", type=int, default=2, help="how many at once")
    parser.add_argument("--list", action="store_true", help="only tell what the last run found")
    wanted = parser.parse_args()
    (ROOT / "mutants").mkdir(exist_ok=True)
    if not wanted.list:
        tried(["faithful_reel.core.measure.picture*"], wanted.children)  # a few, which makes them all
    parts = [f"faithful_reel.core.{module}." for module in wanted.modules] or ["faithful_reel.core."]
    chosen = [name for name in results() if name.startswith(tuple(parts))][wanted.first :: wanted.every]
    if not chosen:
        sys.stderr.write("There is nothing to change there.\n")
        return 2
    if not wanted.list:
        tried(chosen, wanted.children)
    codes = results()
    by_module: dict[str, Counter[str]] = {}
    missed = []
    for name in chosen:
        code = codes[name]
        if code is None:
            continue
        told = _BY_CODE.get(code, NOTICED)
        module, _ = name.removeprefix("faithful_reel.core.").rsplit(".", 1)
        by_module.setdefault(module, Counter())[told] += 1
        if told != NOTICED:
            missed.append(f"{told:10} {name}")
    if not by_module:
        sys.stderr.write("None was tried: mutants/last.log says why.\n")
        return 2
    total: Counter[str] = Counter()
    for module, counts in sorted(by_module.items()):
        total += counts
        print(f"{module:24} {share(counts)}")
    untried = sum(codes[name] is None for name in chosen)
    print("\n".join(["", *missed, "", f"{'all':24} {share(total)}; not tried {untried}"]))
    return 0


def share(counts: Counter[str]) -> str:
    """Counts in words, and the share that was noticed."""
    count = sum(counts.values())
    return f"{counts[NOTICED]:5} of {count:5} noticed, {counts[NOTICED] / max(1, count):4.0%}; without a test {counts[NO_TEST]}"


if __name__ == "__main__":
    sys.exit(main())
