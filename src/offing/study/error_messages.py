"""What pydantic finds wrong, in our words and with the line in the file."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from pydantic import ValidationError

from offing.base import InputError, nearest
from offing.study.toml_lines import Path, lines_of

_TYPES = {
    "string": "a text in quotes",
    "int": "a whole number",
    "float": "a number",
    "bool": "true or false",
    "list": "a list",
    "tuple": "a list",
    "dict": "a table",
    "model": "a table",
    "date": "a date",
}
#: Keys whose values may hold a password, and so are never shown.
SECRET = {"database", "query", "parameters"}
_LIMITS = {
    "greater_than_equal": ("ge", "of at least"),
    "greater_than": ("gt", "above"),
    "less_than": ("lt", "below"),
}


class Place:
    """A study file and where its values stand, for messages."""

    def __init__(self, file: str, text: str) -> None:
        self.file, self.text = file, text

    def line(self, path: Path) -> int | None:
        """Line of a path in the file; where the path itself is not there, of its nearest ancestor."""
        lines = lines_of(self.text)
        return next((lines[path[:n]] for n in range(len(path), 0, -1) if path[:n] in lines), None)

    def error(self, path: Path, found: str, advice: str = "") -> InputError:
        """An error at a path in the file."""
        return InputError(found, advice, file=self.file, line=self.line(path), key=_dotted(path) or None)

    def first_fault(self, error: ValidationError, at: Path, known: Mapping[Path, Iterable[str]]) -> InputError:
        """The first of pydantic's errors by line, in words; `known` lists the keys that a table may hold."""
        lines = lines_of(self.text)
        faults = sorted(error.errors(), key=lambda each: lines.get((*at, *each["loc"]), 10**9))
        fault = faults[0]
        path = (*at, *_in_file(fault["loc"], (at, lines)))
        found, advice = _worded(fault, path, known)
        # Where several kinds of value may stand, each has its own fault.
        others = [
            _worded(each, path, known) for each in faults[1:] if (*at, *_in_file(each["loc"], (at, lines))) == path
        ]
        advices = dict.fromkeys(each[1] for each in [(found, advice), *others] if each[0] == found and each[1])
        return self.error(path, found, _either(list(advices)))


def _in_file(location: tuple[Any, ...], where: tuple[Path, Mapping[Path, int]]) -> Path:
    """Pydantic's location without its own additions, such as the branch of a union."""
    at, lines = where
    path: Path = ()
    for step in location:
        if (*at, *path, step) in lines or step is location[-1]:
            path = (*path, step)
        else:
            break
    # The last step of a union's fault names the branch, not a key.
    if path and (*at, *path) not in lines and (*at, *path[:-1]) in lines and _is_branch(path[-1]):
        path = path[:-1]
    return path


def _is_branch(step: Any) -> bool:
    return isinstance(step, str) and (step in _TYPES or step in ("str", "ColumnSpec") or "[" in step)


def _worded(fault: Any, path: Path, known: Mapping[Path, Iterable[str]]) -> tuple[str, str]:
    kind, value = fault["type"], fault.get("input")
    if kind in ("extra_forbidden", "unexpected_keyword_argument"):
        named = path[:1] in (("sources",), ("scenarios",))
        pattern = tuple(
            "*" if isinstance(step, int) or (named and i == 1) else step for i, step in enumerate(path[:-1])
        )
        return "there is no such key", nearest(str(path[-1]), known.get(pattern, ()))
    if kind in ("missing", "missing_argument"):
        return ("a value is missing" if isinstance(path[-1], int) else f"'{path[-1]}' is missing"), "Add it."
    if kind == "value_error" and isinstance(fault["ctx"]["error"], InputError):
        inner = fault["ctx"]["error"]
        return (f"{inner.key}: " if inner.key else "") + inner.found, inner.advice
    if SECRET & {str(step) for step in path}:
        return "found something else than may stand here", _allowed(kind, fault)
    return f"found {value!r}", _allowed(kind, fault)


def _allowed(kind: str, fault: Any) -> str:
    """What may stand where something else was found."""
    rules = fault.get("ctx", {})
    if kind == "literal_error":
        return f"Allowed: {rules['expected']}.".replace("'", '"')
    if kind in _LIMITS:
        rule, words = _LIMITS[kind]
        return f"Give a number {words} {rules[rule]:g}."
    if kind.endswith("too_short"):
        return "It must not be empty."
    wanted = next((words for stem, words in _TYPES.items() if kind.startswith(stem)), None)
    if wanted is not None and ("type" in kind or "parsing" in kind or "from_float" in kind):
        return f"Give {wanted}."
    return f"{fault['msg']}."


def _either(advices: list[str]) -> str:
    """One sentence of several advices, the words that may stand first."""
    if len(advices) < 2:
        return "".join(advices)
    noted = [each.rstrip(".") for each in sorted(advices, key=lambda each: not each.startswith("Allowed"))]
    return f"{noted[0]}, or {' or '.join(each[0].lower() + each[1:] for each in noted[1:])}."


def _dotted(path: Path) -> str:
    text = ""
    for step in path:
        text += f"[{step + 1}]" if isinstance(step, int) else f".{step}" if text else str(step)
    return text
