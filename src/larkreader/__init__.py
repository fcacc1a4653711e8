"""Lark Reader: declare a UART link once, on one sheet; calculate it, read it, judge it and exercise it.

The house, from left to right; each folder uses only those before it::

    errors      every exception                shown  what a notebook asks for
    declare     what the engineer says: line, layout, sheet
    capture     what was measured: traces, characters, files
    decode      from measured to meaning: characters, frames, fields
    judge       is it right, and if not, why: readings and findings
    exercise    make it happen: transmit, ports, loopback
    present     tables and figures            demo   the dosing rig
    cli         the command

The public names stand here and are loaded when first used, so that the command starts fast.
"""

from importlib import import_module
from typing import TYPE_CHECKING, Any

from .shown import show_by

__version__ = "0.1.0"

if TYPE_CHECKING:
    from .capture.characters import Characters as Characters
    from .capture.characters import Fault as Fault
    from .capture.files.csv_characters import write_characters as write_characters
    from .capture.files.csv_levels import write_levels as write_levels
    from .capture.files.open import open_capture as open_capture
    from .capture.files.open import open_pieces as open_pieces
    from .capture.files.open import open_ring as open_ring
    from .capture.files.open import open_trace as open_trace
    from .capture.files.open import open_voltages as open_voltages
    from .capture.files.open import signal_names as signal_names
    from .capture.files.register_dump import read_register_dump as read_register_dump
    from .capture.files.samples import write_samples as write_samples
    from .capture.files.trace_arrays import write_trace_arrays as write_trace_arrays
    from .capture.files.vcd_writer import write_vcd as write_vcd
    from .capture.ragged import Ragged as Ragged
    from .capture.ring import RingMemory as RingMemory
    from .capture.trace import Trace as Trace
    from .capture.voltages import VoltageLevels as VoltageLevels
    from .capture.voltages import Voltages as Voltages
    from .declare.baud_generator import BaudGenerator as BaudGenerator
    from .declare.baud_generator import RegisterWord as RegisterWord
    from .declare.capture_form import CaptureForm as CaptureForm
    from .declare.capture_form import StatusWord as StatusWord
    from .declare.checksum import FrameChecksum as FrameChecksum
    from .declare.clock import Clock as Clock
    from .declare.crc import CrcAlgorithm as CrcAlgorithm
    from .declare.end import End as End
    from .declare.end import Traffic as Traffic
    from .declare.event import EventSignal as EventSignal
    from .declare.exchange import Exchange as Exchange
    from .declare.field_parts import Samples as Samples
    from .declare.fields import FieldGroup as FieldGroup
    from .declare.fields import NamedField as NamedField
    from .declare.fields import ReservedBits as ReservedBits
    from .declare.impairments import Impairments as Impairments
    from .declare.layout import FrameLayout as FrameLayout
    from .declare.line import LineSettings as LineSettings
    from .declare.loopback import Alteration as Alteration
    from .declare.loopback import LoopbackLimits as LoopbackLimits
    from .declare.loopback import LoopbackMatrix as LoopbackMatrix
    from .declare.loopback import LoopbackPlan as LoopbackPlan
    from .declare.pairing import Pairing as Pairing
    from .declare.pairing import WireTiming as WireTiming
    from .declare.receive_path import BlockingApplication as BlockingApplication
    from .declare.receive_path import Deaf as Deaf
    from .declare.receive_path import DmaService as DmaService
    from .declare.receive_path import Fifo as Fifo
    from .declare.receive_path import InterruptService as InterruptService
    from .declare.receive_path import LineApplication as LineApplication
    from .declare.receive_path import Pause as Pause
    from .declare.receive_path import PeriodicApplication as PeriodicApplication
    from .declare.receive_path import PollingService as PollingService
    from .declare.receive_path import ReceivePath as ReceivePath
    from .declare.receive_path import Ring as Ring
    from .declare.receive_path import SoftwareReceiver as SoftwareReceiver
    from .declare.registers import Meaning as Meaning
    from .declare.registers import Meanings as Meanings
    from .declare.registers import Register as Register
    from .declare.schema import sheet_schema as sheet_schema
    from .declare.send_path import Call as Call
    from .declare.send_path import Direction as Direction
    from .declare.send_path import SendPath as SendPath
    from .declare.shape import Shape as Shape
    from .declare.sheet import Sheet as Sheet
    from .declare.sheet import Wire as Wire
    from .declare.sheet_file import open_sheet as open_sheet
    from .declare.sheet_file import parse_sheet as parse_sheet
    from .declare.sheet_text import sheet_text as sheet_text
    from .declare.steps import Rule as Rule
    from .declare.steps import Step as Step
    from .declare.sums import SumAlgorithm as SumAlgorithm
    from .declare.svd import registers_of_svd as registers_of_svd
    from .declare.wiring import Joint as Joint
    from .declare.wiring import Pin as Pin
    from .decode.character_reader import CharacterReader as CharacterReader
    from .decode.escapes import Escape as Escape
    from .decode.escapes import find_escapes as find_escapes
    from .decode.escapes import strip_escapes as strip_escapes
    from .decode.frame_columns import FrameFault as FrameFault
    from .decode.frame_columns import Frames as Frames
    from .decode.frame_columns import Skip as Skip
    from .decode.frame_columns import Spans as Spans
    from .decode.frames import read_frames as read_frames
    from .decode.frames import read_layouts as read_layouts
    from .decode.long_checksum import checksum_of as checksum_of
    from .decode.receive import receive as receive
    from .decode.streaming import FrameReader as FrameReader
    from .decode.streaming import LayoutsReader as LayoutsReader
    from .decode.timeline import Timeline as Timeline
    from .decode.timeline import make_timeline as make_timeline
    from .errors import CaptureError as CaptureError
    from .errors import CaptureFileError as CaptureFileError
    from .errors import LarkReaderError as LarkReaderError
    from .errors import Mistake as Mistake
    from .errors import PortError as PortError
    from .errors import RequestError as RequestError
    from .errors import SheetError as SheetError
    from .exercise.alignment import Alignment as Alignment
    from .exercise.alignment import align as align
    from .exercise.dialogue import DialogueResult as DialogueResult
    from .exercise.dialogue import StepResult as StepResult
    from .exercise.dialogue import run_dialogue as run_dialogue
    from .exercise.loopback import run_both_ways as run_both_ways
    from .exercise.loopback import run_loopback as run_loopback
    from .exercise.loopback_matrix import MatrixResult as MatrixResult
    from .exercise.loopback_matrix import Tolerance as Tolerance
    from .exercise.loopback_matrix import find_tolerance as find_tolerance
    from .exercise.loopback_matrix import run_matrix as run_matrix
    from .exercise.loopback_result import LoopbackResult as LoopbackResult
    from .exercise.patterns import frame_pattern as frame_pattern
    from .exercise.ports.open import open_port as open_port
    from .exercise.ports.port import Port as Port
    from .exercise.ports.port import Received as Received
    from .exercise.ports.simulated import SimulatedPort as SimulatedPort
    from .exercise.ports.simulated import simulated_pair as simulated_pair
    from .exercise.prbs import prbs_bits as prbs_bits
    from .exercise.prbs import prbs_values as prbs_values
    from .exercise.stepping import Stepping as Stepping
    from .exercise.stepping import Trial as Trial
    from .exercise.stepping import probe_flow_control as probe_flow_control
    from .exercise.transmit import transmit as transmit
    from .judge.budget import WireLoad as WireLoad
    from .judge.budget import find_load as find_load
    from .judge.buffers import make_burst as make_burst
    from .judge.buffers import replay as replay
    from .judge.bursts import Bursts as Bursts
    from .judge.bursts import sample_bursts as sample_bursts
    from .judge.byte_survey import ByteDifference as ByteDifference
    from .judge.byte_survey import ByteSurvey as ByteSurvey
    from .judge.byte_survey import compare_bytes as compare_bytes
    from .judge.byte_survey import survey_bytes as survey_bytes
    from .judge.changes import FrameChange as FrameChange
    from .judge.changes import frame_changes as frame_changes
    from .judge.checked import Checked as Checked
    from .judge.checksum_search import ChecksumFit as ChecksumFit
    from .judge.checksum_search import find_checksums as find_checksums
    from .judge.diagnosis import Diagnosis as Diagnosis
    from .judge.diagnosis import diagnose as diagnose
    from .judge.divisors import BaudSetting as BaudSetting
    from .judge.divisors import bauds_hit as bauds_hit
    from .judge.divisors import find_divisors as find_divisors
    from .judge.divisors import read_words as read_words
    from .judge.document import reading_schema as reading_schema
    from .judge.edge_phases import EdgePhases as EdgePhases
    from .judge.edge_phases import edge_phases as edge_phases
    from .judge.ends import compare_ends as compare_ends
    from .judge.events import EventDelays as EventDelays
    from .judge.field_proposal import propose_fields as propose_fields
    from .judge.findings import Finding as Finding
    from .judge.findings import Places as Places
    from .judge.findings import Subject as Subject
    from .judge.gaps import Gaps as Gaps
    from .judge.gaps import find_gaps as find_gaps
    from .judge.garble import Garble as Garble
    from .judge.garble import explain_garble as explain_garble
    from .judge.garble import garble_table as garble_table
    from .judge.levels import LevelSurvey as LevelSurvey
    from .judge.loss_survey import LossSurvey as LossSurvey
    from .judge.loss_survey import survey_losses as survey_losses
    from .judge.margins import Margin as Margin
    from .judge.margins import Timing as Timing
    from .judge.margins import find_margin as find_margin
    from .judge.pairs import Pairs as Pairs
    from .judge.pairs import PairState as PairState
    from .judge.pairs import find_pairs as find_pairs
    from .judge.path_limits import PathLimits as PathLimits
    from .judge.path_limits import find_limits as find_limits
    from .judge.path_report import PathReport as PathReport
    from .judge.path_report import judge_receive_path as judge_receive_path
    from .judge.plan import Plan as Plan
    from .judge.plan import plan as plan
    from .judge.proposal import ProposedLayout as ProposedLayout
    from .judge.proposal import propose_layout as propose_layout
    from .judge.reading import Reading as Reading
    from .judge.reading import read as read
    from .judge.registers import ImpliedSettings as ImpliedSettings
    from .judge.registers import read_registers as read_registers
    from .judge.replayed import Fate as Fate
    from .judge.replayed import Reads as Reads
    from .judge.replayed import Replay as Replay
    from .judge.send_path import SendFate as SendFate
    from .judge.send_path import SendReplay as SendReplay
    from .judge.send_path import judge_send_path as judge_send_path
    from .judge.send_path import replay_send as replay_send
    from .judge.setup_steps import judge_steps as judge_steps
    from .judge.software_receiver import Heard as Heard
    from .judge.software_receiver import compare_heard as compare_heard
    from .judge.software_receiver import hear as hear
    from .judge.software_receiver import trace_of as trace_of
    from .judge.statistics import FieldStatistics as FieldStatistics
    from .judge.statistics import FrameStatistics as FrameStatistics
    from .judge.statistics import frame_statistics as frame_statistics
    from .judge.survey import Survey as Survey
    from .judge.survey import survey as survey
    from .judge.traffic import traffic_characters as traffic_characters
    from .judge.traffic import traffic_messages as traffic_messages
    from .judge.turns import find_collisions as find_collisions
    from .judge.wiring import judge_wiring as judge_wiring
    from .present.figures.bursts import draw_bursts as draw_bursts
    from .present.figures.fields import draw_fields as draw_fields
    from .present.figures.fill import draw_fill as draw_fill
    from .present.figures.folded import draw_folded as draw_folded
    from .present.figures.gaps import draw_gaps as draw_gaps
    from .present.figures.layout import draw_layout as draw_layout
    from .present.figures.loopback import draw_latency as draw_latency
    from .present.figures.loopback import draw_matrix as draw_matrix
    from .present.figures.losses import draw_losses as draw_losses
    from .present.figures.margin import draw_margin as draw_margin
    from .present.figures.style import new_figure as new_figure
    from .present.figures.timeline import draw_timeline as draw_timeline
    from .present.figures.waveform import draw_waveform as draw_waveform
    from .present.figures.widths import draw_widths as draw_widths
    from .present.notations import Notations as Notations
    from .present.notations import notations as notations
    from .present.notations import visible as visible

