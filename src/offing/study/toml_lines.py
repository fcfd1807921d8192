"""On which line of a TOML text each value stands."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from tree_sitter import Node

Path = tuple[str | int, ...]


def lines_of(text: str) -> dict[Path, int]:
    r"""Line, counted from 1, of every key, table and array element of a valid TOML text, by its path.

    Examples
    --------
    >>> from offing.study.toml_lines import lines_of
    >>> lines_of("[[terms]]\nlags = [0, 1]")[("terms", 0, "lags")]
    2
    """
    import tree_sitter_toml  # noqa: PLC0415  only a file with a fault needs the lines
    from tree_sitter import Language, Parser  # noqa: PLC0415

    tree = Parser(Language(tree_sitter_toml.language())).parse(text.encode())
    found: dict[Path, int] = {}
    counts: dict[Path, int] = {}
    for node in tree.root_node.children:
        if node.type == "pair":
            _pair(node, (), found)
        elif node.type in ("table", "table_array_element"):
            path = _resolved(_keys(node.children[1]), counts)
            if node.type == "table_array_element":
                counts[path] = counts.get(path, -1) + 1
                path = (*path, counts[path])
            _note(path, node, found)
            for child in node.children:
                if child.type == "pair":
                    _pair(child, path, found)
    return found


def _resolved(keys: list[str], counts: dict[Path, int]) -> Path:
    """A header's path: below an array of tables it means the array's newest element."""
    path: Path = ()
    for i, key in enumerate(keys):
        path = (*path, key)
        if path in counts and i < len(keys) - 1:
            path = (*path, counts[path])
    return path


def _pair(node: Node, path: Path, found: dict[Path, int]) -> None:
    here = (*path, *_keys(node.children[0]))
    _note(here, node, found)
    value = next(child for child in node.named_children[1:] if child.type != "comment")
    _value(value, here, found)


def _value(node: Node, path: Path, found: dict[Path, int]) -> None:
    if node.type == "inline_table":
        for child in node.children:
            if child.type == "pair":
                _pair(child, path, found)
    elif node.type == "array":
        elements = [child for child in node.named_children if child.type != "comment"]
        for i, child in enumerate(elements):
            _note((*path, i), child, found)
            _value(child, (*path, i), found)


def _note(path: Path, node: Node, found: dict[Path, int]) -> None:
    for length in range(1, len(path) + 1):
        found.setdefault(path[:length], node.start_point.row + 1)


def _keys(node: Node) -> list[str]:
    if node.type == "dotted_key":
        return [key for child in node.named_children for key in _keys(child)]
    text = (node.text or b"").decode()
    return [text[1:-1] if text[:1] in "\"'" else text]
