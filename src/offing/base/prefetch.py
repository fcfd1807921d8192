"""Work that overlaps: the next item is made while the last one is used."""

from __future__ import annotations

from collections.abc import Generator, Iterator
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

Item = TypeVar("Item")


def ahead(items: Generator[Item, None, None] | Iterator[Item]) -> Iterator[Item]:
    """The same items in the same order, each made in one other thread while the one before is being used.

    The whole iterator runs in that thread, closing included, as connections to databases want it.

    Examples
    --------
    >>> from offing.base.prefetch import ahead
    >>> list(ahead(iter([1, 2, 3])))
    [1, 2, 3]
    """
    end = object()
    with ThreadPoolExecutor(max_workers=1, thread_name_prefix="offing-ahead") as worker:
        try:
            coming = worker.submit(next, items, end)
            while (item := coming.result()) is not end:
                coming = worker.submit(next, items, end)
                yield item  # type: ignore[misc]
        finally:
            if isinstance(items, Generator):
                worker.submit(items.close).result()
