"""A table of numbers, as a run keeps it: named columns with their units."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping
from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.errors import BookError


@dataclass(frozen=True, slots=True, eq=False)
class Table:
    """columns (n,) each, in order; units by column, '' for a plain number. NaN: there is no such thing in that row.
    of_mode: the file of a table names the mode."""

    name: str
    columns: Mapping[str, FloatArray]
    units: Mapping[str, str]
    of_mode: bool = True

    @classmethod
    def of(cls, name: str, *columns: tuple[str, str, Iterable[float] | FloatArray], of_mode: bool = True) -> Table:
        """From (name, unit, values) of each column. Raises ValueError where the lengths differ."""
        arrays = {title: np.asarray(values, dtype=float).copy() for title, _, values in columns}
        if len({array.shape for array in arrays.values()}) > 1:
            raise ValueError(f"the columns of '{name}' differ in length")
        for array in arrays.values():
            array.setflags(write=False)
        return cls(name, arrays, {title: unit for title, unit, _ in columns}, of_mode)

    def __getitem__(self, column: str) -> FloatArray:
        return self.columns[column]

    def __contains__(self, column: object) -> bool:
        return column in self.columns

    @property
    def length(self) -> int:
        return next((column.size for column in self.columns.values()), 0)

    def as_csv(self) -> str:
        """A row a line; empty where a number is missing."""
        rows = [",".join(self.columns)]
        rows += [",".join("" if np.isnan(v) else f"{v:.9g}" for v in row)
                 for row in zip(*self.columns.values(), strict=True)]
        return "\n".join(rows) + "\n"

    def stored(self) -> tuple[str, str, int, bytes]:
        """(name, columns as JSON, length, numbers) for a book."""
        heads = json.dumps([[title, self.units[title]] for title in self.columns])
        numbers = np.stack(list(self.columns.values())) if self.columns else np.zeros((0, 0))
        return self.name, heads, self.length, numbers.astype("<f8").tobytes()


def table_of(name: str, columns: str, length: int, numbers: bytes) -> Table:
    """The table that `stored` gave. Raises BookError where the parts do not fit."""
    try:
        heads = json.loads(columns)
        values = np.frombuffer(numbers, dtype="<f8").reshape(len(heads), length)
        return Table.of(name, *((str(title), str(unit), row) for (title, unit), row in zip(heads, values, strict=True)))
    except (ValueError, TypeError) as error:
        raise BookError(f"Table '{name}' cannot be read: {error}.") from error
