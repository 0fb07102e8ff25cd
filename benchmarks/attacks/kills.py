"""Commands killed at every write and rename, and at random: nothing is lost, and asking again completes the work.

A first run counts the instants at which a command writes, flushes or renames; then it is killed right before and right
after each of them, and at random times besides. Every attempt runs in a process of its own, forked from this one.

    python benchmarks/attacks/kills.py [--random 100] [--seed 0] [--only train]
"""

from __future__ import annotations

import argparse
import json
import os
import pathlib
import random
import shutil
import signal
import sqlite3
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import numpy as np
from PIL import Image

from attentive_lens.__main__ import main as command
from attentive_lens.cli import commands
from attentive_lens.cli.explaining import maps
from attentive_lens.cli.images import collecting
from attentive_lens.cli.training import planning
from attentive_lens.desk.tasks import load_all
from attentive_lens.desk.training.executing import execute
from attentive_lens.desk.training.runs import RunReader
from attentive_lens.engine.network import fingerprint
from attentive_lens.formats.reading import read_checkpoint, read_model
from attentive_lens.workspace import Workspace

load_all()
del collecting, commands, maps, planning, execute  # imported before the forks, so that these are quick

TINY = ["--set", "network=two blocks", "--set", "preprocessing.input_size=16", "--set", "training.epochs=3"]


class Instants:
    """Counts what a process does to its files, and kills it at one of them."""

    def __init__(self, at: int = -1, before: bool = True) -> None:
        self.count, self.at, self.before = 0, at, before
        for owner, names in (
            (os, ("fsync", "rename", "replace", "unlink", "mkdir")),
            (pathlib.Path, ("write_text", "write_bytes", "replace", "rename", "unlink", "mkdir")),
            (shutil, ("rmtree", "copyfile")),
            (sqlite3, ("connect",)),
        ):
            for name in names:
                setattr(owner, name, self._watched(getattr(owner, name)))
        from attentive_lens.training.journal import Journal

        Journal.write = self._watched(Journal.write)  # type: ignore[method-assign]

    def _watched(self, act: Callable[..., Any]) -> Callable[..., Any]:
        def do(*args: Any, **kwargs: Any) -> Any:
            self.count += 1
            if self.count == self.at and self.before:
                os.kill(os.getpid(), signal.SIGKILL)
            result = act(*args, **kwargs)
            if self.count == self.at and not self.before:
                os.kill(os.getpid(), signal.SIGKILL)
            return result

        return do


def attempt(
    words: list[str], at: int = -1, before: bool = True, after_seconds: float | None = None, log: Path | None = None
) -> tuple[int, int]:
    """Run a command in a child, its output in a log; its exit code (negative: killed) and how many instants it had."""
    read, write = os.pipe()
    child = os.fork()
    if not child:
        os.close(read)
        quiet = os.open(log or os.devnull, os.O_WRONLY | os.O_CREAT | os.O_TRUNC)
        os.dup2(quiet, 1)
        os.dup2(quiet, 2)
        watch = Instants(at, before)
        sys.argv = ["attentive-lens", *words]
        code = command()
        sys.stdout.flush()
        sys.stderr.flush()
        os.write(write, str(watch.count).encode())
        os._exit(code)
    os.close(write)
    if after_seconds is not None:
        time.sleep(after_seconds)
        os.kill(child, signal.SIGKILL)
    _, status = os.waitpid(child, 0)
    summary = os.read(read, 32)
    os.close(read)
    return os.waitstatus_to_exitcode(status), int(summary or 0)


def drawn(folder: Path, count: int = 8) -> Path:
    rng = np.random.default_rng(0)
    for k, kind in enumerate(("broad", "narrow")):
        (folder / kind).mkdir(parents=True)
        for n in range(count):
            pixels = rng.integers(0, 120 + 100 * k, (20, 20, 3)).astype(np.uint8)
            Image.fromarray(pixels).save(folder / kind / f"{n}.png")
    return folder


class Scene:
    """A command, what stands before it, and what must be true once it was asked again after a kill."""

    def prepare(self, folder: Path) -> None:
        """What stands before."""

    def words(self, folder: Path) -> list[str]:
        """The command."""
        raise NotImplementedError

    def again(self, folder: Path) -> list[str]:
        """What somebody types after the kill."""
        return self.words(folder)

    def facts(self, folder: Path) -> Any:
        """What must be the same as without a kill."""
        raise NotImplementedError

    def sound(self, folder: Path) -> None:
        """What must hold right after the kill."""


class New(Scene):
    def prepare(self, folder: Path) -> None:
        drawn(folder / "leaves")

    def words(self, folder: Path) -> list[str]:
        return ["new", str(folder / "work"), str(folder / "leaves")]

    def again(self, folder: Path) -> list[str]:
        return ["rescan", str(folder / "work")] if (folder / "work" / "workspace.toml").exists() else self.words(folder)

    def facts(self, folder: Path) -> Any:
        place = Workspace.open(folder / "work")
        hidden = [p.name for p in place.folder.iterdir() if p.name.startswith(".")]
        return [(row.number, row.label) for row in place.catalogue.images()], place.catalogue.classes(), hidden


class Demo(Scene):
    def words(self, folder: Path) -> list[str]:
        return ["demo", str(folder / "p"), "--images", "24", "--json"]

    def facts(self, folder: Path) -> Any:
        place = Workspace.open(folder / "p")
        key = (folder / "p" / "answer-key" / "key.csv").read_text()
        return [(row.file, row.label) for row in place.catalogue.images()], key


