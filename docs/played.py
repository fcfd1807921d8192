"""Plays the page first-forecast.md: runs its commands in turn, and gives the page with what they print.

``python docs/played.py`` writes the page again; the tests compare it with what is printed.
"""

from __future__ import annotations

import re
import subprocess
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path

from offing.demo.cafe import cafe

PAGE = Path(__file__).with_name("first-forecast.md")
#: Blocks of the page: what the analyst types, and edits of a file.
_BLOCK = re.compile(r"```(console|diff)\n(.*?)```", re.DOTALL)


def written(folder: Path) -> None:
    """Write the café's two tables."""
    made = cafe()
    made.sales.to_csv(folder / "sales.csv")
    made.plan.to_csv(folder / "next.csv")


def played(text: str, folder: Path, run: Callable[[list[str]], str]) -> str:
    """The page with the output of every command; `run` takes the arguments of ``offing`` and gives what it prints."""

    def block(found: re.Match[str]) -> str:
        kind, inside = found.groups()
        if kind == "diff":
            _edit(folder, inside)
            return found.group(0)
        lines = []
        for command in re.findall(r"^\$ (.*)$", inside, re.MULTILINE):
            name, *arguments = command.split()
            if name == "head":
                shown = "\n".join((folder / arguments[1]).read_text().splitlines()[: -int(arguments[0])])
            else:
                shown = run(arguments).rstrip("\n")
            lines.append(f"$ {command}\n{shown}\n")
        return f"```console\n{''.join(lines)}```"

    return _BLOCK.sub(block, text)


def _edit(folder: Path, inside: str) -> None:
    """Take the lines of a diff out of a file, and put in others in their place or at the end."""
    name, *lines = inside.splitlines()
    path = folder / name.removeprefix("--- ")
    text = path.read_text(encoding="utf-8")
    gone = "".join(f"{line[1:]}\n" for line in lines if line.startswith("-"))
    come = "".join(f"{line[1:]}\n" for line in lines if line.startswith("+"))
    if gone and text.count(gone) != 1:
        raise ValueError(f"{gone!r} is {text.count(gone)} times in {name}")
    path.write_text(text.replace(gone, come) if gone else text + come, encoding="utf-8")


def main() -> None:
    """Write the page again."""
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        written(folder)
        program = str(Path(sys.executable).with_name("offing"))

        def run(arguments: list[str]) -> str:
            done = subprocess.run([program, *arguments], cwd=folder, capture_output=True, text=True, check=True)
            return done.stdout

        PAGE.write_text(played(PAGE.read_text(encoding="utf-8"), folder, run), encoding="utf-8")


if __name__ == "__main__":
    main()
