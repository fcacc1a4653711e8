"""The public names: those at the root, and those of each stage, by the module that each is loaded from.

From these tables come the lazy loading of `larkreader` and of its stages, their ``__all__`` and ``dir()``, and their
stubs for type checkers, which ``python tools/write_stubs.py`` writes.
"""

from __future__ import annotations

import sys
from collections.abc import Callable, Mapping
from importlib import import_module
from typing import Any

ROOT = (
    "LarkReaderError SheetError CaptureError PortError RequestError "
    "Sheet LineSettings Clock BaudGenerator FrameLayout ReceivePath SendPath Impairments LoopbackPlan "
    "LoopbackMatrix "
    "Exchange CaptureForm open_sheet parse_sheet sheet_schema starter_sheet "
    "Trace Characters Fault open_capture open_trace open_voltages write_vcd "
    "receive CharacterReader Frames FrameFault FrameReader read_frames read_layouts calculate_checksum "
    "replay find_limits "
    "Finding PairState find_divisors calculate_bauds calculate_margin calculate_load read_registers measure_wire "
    "find_garble "
    "propose_layout find_checksums measure_bytes measure_frames "
    "open_port Port SimulatedPort Device run_loopback run_both_ways run_matrix find_tolerance run_dialogue transmit "
    "LoopbackResult "
    "read Reading LiveReading read_many Campaign plan Plan diagnose Diagnosis "
    "draw_timeline draw_fields new_figure emit_c write_c write_report write_frames write_junit notations "
)
STAGES: Mapping[str, Mapping[str, str]] = {
    "declare": {
        "checks.checksum": "FrameChecksum",
        "checks.crc": "CrcAlgorithm",
        "checks.sums": "SumAlgorithm",
        "document.schema": "sheet_schema",
        "document.sheet": "Sheet",
        "document.sheet_file": "open_sheet parse_sheet",
        "document.wire": "Wire",
        "document.sheet_text": "sheet_text",
        "document.starter": "StarterWire starter_sheet",
        "frame.content_boundary": "FixedBoundary LengthBoundary MarkerBoundary",
        "frame.boundary": (
            "AddressMarkBoundary BreakBoundary CobsBoundary EscapeBoundary HdlcBoundary IdleBoundary SlipBoundary "
            "TerminatorBoundary"
        ),
        "frame.field_parts": "Samples",
        "frame.fields": "FieldGroup NamedField ReservedBits",
        "frame.layout": "FrameLayout",
        "frame.shape": "Shape",
        "link.baud_generator": "BaudGenerator RegisterWord",
        "link.clock": "Clock",
        "link.end": "End Traffic",
        "link.event": "EventSignal",
        "link.line": "LineSettings",
        "link.registers": "Meaning Meanings Register",
        "link.steps": "Rule Step",
        "link.svd": "read_svd",
        "link.wiring": "Connection Pin",
        "paths.impairments": "Impairments",
        "paths.receive_path": (
            "BlockingApplication ServiceBlackout LineApplication Pause PeriodicApplication ReceivePath Ring"
        ),
        "paths.receive_services": "DmaService Fifo InterruptService PollingService SoftwareReceiver",
        "paths.send_path": "Call Direction SendPath",
        "run.capture_form": "CaptureForm StatusWord",
        "run.exchange": "Exchange",
        "run.loopback": "Alteration LoopbackLimits LoopbackMatrix LoopbackPlan",
        "run.pairing": "Pairing WireTiming",
        "run.policy": "KnownFinding Policy",
    },
    "capture": {
        "characters": "Characters Fault",
        "files.capture_file": "CaptureFile",
        "files.csv_characters": "write_characters",
        "files.first_part": "FirstPart",
        "files.csv_levels": "write_levels",
        "files.open": "open_capture open_pieces open_trace open_voltages signal_names",
        "files.register_dump": "read_register_dump",
        "files.ring_file": "open_ring",
        "files.samples": "write_samples",
        "files.trace_arrays": "write_trace_arrays",
        "files.vcd_writer": "write_vcd",
        "ragged": "Ragged",
        "ring": "RingMemory",
        "trace": "Trace",
        "voltages": "VoltageLevels Voltages",
    },
    "decode": {
        "characters.character_reader": "CharacterReader",
        "characters.escapes": "Escape find_escapes strip_escapes",
        "characters.receive": "receive",
        "check.long_checksum": "calculate_checksum",
        "columns.frame_columns": "FrameFault Frames Skip Spans",
        "cut.frames": "read_frames read_layouts",
        "cut.streaming": "FrameReader LayoutsReader",
        "timeline": "Timeline make_timeline",
    },
    "simulate": {
        "buffers": "make_burst replay",
        "loss_survey": "LossSurvey calculate_losses",
        "path_limits": "PathLimits find_limits",
        "receive_run": "ReceiveRun",
        "replay_sum": "ReplaySum",
        "replayed": "Fate Reads Replay ReplayCounts",
        "send_path": "SendFate SendReplay replay_send",
        "software_receiver": "SoftwareReception compare_reception receive_in_software trace_of",
        "traffic": "traffic_characters traffic_messages",
    },
    "judge": {
        "verdict.counts": "FrameCounts PairCounts WireCounts",
        "calculate.baud_setting": "BaudSetting",
        "calculate.budget": "WireLoad calculate_load",
        "calculate.divisors": "calculate_bauds calculate_setting find_divisors",
        "calculate.margins": "Margin Timing calculate_margin",
        "findings.finding": "Finding Places Subject",
        "infer.checksum_search": "ChecksumFit find_checksums",
        "infer.field_proposal": "propose_fields",
        "infer.garble": "Garble calculate_garbles find_garble",
        "infer.level_widths": "LevelWidths measure_widths",
        "infer.proposal": "ProposedLayout propose_layout",
        "infer.survey": "Survey measure_wire",
        "campaign.trends": "Crossing Trend fit_trend",
        "live.examples": "FrameExample FrameExamples",
        "measure.bursts": "Bursts read_bursts",
        "measure.byte_survey": "ByteDifference ByteSurvey compare_bytes measure_bytes",
        "measure.changes": "FrameChange find_changes",
        "measure.clock": "MeasuredClock measure_clock",
        "measure.edge_phases": "EdgePhases measure_edge_phases",
        "measure.events": "EventDelays",
        "measure.gaps": "Gaps measure_gaps",
        "measure.levels": "LevelSurvey",
        "measure.pair_columns": "PairTimes PairState Pairs",
        "measure.pairs": "find_pairs",
        "measure.statistics": "FieldStatistics FrameStatistics measure_frames",
        "setup.ends": "judge_ends",
        "setup.path_report": "PathReport PathSum judge_receive_path",
        "setup.registers": "ImpliedSettings read_registers",
        "setup.send_findings": "judge_send_path",
        "setup.setup_steps": "judge_steps",
        "setup.wiring": "judge_wiring",
        "verdict.checked": "Checked",
        "verdict.diagnosis": "Diagnosis diagnose",
        "wire.turns": "find_collisions",
    },
    "exercise": {
        "loopback.alignment": "Alignment align",
        "devices.device": "AlteredEcho Device LineAnswerer LossyEcho NoisyEcho",
        "loopback.torture": "TortureResult TortureRow run_torture",
        "talk.dialogue": "DialogueResult StepResult run_dialogue",
        "loopback.run": "run_both_ways run_loopback",
        "loopback.matrix": "MatrixResult Tolerance find_tolerance run_matrix",
        "loopback.result": "LoopbackResult",
        "payload.patterns": "frame_pattern",
        "ports.listing": "PortEntry find_ports",
        "ports.open": "open_port",
        "ports.port": "Port Received",
        "ports.simulated": "SimulatedPort simulated_pair",
        "payload.prbs": "prbs_bits prbs_values",
        "talk.stepping": "Stepping Trial probe_flow_control",
        "line.transmission": "transmit",
    },
    "answers": {
        "campaign.campaign": "Campaign",
        "campaign.campaign_tables": "CampaignTables",
        "campaign.comparisons": "Change Concentration",
        "campaign.members": "CaptureFileOf find_captures",
        "campaign.movements": "MeasuredTrend OddCaptures",
        "campaign.policing": "Outcome PolicyResult Reason apply_policy",
        "campaign.reading_many": "read_many",
        "campaign.summary": "CaptureRows",
        "campaign.store": "ParquetStore SqliteStore Store open_store",
        "clock_plan": "ClockPlan plan_clock",
        "diagnosis": "CaptureDiagnosis GarbledWire diagnose_capture",
        "c_header.contents": "CHeader outer_structs",
        "c_header.header": "read_header",
        "c_header.targets": "Target",
        "firmware.c_source": "emit_c",
        "firmware.written": "write_c",
        "generator_plan": "GeneratorChoice GeneratorPlan plan_generators",
        "layout_check.compared": "ComparedField Difference LayoutComparison",
        "layout_check.comparison": "check_layout check_layouts",
        "layout_check.starter_layout": "layout_of_struct layouts_of_structs",
        "live_reading": "LiveReading",
        "planning": "Plan plan",
        "proposed_sheet": "LineSheet ProposedSheet propose_sheet sheet_of_line",
        "reading": "Reading read",
        "summed_reading": "SummedReading judge_capture read_first_part",
        "timeline_part": "Passed TimelinePart",
    },
    "present": {
        "documents.cases": "Case cases_of",
        "documents.schemas": "document_schema",
        "figures.bursts": "draw_bursts draw_envelope",
        "figures.campaign": "draw_kinds draw_trend",
        "figures.fields": "draw_fields",
        "figures.fill": "draw_fill",
        "figures.folded": "draw_folded",
        "figures.gaps": "draw_gaps",
        "figures.layout": "draw_layout",
        "figures.live": "LatestFrames draw_latest draw_live",
        "figures.loopback": "draw_latency draw_matrix",
        "figures.losses": "draw_losses",
        "figures.margin": "draw_margin",
        "figures.style": "new_figure",
        "figures.timeline": "draw_timeline",
        "figures.waveform": "draw_waveform",
        "figures.widths": "draw_widths",
        "documents.junit": "write_junit",
        "text.notation": "Notations notations visible",
        "documents.reading_document": "reading_schema",
        "report.page": "write_report",
        "documents.frame_tables": "write_frames",
    },
}
ERRORS = "CaptureError CaptureFileError HeaderError LarkReaderError Mistake PortError RequestError SheetError"


