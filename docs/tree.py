"""Write the tree of the source into CONTRIBUTING.md: ``python docs/tree.py``. A line is a file's docstring."""

from __future__ import annotations

import ast
from pathlib import Path

ROOT = Path(__file__).parents[1]
SOURCE, PAGE = ROOT / "src" / "offing", ROOT / "CONTRIBUTING.md"
BEGIN, END = "<!-- tree: written by docs/tree.py -->\n", "<!-- end of the tree -->\n"
#: The rooms, lowest first, as the import contract has them.
ROOMS = (
    "base",
    "engine",
    "calendar",
    "tables",
    "terms",
    "diagnostics",
    "model",
    "outlook",
    "evaluation",
    "explain",
    "inspection",
    "drafting",
    "writers",
    "draw",
    "study",
    "demo",
    "cli",
)


def tree() -> str:
    """The tree, a heading a room and a line a file."""
    lines = []
    for room in ROOMS:
        folder = SOURCE / room
        lines += [f"\n**{room}**: {_says(folder / '__init__.py')}\n"]
        files = sorted(path for path in folder.rglob("*.py") if path != folder / "__init__.py")
        lines += [f"- `{path.relative_to(folder).as_posix()}`: {_says(path)}" for path in files if _says(path)]
    return "\n".join(lines).lstrip("\n") + "\n"


def _says(path: Path) -> str:
    found = ast.get_docstring(ast.parse(path.read_text(encoding="utf-8"))) or ""
    first = " ".join(found.partition("\n\n")[0].split())
    return first if first.endswith((".", "?")) or not first else f"{first}."


def with_tree(page: str) -> str:
    """The page with the tree as it is now."""
    before, _, rest = page.partition(BEGIN)
    return f"{before}{BEGIN}\n{tree()}\n{END}{rest.partition(END)[2]}"


if __name__ == "__main__":
    PAGE.write_text(with_tree(PAGE.read_text(encoding="utf-8")), encoding="utf-8")
