"""The page of all acts, made from the tables that the desks bring: `docs/acts.md`.

`--check` writes nothing and fails where an act or a key is in two tables, or the page is not as the tables are.
"""

from __future__ import annotations

import os
import sys
from collections import Counter
from itertools import combinations
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from faithful_reel.app.actions import Menu, On, meet
from faithful_reel.app.acts import TABLES, every_act
from faithful_reel.app.keys import FIXED, refused

PAGE = Path(__file__).parent.parent / "docs" / "acts.md"
HEAD = """# Acts and their keys

Every act of the user stands in a menu; its key can be changed under Help, Keys (F1). This page is made from the tables of the
desks by `tools/acts.py`.
"""


def page() -> str:
    """The page in Markdown."""
    parts = [HEAD]
    for menu in Menu:
        parts.append(f"\n## {menu.value}\n\n| act | key | where | what it does | id |\n|---|---|---|---|---|\n")
        acts = sorted((a for a in every_act() if a.menu is menu), key=lambda a: a.rank)
        for act in acts:
            where = f"the {act.desk.words} desk" if act.desk else "everywhere"
            where += ", on the page" if act.on is not On.ANYTHING else ""
            key = f"`{act.key}`" if act.key else ""
            words = f"{act.within}: {act.words}" if act.within else act.words
            parts.append(f"| {words} | {key} | {where} | {act.tip} | `{act.id}` |\n")
    parts.append("\n## Keys of the parts of the window\n\nThese stay as they are.\n\n")
    parts.append("| where | keys | what they do |\n|---|---|---|\n")
    parts += [f"| {fixed.where} | {fixed.key} | {fixed.what} |\n" for fixed in FIXED]
    return "".join(parts)


def faults() -> list[str]:
    """What is wrong with the tables."""
    found = []
    for act, count in Counter(act.id for act in every_act()).items():
        if count > 1:
            tables = [name for name, table in TABLES.items() for a in table if a.id == act]
            found.append(f"the act {act} is named {count} times, in the tables of {', '.join(tables)}")
    for one, other in combinations([act for act in every_act() if act.key], 2):
        if one.key == other.key and meet(one.desk, other.desk):
            found.append(f"the key {one.key} is given to {one.id} and {other.id}")
    found += [f"the key of {act.id} can not be one: {why}" for act in every_act() if (why := refused(act.key))]
    return found


def main() -> int:
    """Write the page, or check it."""
    wrong = faults()
    if "--check" in sys.argv[1:]:
        if not PAGE.is_file() or PAGE.read_text(encoding="utf-8") != page():
            wrong.append(f"{PAGE.name} is not as the tables are: run tools/acts.py")
    else:
        PAGE.write_text(page(), encoding="utf-8")
    sys.stderr.write("".join(f"acts: {line}\n" for line in wrong))
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
