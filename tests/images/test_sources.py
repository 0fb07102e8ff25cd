from __future__ import annotations

import os
from pathlib import Path

import pytest

from attentive_lens.errors import BadFile
from attentive_lens.images.sources import SOURCES, Found, Skipped, open_source


def laid_out(root: Path, *names: str) -> Path:
    for name in names:
        (root / name).parent.mkdir(parents=True, exist_ok=True)
        (root / name).write_bytes(b"x")
    return root


def result(root: Path) -> list[tuple[str, str, str | None]]:
    items = open_source(root).find()
    return [(str(i.file.relative_to(root)), i.label, i.set_name) for i in items if isinstance(i, Found)]


def test_folders_are_classes_and_inner_folders_belong_to_theirs(tmp_path: Path) -> None:
    root = laid_out(tmp_path, "b/2.png", "a/deep/er/1.JPG", "a/0.bmp")
    assert result(root) == [("a/0.bmp", "a", None), ("a/deep/er/1.JPG", "a", None), ("b/2.png", "b", None)]


def test_set_folders_are_known_by_their_names(tmp_path: Path) -> None:
    root = laid_out(tmp_path, "Train/a/1.png", "val/a/2.png", "test/b/3.png")
    assert result(root) == [
        ("Train/a/1.png", "a", "training"),
        ("test/b/3.png", "b", "test"),
        ("val/a/2.png", "a", "validation"),
    ]


def test_a_class_called_test_is_a_class_when_others_are_no_sets(tmp_path: Path) -> None:
    root = laid_out(tmp_path, "test/1.png", "rest/2.png")
    assert {label for _, label, _ in result(root)} == {"test", "rest"}


def test_other_files_are_reported_and_hidden_ones_left_alone(tmp_path: Path) -> None:
    root = laid_out(tmp_path, "a/1.png", "a/notes.txt", "a/.hidden.png", ".git/2.png", "stray.png")
    items = list(open_source(root).find())
    reasons = {i.file.name: i.reason for i in items if isinstance(i, Skipped)}
    assert set(reasons) == {"notes.txt", "stray.png"}
    assert "outside the class folders" in reasons["stray.png"]
    assert len(result(root)) == 1


def test_links_that_lead_in_a_circle_are_not_followed(tmp_path: Path) -> None:
    root = laid_out(tmp_path, "a/1.png")
    (root / "a" / "again").symlink_to(root)
    assert len(result(root)) == 1


def test_a_folder_that_cannot_be_listed_is_reported(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    root = laid_out(tmp_path, "a/1.png", "a/closed/2.png", "b/3.png")
    scandir = os.scandir

    def refusing(place: str) -> object:
        if os.fspath(place).endswith("closed"):
            raise PermissionError(13, "Permission denied", place)
        return scandir(place)

    monkeypatch.setattr(os, "scandir", refusing)
    items = list(open_source(root).find())
    reasons = {i.file.name: i.reason for i in items if isinstance(i, Skipped)}
    assert reasons == {"closed": "it could not be listed: permission denied"}
    assert sum(isinstance(i, Found) for i in items) == 2


def test_a_name_that_is_no_unicode_is_found(tmp_path: Path) -> None:
    root = laid_out(tmp_path, "a/1.png")
    with open(os.path.join(os.fsencode(root / "a"), b"\xff\n.png"), "wb") as stream:  # noqa: PTH118, PTH123
        stream.write(b"x")
    assert len(result(root)) == 2


def test_a_place_without_classes_is_refused_in_words(tmp_path: Path) -> None:
    with pytest.raises(BadFile, match="no such file"):
        open_source(tmp_path / "none")
    with pytest.raises(BadFile, match="no folder in it"):
        list(open_source(tmp_path).find())
    (tmp_path / "file").write_bytes(b"x")
    with pytest.raises(BadFile, match="none of these"):
        open_source(tmp_path / "file")


def test_no_source_fails_on_a_place_it_does_not_know(tmp_path: Path) -> None:
    for kind in SOURCES.values():
        assert kind.recognises(tmp_path / "none") is False
