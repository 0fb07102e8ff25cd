"""What is put on a desktop: as the standards say, found by those who look for it, and gone without a trace."""

from __future__ import annotations

import configparser
import io
import json
import os
import shutil
import subprocess
import sys
import xml.etree.ElementTree as ElementTree
from pathlib import Path

import pytest
from hypothesis import example, given
from hypothesis import strategies as st
from PIL import Image
from tests.cli.running import command as typed
from tests.cli.running import last_object

import attentive_lens
from attentive_lens.desktop import placing, recent
from attentive_lens.desktop.entry import MOST, entry
from attentive_lens.desktop.parts import ENTRY, FILE_TYPE, PICTURES, SHELLS, SIZES, description, parts
from attentive_lens.desktop.placing import RECORD, placed, put, take_off
from attentive_lens.desktop.recent import BOOKMARK, LIST, tell_recent
from attentive_lens.errors import BadFile, NotHere

COMMAND = ("/opt/attentive lens/bin/attentive-lens",)


def tree(folder: Path) -> dict[str, bytes]:
    return {str(file.relative_to(folder)): file.read_bytes() for file in folder.rglob("*") if file.is_file()}


def words_of(text: str) -> list[str]:
    """Words of an Exec line, read by the letter of the specification: first as a value, then by its quotes."""
    signs, value = iter(text), ""
    for sign in signs:
        value += {"s": " ", "n": "\n", "t": "\t", "r": "\r"}.get(after := next(signs), after) if sign == "\\" else sign
    words, word, quoted, signs = [], "", False, iter(value)
    for sign in signs:
        if sign == '"':
            quoted = not quoted
        elif sign == "\\" and quoted:
            word += next(signs)
        elif sign == " " and not quoted:
            words.append(word)
            word = ""
        else:
            word += sign
    assert all("%" not in each.replace("%%", "") or each == "%f" for each in [*words, word]), "no field code by chance"
    return [each.replace("%%", "%") for each in [*words, word]]


def read_entry(text: str) -> configparser.ConfigParser:
    parser = configparser.ConfigParser(interpolation=None, delimiters=("=",), comment_prefixes=("#",))
    parser.optionxform = str  # type: ignore[assignment,method-assign]  # keys keep their capitals
    parser.read_string(text)
    return parser


SIGNS = st.characters(codec="utf-8", exclude_categories=("Cc", "Cs", "Zl", "Zp", "Cn"))


@given(st.text(SIGNS, min_size=1, max_size=20))
@example("100 %")
@example("a%fb")
def test_any_path_is_started_as_it_is(name: str) -> None:
    path = f"/opt/{name}"
    own = read_entry(entry([path]))["Desktop Entry"]
    *words, field = words_of(own["Exec"])
    assert [words, field] == [[path], "%f"]


def test_workspaces_opened_lately_stand_in_the_menu() -> None:
    folders = [Path(f"/data/my work {k}/grains; 100 %") for k in range(9)]
    own = read_entry(entry(COMMAND, [Path("/data/two\nlines"), *folders]))
    names = own["Desktop Entry"]["Actions"].strip(";").split(";")
    assert len(names) == MOST
    for name, folder in zip(names, folders, strict=False):
        action = own[f"Desktop Action {name}"]
        assert words_of(action["Exec"]) == [*COMMAND, str(folder)]
        assert action["Name"] == folder.name
    assert "Actions" not in read_entry(entry(COMMAND))["Desktop Entry"]


@pytest.mark.parametrize("times", [1, 2])
def test_all_is_put_there_and_removed_without_a_trace(tmp_path: Path, times: int) -> None:
    share = tmp_path / "home" / "share"
    share.parent.mkdir()
    for _ in range(times):
        put(share, parts(COMMAND))
    assert placed(share) == tuple(parts(COMMAND))
    for place, data in parts(COMMAND).items():
        assert (share / place).read_bytes() == data and (share / place).stat().st_mode & 0o777 == 0o644
    assert set(take_off(share)) == set(parts(COMMAND))
    assert not list(share.parent.iterdir())
    with pytest.raises(NotHere, match="nothing of this program is noted"):
        take_off(share)


