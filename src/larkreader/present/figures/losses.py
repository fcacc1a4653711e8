"""Characters lost against the size of the ring and the time of service: a table of numbers, the darker the worse."""

from __future__ import annotations

from typing import TYPE_CHECKING

from larkreader.declare.paths.receive_services import PollingService
from larkreader.judge.findings.wording import duration
from larkreader.simulate.loss_survey import LossSurvey

from .style import INK, PALE, finish, new_axes

if TYPE_CHECKING:
    from matplotlib.axes import Axes

DARKEST = 0.55  # of black, where all is lost


def draw_losses(survey: LossSurvey, *, ax: Axes | None = None) -> Axes:
    """Draw how many characters are lost with each ring and each time of service.

    Parameters
    ----------
    survey : LossSurvey
        As of `calculate_losses`.
    ax : matplotlib.axes.Axes, optional
        Where to draw; a figure of its own unless given.

    Returns
    -------
    matplotlib.axes.Axes
        The cell of what is declared has a thick border.
    """
    from matplotlib.patches import Rectangle

    axes = new_axes(ax)
    service, ring = survey.path.service, survey.path.ring
    declared_s = service.every_s if isinstance(service, PollingService) else getattr(service, "latency_s", 0.0)
    for row, time_s in enumerate(survey.times_s.tolist()):
        for column, size in enumerate(survey.rings.tolist()):
            lost = int(survey.lost[row, column])
            grey = str(1 - DARKEST * (lost / max(survey.total, 1)) ** 0.5) if lost else "white"
            axes.add_patch(Rectangle((column, row), 1, 1, facecolor=grey, edgecolor=PALE, linewidth=1))
            axes.text(column + 0.5, row + 0.5, f"{lost:,}" if lost else "none", ha="center", va="center",
                      fontsize=10, color=INK, fontweight="normal" if lost else "bold")  # fmt: skip
            if ring is not None and size == ring.size and time_s == declared_s:
                border = Rectangle((column, row), 1, 1, fill=False, edgecolor=INK, linewidth=2.5, zorder=3)
                axes.add_patch(border)
    axes.set_xlim(0, len(survey.rings))
    axes.set_ylim(0, len(survey.times_s))
    axes.set_xticks([place + 0.5 for place in range(len(survey.rings))], [f"{size:,}" for size in survey.rings])
    axes.set_yticks(
        [place + 0.5 for place in range(len(survey.times_s))], [duration(times_) for times_ in survey.times_s]
    )
    axes.tick_params(length=0)
    axes.set_xlabel("ring size, characters")
    axes.set_ylabel("looks every" if survey.slowest == "every_s" else "latency of the service")
    title = f"{survey.path.key}: lost of {survey.total:,} characters; thick border: as declared"
    finish(axes, title, sides=())
    return axes
