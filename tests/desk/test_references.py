"""Reference curves from tables, and what is none."""

from __future__ import annotations

from pathlib import Path

import pytest

from attentive_lens.desk.training.references import read_reference
from attentive_lens.errors import BadFile


@pytest.mark.parametrize(
    ("text", "curves"),
    [
        (
            "epoch,accuracy,loss\n1,0.5,1.2\n2,0.75,0.8\n",
            {"accuracy": ((1, 0.5), (2, 0.75)), "loss": ((1, 1.2), (2, 0.8))},
        ),
        ("Epoch;Macro F1\n2;0.75\n1;0.5\n", {"macro_f1": ((1, 0.5), (2, 0.75))}),
        ("accuracy\tother\n50 %\tx\n75%\ty\n", {"accuracy": ((1, 0.5), (2, 0.75))}),
        ("\ufeffloss\n3.5\n\n2.5\n", {"loss": ((1, 3.5), (3, 2.5))}),
        ("samples,loss\n500,1\n", {"loss": ((500, 1),)}),
        ("step,loss,top-5\n10,1,\n20,,0.9\n", {"loss": ((10, 1),), "top_5": ((20, 0.9),)}),
    ],
)
def test_a_table_is_read_by_its_first_line(
    text: str, curves: dict[str, tuple[tuple[float, float], ...]], tmp_path: Path
) -> None:
    file = tmp_path / "other lab.csv"
    file.write_text(text, "utf-8")
    reference = read_reference(file)
    assert reference.name == "other lab"
    assert reference.curves == curves
    assert reference.in_images == text.startswith("samples")


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("", "0 lines"),
        ("epoch,accuracy\n", "1 lines"),
        ("a,b\n1,2\n", "its first line has a, b"),
        ("epoch,loss\n1,high\n", "«high» in line 2 is no number"),
        ("epoch,loss\n1,nan\n", "line 2"),
        ("epoch,loss\nx,1\n", "«x» in line 2"),
    ],
)
def test_what_is_no_curve_is_a_sentence(text: str, why: str, tmp_path: Path) -> None:
    file = tmp_path / "curve.csv"
    file.write_text(text)
    with pytest.raises(BadFile, match=why):
        read_reference(file)


def test_a_missing_file_and_one_of_bytes_are_sentences(tmp_path: Path) -> None:
    with pytest.raises(BadFile, match="no such file"):
        read_reference(tmp_path / "none.csv")
    (tmp_path / "bytes.csv").write_bytes(b"\xff\xfe\x00loss")
    with pytest.raises(BadFile, match="is no reference curve"):
        read_reference(tmp_path / "bytes.csv")


def test_nats_are_taken_as_they_are(tmp_path: Path) -> None:
    file = tmp_path / "published.csv"
    file.write_text("epoch;bound;divergence\n1;-120.5;9\n2;86,1;11\n")
    assert read_reference(file).curves == {
        "bound": ((1.0, -120.5), (2.0, 86.1)),
        "divergence": ((1.0, 9.0), (2.0, 11.0)),
    }