def homes_of(stage: str) -> dict[str, str]:
    """Return where the public names of a stage live, as modules seen from it."""
    return {name: module for module, names in STAGES[stage].items() for name in names.split()}


def root_homes() -> dict[str, str]:
    """Return where the names at the root live, as modules seen from it."""
    every = {name: f"{stage}.{module}" for stage in STAGES for name, module in homes_of(stage).items()}
    every |= dict.fromkeys(ERRORS.split(), "errors")
    return {name: every[name] for name in ROOT.split()}


def paths() -> dict[str, str]:
    """Return how each public name is written after ``larkreader.``: alone, or behind its stage."""
    every = {name: f"{stage}.{name}" for stage in STAGES for name in homes_of(stage)}
    every |= {name: f"errors.{name}" for name in ERRORS.split()}
    return every | {name: name for name in root_homes()}


def lazy(package: str) -> tuple[list[str], Callable[[str], Any], Callable[[], list[str]]]:
    """Make ``__all__``, ``__getattr__`` and ``__dir__`` of a package whose names are loaded when they are first used.

    Parameters
    ----------
    package : str
        ``larkreader``, or one of its stages.

    Returns
    -------
    tuple
        List of names, and two functions.
    """
    stage = package.partition(".")[2]
    homes = homes_of(stage) if stage else root_homes()
    packages = () if stage else (*STAGES, "errors")

    def load(name: str) -> Any:
        if name in homes:
            value = getattr(import_module(f"{package}.{homes[name]}"), name)
        elif name in packages:
            return import_module(f"{package}.{name}")
        else:
            raise AttributeError(f"module {package!r} has no attribute {name!r}")
        setattr(sys.modules[package], name, value)
        return value

    def names() -> list[str]:
        own = [name for name in vars(sys.modules[package]) if name.startswith("__")]
        return sorted({*own, *homes, *packages})

    return sorted(homes), load, names