_HOMES = {
    "Alignment": "exercise.alignment",
    "Alteration": "declare.loopback",
    "BaudGenerator": "declare.baud_generator",
    "BaudSetting": "judge.divisors",
    "BlockingApplication": "declare.receive_path",
    "Bursts": "judge.bursts",
    "ByteDifference": "judge.byte_survey",
    "ByteSurvey": "judge.byte_survey",
    "Call": "declare.send_path",
    "CaptureError": "errors",
    "CaptureFileError": "errors",
    "CaptureForm": "declare.capture_form",
    "CharacterReader": "decode.character_reader",
    "Characters": "capture.characters",
    "ChecksumFit": "judge.checksum_search",
    "Clock": "declare.clock",
    "CrcAlgorithm": "declare.crc",
    "Deaf": "declare.receive_path",
    "Diagnosis": "judge.diagnosis",
    "DialogueResult": "exercise.dialogue",
    "Direction": "declare.send_path",
    "DmaService": "declare.receive_path",
    "EdgePhases": "judge.edge_phases",
    "End": "declare.end",
    "Escape": "decode.escapes",
    "EventDelays": "judge.events",
    "EventSignal": "declare.event",
    "Exchange": "declare.exchange",
    "Fate": "judge.replayed",
    "Fault": "capture.characters",
    "FieldGroup": "declare.fields",
    "FieldStatistics": "judge.statistics",
    "Fifo": "declare.receive_path",
    "Checked": "judge.checked",
    "Finding": "judge.findings",
    "reading_schema": "judge.document",
    "Places": "judge.findings",
    "Subject": "judge.findings",
    "FrameChange": "judge.changes",
    "FrameChecksum": "declare.checksum",
    "FrameFault": "decode.frame_columns",
    "FrameLayout": "declare.layout",
    "FrameReader": "decode.streaming",
    "FrameStatistics": "judge.statistics",
    "Frames": "decode.frame_columns",
    "Gaps": "judge.gaps",
    "Garble": "judge.garble",
    "Heard": "judge.software_receiver",
    "Impairments": "declare.impairments",
    "ImpliedSettings": "judge.registers",
    "InterruptService": "declare.receive_path",
    "Joint": "declare.wiring",
    "LarkReaderError": "errors",
    "LayoutsReader": "decode.streaming",
    "LevelSurvey": "judge.levels",
    "LineApplication": "declare.receive_path",
    "LineSettings": "declare.line",
    "LoopbackLimits": "declare.loopback",
    "LoopbackMatrix": "declare.loopback",
    "LoopbackPlan": "declare.loopback",
    "LoopbackResult": "exercise.loopback_result",
    "LossSurvey": "judge.loss_survey",
    "Margin": "judge.margins",
    "MatrixResult": "exercise.loopback_matrix",
    "Meaning": "declare.registers",
    "Meanings": "declare.registers",
    "Mistake": "errors",
    "NamedField": "declare.fields",
    "Notations": "present.notations",
    "PairState": "judge.pairs",
    "Pairing": "declare.pairing",
    "Pairs": "judge.pairs",
    "PathLimits": "judge.path_limits",
    "PathReport": "judge.path_report",
    "Pause": "declare.receive_path",
    "PeriodicApplication": "declare.receive_path",
    "Pin": "declare.wiring",
    "Plan": "judge.plan",
    "PollingService": "declare.receive_path",
    "Port": "exercise.ports.port",
    "PortError": "errors",
    "ProposedLayout": "judge.proposal",
    "Ragged": "capture.ragged",
    "Reading": "judge.reading",
    "Reads": "judge.replayed",
    "ReceivePath": "declare.receive_path",
    "Received": "exercise.ports.port",
    "Register": "declare.registers",
    "RegisterWord": "declare.baud_generator",
    "Replay": "judge.replayed",
    "RequestError": "errors",
    "ReservedBits": "declare.fields",
    "Ring": "declare.receive_path",
    "RingMemory": "capture.ring",
    "Rule": "declare.steps",
    "Samples": "declare.field_parts",
    "SendFate": "judge.send_path",
    "SendPath": "declare.send_path",
    "SendReplay": "judge.send_path",
    "Shape": "declare.shape",
    "Sheet": "declare.sheet",
    "SheetError": "errors",
    "SimulatedPort": "exercise.ports.simulated",
    "Skip": "decode.frame_columns",
    "SoftwareReceiver": "declare.receive_path",
    "Spans": "decode.frame_columns",
    "StatusWord": "declare.capture_form",
    "Step": "declare.steps",
    "StepResult": "exercise.dialogue",
    "Stepping": "exercise.stepping",
    "SumAlgorithm": "declare.sums",
    "Survey": "judge.survey",
    "Timeline": "decode.timeline",
    "Timing": "judge.margins",
    "Tolerance": "exercise.loopback_matrix",
    "Trace": "capture.trace",
    "Traffic": "declare.end",
    "Trial": "exercise.stepping",
    "VoltageLevels": "capture.voltages",
    "Voltages": "capture.voltages",
    "Wire": "declare.sheet",
    "WireLoad": "judge.budget",
    "WireTiming": "declare.pairing",
    "align": "exercise.alignment",
    "bauds_hit": "judge.divisors",
    "checksum_of": "decode.long_checksum",
    "compare_bytes": "judge.byte_survey",
    "compare_ends": "judge.ends",
    "compare_heard": "judge.software_receiver",
    "diagnose": "judge.diagnosis",
    "draw_bursts": "present.figures.bursts",
    "draw_fields": "present.figures.fields",
    "draw_fill": "present.figures.fill",
    "draw_folded": "present.figures.folded",
    "draw_gaps": "present.figures.gaps",
    "draw_latency": "present.figures.loopback",
    "draw_layout": "present.figures.layout",
    "draw_losses": "present.figures.losses",
    "draw_margin": "present.figures.margin",
    "draw_matrix": "present.figures.loopback",
    "draw_timeline": "present.figures.timeline",
    "draw_waveform": "present.figures.waveform",
    "draw_widths": "present.figures.widths",
    "edge_phases": "judge.edge_phases",
    "explain_garble": "judge.garble",
    "find_checksums": "judge.checksum_search",
    "find_collisions": "judge.turns",
    "find_divisors": "judge.divisors",
    "find_escapes": "decode.escapes",
    "find_gaps": "judge.gaps",
    "find_limits": "judge.path_limits",
    "find_load": "judge.budget",
    "find_margin": "judge.margins",
    "find_pairs": "judge.pairs",
    "find_tolerance": "exercise.loopback_matrix",
    "frame_changes": "judge.changes",
    "frame_pattern": "exercise.patterns",
    "frame_statistics": "judge.statistics",
    "garble_table": "judge.garble",
    "hear": "judge.software_receiver",
    "judge_receive_path": "judge.path_report",
    "judge_send_path": "judge.send_path",
    "judge_steps": "judge.setup_steps",
    "judge_wiring": "judge.wiring",
    "make_burst": "judge.buffers",
    "make_timeline": "decode.timeline",
    "new_figure": "present.figures.style",
    "notations": "present.notations",
    "open_capture": "capture.files.open",
    "open_pieces": "capture.files.open",
    "open_port": "exercise.ports.open",
    "open_ring": "capture.files.open",
    "open_sheet": "declare.sheet_file",
    "open_trace": "capture.files.open",
    "open_voltages": "capture.files.open",
    "parse_sheet": "declare.sheet_file",
    "plan": "judge.plan",
    "prbs_bits": "exercise.prbs",
    "prbs_values": "exercise.prbs",
    "probe_flow_control": "exercise.stepping",
    "propose_fields": "judge.field_proposal",
    "propose_layout": "judge.proposal",
    "read": "judge.reading",
    "read_frames": "decode.frames",
    "read_layouts": "decode.frames",
    "read_register_dump": "capture.files.register_dump",
    "read_registers": "judge.registers",
    "read_words": "judge.divisors",
    "receive": "decode.receive",
    "registers_of_svd": "declare.svd",
    "replay": "judge.buffers",
    "replay_send": "judge.send_path",
    "run_both_ways": "exercise.loopback",
    "run_dialogue": "exercise.dialogue",
    "run_loopback": "exercise.loopback",
    "run_matrix": "exercise.loopback_matrix",
    "sample_bursts": "judge.bursts",
    "sheet_schema": "declare.schema",
    "sheet_text": "declare.sheet_text",
    "signal_names": "capture.files.open",
    "simulated_pair": "exercise.ports.simulated",
    "strip_escapes": "decode.escapes",
    "survey": "judge.survey",
    "survey_bytes": "judge.byte_survey",
    "survey_losses": "judge.loss_survey",
    "trace_of": "judge.software_receiver",
    "traffic_characters": "judge.traffic",
    "traffic_messages": "judge.traffic",
    "transmit": "exercise.transmit",
    "visible": "present.notations",
    "write_characters": "capture.files.csv_characters",
    "write_levels": "capture.files.csv_levels",
    "write_samples": "capture.files.samples",
    "write_trace_arrays": "capture.files.trace_arrays",
    "write_vcd": "capture.files.vcd_writer",
}

