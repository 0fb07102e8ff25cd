"""Costs of confusions from a file: a matrix, true classes down and decisions across, or a line a confusion."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np

from attentive_lens.core.tables import as_head, number_in, table_in
from attentive_lens.errors import BadFile
from attentive_lens.scoring.costs import WITHHELD, CostTable

LIST = ("true", "said", "cost")
NAMED = 12
"""Classes that a sentence names."""
REMEDY = "Give a matrix, true classes down and decisions across, or columns true, said and cost"


def read_costs(file: Path, classes: Sequence[str]) -> CostTable:
    """Costs by a model's classes; a mistake that is not named costs 1, and a right answer nothing.

    Parameters
    ----------
    file : Path
        Text or Parquet; a decision may be called «withheld», which must have a cost for every class.
    classes : sequence of str
        Of the model, K.

    Raises
    ------
    BadFile
        If it is no such table, names a class twice or one that is none, or a cost is no number.
    """
    what = f"{file.name} is no table of costs"
    head, rows = table_in(file, what, REMEDY)
    costs = np.full((len(classes), len(classes) + 1), np.nan)
    costs[:, :-1] = 1 - np.eye(len(classes))
    places = {as_head(name): k for k, name in enumerate(classes)} | {WITHHELD: len(classes)}
    if len(places) <= len(classes):
        raise BadFile(what, f"two classes, or a class and «{WITHHELD}», are called alike", "Rename one of them")
    seen: set[tuple[int, int]] = set()
    if set(LIST) <= set(head):
        columns = [head.index(word) for word in LIST]
        cells = [(line, row, row[columns[0]], row[columns[1]], columns[2]) for line, row in rows.items()]
    else:
        cells = [(line, row, row[0], head[k], k) for line, row in rows.items() for k in range(1, len(head))]
    for line, row, true, said, column in cells:
        if not row[column].strip():
            continue
        for word in (true, said):
            if as_head(word) not in places:
                known = ", ".join(each for each in (*classes[:NAMED], WITHHELD))
                why = f"«{word.strip():.40}» in line {line} is no class of the run"
                raise BadFile(what, why, f"Known are {known}{', …' if len(classes) > NAMED else ''}")
        pair = places[as_head(true)], places[as_head(said)]
        if pair in seen or pair[0] == len(classes):
            again = f"line {line} names {true.strip()} and {said.strip()} again"
            raise BadFile(what, again if pair in seen else f"line {line}: «{WITHHELD}» is no class", "Mend that line")
        seen.add(pair)
        costs[pair] = number_in(row, column, file, line)
    if not seen:
        raise BadFile(what, "it names no cost", REMEDY)
    withheld = ~np.isnan(costs[:, -1])
    if withheld.any() and not withheld.all():
        lacking = classes[int(np.flatnonzero(~withheld)[0])]
        why = f"withholding has a cost for some classes and none for {lacking}"
        raise BadFile(what, why, "Name it for every class")
    if withheld.all():
        return CostTable((*classes, WITHHELD), costs)
    return CostTable(tuple(classes), costs[:, :-1].copy())
