"""Hold the core's docstrings to what they promise: shapes of arrays, and every error of ours that a function raises itself.

Counts public functions and methods of `core`; prints those that fall short, and ends with 1 where there are any.
"""

from __future__ import annotations

import ast
import re
import sys
from collections.abc import Iterator
from pathlib import Path

ROOT = Path(__file__).parent.parent
CORE = ROOT / "src" / "faithful_reel" / "core"
ARRAYS = re.compile(r"\b(Signal|NDArray|Places|Columns|Levels)\b")
SHAPE = re.compile(r"\([\w. +*/-]+(?:, ?[\w. +*/-]*)+\)|block|scalar")
"""A shape in round brackets, as `(n,)` or `(channels, n)`; or a word that says that it is one of a meter's blocks."""


def errors_of_ours() -> set[str]:
    """The names of the errors that a user can cause or cure."""
    tree = ast.parse((CORE / "errors.py").read_text(encoding="utf-8"))
    return {node.name for node in tree.body if isinstance(node, ast.ClassDef)}


def functions(tree: ast.Module) -> Iterator[tuple[str, ast.FunctionDef, str]]:
    """(name, function, docstring of its class) of every public function and method."""
    for node in tree.body:
        if isinstance(node, ast.FunctionDef) and not node.name.startswith("_"):
            yield node.name, node, ""
        elif isinstance(node, ast.ClassDef) and not node.name.startswith("_"):
            for inner in node.body:
                if isinstance(inner, ast.FunctionDef) and (not inner.name.startswith("_") or inner.name == "__call__"):
                    yield f"{node.name}.{inner.name}", inner, ast.get_docstring(node) or ""


def raised(function: ast.FunctionDef, ours: set[str]) -> set[str]:
    """The errors of ours that a function raises itself."""
    found = set()
    for node in ast.walk(function):
        if isinstance(node, ast.Raise) and isinstance(node.exc, ast.Call) and isinstance(node.exc.func, ast.Name):
            found |= {node.exc.func.id} & ours
    return found


def main() -> int:
    """Look at all of them."""
    ours, lacking, arrays, raising = errors_of_ours(), [], 0, 0
    for path in sorted(CORE.rglob("*.py")):
        tree = ast.parse(path.read_text(encoding="utf-8"))
        of_module = ast.get_docstring(tree) or ""
        for name, function, of_class in functions(tree):
            doc = ast.get_docstring(function) or ""
            where = f"{path.relative_to(ROOT)}:{function.lineno} {name}"
            hints = [a.annotation for a in (*function.args.args, *function.args.kwonlyargs)] + [function.returns]
            if any(hint is not None and ARRAYS.search(ast.unparse(hint)) for hint in hints):
                arrays += 1
                if not SHAPE.search(doc) and not SHAPE.search(of_class):
                    lacking.append(f"{where}: the shape of an array")
            mine = raised(function, ours)
            if mine:
                raising += 1
                told = doc + (of_module if function.name == "apply" else "")  # of commands it is said once
                missing = [error for error in sorted(mine) if error not in told]
                if missing:
                    lacking.append(f"{where}: raises {', '.join(missing)}")
    print(
        "\n".join([*lacking, f"{arrays} functions with arrays, {raising} that raise errors of ours: {len(lacking)} fall short"])
    )
    return 1 if lacking else 0


if __name__ == "__main__":
    sys.exit(main())
