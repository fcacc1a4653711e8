"""The public names, for type checkers; made from `larkreader.public_names`."""

from .clock_plan import ClockPlan as ClockPlan
from .clock_plan import plan_clock as plan_clock
from .diagnosis import CaptureDiagnosis as CaptureDiagnosis
from .diagnosis import GarbledWire as GarbledWire
from .diagnosis import diagnose_capture as diagnose_capture
from .generator_plan import GeneratorChoice as GeneratorChoice
from .generator_plan import GeneratorPlan as GeneratorPlan
from .generator_plan import plan_generators as plan_generators
from .live_reading import LiveReading as LiveReading
from .live_reading import Passed as Passed
from .planning import Plan as Plan
from .planning import plan as plan
from .proposed_sheet import LineSheet as LineSheet
from .proposed_sheet import ProposedSheet as ProposedSheet
from .proposed_sheet import propose_sheet as propose_sheet
from .proposed_sheet import sheet_of_line as sheet_of_line
from .reading import Reading as Reading
from .reading import read as read
from .summed_reading import SummedReading as SummedReading
from .summed_reading import judge_capture as judge_capture
