"""The table of all kinds of findings: how bad each is, what it means, what to do."""

from __future__ import annotations

from collections.abc import Mapping

from .character_kinds import CHARACTERS
from .frame_kinds import FRAMES
from .kind import Kind
from .path_kinds import PATHS
from .setting_kinds import SETTINGS
from .setup_kinds import SETUP
from .turn_kinds import TURNS

KINDS: Mapping[str, Kind] = {**CHARACTERS, **FRAMES, **SETTINGS, **SETUP, **PATHS, **TURNS}
