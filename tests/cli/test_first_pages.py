"""The two pages that documents begin with, done as they stand, one command after the other."""

from __future__ import annotations

import re
import shlex
import shutil
from pathlib import Path

import numpy as np
import pytest
from PIL import Image, ImageDraw
from tests.cli.running import command

DOCS = Path(__file__).parents[2] / "docs" / "begin"
QUICK = ["--set", "training.epochs=2", "--set", "network=two blocks", "--set", "preprocessing.input_size=32"]


def lines_of(page: str) -> list[list[str]]:
    """The commands of a page, in order, as words."""
    text = (DOCS / f"{page}.md").read_text("utf-8")
    shown = re.findall(r"^    attentive-lens (.+)$|`attentive-lens\s+([^`]+)`", text, re.MULTILINE)
    return [shlex.split(re.split(r" {3,}", block or inline)[0]) for block, inline in shown]


def test_the_first_ten_minutes(large_station_once: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    shutil.copytree(large_station_once, tmp_path / "pollen-station")
    monkeypatch.chdir(tmp_path)
    said = {}
    lines = lines_of("first-ten-minutes")
    assert [line[0] for line in lines] == [
        *("demo", "faults", "train", "score", "explain", "try", "cases", "causes", "train", "compare", "repeat"),
        *("cases", "report"),
    ]
    for number, line in enumerate(lines):
        if line[0] == "demo" or line == ["train", "pollen-station"]:
            continue  # both are there
        if line[:2] == ["train", "pollen-station"] and not Path("remedy.toml").exists():
            shutil.copy("pollen-station/runs/0001/plan.toml", "remedy.toml")  # so small a run may have no cause
            line += ["--set", "seed=8"]
        said[number] = command(*line)
    assert "stands in more than one set" in said[1] or "stand in more than one set" in said[1]
    assert "image 260" in said[4] and "case" in said[11]
    assert "of the unchanged plan" in said[11] and Path("report.html").stat().st_size > 10_000


def slides(root: Path) -> Path:
    """Made-up grains in three classes with what goes wrong: copies, a broken file, other formats, a rare class."""
    random = np.random.default_rng(4)
    rows = ["file,device,day"]
    for name, count, colour in (
        ("dark", 110, (70, 30, 60)),
        ("spiny", 110, (170, 60, 90)),
        ("winged", 45, (90, 110, 60)),
    ):
        (root / name).mkdir(parents=True)
        for k in range(count):
            side = int(random.integers(60, 110))
            picture = Image.new("RGB", (side, side), tuple(int(v) for v in random.integers(200, 240, 3)))
            draw = ImageDraw.Draw(picture)
            x, y, r = (float(v) for v in random.uniform((0.4, 0.4, 0.18), (0.6, 0.6, 0.26)) * side)
            draw.ellipse((x - r, y - r, x + r, y + r), fill=colour)
            if name == "winged":
                draw.ellipse((x, y - r, x + 2 * r, y + r), fill=(150, 170, 120))
            noise = random.normal(0, 6, (side, side, 3))
            picture = Image.fromarray(np.clip(np.asarray(picture) + noise, 0, 255).astype(np.uint8))
            file = f"{name}/{name}-{k:03}.{('png', 'jpg', 'tif')[k % 3]}"
            picture.save(root / file)
            rows.append(f"{file},scope {k % 5},2026-0{1 + k % 3}-12")
    shutil.copy(root / "dark/dark-000.png", root / "spiny/spiny-copy.png")
    (root / "dark/cut.png").write_bytes((root / "dark/dark-000.png").read_bytes()[:200])
    (root / "devices.csv").write_text("\n".join(rows) + "\n", "utf-8")
    return root


def test_your_own_images(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    slides(tmp_path / "slides")
    monkeypatch.chdir(tmp_path)
    said: dict[str, str] = {}
    for line in lines_of("your-own-images"):
        words = [*line, *QUICK] if line[0] in ("rehearse", "train") else line
        said[line[0]] = said.get(line[0], "") + command(*words)
    assert "cut.png" in said["new"], "what gave no image is told with its reason"
    assert "scope" in said["columns"] or "device" in said["columns"]
    assert "duplicate" in said["faults"] or "leak" in said["faults"]
    assert set(said) >= {"new", "rescan", "columns", "plan", "faults", "label", "rehearse", "train", "probe", "score"}
    assert set(said) >= {"causes", "advise", "drift"}
