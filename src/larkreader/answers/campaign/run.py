"""Reading many captures with the processes of this machine, or with any executor."""

from __future__ import annotations

import os
import pickle
from collections import deque
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import FIRST_COMPLETED, BrokenExecutor, Executor, Future, ProcessPoolExecutor, wait
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

from larkreader.declare.document.sheet import Sheet
from larkreader.errors import RequestError
from larkreader.processes import begin_worker, cores, worker_context

from .summary import CaptureRows, HowToRead, not_read, summarize

TOGETHER = 50  # captures that a task reads at most
TOGETHER_BYTES = 4 << 20  # of their files, from which on a task takes no more
LITTLE, LITTLE_BYTES = 150, 8 << 20  # captures, and bytes of them, that this process reads itself
AHEAD = 4  # tasks for each worker that wait or are under way
ALONE_TRIES = 2  # times that a capture may end the process that reads it

Progress = Callable[[int, int], None]


@dataclass(frozen=True)
class Task:
    """Captures that are read together: their numbers and files.

    Parameters
    ----------
    items : tuple of (int, str)
        Number and file of each.
    """

    items: tuple[tuple[int, str], ...]


def read_task(job: bytes, task: Task) -> list[CaptureRows]:
    """Read the captures of a task; what a worker runs.

    Parameters
    ----------
    job : bytes
        Sheet and `HowToRead`, pickled.
    task : Task
        What to read.
    """
    sheet, how = _job(job)
    return [summarize(sheet, number, path, how) for number, path in task.items]


@lru_cache(maxsize=4)
def _job(job: bytes) -> tuple[Sheet, HowToRead]:
    result: tuple[Sheet, HowToRead] = pickle.loads(job)  # made by the process that gives the task
    return result


def read_all(
    sheet: Sheet,
    how: HowToRead,
    items: Sequence[tuple[int, str]],
    *,
    executor: Executor | None = None,
    workers: int | None = None,
    progress: Progress | None = None,
) -> Iterator[list[CaptureRows]]:
    """Yield what is kept of captures, some at a time, as they are done.

    Parameters
    ----------
    sheet : Sheet
        What was declared.
    how : HowToRead
        What the files do not say of themselves.
    items : sequence of (int, str)
        Number and file of each capture.
    executor : concurrent.futures.Executor, optional
        What runs tasks; processes of this machine unless given.
    workers : int, optional
        How many processes; as many as the machine has cores by default. 1 reads in this process.
    progress : callable, optional
        Called with how many captures are read, and how many there are.

    Raises
    ------
    RequestError
        If the executor that was given ends before all is read.
    """
    job, done = pickle.dumps((sheet, how)), 0
    workers = workers or cores()
    if executor is None and (workers == 1 or _is_little(items)):
        results: Iterable[list[CaptureRows]] = (read_task(job, Task((item,))) for item in items)
    elif executor is None:
        results = _in_processes(job, items, workers)
    else:
        results = _on_executor(executor, job, deque(tasks_of(items, _workers_of(executor))))
    for result in results:
        done += len(result)
        if progress is not None:
            progress(done, len(items))
        yield result


def _is_little(items: Sequence[tuple[int, str]]) -> bool:
    """Return whether captures are read before processes would have begun."""
    return len(items) <= LITTLE and sum(_size_of(path) for _, path in items) <= LITTLE_BYTES


