"""Keys as a file, and named sets of them.  No Qt."""

from __future__ import annotations

import json
from collections.abc import Mapping
from pathlib import Path

from faithful_reel.app.settings import Settings, keep_names, names, text
from faithful_reel.core.errors import FileProblem, StoreProblem
from faithful_reel.core.files import beside, from_json, refuse_over, shown, why

KIND, VERSION = "faithful-reel keys", 1
LONGEST = 1 << 20
"""Bytes: a longer file holds no keys."""
USUAL = "usual keys"
_NAMES = "keysets"


def write_keys(keys: Mapping[str, str], path: Path) -> None:
    """Write the keys of all acts, as JSON; beside, and renamed.

    Raises
    ------
    FileProblem
        The file would lie in a book, or is no ordinary one.
    StoreProblem
        It can not be written.
    """
    refuse_over(path)
    made, whole = beside(path), {"kind": KIND, "version": VERSION, "keys": dict(keys)}
    try:
        made.write_text(json.dumps(whole, indent=1, ensure_ascii=False) + "\n", encoding="utf-8")
        made.replace(path)
    except OSError as problem:
        raise StoreProblem(f"{shown(path)} can not be written{why(problem)}. Choose another place.") from problem
    finally:
        made.unlink(missing_ok=True)


def read_keys(path: Path) -> dict[str, str]:
    """The keys of a file that was written here, by the ids of their acts.

    Raises
    ------
    FileProblem
        It can not be read, or holds no keys.
    """
    none = f"{shown(path)} holds no keys. Choose a file that was written with “Write to a file”."
    try:
        with path.open("rb") as file:
            raw = file.read(LONGEST + 1)
    except OSError as problem:
        raise FileProblem(f"{shown(path)} can not be read{why(problem)}.") from problem
    try:
        found = from_json(raw.decode("utf-8")) if len(raw) <= LONGEST else None
    except ValueError as problem:
        raise FileProblem(none) from problem
    keys = found.get("keys") if isinstance(found, dict) and found.get("kind") == KIND else None
    if not isinstance(keys, dict) or not all(isinstance(key, str) for key in keys.values()):
        raise FileProblem(none)
    return {str(act): key for act, key in keys.items()}


def sets(settings: Settings) -> list[str]:
    """The names of the sets that are kept, after the usual one."""
    return [USUAL, *names(settings, _NAMES)]


def keep_set(settings: Settings, name: str, keys: Mapping[str, str]) -> None:
    """Keep keys under a name; a set of that name is replaced."""
    keep_names(settings, _NAMES, list(dict.fromkeys([*names(settings, _NAMES), name])))
    settings.setValue(f"keyset/{name.encode().hex()}", json.dumps(dict(keys)))


def forget_set(settings: Settings, name: str) -> None:
    """Keep it no more."""
    keep_names(settings, _NAMES, [n for n in names(settings, _NAMES) if n != name])
    settings.setValue(f"keyset/{name.encode().hex()}", "")


def kept_set(settings: Settings, name: str) -> dict[str, str]:
    """The keys of a set; none where it is the usual one, or damaged."""
    try:
        found = from_json(text(settings, f"keyset/{name.encode().hex()}", "{}") or "{}")
    except ValueError:
        return {}
    return {str(a): k for a, k in found.items() if isinstance(k, str)} if isinstance(found, dict) else {}
