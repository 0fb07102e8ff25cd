"""What is not to learn yet stays as it is, to the bit; what begins later steps as if it had just begun."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from numpy.typing import NDArray

from attentive_lens.core.jobs import finish
from attentive_lens.desk.images.collection import collection
from attentive_lens.desk.network.bases import with_base
from attentive_lens.desk.training.executing import Launch, execute
from attentive_lens.engine.optimisers import AdamOptimiser
from attentive_lens.formats.reading import read_model
from attentive_lens.plan.base import Base
from attentive_lens.plan.optimisers import Adam
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Run, Workspace

SETTINGS = {
    "network": "normalised blocks",
    "preprocessing.input_size": 32,
    "training.epochs": 1,
    "training.batch_size": 16,
    "augmentation": "none",
    "training.keep_every": 1,
    "training.kernels": "direct",
}


@pytest.fixture
def place(station: Workspace) -> Workspace:
    """With a run to build on, number 2."""
    first = station.claim_run(Plan().changed(SETTINGS))
    finish(execute(station, first, lambda: False))
    return station


def tuned(place: Workspace, epochs: int, **settings: object) -> Run:
    base = Base(run=2, frozen=False).with_(**settings)
    plan = with_base(place, Plan().changed({**SETTINGS, "training.epochs": epochs}), base)
    run = place.claim_run(plan)
    finish(execute(place, run, lambda: False))
    return run


def arrays(file: Path) -> dict[str, NDArray[np.float32]]:
    weights = read_model(file).weights
    return {f"{node}/{name}": array for node, own in weights.items() for name, array in own.items()}


def moved(before: Path, after: Path) -> set[str]:
    one, other = arrays(before), arrays(after)
    return {key.split("/")[0] for key in one if not np.array_equal(one[key], other[key])}


def epochs_of(run: Run) -> list[Path]:
    return sorted(run.checkpoints.glob("epoch-*.alens"))


def test_parts_begin_one_after_the_other_and_stay_to_the_bit_before(place: Workspace) -> None:
    run = tuned(place, 3, head_warmup_epochs=1, unfreeze_every=1)
    files = epochs_of(run)
    assert len(files) == 3
    base = place.run(2).model
    deep, shallow = ({f"{kind} {k}" for kind in ("convolution", "batch normalisation") for k in pair}
                     for pair in ((3, 4), (1, 2)))  # fmt: skip
    taken = deep | shallow
    assert taken <= {node.name for node in read_model(base).plan.nodes}
    learned = [moved(base, file) & taken for file in files]
    assert learned == [set(), deep, taken], "the head first, then part by part, the last first"


def test_a_run_that_was_stopped_in_between_comes_to_the_same_bits(place: Workspace) -> None:
    whole = tuned(place, 3, head_warmup_epochs=1, unfreeze_every=1, lr_decay=0.5)
    again = place.claim_run(whole.plan())
    for launch in (Launch(until=1), Launch(resume=True, until=2), Launch(resume=True)):
        finish(execute(place, again, lambda: False, launch))
    for name in ("last.alens", "best.alens"):
        assert not moved(whole.checkpoints / name, again.checkpoints / name)


def test_kept_normalisation_stays_to_the_bit_while_its_layers_learn(place: Workspace) -> None:
    run = tuned(place, 2, normalisation="kept")
    changed = moved(place.run(2).model, run.model)
    assert not {name for name in changed if name.startswith("batch normalisation")}
    assert {"convolution 1", "convolution 2"} <= changed


def test_deeper_parts_move_less_with_a_rate_that_falls_by_depth(place: Workspace) -> None:
    def ratio(run: Run) -> float:
        before, after = arrays(place.run(2).model), arrays(run.model)
        apart = {
            name: float(np.linalg.norm(after[key] - before[key]) / np.linalg.norm(before[key]))
            for name, key in ((name, f"{name}/kernel") for name in ("convolution 1", "convolution 4"))
        }
        return apart["convolution 1"] / apart["convolution 4"]

    assert ratio(tuned(place, 1, lr_decay=0.1)) < 0.3 * ratio(tuned(place, 1))


def test_the_first_step_of_layers_that_begin_later_is_one_learning_rate_long(place: Workspace) -> None:
    batches = -(-collection(place, Plan().changed(SETTINGS)).count("training") // 16)
    base = Base(run=2, frozen=False, head_warmup_epochs=1)
    plan = with_base(place, Plan().changed({**SETTINGS, "training.epochs": 9}), base)
    run = place.claim_run(plan.changed({"stopping.batches": batches + 1}))
    finish(execute(place, run, lambda: False))
    before, after = arrays(place.run(2).model), arrays(run.checkpoints / "last.alens")
    apart = np.abs(after["convolution 1/kernel"] - before["convolution 1/kernel"])
    assert float(apart.max()) == pytest.approx(0.001, rel=0.01)


def test_what_begins_later_takes_its_first_step_as_if_it_had_just_begun() -> None:
    def first_step(since: dict[str, int], steps_before: int) -> float:
        optimiser = AdamOptimiser(Adam())
        weights = {"a": {"kernel": np.zeros((2, 2), np.float32)}}
        optimiser.steps = steps_before
        optimiser.step(weights, {"a": {"kernel": np.full((2, 2), 0.3, np.float32)}}, 1.0, since)
        return float(weights["a"]["kernel"][0, 0])

    fresh = first_step({}, 0)
    assert fresh == pytest.approx(-0.001, rel=1e-4)
    assert first_step({"a": 500}, 500) == fresh
    assert first_step({}, 500) < 1.9 * fresh, "without it the first step would be several times too long"
