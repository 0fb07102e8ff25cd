"""What is installed elsewhere: built to the same bytes, well described, and whole away from its sources."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tarfile
import zipfile
from pathlib import Path

import pytest
from packaging.metadata import Metadata

from attentive_lens.desk.documents import pages

ROOT = Path(__file__).parents[2]
PARTS = {".ci", ".gitignore", "LICENSE", "README.md", "benchmarks", "check", "docs", "pyproject.toml"}
PARTS |= {"requirements-check.lock", "requirements.lock", "scripts", "src", "start", "tests"}
OPENS = """
import sys
from pathlib import Path
import attentive_lens
from attentive_lens.desk.documents import built, sections
from attentive_lens.window.application import make_application, open_place
application = make_application()
assert not application.windowIcon().isNull()
assert len(sections()) > 150 and built("theory/maps").is_relative_to(Path(attentive_lens.__file__).parent)
window = open_place(Path(sys.argv[1]))
window.show()
window.grab()
print(Path(attentive_lens.__file__).parent, window.windowTitle())
window.close()
"""


@pytest.fixture(scope="module")
def built(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Both archives, twice."""
    folder = tmp_path_factory.mktemp("built")
    for name in ("first", "second"):
        words = [sys.executable, "-m", "hatchling", "build", "-t", "sdist", "-t", "wheel", "-d", str(folder / name)]
        subprocess.run(words, cwd=ROOT, check=True, capture_output=True)
    return folder


@pytest.fixture(scope="module")
def elsewhere(built: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Where the wheel is installed; what it needs is that of the tests."""
    folder = tmp_path_factory.mktemp("elsewhere")
    (wheel,) = (built / "first").glob("*.whl")
    words = [
        sys.executable,
        "-m",
        "pip",
        "install",
        "-q",
        "--no-deps",
        "--no-index",
        "--target",
        str(folder),
        str(wheel),
    ]
    subprocess.run(words, check=True, capture_output=True)
    return folder


def run(elsewhere: Path, *words: object, cwd: Path, **more: str) -> str:
    environment = {**os.environ, "PYTHONPATH": str(elsewhere), "QT_QPA_PLATFORM": "offscreen", **more}
    done = subprocess.run(
        [sys.executable, *map(str, words)], cwd=cwd, env=environment, capture_output=True, text=True, check=False
    )
    assert done.returncode == 0, done.stdout + done.stderr
    return done.stdout


def test_archives_come_out_the_same_bytes(built: Path) -> None:
    first, second = (sorted((built / name).iterdir()) for name in ("first", "second"))
    assert [file.name for file in first] == [file.name for file in second] and len(first) == 2
    assert all(one.read_bytes() == other.read_bytes() for one, other in zip(first, second, strict=True))


def test_archives_hold_what_is_tracked_and_no_more(built: Path) -> None:
    (archive,), (wheel,) = ((built / "first").glob(name) for name in ("*.tar.gz", "*.whl"))
    words = ["git", "ls-files", "--cached", "--others", "--exclude-standard"]
    listed = subprocess.run(words, cwd=ROOT, capture_output=True, text=True, check=False)
    if listed.returncode:
        pytest.skip("these are no sources under version control")
    tracked = {
        name for name in listed.stdout.splitlines() if (ROOT / name).exists() and name.partition("/")[0] in PARTS
    }
    under_control = subprocess.run(words[:2], cwd=ROOT, capture_output=True, text=True, check=True).stdout.splitlines()
    assert {name.partition("/")[0] for name in under_control} <= PARTS, "nothing that a command left behind"
    with tarfile.open(archive) as files:
        names = {"/".join(Path(each.name).parts[1:]) for each in files.getmembers() if each.isfile()}
    assert names - tracked <= {"PKG-INFO"} and tracked - names <= {".gitignore"}
    with zipfile.ZipFile(wheel) as files:
        packed = {f"src/{name}" for name in files.namelist() if name.startswith("attentive_lens/")}
    documents = {name for name in packed if name.startswith("src/attentive_lens/documents/")}
    assert packed - documents == {name for name in tracked if name.startswith("src/attentive_lens/")}
    for form in ("{}.html", "_sources/{}.md"):
        assert {f"src/attentive_lens/documents/{form.format(page)}" for page in pages()} <= documents


def test_its_description_is_as_the_standard_says(built: Path) -> None:
    (wheel,) = (built / "first").glob("*.whl")
    with zipfile.ZipFile(wheel) as files:
        (name,) = (name for name in files.namelist() if name.endswith(".dist-info/METADATA"))
        metadata = Metadata.from_email(files.read(name), validate=True)
    assert metadata.name == "attentive-lens" and str(metadata.license_expression) == "GPL-3.0-or-later"
    assert metadata.description is not None and metadata.description.startswith("# Attentive Lens")


def test_away_from_its_sources_it_is_whole(elsewhere: Path, tmp_path: Path) -> None:
    program = ("-P", "-m", "attentive_lens")
    made = json.loads(run(elsewhere, *program, "demo", "grains", "--images", 60, "--json", cwd=tmp_path))
    assert made["images"] == 60
    settings = ("--set", "network=two blocks", "--set", "preprocessing.input_size=24", "--set", "training.epochs=1")
    trained = json.loads(
        run(elsewhere, *program, "train", "grains", *settings, "--json", cwd=tmp_path).splitlines()[-1]
    )
    assert trained["state"] == "done"
    for place in ("grains", "grains/runs/0001/checkpoints/best.alens"):
        where, title = run(elsewhere, "-P", "-c", OPENS, place, cwd=tmp_path).split(maxsplit=1)
        assert Path(where) == elsewhere / "attentive_lens" and "Attentive Lens" in title
    share = tmp_path / "share"
    run(elsewhere, *program, "desktop", "--install", cwd=tmp_path, XDG_DATA_HOME=str(share))
    assert (share / "man/man1/attentive-lens.1").read_text().startswith(".TH")
    asks = {"_ATTENTIVE_LENS_COMPLETE": "complete_bash", "COMP_WORDS": "attentive-lens rehea", "COMP_CWORD": "1"}
    assert run(elsewhere, *program, cwd=tmp_path, **asks).split() == ["rehearse"]
    assert "motifs" in run(elsewhere, *program, "shelf", "grains", cwd=tmp_path)
