"""What many captures show together: the questions across them."""

from __future__ import annotations

from .campaign_tables import CampaignTables
from .comparisons import Change, Concentration, compare_campaigns, find_concentrations
from .movements import MeasuredTrend, OddCaptures, find_odd_ones, find_trends


class Campaign(CampaignTables):
    r"""Many captures that were read against one sheet, and what they show together.

    Parameters
    ----------
    store : Store
        Where their rows are kept.

    Examples
    --------
    >>> import pathlib, tempfile
    >>> folder = pathlib.Path(tempfile.mkdtemp())
    >>> for number in range(20):
    ...     board, flow = number % 4, b"\xff" if number % 4 == 3 else b"\x07"
    ...     _ = (folder / f"{number}-board{board}.bin").write_bytes(b"\xd7\x05\xd7" + flow)
    >>> field = {"name": "flow", "type": "uint8", "range": [0, 100]}
    >>> layout = lr.FrameLayout(boundary={"kind": "marker", "marker": "D7"}, fields=[field])
    >>> sheet = lr.Sheet(wire={"pump": {}}, frame={"status": layout})
    >>> campaign = lr.read_many(sheet, folder, labels="*-board{board}", workers=1)
    >>> campaign
    <Campaign of 20 captures: 15 clean, 5 warnings>
    >>> [(item.kind, item.label, item.value, item.affected, item.of) for item in campaign.concentrations()]
    [('out-of-range', 'board', '3', 5, 5)]
    """

    def concentrations(self) -> list[Concentration]:
        """Return which kinds of findings go with which values of labels, the least likely by chance first.

        Each value is compared with all other captures by Fisher's exact test; what is likely by chance is left out.
        """
        return find_concentrations(self)

    def compare(self, baseline: CampaignTables) -> list[Change]:
        """Return what became of each kind of finding since a baseline, what is certain first.

        Parameters
        ----------
        baseline : Campaign
            What was before.
        """
        return compare_campaigns(self, baseline)

    def trends(self, over: str | None = None, by: str | None = None) -> list[MeasuredTrend]:
        """Return which numbers move with a label, the worst first; what is likely by chance is left out.

        Parameters
        ----------
        over : str, optional
            A label whose values are numbers, or ``time``, as of `numbers_of`; every such label by default.
        by : str, optional
            A label; a trend is taken of the captures with each of its values. By default of all captures, and of those
            with each value of every other label.

        Raises
        ------
        RequestError
            If no capture has such a label, or `over` has values other than numbers.
        """
        return find_trends(self, over, by)

    def odd_ones(self) -> list[OddCaptures]:
        """Return captures in which a number stands far from that of the others, the farthest first."""
        return find_odd_ones(self)
