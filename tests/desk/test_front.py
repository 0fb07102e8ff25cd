"""The light half of the desk: what is told without computing."""

from __future__ import annotations

import os
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from attentive_lens.core.keeping import keep, key_of, stored
from attentive_lens.desk import remembering
from attentive_lens.desk.images.collection import collection
from attentive_lens.desk.network.bases import base_layers, with_base
from attentive_lens.desk.network.design import facts_of
from attentive_lens.desk.training.runs import RunReader, start_training
from attentive_lens.errors import BadFile, LensError
from attentive_lens.plan.base import Base
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.starters import STARTERS
from attentive_lens.training.journal import Journal
from attentive_lens.workspace import Run, Workspace


def test_a_collection_counts_every_image_once(station: Workspace) -> None:
    result = collection(station, Plan())
    by_set = {name: result.count(name) for name in ("training", "validation", "test")}
    assert sum(by_set.values()) == len(result.rows) == 90
    for name, total in by_set.items():
        assert sum(result.count(name, label) for label in range(6)) == total
    assert {row.given_set for row, s in zip(result.rows, result.sets, strict=True) if s == "test"} == {"test"}


def test_another_seed_parts_the_same_images_otherwise(station: Workspace) -> None:
    first, other = (collection(station, Plan(seed=seed)) for seed in (1, 2))
    assert first.rows == other.rows
    assert first.sets != other.sets
    assert first.count("validation") == other.count("validation")


def test_a_journal_is_followed_as_it_grows(tmp_path: Path) -> None:
    (tmp_path / "0001").mkdir()
    run = Run(tmp_path / "0001")
    held = run.hold()
    reader = RunReader(run)
    assert reader.view().state == "training"
    with Journal(run.journal) as journal:
        journal.write("start", plan="two blocks", epochs=3)
        journal.write("batch", epoch=1, step=5, of=30, loss=1.5)
        view = reader.view()
        assert (view.name, view.planned, view.steps) == ("two blocks", 3, (5, 30))
        assert not view.has_model
        figures = {"accuracy": 0.5, "loss": 1.0}
        for epoch, best in ((1, True), (2, False)):
            journal.write("epoch", epoch=epoch, training=figures, validation=figures, best=best, seconds=1.0)
        view = reader.view()
        assert view.steps == (20, 30)
        assert view.best is not None
        assert view.best.epoch == 1
        journal.write("end", state="stopped")
    assert reader.view().state == "training", "its process has not let go yet"
    os.close(held)
    assert reader.view().state == "stopped"
    assert RunReader(run).view() == reader.view()


def test_a_plan_on_an_earlier_run_brings_its_network_and_preprocessing(station: Workspace) -> None:
    plan = with_base(station, Plan(seed=5), Base(1, "relu 1", frozen=False))
    earlier = station.run(1).plan()
    assert (plan.network, plan.preprocessing) == (earlier.network, earlier.preprocessing)
    assert (plan.seed, plan.name) == (5, "two blocks on run 1")
    assert plan.frozen == frozenset()
    assert base_layers(earlier)[-1] == "dropout 1"
    with pytest.raises(LensError, match="no layer called"):
        with_base(station, Plan(), Base(1, "convolution 9"))


@given(st.sampled_from(sorted(STARTERS)), st.integers(16, 200), st.integers(2, 1000))
def test_every_starting_network_fits_every_usual_image_and_number_of_classes(name: str, side: int, n: int) -> None:
    plan = Plan().changed({"network": name, "preprocessing.input_size": side})
    network, facts = facts_of(plan, n)
    assert facts[-1].shape == (n,)
    assert [fact.name for fact in facts] == [node.name for node in network.nodes]
    assert all(min(fact.shape) >= 1 for fact in facts)
    reach = {fact.name: fact.receptive_field or 10**6 for fact in facts} | {"image": 1}
    for node in network.nodes:
        assert all(reach[node.name] >= reach[source] for source in node.after), node.name


def test_training_that_cannot_be_started_says_why(station: Workspace, monkeypatch: pytest.MonkeyPatch) -> None:
    def refuse(*_: object, **__: object) -> None:
        raise OSError(12, "Cannot allocate memory")

    monkeypatch.setattr("subprocess.Popen", refuse)
    with pytest.raises(BadFile, match="cannot allocate memory"):
        start_training(station, Plan())


@dataclass(frozen=True)
class Figures:
    accuracy: float
    curve: np.ndarray
    by_class: dict[str, tuple[int, ...]]


def test_what_is_kept_is_forgotten_when_one_of_its_inputs_is_another(tmp_path: Path) -> None:
    model, file = tmp_path / "model", tmp_path / "kept.npz"
    model.write_bytes(b"weights")
    figures = Figures(0.5, np.arange(3, dtype=np.float32), {"a": (1, 2)})
    keep(file, figures, key_of("scores", model, "images as now"))
    result = stored(file, Figures, key_of("scores", model, "images as now"))
    assert result is not None
    assert (result.accuracy, result.curve.tolist(), result.by_class) == (0.5, [0, 1, 2], {"a": (1, 2)})
    assert stored(file, Figures, key_of("scores", model, "one label changed")) is None
    model.write_bytes(b"other weights")
    assert stored(file, Figures, key_of("scores", model, "images as now")) is None
    key = key_of("scores", model, "images as now")
    for harm in (b"", b"{half", file.read_bytes()[:-30]):
        file.write_bytes(harm)
        assert stored(file, Figures, key) is None
    keep(tmp_path / "no folder" / "kept.npz", figures, key)
    assert [own.name for own in tmp_path.iterdir() if own.name.startswith(".")] == []


def test_a_damaged_memory_is_no_memory(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path))
    assert remembering.recall(Path("x")) == {}
    remembering.remember(Path("x"), {"stage": "images"})
    assert remembering.recall(Path("x")) == {"stage": "images"}
    (file,) = tmp_path.rglob("windows.json")
    for damaged in ("{half", "[]", '{"x": 3}'):
        file.write_text(damaged)
        assert remembering.recall(Path("x")) == {}


def test_what_was_told_of_epochs_that_are_trained_again_is_void(station: Workspace) -> None:
    run = station.claim_run(Plan())
    summary = {"training": {"accuracy": 0.5, "loss": 1.0}, "validation": None, "best": True, "seconds": 3.0}
    with Journal(run.journal) as journal:
        journal.write("start", plan="p", epochs=3)
        journal.write("epoch", epoch=1, **summary)
        journal.write("epoch", epoch=2, **{**summary, "seconds": 9.0})
        journal.write("batch", epoch=3, step=9, of=12, loss=1.0)
        journal.write("end", state="stopped", error="")
    reader = RunReader(run)
    assert (len(reader.view().epochs), reader.view().state) == (2, "stopped")
    with Journal(run.journal) as journal:
        journal.write("resume", epoch=1)
        journal.write("epoch", epoch=2, **summary)
    view = reader.view()
    assert [(epoch.epoch, epoch.seconds) for epoch in view.epochs] == [(1, 3.0), (2, 3.0)]
    assert view.batches == []
    assert view.state == "broken off"
    assert RunReader(run).view() == view
