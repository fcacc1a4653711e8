"""The public names, for type checkers; made from `larkreader.public_names`."""

from .buffers import make_burst as make_burst
from .buffers import replay as replay
from .loss_survey import LossSurvey as LossSurvey
from .loss_survey import calculate_losses as calculate_losses
from .path_limits import PathLimits as PathLimits
from .path_limits import find_limits as find_limits
from .receive_run import ReceiveRun as ReceiveRun
from .replay_sum import ReplaySum as ReplaySum
from .replayed import Fate as Fate
from .replayed import Reads as Reads
from .replayed import Replay as Replay
from .replayed import ReplayCounts as ReplayCounts
from .send_path import SendFate as SendFate
from .send_path import SendReplay as SendReplay
from .send_path import replay_send as replay_send
from .software_receiver import SoftwareReception as SoftwareReception
from .software_receiver import compare_reception as compare_reception
from .software_receiver import receive_in_software as receive_in_software
from .software_receiver import trace_of as trace_of
from .traffic import traffic_characters as traffic_characters
from .traffic import traffic_messages as traffic_messages
