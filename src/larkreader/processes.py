"""Processes that do a part of the work: how many there may be, how they are begun; none outlives its parent."""

from __future__ import annotations

import os
from collections.abc import Sequence
from typing import TYPE_CHECKING

if TYPE_CHECKING:  # few runs need other processes, and what begins them takes a while to load
    from multiprocessing.context import BaseContext


def cores() -> int:
    """Return how many processors this process may use."""
    if hasattr(os, "sched_getaffinity"):
        return len(os.sched_getaffinity(0))
    return os.cpu_count() or 1


def worker_context(preloaded: Sequence[str]) -> BaseContext:
    """Return what begins processes: not by copying their parent, which may have threads, and open ports and files.

    Parameters
    ----------
    preloaded : sequence of str
        Modules that every process needs.
    """
    import multiprocessing

    if os.name == "nt":
        return multiprocessing.get_context("spawn")
    import signal
    from multiprocessing import forkserver, resource_tracker

    resource_tracker.ensure_running()  # which would end the blocking below
    context = multiprocessing.get_context("forkserver")
    context.set_forkserver_preload(list(preloaded))
    usual = signal.pthread_sigmask(signal.SIG_BLOCK, {signal.SIGINT})  # which it hands down: Ctrl-C is for the parent
    try:
        forkserver.ensure_running()
    finally:
        signal.pthread_sigmask(signal.SIG_SETMASK, usual)
    return context


def begin_worker() -> None:
    """Prepare a process that works: an interrupt is for the process that gives the work, with which it ends."""
    import multiprocessing
    import signal
    import threading
    import time

    signal.signal(signal.SIGINT, signal.SIG_IGN)
    parent = multiprocessing.parent_process()
    if parent is not None:

        def end_with_it() -> None:
            parent.join()
            time.sleep(1.0)  # for a parent that ends in order
            os._exit(1)

        threading.Thread(target=end_with_it, daemon=True).start()