def test_what_others_have_there_stays_and_what_an_earlier_version_had_goes(tmp_path: Path) -> None:
    theirs = {
        "applications/editor.desktop": (
            b"[Desktop Entry]\nType=Application\nName=Editor\nExec=true\nMimeType=text/plain;\n"
        ),
        "mime/packages/other.xml": (
            b'<mime-info xmlns="http://www.freedesktop.org/standards/shared-mime-info">'
            b'<mime-type type="application/x-other"><glob pattern="*.other"/></mime-type></mime-info>'
        ),
        "icons/hicolor/48x48/apps/editor.png": b"x",
    }
    for place, data in theirs.items():
        (tmp_path / place).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / place).write_bytes(data)
    for name in placing.TOOLS:
        placing._read_anew(tmp_path, name)
    before = tree(tmp_path)
    old = "icons/hicolor/96x96/apps/attentive-lens.png"
    put(tmp_path, {**parts(COMMAND), old: b"once"})
    assert (tmp_path / old).exists()
    put(tmp_path, parts(("/usr/bin/attentive-lens",)))
    assert not (tmp_path / old).exists() and b"/usr/bin/attentive-lens" in (tmp_path / ENTRY).read_bytes()
    assert {place: data for place, data in tree(tmp_path).items() if place in theirs} == theirs
    take_off(tmp_path)
    assert tree(tmp_path) == before


def test_a_file_that_is_not_ours_and_a_folder_that_takes_none_are_told(tmp_path: Path) -> None:
    (tmp_path / ENTRY).parent.mkdir()
    (tmp_path / ENTRY).write_text("by somebody else")
    with pytest.raises(BadFile, match="was not put there by this program"):
        put(tmp_path, parts(COMMAND))
    assert tree(tmp_path) == {ENTRY: b"by somebody else"}
    (tmp_path / "full").write_text("a file")
    with pytest.raises(BadFile, match="Not all was put on the desktop"):
        put(tmp_path / "full", parts(COMMAND))


def test_a_forged_record_reaches_nothing_outside(tmp_path: Path) -> None:
    share, outside = tmp_path / "share", tmp_path / "letter.txt"
    outside.write_text("mine")
    put(share, parts(COMMAND))
    noted = json.loads((share / RECORD).read_text())
    noted["files"] += ["../letter.txt", str(outside)]
    (share / RECORD).write_text(json.dumps(noted))
    take_off(share)
    assert outside.read_text() == "mine"


def test_icons_have_the_sizes_they_stand_under() -> None:
    made = parts(COMMAND)
    for size in SIZES:
        place = next(place for place in made if f"/{size}x{size}/" in place)
        with Image.open(io.BytesIO(made[place])) as picture:
            assert picture.size == (size, size) and picture.mode == "RGBA"
            corner = picture.getpixel((0, 0))
            assert isinstance(corner, tuple) and corner[3] == 0, "it stands on any ground"


def test_pictures_are_named_where_they_are_on_the_web() -> None:
    assert "screenshot" not in description()
    root = ElementTree.fromstring(description("https://pollen.example/a?b&c/"))
    images = [each.text for each in root.iter("image")]
    assert images == [f"https://pollen.example/a?b&c/{name}.png" for name in PICTURES]
    shown = Path(__file__).parents[2] / "docs" / "screenshots"
    assert all((shown / f"{name}.png").exists() for name in PICTURES)


