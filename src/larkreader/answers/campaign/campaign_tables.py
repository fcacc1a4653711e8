"""The rows of many captures as tables: by capture, by label, by what was found, by what was measured."""

from __future__ import annotations

import os
from collections.abc import Sequence
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple, Self

import numpy as np
import numpy.typing as npt

from larkreader.errors import RequestError, nearest
from larkreader.shown import Shown

from .members import natural
from .store import Store, open_store
from .tables import TABLES, names_of

if TYPE_CHECKING:
    import pandas as pd

TIME, NS_PER_HOUR = "time", 3.6e12
VERDICTS = ("clean", "warnings", "faults", "nothing-read", "not-read")
BAD = ("error", "warning")  # severities of findings that questions are about


class Measure(NamedTuple):
    """A number that is taken of each capture.

    Attributes
    ----------
    table, columns : str and tuple of str
        Where it is; of two columns, their sum as a share of all bytes.
    subject : str
        The column that distinguishes wires, layouts or pairings.
    name, unit : str
        What it is called, and its unit; a share unless named.
    least, least_share : float
        Captures that differ by less, or by less than that share of the median, are as good as equal.
    """

    table: str
    columns: tuple[str, ...]
    subject: str
    name: str
    unit: str
    least: float
    least_share: float


MEASURES: dict[str, Measure] = {
    "clock_error": Measure("wires", ("clock_error",), "wire", "clock error", "", 5e-4, 0.0),
    "headroom": Measure("wires", ("headroom",), "wire", "headroom", "", 5e-4, 0.0),
    "jitter_s": Measure("wires", ("jitter_s",), "wire", "jitter", "s", 1e-8, 0.1),
    "error_ratio": Measure("wires", ("faulty_bytes", "skipped_bytes"), "wire", "bytes in error", "", 1e-3, 0.0),
    "period_s": Measure("frames", ("period_s",), "frame", "period", "s", 1e-5, 0.005),
    "latency_median_s": Measure("pairs", ("latency_median_s",), "pair", "median latency", "s", 1e-5, 0.05),
    "latency_99_s": Measure("pairs", ("latency_99_s",), "pair", "latency of 99 %", "s", 1e-5, 0.05),
}
Ratios = npt.NDArray[np.float64]  # a ratio for each capture


