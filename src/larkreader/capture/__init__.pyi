"""The public names, for type checkers; made from `larkreader.public_names`."""

from .characters import Characters as Characters
from .characters import Fault as Fault
from .files.capture_file import CaptureFile as CaptureFile
from .files.csv_characters import write_characters as write_characters
from .files.csv_levels import write_levels as write_levels
from .files.first_part import FirstPart as FirstPart
from .files.open import open_capture as open_capture
from .files.open import open_pieces as open_pieces
from .files.open import open_trace as open_trace
from .files.open import open_voltages as open_voltages
from .files.open import signal_names as signal_names
from .files.register_dump import read_register_dump as read_register_dump
from .files.ring_file import open_ring as open_ring
from .files.samples import write_samples as write_samples
from .files.trace_arrays import write_trace_arrays as write_trace_arrays
from .files.vcd_writer import write_vcd as write_vcd
from .ragged import Ragged as Ragged
from .ring import RingMemory as RingMemory
from .trace import Trace as Trace
from .voltages import VoltageLevels as VoltageLevels
from .voltages import Voltages as Voltages