def tasks_of(items: Sequence[tuple[int, str]], workers: int) -> Iterator[Task]:
    """Yield tasks for captures: several small files together, but enough tasks for every worker."""
    most = max(1, min(TOGETHER, len(items) // (workers * AHEAD)))
    together: list[tuple[int, str]] = []
    size = 0
    for number, path in items:
        together.append((number, path))
        size += _size_of(path)
        if len(together) >= most or size >= TOGETHER_BYTES:
            yield Task(tuple(together))
            together, size = [], 0
    if together:
        yield Task(tuple(together))


def _size_of(path: str) -> int:
    try:
        return Path(path).stat().st_size
    except OSError:
        return 0


def _workers_of(executor: Executor) -> int:
    """Return how many tasks an executor runs at once, as far as it shows."""
    return int(getattr(executor, "_max_workers", None) or os.cpu_count() or 1)


def _on_executor(executor: Executor, job: bytes, waiting: deque[Task]) -> Iterator[list[CaptureRows]]:
    """Yield the results of tasks that an executor runs; tasks that wait are not submitted all at once."""
    running: dict[Future[list[CaptureRows]], Task] = {}
    most = AHEAD * _workers_of(executor)
    try:
        while waiting or running:
            while waiting and len(running) < most:
                task = waiting.popleft()
                running[executor.submit(read_task, job, task)] = task
            for future in wait(running, return_when=FIRST_COMPLETED).done:
                task = running.pop(future)
                try:
                    result = future.result()
                except BrokenExecutor:
                    raise
                except Exception as error:  # as where a cluster has given a task up after several of its workers ended
                    if len(task.items) > 1:
                        waiting.extend(Task((item,)) for item in task.items)
                        continue
                    why = f"what runs the reading gave it up: {error}"
                    result = [not_read(*task.items[0], why, type(error).__name__)]
                yield result
    except BrokenExecutor as error:
        raise RequestError(
            "executor", f"ended before all captures were read: {error}", "", "Read the rest again"
        ) from (error)
    finally:
        for future in running:
            future.cancel()


class _Processes:
    """Processes of this machine, which are begun again when one of them ends."""

    def __init__(self, job: bytes, workers: int) -> None:
        self._job, self._workers = job, workers
        self._pool: ProcessPoolExecutor | None = None
        self._running: dict[Future[list[CaptureRows]], Task] = {}

    def results(self, waiting: deque[Task], suspects: deque[Task]) -> Iterator[list[CaptureRows]]:
        """Yield results; tasks that were under way when a process ended are put into `suspects`."""
        most = AHEAD * self._workers
        while waiting or self._running:
            try:
                while waiting and len(self._running) < most:
                    self._submit(waiting[0])
                    waiting.popleft()
            except BrokenExecutor:
                if not self._running:  # a process ended that had nothing to do
                    self.end()
                    continue
            for future in wait(self._running, return_when=FIRST_COMPLETED).done:
                task = self._running.pop(future)
                try:
                    result = future.result()
                except BrokenExecutor:
                    suspects.append(task)
                    continue
                yield result
            if suspects and not self._running:
                self.end()
                return

    def alone(self, item: tuple[int, str]) -> list[CaptureRows]:
        """Read a capture while nothing else is read; return a row with an error if its process ends each time."""
        for _ in range(ALONE_TRIES):
            try:
                return self._pooled().submit(read_task, self._job, Task((item,))).result()
            except BrokenExecutor:
                self.end()
        error = "the process that read it was ended, twice: by the system for want of memory, or from outside"
        return [not_read(*item, error, "WorkerEnded")]

    def _submit(self, task: Task) -> None:
        self._running[self._pooled().submit(read_task, self._job, task)] = task

    def _pooled(self) -> ProcessPoolExecutor:
        if self._pool is None:
            context = worker_context([__name__])
            self._pool = ProcessPoolExecutor(self._workers, mp_context=context, initializer=begin_worker)
        return self._pool

    def end(self, *, at_once: bool = False) -> None:
        """End the processes: when they have read what is under way, or at once."""
        if self._pool is not None:
            if at_once:
                _terminate(self._pool)
            self._pool.shutdown(wait=True, cancel_futures=True)
            self._pool = None
        self._running.clear()


def _terminate(pool: ProcessPoolExecutor) -> None:
    """End the processes of a pool, whatever they are doing.

    One that ends while it hands over a result leaves half of it in the pipe. The pool would wait for the rest for
    ever, as it holds that end of the pipe open itself, which is therefore closed.
    """
    for process in list((getattr(pool, "_processes", None) or {}).values()):
        process.terminate()
    writer = getattr(getattr(pool, "_result_queue", None), "_writer", None)
    if writer is not None:
        writer.close()


def _in_processes(job: bytes, items: Sequence[tuple[int, str]], workers: int) -> Iterator[list[CaptureRows]]:
    """Yield the results of processes of this machine.

    When a process ends, it is not known which of the tasks under way ended it: each of their captures is read again,
    alone, and what ends its process then as well is a row with an error.
    """
    waiting, suspects = deque(tasks_of(items, workers)), deque[Task]()
    processes = _Processes(job, workers)
    try:
        while waiting or suspects:
            yield from processes.results(waiting, suspects)
            while suspects:
                for item in suspects.popleft().items:
                    yield processes.alone(item)
    except BaseException:
        processes.end(at_once=True)  # what is under way may take minutes, and is not wanted any more
        raise
    processes.end()
