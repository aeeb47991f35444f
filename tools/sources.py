"""List every published value that a test checks, in docs/sources.md."""

from __future__ import annotations

import ast
from pathlib import Path

ROOT = Path(__file__).parent.parent


def published(path: Path) -> list[tuple[str, str]]:
    """(source, test) of every test in a file that carries the `published` mark, directly or by a module constant."""
    tree = ast.parse(path.read_text(encoding="utf-8"))

    def source_of(node: ast.expr) -> str | None:
        if isinstance(node, ast.Call) and ast.unparse(node.func) == "pytest.mark.published":
            return str(ast.literal_eval(node.args[0]))
        return constants.get(node.id) if isinstance(node, ast.Name) else None

    constants: dict[str, str] = {}
    for node in tree.body:
        if isinstance(node, ast.Assign) and isinstance(node.targets[0], ast.Name) and (text := source_of(node.value)):
            constants[node.targets[0].id] = text
    return [
        (text, node.name)
        for node in tree.body
        if isinstance(node, ast.FunctionDef)
        for decorator in node.decorator_list
        if (text := source_of(decorator))
    ]


def main() -> None:
    """Write the table."""
    rows = sorted((s, f"{p.relative_to(ROOT)}::{t}") for p in (ROOT / "tests").rglob("test_*.py") for s, t in published(p))
    table = "\n".join(f"| {source} | `{test}` |" for source, test in rows)
    text = f"# Published values that tests check\n\nMade by `python tools/sources.py`.\n\n| source | test |\n|---|---|\n{table}\n"
    (ROOT / "docs" / "sources.md").write_text(text, encoding="utf-8")


if __name__ == "__main__":
    main()
