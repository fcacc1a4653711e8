"""The public names, for type checkers; made from `larkreader.public_names`."""

from .documents.cases import Case as Case
from .documents.cases import cases_of as cases_of
from .documents.frame_tables import write_frames as write_frames
from .documents.junit import write_junit as write_junit
from .documents.reading_document import reading_schema as reading_schema
from .documents.schemas import document_schema as document_schema
from .figures.bursts import draw_bursts as draw_bursts
from .figures.fields import draw_fields as draw_fields
from .figures.fill import draw_fill as draw_fill
from .figures.folded import draw_folded as draw_folded
from .figures.gaps import draw_gaps as draw_gaps
from .figures.layout import draw_layout as draw_layout
from .figures.loopback import draw_latency as draw_latency
from .figures.loopback import draw_matrix as draw_matrix
from .figures.losses import draw_losses as draw_losses
from .figures.margin import draw_margin as draw_margin
from .figures.style import new_figure as new_figure
from .figures.timeline import draw_timeline as draw_timeline
from .figures.waveform import draw_waveform as draw_waveform
from .figures.widths import draw_widths as draw_widths
from .report.page import write_report as write_report
from .text.notation import Notations as Notations
from .text.notation import notations as notations
from .text.notation import visible as visible
