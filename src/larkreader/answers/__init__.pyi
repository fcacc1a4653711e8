"""The public names, for type checkers; made from `larkreader.public_names`."""

from .clock_plan import ClockPlan as ClockPlan
from .clock_plan import plan_clock as plan_clock
from .planning import Plan as Plan
from .planning import plan as plan
from .reading import Reading as Reading
from .reading import read as read
