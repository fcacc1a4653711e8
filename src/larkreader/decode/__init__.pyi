"""The public names, for type checkers; made from `larkreader.public_names`."""

from .characters.character_reader import CharacterReader as CharacterReader
from .characters.escapes import Escape as Escape
from .characters.escapes import find_escapes as find_escapes
from .characters.escapes import strip_escapes as strip_escapes
from .characters.receive import receive as receive
from .check.long_checksum import calculate_checksum as calculate_checksum
from .columns.frame_columns import FrameFault as FrameFault
from .columns.frame_columns import Frames as Frames
from .columns.frame_columns import Skip as Skip
from .columns.frame_columns import Spans as Spans
from .cut.frames import read_frames as read_frames
from .cut.frames import read_layouts as read_layouts
from .cut.streaming import FrameReader as FrameReader
from .cut.streaming import LayoutsReader as LayoutsReader
from .timeline import Timeline as Timeline
from .timeline import make_timeline as make_timeline
