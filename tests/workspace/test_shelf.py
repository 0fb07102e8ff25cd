"""The Shelf on disk: names, what is said of models, taking off and putting back."""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from attentive_lens.core.files import write_bytes
from attentive_lens.errors import BadValue, LensError, NotHere
from attentive_lens.motifs import MODELS
from attentive_lens.workspace import Figures, Said, Shelf

SAID = Said("run 1 of meadow", "the first", (), Figures("test", 50, 0.9, 0.3125))


def shelf_with(folder: Path, *names: str) -> Shelf:
    shelf = Shelf(folder)
    for name in names:
        shelf.put(name, lambda file: write_bytes(file, b"weights"), SAID)
    return shelf


def own(shelf: Shelf) -> list[str]:
    return [model.name for model in shelf.models() if not model.ships]


def test_what_is_put_there_is_read_back_whole(tmp_path: Path) -> None:
    shelf = shelf_with(tmp_path, "b", "a")
    assert own(shelf) == ["a", "b"]
    assert shelf.model("a").said == SAID
    assert shelf.model("a").file.read_bytes() == b"weights"
    (tmp_path / "shelf" / "a.json").write_text("{ no table")
    assert shelf.model("a").said == Said(), "a model of which nothing can be read is still a model"
    (tmp_path / "shelf" / "b.json").write_text('{"figures": {"on": 3}}')
    assert shelf.model("b").said == Said()


def test_a_model_that_cannot_be_written_leaves_nothing(tmp_path: Path) -> None:
    shelf = shelf_with(tmp_path, "one")
    before = sorted(tmp_path.rglob("*"))

    def full(file: Path) -> None:
        raise OSError("no room")

    with pytest.raises(OSError, match="no room"):
        shelf.put("two", full, SAID)
    assert sorted(tmp_path.rglob("*")) == before


def test_those_that_come_with_the_program_are_on_every_shelf_and_cannot_be_changed(tmp_path: Path) -> None:
    shelf = shelf_with(tmp_path)
    shipped = [model for model in shelf.models() if model.ships]
    assert [model.file for model in shipped] == sorted(MODELS.glob("*.alens"))
    for model in shipped:
        for change in (
            lambda name: shelf.delete(name),
            lambda name: shelf.rename(name, "other"),
            lambda name: shelf.say(name, Said(note="mine")),
        ):
            with pytest.raises(BadValue, match="comes with the program"):
                change(model.name)
        with pytest.raises(BadValue, match="taken"):
            shelf.put(model.name, lambda file: write_bytes(file, b""), Said())


def test_a_renamed_model_is_known_by_its_earlier_names(tmp_path: Path) -> None:
    shelf = shelf_with(tmp_path, "one", "two")
    shelf.rename("one", "three")
    shelf.rename("three", "four")
    assert own(shelf) == ["four", "two"]
    assert {shelf.model(name).name for name in ("one", "three", "four")} == {"four"}
    assert shelf.model("four").said.note == SAID.note
    with pytest.raises(BadValue, match="was called so before"):
        shelf.rename("two", "one")
    with pytest.raises(BadValue, match="there is one"):
        shelf.rename("two", "four")
    shelf.rename("four", "one")
    assert shelf.model("one").said.earlier == ("three", "four"), "no name is its own earlier one"
    assert not (tmp_path / "shelf" / "four.json").exists()


def test_what_is_taken_off_comes_back_unless_its_name_is_taken(tmp_path: Path) -> None:
    shelf = shelf_with(tmp_path, "one")
    shelf.delete("one")
    assert own(shelf) == []
    with pytest.raises(NotHere, match="was taken off"):
        shelf.model("one")
    assert shelf.free_name("one") == "one 2", "what was taken off keeps its name"
    shelf.restore("one")
    assert shelf.model("one").said == SAID
    shelf.delete("one")
    shelf_with(tmp_path, "one")
    with pytest.raises(BadValue, match="another model has its name"):
        shelf.restore("one")
    with pytest.raises(NotHere, match="gone for good"):
        shelf.restore("never")


@pytest.mark.parametrize("name", ["", " a", "a ", ".a", "a/b", "..", "../a", "a\\b", "a:b", "a\nb", "x" * 81])
def test_what_is_no_name_is_refused_and_nothing_is_written(name: str, tmp_path: Path) -> None:
    shelf = shelf_with(tmp_path, "one")
    before = sorted(tmp_path.rglob("*"))
    with pytest.raises(BadValue):
        shelf.put(name, lambda file: write_bytes(file, b""), Said())
    with pytest.raises(BadValue):
        shelf.rename("one", name)
    assert sorted(tmp_path.rglob("*")) == before


@settings(max_examples=60)
@given(wish=st.text(max_size=120))
def test_a_free_name_can_always_be_put(wish: str, tmp_path_factory: pytest.TempPathFactory) -> None:
    shelf = shelf_with(tmp_path_factory.mktemp("shelf"), "model", "x")
    name = shelf.free_name(wish)
    shelf.put(name, lambda file: write_bytes(file, b""), Said())
    assert shelf.model(name).name == name
    assert shelf.free_name(wish) != name


def test_a_model_that_is_not_there_is_named_with_those_that_are(tmp_path: Path) -> None:
    with pytest.raises(LensError, match="there are one"):
        shelf_with(tmp_path, "one").model("two")