__all__ = [
    "Alignment",
    "Alteration",
    "BaudGenerator",
    "BaudSetting",
    "BlockingApplication",
    "Bursts",
    "ByteDifference",
    "ByteSurvey",
    "Call",
    "CaptureError",
    "CaptureFileError",
    "CaptureForm",
    "CharacterReader",
    "Characters",
    "Checked",
    "ChecksumFit",
    "Clock",
    "CrcAlgorithm",
    "Deaf",
    "Diagnosis",
    "DialogueResult",
    "Direction",
    "DmaService",
    "EdgePhases",
    "End",
    "Escape",
    "EventDelays",
    "EventSignal",
    "Exchange",
    "Fate",
    "Fault",
    "FieldGroup",
    "FieldStatistics",
    "Fifo",
    "Finding",
    "FrameChange",
    "FrameChecksum",
    "FrameFault",
    "FrameLayout",
    "FrameReader",
    "FrameStatistics",
    "Frames",
    "Gaps",
    "Garble",
    "Heard",
    "Impairments",
    "ImpliedSettings",
    "InterruptService",
    "Joint",
    "LarkReaderError",
    "LayoutsReader",
    "LevelSurvey",
    "LineApplication",
    "LineSettings",
    "LoopbackLimits",
    "LoopbackMatrix",
    "LoopbackPlan",
    "LoopbackResult",
    "LossSurvey",
    "Margin",
    "MatrixResult",
    "Meaning",
    "Meanings",
    "Mistake",
    "NamedField",
    "Notations",
    "PairState",
    "Pairing",
    "Pairs",
    "PathLimits",
    "PathReport",
    "Pause",
    "PeriodicApplication",
    "Pin",
    "Places",
    "Plan",
    "PollingService",
    "Port",
    "PortError",
    "ProposedLayout",
    "Ragged",
    "Reading",
    "Reads",
    "ReceivePath",
    "Received",
    "Register",
    "RegisterWord",
    "Replay",
    "RequestError",
    "ReservedBits",
    "Ring",
    "RingMemory",
    "Rule",
    "Samples",
    "SendFate",
    "SendPath",
    "SendReplay",
    "Shape",
    "Sheet",
    "SheetError",
    "SimulatedPort",
    "Skip",
    "SoftwareReceiver",
    "Spans",
    "StatusWord",
    "Step",
    "StepResult",
    "Stepping",
    "Subject",
    "SumAlgorithm",
    "Survey",
    "Timeline",
    "Timing",
    "Tolerance",
    "Trace",
    "Traffic",
    "Trial",
    "VoltageLevels",
    "Voltages",
    "Wire",
    "WireLoad",
    "WireTiming",
    "align",
    "bauds_hit",
    "checksum_of",
    "compare_bytes",
    "compare_ends",
    "compare_heard",
    "diagnose",
    "draw_bursts",
    "draw_fields",
    "draw_fill",
    "draw_folded",
    "draw_gaps",
    "draw_latency",
    "draw_layout",
    "draw_losses",
    "draw_margin",
    "draw_matrix",
    "draw_timeline",
    "draw_waveform",
    "draw_widths",
    "edge_phases",
    "explain_garble",
    "find_checksums",
    "find_collisions",
    "find_divisors",
    "find_escapes",
    "find_gaps",
    "find_limits",
    "find_load",
    "find_margin",
    "find_pairs",
    "find_tolerance",
    "frame_changes",
    "frame_pattern",
    "frame_statistics",
    "garble_table",
    "hear",
    "judge_receive_path",
    "judge_send_path",
    "judge_steps",
    "judge_wiring",
    "make_burst",
    "make_timeline",
    "new_figure",
    "notations",
    "open_capture",
    "open_pieces",
    "open_port",
    "open_ring",
    "open_sheet",
    "open_trace",
    "open_voltages",
    "parse_sheet",
    "plan",
    "prbs_bits",
    "prbs_values",
    "probe_flow_control",
    "propose_fields",
    "propose_layout",
    "read",
    "read_frames",
    "read_layouts",
    "read_register_dump",
    "read_registers",
    "read_words",
    "reading_schema",
    "receive",
    "registers_of_svd",
    "replay",
    "replay_send",
    "run_both_ways",
    "run_dialogue",
    "run_loopback",
    "run_matrix",
    "sample_bursts",
    "sheet_schema",
    "sheet_text",
    "signal_names",
    "simulated_pair",
    "strip_escapes",
    "survey",
    "survey_bytes",
    "survey_losses",
    "trace_of",
    "traffic_characters",
    "traffic_messages",
    "transmit",
    "visible",
    "write_characters",
    "write_levels",
    "write_samples",
    "write_trace_arrays",
    "write_vcd",
]


def __getattr__(name: str) -> Any:
    if name not in _HOMES:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    value = getattr(import_module(f".{_HOMES[name]}", __name__), name)
    globals()[name] = value
    return value


def __dir__() -> list[str]:
    return sorted([*globals(), *_HOMES])


def _html_of(shown: Any) -> str:
    made: str = import_module(".present.notebook", __name__).html_of(shown)
    return made


show_by(_html_of)
