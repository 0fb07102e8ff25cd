"""What a figure stands on: listed, written, read again, and compared."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import pytest
from tests.cli.running import command, last_object, run_words

from attentive_lens.core.jobs import finish
from attentive_lens.desk.results.manifest import (
    HEADS,
    Entry,
    changes,
    digest_of,
    manifest,
    read_manifest,
    write_manifest,
)
from attentive_lens.desk.training.executing import execute
from attentive_lens.errors import BadFile
from attentive_lens.workspace import Workspace
from attentive_lens.workspace.corrections import Correction

ENTRIES = tuple(
    Entry(k, f"a/{k}, «x».png", f"{k:016x}", "one", "training", "label flag", f"0 {k} 9 9") for k in range(1, 9)
)


def test_a_manifest_is_read_as_it_was_written(tmp_path: Path) -> None:
    write_manifest(tmp_path / "m.csv", ENTRIES)
    assert read_manifest(tmp_path / "m.csv") == ENTRIES
    assert (tmp_path / "m.csv").read_text("utf-8").startswith(",".join(HEADS))


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("image,file,pixels,label\n1,a,b,c\n", "no column set"),
        ("image,file,pixels,label,set\nx,a,b,c,d\n", "«x» in line 2 is no image's number"),
        ("image,file,pixels,label,set\n1,a,b,c,d\n1,a,b,c,d\n", "image 1 is in it twice, in line 3"),
        ("image,file\n", "1 lines"),
    ],
)
def test_what_is_none_is_a_sentence(text: str, why: str, tmp_path: Path) -> None:
    (tmp_path / "m.csv").write_text(text)
    with pytest.raises(BadFile, match=why):
        read_manifest(tmp_path / "m.csv")


def test_changes_are_told_by_their_sort() -> None:
    other = [
        replace(ENTRIES[0], pixels="00"),
        replace(ENTRIES[1], label="two"),
        replace(ENTRIES[2], set="test"),
        replace(ENTRIES[3], pixels=""),
        replace(ENTRIES[4], decision="", file="b.png"),
        ENTRIES[5],
        replace(ENTRIES[6], set="left out"),
        replace(ENTRIES[0], image=20),
    ]
    apart = changes(ENTRIES, other)
    assert (apart.pixels, apart.label, apart.set) == ((1,), (2,), (3,))
    assert (apart.missing, apart.added) == ((7, 8), (20,))
    assert (apart.none, apart.crop) == (False, ())
    otherwise = changes(
        ENTRIES, (*ENTRIES[:5], replace(ENTRIES[5], crop="1 1 2 2"), replace(ENTRIES[6], crop=""), ENTRIES[7])
    )
    assert (otherwise.crop, otherwise.none) == ((6, 7), False)
    assert list(otherwise.words("a", "b")) == ["2 images cropped otherwise in b than in a: 6, 7."]
    assert changes(ENTRIES, [replace(each, crop="") for each in ENTRIES]).none, "one is of a run that does not crop"
    words = list(apart.words("run 1", "run 2"))
    assert words[0] == "1 image with other pixels in run 2 than in run 1: 1."
    assert words[3] == "2 images in run 1 alone: 7, 8."
    assert changes(ENTRIES, ENTRIES).none
    assert list(changes(ENTRIES, ENTRIES).words("a", "b")) == []
    many = changes(ENTRIES, ())
    assert list(many.words("a", "b")) == ["8 images in a alone: 1, 2, 3, 4, 5 …."]


@pytest.mark.parametrize(
    ("field", "value"), [("pixels", "0" * 16), ("label", "two"), ("set", "test"), ("image", 99), ("crop", "")]
)
def test_the_digest_stands_on_pixels_labels_and_sets(field: str, value: object) -> None:
    assert digest_of(ENTRIES) != digest_of((replace(ENTRIES[0], **{field: value}), *ENTRIES[1:]))  # type: ignore[arg-type]
    assert digest_of(ENTRIES) == digest_of([replace(each, file="elsewhere", decision="") for each in ENTRIES])


def test_runs_that_saw_other_labels_and_sets_say_so(station: Workspace, tmp_path: Path) -> None:
    first = manifest(station, station.run(1))
    rows = station.catalogue.images()
    assert [each.image for each in first] == [row.number for row in rows]
    assert all(int(each.pixels, 16) == row.digest % 2**64 for each, row in zip(first, rows, strict=True) if each.pixels)
    names = station.catalogue.classes()
    trained = [each.image for each in first if each.set == "training"]
    one, two, three = trained[:3]
    other = next(name for name in names if name != first[one - 1].label)
    station.catalogue.correct({one: Correction(label=names.index(other)), two: Correction(set_name="validation"),
                               three: Correction(flagged=True)})  # fmt: skip
    assert "are those of" not in command("manifest", station.folder, "--out", tmp_path / "now.csv")
    now = {each.image: each for each in read_manifest(tmp_path / "now.csv")}
    assert [now[k].decision for k in (one, two, three, trained[4])] == ["label", "set", "flag", ""]
    assert manifest(station, station.run(1)) == first, "a run's own stays"
    finish(execute(station, station.claim_run(station.run(1).plan()), lambda: False))
    words = command("compare", station.folder, 1, 2)
    assert f"1 image with another label in run 2 than in run 1: {one}." in words
    assert "in another set in run 2 than in run 1" in words
    assert f"{two}" in last_object(command("compare", station.folder, 1, 2, "--json"))["images_differ"][1]
    command("manifest", station.folder, 1, "--out", tmp_path / "one.csv")
    result = last_object(command("manifest", station.folder, 2, "--against", tmp_path / "one.csv", "--json"))
    assert (result["same"], result["label"]) == (False, [one])
    assert two in result["set"]
    by_number = last_object(command("manifest", station.folder, 2, "--against", "1", "--json"))
    assert {**by_number, "against": "", "sentences": ()} == {**result, "against": "", "sentences": ()}
    assert by_number["sentences"][0] == f"1 image with another label in run 2 than in run 1: {one}."
    assert "They are those of run 1" in command("manifest", station.folder, 1, "--against", "1")
    unknown = last_object(command("manifest", station.folder, "--against", "9", "--json", code=1))
    assert "9" in unknown["error"]["what"] + unknown["error"]["why"]
    same = command("manifest", station.folder, 1, "--against", tmp_path / "one.csv")
    assert "They are those of" in same


def test_runs_of_the_same_images_say_nothing_and_what_is_not_there_is_a_sentence(
    station: Workspace, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    finish(execute(station, station.claim_run(station.run(1).plan().changed({"seed": 5})), lambda: False))
    assert manifest(station, station.run(1)) != manifest(station, station.run(2)), "another seed is another split"
    station.claim_run(station.run(1).plan())
    capsys.readouterr()
    assert run_words("manifest", station.folder, 3) == 1
    assert "has noted no images" in capsys.readouterr().err
    assert run_words("manifest", station.folder, "--against", tmp_path / "none.csv") == 1
    assert "none.csv is no manifest" in capsys.readouterr().err
