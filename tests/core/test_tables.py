"""Tables of any kind are read alike, and what is none is refused in a sentence."""

from __future__ import annotations

import datetime
from pathlib import Path

import pyarrow as pa
import pytest
from pyarrow import parquet

from attentive_lens.core import tables
from attentive_lens.core.tables import table_in
from attentive_lens.errors import BadFile

WHAT, REMEDY = "The table was not read", "Mend it"


def test_a_table_is_the_same_in_text_and_in_parquet(tmp_path: Path) -> None:
    columns = {
        "Image": ["a.png", "b.png", "c.png"],
        "Patient No": [1, None, 3],
        "day": [datetime.date(2024, 5, 1), None, datetime.date(2024, 5, 3)],
    }
    parquet.write_table(pa.table(columns), tmp_path / "t.parquet")
    (tmp_path / "t.csv").write_text("Image;Patient No;day\na.png;1;2024-05-01\nb.png;;\nc.png;3;2024-05-03\n")
    wanted = (
        ["image", "patient_no", "day"],
        {2: ["a.png", "1", "2024-05-01"], 3: ["b.png", "", ""], 4: ["c.png", "3", "2024-05-03"]},
    )
    assert table_in(tmp_path / "t.parquet", WHAT, REMEDY) == wanted
    assert table_in(tmp_path / "t.csv", WHAT, REMEDY) == wanted


def test_what_is_no_parquet_or_too_long_is_refused(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    file = tmp_path / "t.parquet"
    file.write_bytes(b"PAR1 and then nothing")
    with pytest.raises(BadFile, match="no whole Parquet file"):
        table_in(file, WHAT, REMEDY)
    parquet.write_table(pa.table({"image": ["a"] * 9}), file)
    monkeypatch.setattr(tables, "MOST_ROWS", 9)
    with pytest.raises(BadFile, match="9 rows"):
        table_in(file, WHAT, REMEDY)
    monkeypatch.setattr(tables, "find_spec", lambda _: None)
    with pytest.raises(BadFile, match="not installed"):
        table_in(file, WHAT, REMEDY)
