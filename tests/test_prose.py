"""The words of the product: plain, standard English. What is listed here stands nowhere in source, tests or pages."""

import re
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[1]
PAGES = [*(ROOT / "docs").glob("*.md"), *ROOT.glob("*.md")]
CODE = [path for room in ("src", "tests", "benchmarks", "examples", "docs") for path in (ROOT / room).rglob("*.py")]
FORBIDDEN = (
    r"\btold\b",
    r"\banew\b",
    r"\bforet(ell|old)",
    r"may be nothing",
    r"from nothing",
    r"held against",
    r"left away",
    r"\bnobody\b",
    r"\bwhoever\b",
    r"\bcrooked\b",
    r"\bentangled\b",
    r"drawn to zero",
    r"\bgoes with\b",
    r"\bticks? (by|faster|slower)\b",
    r"\boff by \d",
    r"the rest held",
    r"usual (low|high)",
)


@pytest.mark.parametrize("pattern", FORBIDDEN)
def test_forbidden_words_stand_nowhere(pattern):
    found = [
        f"{path.relative_to(ROOT)}:{number}: {line.strip()[:90]}"
        for path in [*CODE, *PAGES, *(ROOT / "src").rglob("*.toml")]
        if path.name not in ("CHANGELOG.md", "test_prose.py")
        for number, line in enumerate(path.read_text(encoding="utf-8").splitlines(), 1)
        if re.search(pattern, line, re.IGNORECASE)
    ]
    assert not found, "\n".join(found)