@pytest.mark.parametrize(
    ("checker", "place"),
    [
        (("desktop-file-validate",), "applications/*.desktop"),
        (("appstreamcli", "validate", "--no-net"), "metainfo/*.xml"),
    ],
)
def test_checkers_of_the_standards_have_no_objection(checker: tuple[str, ...], place: str, tmp_path: Path) -> None:
    if not shutil.which(checker[0]):
        pytest.skip(f"{checker[0]} is not installed")
    put(tmp_path, parts(COMMAND, "https://pollen.example/pictures", [Path("/data/grains")]))
    (file,) = tmp_path.glob(place)
    done = subprocess.run([*checker, str(file)], capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stdout + done.stderr


def test_a_model_is_known_by_its_contents_and_by_its_name(tmp_path: Path) -> None:
    if not shutil.which("update-mime-database"):
        pytest.skip("update-mime-database is not installed")
    put(tmp_path / "share", parts(COMMAND))
    assert (tmp_path / "share" / FILE_TYPE).exists()
    model = Path(attentive_lens.__file__).parent / "motifs" / "motifs.alens"
    (tmp_path / "unnamed").write_bytes(model.read_bytes())
    shutil.make_archive(str(tmp_path / "other"), "zip", tmp_path / "share")
    (tmp_path / "empty.alens").touch()
    ask = (
        "from PyQt6.QtCore import QMimeDatabase as D; import sys\n"
        "print(*(D().mimeTypeForFile(file).name() for file in sys.argv[1:]))"
    )
    files = [str(tmp_path / name) for name in ("unnamed", "other.zip", "empty.alens")]
    environment = {**os.environ, "XDG_DATA_HOME": str(tmp_path / "share")}
    done = subprocess.run(
        [sys.executable, "-c", ask, *files], capture_output=True, text=True, env=environment, check=True
    )
    own = "application/x-attentive-lens-model"
    assert done.stdout.split() == [own, "application/zip", own]


def test_bash_completes_a_command(tmp_path: Path) -> None:
    put(tmp_path, parts(COMMAND))
    script = tmp_path / SHELLS["bash"]
    ask = (
        f". {script}; COMP_WORDS=(attentive-lens rehea); COMP_CWORD=1;"
        f" _attentive_lens_completion {Path(sys.executable).with_name('attentive-lens')}; echo ${{COMPREPLY[@]}}"
    )
    done = subprocess.run(["bash", "-c", ask], capture_output=True, text=True, check=True)
    assert done.stdout.split() == ["rehearse"]


def test_the_desktop_hears_of_workspaces_and_other_programs_keep_their_places(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(recent, "shared_data", lambda for_all: tmp_path)
    tell_recent([Path("/data/leaves")])
    assert not (tmp_path / ENTRY).exists(), "no entry was asked for"
    put(tmp_path, parts(COMMAND))
    for folder in ("/data/grains & co", "/data/leaves", "/data/grains & co"):
        tell_recent([Path(folder)])
    assert "grains & co" in (tmp_path / ENTRY).read_text()
    root = ElementTree.parse(tmp_path / LIST).getroot()
    counts = {
        each.get("href"): int(app.get("count", "")) for each in root for app in each.iter(f"{{{BOOKMARK}}}application")
    }
    assert counts == {"file:///data/grains%20%26%20co": 2, "file:///data/leaves": 2}
    other = '<bookmark href="file:///a.txt" added="2026-01-01T00:00:00Z"><title>a</title></bookmark>'
    (tmp_path / LIST).write_text(f'<?xml version="1.0"?><xbel version="1.0">{other}</xbel>')
    tell_recent([Path("/data/leaves")])
    assert [each.get("href") for each in ElementTree.parse(tmp_path / LIST).getroot()] == [
        "file:///a.txt",
        "file:///data/leaves",
    ]
    for broken in ("<xbel><bookmark", "", "<!DOCTYPE"):
        (tmp_path / LIST).write_text(broken)
        tell_recent([Path("/data/leaves")])
        assert (tmp_path / LIST).read_text() == broken
    take_off(tmp_path)
    assert not (tmp_path / ENTRY).exists()


def test_by_command_it_is_put_there_looked_at_and_removed(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path))
    assert "Nothing is installed" in typed("desktop")
    result = last_object(typed("desktop", "--install", "--json"))
    assert result["done"] == "installed" and ENTRY in result["files"] and result["folder"] == str(tmp_path)
    assert last_object(typed("desktop", "--json"))["files"] == result["files"]
    assert "nothing of the program is left" in typed("desktop", "--remove")
    assert not tree(tmp_path)
    typed("desktop", "--install", "--remove", code=2)
    typed("desktop", "--install", "--pictures-at", "pictures", code=2)
    typed("desktop", "--remove", code=1)
