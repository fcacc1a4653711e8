"""Tasks for worker processes that end the process which runs them."""

import os
from pathlib import Path

from larkreader.answers.campaign.run import read_task


def die_at_deadly(job, task):
    """Read a task as usual, but end at once over a file whose name has "deadly" in it."""
    if any("deadly" in Path(path).name for _, path in task.items):
        os._exit(9)
    return read_task(job, task)


def give_up_deadly(job, task):
    """Read a task as usual, but fail over a file whose name has "deadly" in it, as a cluster does that gives it up."""
    if any("deadly" in Path(path).name for _, path in task.items):
        raise RuntimeError("attempted on 4 workers")
    return read_task(job, task)


def die_once(job, task):
    """Read a task as usual, but end over the first file named "once", which is renamed."""
    for _, path in task.items:
        mark = Path(path).with_suffix(".mark")
        if "once" in Path(path).name and not mark.exists():
            mark.touch()
            os._exit(9)
    return read_task(job, task)