class CampaignTables(Shown):
    """The rows of many captures that were read against one sheet.

    Parameters
    ----------
    store : Store
        Where their rows are kept.
    """

    def __init__(self, store: Store) -> None:
        self._store = store

    @classmethod
    def open(cls, path: str | os.PathLike[str]) -> Self:
        """Open a store.

        Parameters
        ----------
        path : str or path
            The file or folder.

        Raises
        ------
        RequestError
            If it is not a store.
        """
        return cls(open_store(Path(path)))

    def close(self) -> None:
        """Let go of the store."""
        self._store.close()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def __len__(self) -> int:
        return len(self.captures)

    def __repr__(self) -> str:
        counts = self.verdict_counts
        held = ", ".join(f"{count:,} {verdict}" for verdict, count in counts.items() if count)
        sheet = f" read against {self.sheet_name}" if self.sheet_name else ""
        return f"<Campaign of {len(self):,} captures{sheet}: {held or 'none'}>"

    @property
    def sheet_name(self) -> str:
        """The sheet that they were read against."""
        return self._store.about["sheet"]

    @property
    def sheet_hash(self) -> str:
        """What distinguishes that sheet, and how it was read against, from others."""
        return self._store.about["sheet_sha256"]

    def table(self, name: str) -> pd.DataFrame:
        """Return a table of the store.

        Parameters
        ----------
        name : str
            ``captures``, ``labels``, ``wires``, ``frames``, ``findings`` or ``pairs``.

        Raises
        ------
        RequestError
            If there is no such table.
        """
        import pandas as pd

        if name not in TABLES:
            raise RequestError(f'table "{name}"', "is in no store", advice=nearest(name, list(TABLES)))
        frame = pd.DataFrame(self._store.rows(name), columns=list(names_of(name)))
        reals = {column.name: "float64" for column in TABLES[name] if column.type == "real"}
        return frame.astype(reals)

    @cached_property
    def captures(self) -> pd.DataFrame:
        """A row for each capture, with a column for each of its labels."""
        import pandas as pd

        captures, labels = self.table("captures"), self.table("labels")
        for name in self.labels:
            values = labels[labels["name"] == name].set_index("capture")["value"]
            captures[name] = captures["capture"].map(values).astype(object).where(lambda column: column.notna(), None)
        captures["verdict"] = captures["verdict"].where(captures["error"].isna(), "not-read")
        return pd.DataFrame(captures)

    @cached_property
    def labels(self) -> tuple[str, ...]:
        """The names of the labels, in the order in which they occur."""
        return tuple(dict.fromkeys(self.table("labels")["name"]))

    @property
    def verdict_counts(self) -> dict[str, int]:
        """How many captures have each verdict."""
        counts = self.captures["verdict"].value_counts()
        return {verdict: int(counts.get(verdict, 0)) for verdict in VERDICTS}

    def values_of(self, label: str) -> list[str]:
        """Return the values of a label, numbers in order of their value.

        Parameters
        ----------
        label : str
            Its name.

        Raises
        ------
        RequestError
            If no capture has it.
        """
        if label not in self.labels:
            raise RequestError(f'label "{label}"', "is of no capture", advice=nearest(label, self.labels))
        return sorted((value for value in self.captures[label].unique() if value is not None), key=natural)

    def is_number(self, label: str) -> bool:
        """Return whether all values of a label are numbers.

        Parameters
        ----------
        label : str
            Its name.
        """
        return all(map(is_number, self.values_of(label)))

    def numbers_of(self, label: str) -> pd.Series:
        """Return the values of a label as numbers.

        Parameters
        ----------
        label : str
            A label whose values are numbers; ``time`` is when the file of each capture was changed last, in hours since
            the first, where no label has that name.

        Returns
        -------
        pandas.Series of float64
            With the numbers of the captures as its index; NaN where a capture does not have the label.

        Raises
        ------
        RequestError
            If no capture has it, or has something else than a number.
        """
        captures = self.captures.set_index("capture")
        if label == TIME and label not in self.labels:
            modified = captures["modified_ns"].astype("float64")
            return (modified - modified.min()) / NS_PER_HOUR
        if not self.is_number(label):
            found = "has values other than numbers"
            raise RequestError(f'label "{label}"', found, "must be a number of each capture")
        return captures[label].astype("float64")

    def verdicts(self, by: Sequence[str] = ()) -> pd.DataFrame:
        """Return how many captures have each verdict, by labels.

        Parameters
        ----------
        by : sequence of str
            Labels; all captures together by default.

        Raises
        ------
        RequestError
            If no capture has such a label.
        """
        import pandas as pd

        for label in by:
            self.values_of(label)
        captures = self.captures
        if not by:
            return pd.DataFrame([self.verdict_counts])
        keys = [captures[label].fillna("") for label in by]
        counts = pd.crosstab(keys, captures["verdict"]).reindex(columns=list(VERDICTS), fill_value=0)
        order = sorted(counts.index, key=lambda key: [natural(part) for part in (key if len(by) > 1 else [key])])
        return pd.DataFrame(counts.loc[order])

    @cached_property
    def found(self) -> pd.DataFrame:
        """Findings that are errors or warnings, a row for each capture, kind and wire, with their number."""
        import pandas as pd

        findings = self.table("findings")
        bad = findings[findings["severity"].isin(BAD)]
        return pd.DataFrame(bad.groupby(["kind", "wire", "capture"], as_index=False)["count"].sum())

    def kinds(self, by: str | None = None) -> pd.DataFrame:
        """Return in how many captures each kind of finding occurs, by the values of a label.

        Parameters
        ----------
        by : str, optional
            The label; all captures together by default.

        Returns
        -------
        pandas.DataFrame
            A row for each kind and wire, errors and warnings alone, the most frequent first; a column for each value,
            with how many captures there are in the last row, ``captures``.

        Raises
        ------
        RequestError
            If no capture has the label.
        """
        import pandas as pd

        captures = self.captures.set_index("capture")
        values = ["captures"] if by is None else self.values_of(by)
        value_of = pd.Series("captures", index=captures.index) if by is None else captures[by]
        found = self.found.assign(value=self.found["capture"].map(value_of))
        counts = pd.crosstab([found["kind"], found["wire"]], found["value"]).reindex(columns=values, fill_value=0)
        counts = counts.loc[counts.sum(axis=1).sort_values(ascending=False, kind="stable").index]
        totals = value_of.value_counts().reindex(values, fill_value=0)
        counts.loc[("captures", ""), :] = totals.to_numpy()
        return pd.DataFrame(counts.astype(np.int64))

    @cached_property
    def no_ratios(self) -> Ratios:
        """A ratio of 0 for each capture that was read."""
        return np.zeros(int(self.captures["error"].isna().sum()))

    @cached_property
    def ratios(self) -> dict[tuple[str, str], Ratios]:
        """How often each kind occurs in 1000 characters of its wire, as a ratio for each capture that was read."""
        read = self.captures.loc[self.captures["error"].isna(), "capture"]
        characters = self.table("wires").set_index(["capture", "wire"])["characters"]
        ratios = {}
        for (kind, wire), rows in self.found.groupby(["kind", "wire"]):
            counts = rows.set_index("capture")["count"].reindex(read, fill_value=0)
            carried = characters[characters.index.get_level_values("wire") == wire].droplevel("wire").reindex(read)
            of = carried.fillna(0).clip(lower=1) if carried.notna().any() else counts * 0 + 1000
            ratios[(str(kind), str(wire))] = (1000 * counts / of).to_numpy(np.float64)
        return ratios

    @cached_property
    def every_measured(self) -> dict[tuple[str, str], pd.Series]:
        """What was measured of each capture, by measure and subject, as a series with the captures as its index."""
        series: dict[tuple[str, str], Any] = {}
        tables = {name: self.table(name) for name in {item.table for item in MEASURES.values()}}
        for measure, (table, columns, subject, *_) in MEASURES.items():
            rows = tables[table]
            values = rows[columns[0]]
            if len(columns) > 1:
                wrong = rows[list(columns)].sum(axis=1)
                values = wrong / (wrong + rows["good_bytes"]).clip(lower=1)
            known = rows.assign(measured=values.astype(np.float64)).dropna(subset=["measured"])
            for key, own in known.groupby(subject):
                series[(measure, str(key))] = own.set_index("capture")["measured"]
        return series

    def measured(self, measure: str, subject: str) -> pd.Series:
        """Return what was measured of each capture.

        Parameters
        ----------
        measure : str
            ``clock_error``, ``headroom``, ``jitter_s``, ``error_ratio``, ``period_s``, ``latency_median_s`` or
            ``latency_99_s``.
        subject : str
            The wire, layout or pairing.

        Returns
        -------
        pandas.Series of float64
            With the numbers of the captures as its index; captures without it are left out.

        Raises
        ------
        RequestError
            If nothing of that was measured.
        """
        if (measure, subject) not in self.every_measured:
            known = [f"{name} of {key}" for name, key in self.every_measured]
            advice = nearest(f"{measure} of {subject}", known)
            raise RequestError(f"{measure} of {subject}", "was measured of no capture", advice=advice)
        return self.every_measured[(measure, subject)]


def is_number(text: str) -> bool:
    """Return whether a text is a number that is not infinite."""
    try:
        return bool(np.isfinite(float(text)))
    except ValueError:
        return False