class Label(Scene):
    def prepare(self, folder: Path) -> None:
        drawn(folder / "leaves")
        attempt(["new", str(folder / "work"), str(folder / "leaves")])
        (folder / "l.csv").write_text("image,label,set\n1,new kind,\n2,narrow,test\n3,,excluded\n")

    def words(self, folder: Path) -> list[str]:
        return ["label", str(folder / "work"), str(folder / "l.csv"), "--new-classes"]

    def sound(self, folder: Path) -> None:
        Workspace.open(folder / "work").catalogue.corrections()

    def facts(self, folder: Path) -> Any:
        catalogue = Workspace.open(folder / "work").catalogue
        stored = catalogue.corrections(), catalogue.classes()
        catalogue.restore()
        return stored, (catalogue.corrections(), catalogue.classes())


class Rescan(Scene):
    def prepare(self, folder: Path) -> None:
        drawn(folder / "leaves")
        attempt(["new", str(folder / "work"), str(folder / "leaves")])
        (folder / "leaves" / "broad" / "1.png").unlink()
        shutil.copytree(folder / "leaves" / "broad", folder / "leaves" / "round")

    def words(self, folder: Path) -> list[str]:
        return ["rescan", str(folder / "work")]

    def sound(self, folder: Path) -> None:
        Workspace.open(folder / "work").catalogue.images()

    def facts(self, folder: Path) -> Any:
        catalogue = Workspace.open(folder / "work").catalogue
        return [(row.number, row.label, row.given_set) for row in catalogue.images()], catalogue.classes()


class Train(Scene):
    def prepare(self, folder: Path) -> None:
        drawn(folder / "leaves")
        attempt(["new", str(folder / "work"), str(folder / "leaves")])

    def words(self, folder: Path) -> list[str]:
        return ["train", str(folder / "work"), *TINY]

    def again(self, folder: Path) -> list[str]:
        runs = Workspace.open(folder / "work").runs()
        return ["train", str(folder / "work"), "--resume", "1"] if runs else self.words(folder)

    def sound(self, folder: Path) -> None:
        for run in Workspace.open(folder / "work").runs():
            summary = max((epoch.epoch for epoch in RunReader(run).view().epochs), default=0)
            last = run.checkpoints / "last.alens"
            held = read_checkpoint(last).card["position"]["epoch"] if last.exists() else 0
            if summary > held:
                raise AssertionError(f"epoch {summary} was told and the checkpoint holds {held}")

    def facts(self, folder: Path) -> Any:
        (run,) = Workspace.open(folder / "work").runs()
        view = RunReader(run).view()
        epochs = [(e.epoch, e.training, e.validation, e.best) for e in view.epochs]
        left = [p.name for place in (run.folder, run.checkpoints) for p in place.iterdir() if p.name.startswith(".")]
        return view.state, epochs, fingerprint(read_model(run.model).weights), left


SCENES: dict[str, type[Scene]] = {"new": New, "demo": Demo, "label": Label, "rescan": Rescan, "train": Train}


def chain(scene: Scene, base: Path, wanted: Any, kills: list[dict[str, Any]]) -> str:
    """What went wrong after some kills, each at the work then at hand; empty if nothing did."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name) / "scene"
        shutil.copytree(base, folder)
        _relocate(base, folder)
        try:
            words = scene.words(folder)
            for kill in kills:
                attempt(words, **kill)
                scene.sound(folder)
                words = scene.again(folder)
            code, _ = attempt(words)
            if code and not (words[0] == "train" and scene.facts(folder)[0] == "done"):
                return f"asking again ended with exit code {code}"
            outcome = scene.facts(folder)
            return "" if outcome == wanted else f"{json.dumps(outcome, default=str)[:200]}"
        except Exception as error:  # noqa: BLE001
            return f"{type(error).__name__}: {error}"


def _relocate(base: Path, folder: Path) -> None:
    """The scene was copied: its source is in another place now."""
    if (folder / "work" / "workspace.toml").exists():
        attempt(["source", str(folder / "work"), str(folder / "leaves")])
        del base


def attack(name: str, at_random: int, seed: int, every: int = 1) -> tuple[int, int, list[str]]:
    """Kills at chosen instants and at random, and what went wrong."""
    rng = random.Random(seed)
    scene = SCENES[name]()
    with tempfile.TemporaryDirectory() as folder:
        base = Path(folder) / "base"
        base.mkdir()
        scene.prepare(base)
        whole = Path(folder) / "whole"
        shutil.copytree(base, whole)
        _relocate(base, whole)
        began = time.perf_counter()
        code, instants = attempt(scene.words(whole))
        lasts = time.perf_counter() - began
        assert code == 0, f"{name} ended with {code} without any kill"
        wanted = scene.facts(whole)
        plans: list[list[dict[str, float]]] = [
            [{"at": at, "before": before}] for at in range(1, instants + 1, every) for before in (True, False)
        ]
        chosen = len(plans)
        for _ in range(at_random):
            plans.append([{"after_seconds": rng.random() * lasts} for _ in range(rng.choice([1, 1, 2, 3]))])
        faults = []
        for plan in plans:
            wrong = chain(scene, base, wanted, plan)
            if wrong:
                faults.append(f"{name} {plan}: {wrong}")
        return chosen, at_random, faults


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--random", type=int, default=100)
    parser.add_argument("--seed", type=int, default=0)
    parser.add_argument("--only", choices=sorted(SCENES))
    words = parser.parse_args()
    bad = 0
    for name in [words.only] if words.only else SCENES:
        chosen, at_random, faults = attack(name, words.random, words.seed)
        bad += len(faults)
        print(f"{name}: {chosen} kills at chosen instants, {at_random} at random times: {len(faults)} went wrong")
        print("\n".join(faults[:8]), flush=True)
    return 1 if bad else 0


if __name__ == "__main__":
    sys.exit(main())
