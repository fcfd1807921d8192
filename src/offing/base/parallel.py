"""Many independent tasks, one after the other or in any pool of workers, with the same results in the same order."""

from __future__ import annotations

import os
import signal
import sys
import time
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Executor, ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from contextlib import contextmanager
from contextvars import ContextVar
from importlib import import_module
from multiprocessing import get_context
from pathlib import Path
from typing import Any, TypeVar

from offing.base.errors import InputError
from offing.base.progress import Progress

Task = TypeVar("Task")
Result = TypeVar("Result")

#: Seconds of work left from which on it pays to start other processes, which takes about a second each.
WORTH = 6.0
#: The same where somebody asked for a number of processes.
_WORTH_REQUESTED = 2.0
#: More processes than this are a slip of the keyboard.
_MOST = 256
#: How many processes were asked for, if anybody did.
_REQUESTED: ContextVar[int | None] = ContextVar("asked", default=None)
#: What sets the number of threads of linear algebra, when a process starts.
_THREADS = ("OPENBLAS_NUM_THREADS", "MKL_NUM_THREADS", "OMP_NUM_THREADS")


class InterruptedWork(KeyboardInterrupt):
    """Ctrl-C during a list of tasks; `found` holds their results in order, None for those that were not finished."""

    def __init__(self, found: list[Any]) -> None:
        super().__init__()
        self.found = found


def carried_out(
    function: Callable[[Task], Result], tasks: Sequence[Task], what: str, executor: Executor | None = None
) -> list[Result]:
    """The results of all tasks, in their order.

    Without an `executor` the first tasks are done here; if much is left, processes are started where that can be done
    safely: the running script must be guarded by ``if __name__ == "__main__"``, since each process reads it again.

    Raises
    ------
    InterruptedWork
        With the results of the tasks that were finished, at Ctrl-C.

    Examples
    --------
    >>> from offing.base.parallel import carried_out
    >>> carried_out(abs, [-1, 2], "counting")
    [1, 2]
    """
    found: list[Result] = []
    try:
        return _carried_out(function, tasks, Progress(what), executor, found)
    except InterruptedWork as stopped:
        raise InterruptedWork([*found, *stopped.found]) from None
    except KeyboardInterrupt:
        raise InterruptedWork([*found, *[None] * (len(tasks) - len(found))]) from None


def _carried_out(
    function: Callable[[Task], Result],
    tasks: Sequence[Task],
    bar: Progress,
    executor: Executor | None,
    found: list[Result],
) -> list[Result]:
    """The results of all tasks; those that were done here are put into `found` as they come."""
    with bar as progress:
        if executor is None:
            started = time.monotonic()
            for task in tasks:
                left = (time.monotonic() - started) * (len(tasks) - len(found)) / max(len(found), 1)
                if found and Workers().worth(left):
                    break
                found.append(function(task))
                progress.update(len(found) / len(tasks))
            if len(found) == len(tasks):
                return found
            with Workers() as workers:
                return found + _shared(function, tasks[len(found) :], workers.started(), progress)
        return _shared(function, tasks, executor, progress)


def _shared(
    function: Callable[[Task], Result], tasks: Sequence[Task], executor: Executor | None, progress: Progress
) -> list[Result]:
    """The results from other workers; where processes cannot be started, or die, all is done in this one."""
    if executor is not None:
        try:
            return _gathered(function, tasks, executor, progress)
        except BrokenProcessPool:
            pass
    return [function(task) for task in tasks]


@contextmanager
def processes(number: int | None) -> Iterator[None]:
    """Let work inside be shared among a number of processes; 1 for none but this one, None for what pays.

    Raises
    ------
    InputError
        If the number is none of processes.

    Examples
    --------
    >>> from offing.base.parallel import Workers, processes
    >>> with processes(1):
    ...     Workers().worth(1e6)
    False
    """
    if number is not None and not 1 <= number <= _MOST:
        raise InputError(f"found {number}", f"Give a number from 1 to {_MOST}.", key="workers")
    token = _REQUESTED.set(number)
    try:
        yield
    finally:
        _REQUESTED.reset(token)


class Workers:
    """An executor that was given, or processes of our own that are started when it pays, and ended with the block.

    Examples
    --------
    >>> from offing.base.parallel import Workers
    >>> with Workers() as workers:
    ...     print(workers.executor)
    None
    """

    def __init__(self, given: Executor | None = None) -> None:
        self.executor = given
        self._own: ProcessPoolExecutor | None = None
        self._settings: dict[str, str | None] = {}
        self._refused = False

    def started(self, needs: str = "") -> Executor | None:
        """The executor; processes are started if there is none, and load the module that their tasks will need.

        None where none can be started.
        """
        if self.executor is None:
            # Each process has one processor: threads of its own would wait for those of the others.
            self._settings = {name: os.environ.get(name) for name in _THREADS}
            os.environ.update(dict.fromkeys([name for name in _THREADS if name not in os.environ], "1"))
            self._own = ProcessPoolExecutor(_processes(), get_context("spawn"), initializer=_uninterrupted)
            try:
                list(self._own.map(_loaded, [needs] * _processes()))
            except BrokenProcessPool:
                self._refused = True
                return None
            self.executor = self._own
        return self.executor

    def worth(self, seconds: float) -> bool:
        """Whether it pays to start processes for so much work, and can be done safely."""
        least = WORTH if _REQUESTED.get() is None else _WORTH_REQUESTED
        return self.executor is None and not self._refused and seconds > least and _processes() > 1

    def __enter__(self) -> Workers:
        return self

    def __exit__(self, *_: object) -> None:
        if self._own is not None:
            self._own.shutdown(cancel_futures=True)
            for name in [name for name, before in self._settings.items() if before is None]:
                os.environ.pop(name, None)


def _loaded(module: str) -> None:
    """Load a module before the first task, so that no task seems to take longer than it does."""
    if module:
        import_module(module)
    time.sleep(0.02)  # so that each process takes one of these


def _uninterrupted() -> None:
    """Leave an interruption from the keyboard to the process that waits for the results."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)


def _gathered(
    function: Callable[[Task], Result], tasks: Sequence[Task], executor: Executor, progress: Progress
) -> list[Result]:
    coming = [executor.submit(function, task) for task in tasks]
    found: list[Result] = []
    try:
        for each in coming:
            found.append(each.result())
            progress.update(len(found) / len(tasks))
    except KeyboardInterrupt:
        for each in coming:
            each.cancel()
        done = [each.result() if each.done() and not each.cancelled() else None for each in coming]
        raise InterruptedWork(done) from None
    except BaseException:
        for each in coming:
            each.cancel()
        raise
    return found


def _processes() -> int:
    """How many processes may be started: as asked for, the processors of this one, or one without a guard."""
    requested = _REQUESTED.get()
    script = getattr(sys.modules.get("__main__"), "__file__", None)
    if script is not None:
        try:
            guarded = "__main__" in Path(script).read_text(encoding="utf-8", errors="replace")
        except OSError:
            guarded = False
        if not guarded:
            return 1
    if requested is not None:
        return requested
    return len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1
