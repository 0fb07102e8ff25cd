"""The task that takes a table in beside the images."""

from __future__ import annotations

from collections import Counter
from pathlib import Path

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.desk.images.columns import take_in
from attentive_lens.desk.requests.columns import Column, ColumnsKnown, TakeColumns
from attentive_lens.workspace import Workspace

MOST = 5


def take_columns(request: TakeColumns) -> Job[ColumnsKnown]:
    """See `TakeColumns`."""
    place = Workspace.open(Path(request.workspace))
    if request.forget and not request.table:
        place.check_writable("The columns were not forgotten")
        place.catalogue.columns.forget()
    sentences: tuple[str, ...] = ()
    if request.table:
        yield Progress(0, 0, "reading the table")
        file = Path(request.table)
        sentences = tuple(take_in(place, file, request.by, request.forget).words(file.name))
    columns = []
    for name, words in place.catalogue.columns.values().items():
        counts = Counter(words.values())
        most = tuple(word for word, _ in counts.most_common(MOST))
        columns.append(Column(name, len(words), len(counts), most))
    tables = tuple(table.place for table in place.catalogue.columns.tables())
    return ColumnsKnown(tuple(columns), tables, sentences)
