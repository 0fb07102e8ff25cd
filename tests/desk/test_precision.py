"""A plan's precision: double changes what rounding changes, what is kept, and what it costs; nothing else."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from tests.answering import answer
from tests.conftest import small_plan

from attentive_lens.core.jobs import finish
from attentive_lens.desk.images.collection import collection
from attentive_lens.desk.network.design import price_in_memory
from attentive_lens.desk.requests.bases import ProbeBase
from attentive_lens.desk.requests.explaining import Activations, Explain
from attentive_lens.desk.requests.numbers import LayerNumbers
from attentive_lens.desk.requests.prices import PricePlan
from attentive_lens.desk.requests.subjects import RunImage
from attentive_lens.desk.training.executing import Launch, execute
from attentive_lens.desk.training.preparing import prepare
from attentive_lens.desk.training.runs import RunReader
from attentive_lens.engine.network import fingerprint
from attentive_lens.formats.reading import read_checkpoint, read_model
from attentive_lens.plan.augmentation import Flip
from attentive_lens.plan.averaging import AVERAGING
from attentive_lens.plan.base import Base
from attentive_lens.plan.plan import Plan
from attentive_lens.training import frozen_outputs
from attentive_lens.workspace import Run, Workspace


def in_precision(word: str, **settings: object) -> Plan:
    return small_plan().changed({"training.precision": word, "training.epochs": 1, **settings})


def train(workspace: Workspace, plan: Plan, until: int = 0) -> Run:
    run = workspace.claim_run(plan)
    finish(execute(workspace, run, lambda: False, Launch(until=until)))
    return run


def losses(run: Run) -> list[float]:
    return [epoch.validation.loss for epoch in RunReader(run).view().epochs if epoch.validation is not None]


def dtypes(run: Run) -> set[str]:
    model = read_checkpoint(run.checkpoints / "last.alens")
    stored = [array for key, array in model.optimiser.items() if not key.startswith("/")]
    return {str(array.dtype) for arrays in model.weights.values() for array in arrays.values()} | {
        str(array.dtype) for array in stored
    }


def test_double_learns_the_same_but_for_rounding_and_is_explained_the_same(station: Workspace) -> None:
    single, double = (train(station, in_precision(word)) for word in ("single", "double"))
    assert dtypes(single) == {"float32"}
    assert dtypes(double) == {"float64"}
    assert losses(double) != losses(single), "something was computed otherwise"
    assert losses(double) == pytest.approx(losses(single), abs=1e-3)
    seen = [answer(Explain(RunImage(str(station.folder), run.number, 1))) for run in (single, double)]
    for one, other in zip(seen[0].maps, seen[1].maps, strict=True):
        assert one.values.dtype == other.values.dtype == np.float32
        assert np.corrcoef(one.values.ravel(), other.values.ravel())[0, 1] > 0.999
    kernel = read_model(double.model).weights["convolution 1"]["kernel"]
    numbers = answer(LayerNumbers(str(station.folder), double.number, "convolution 1", image=1))
    assert numbers.gradient is not None
    assert numbers.values.dtype == numbers.gradient.dtype == np.float64, "raw numbers are shown as they are"
    assert np.array_equal(numbers.values, kernel)
    maps = answer(Activations(RunImage(str(station.folder), double.number, 1))).outputs
    assert {out.dtype for out in maps.values()} == {np.dtype(np.float32)}


@pytest.mark.parametrize("averaging", AVERAGING)
def test_in_double_too_a_run_that_goes_on_ends_with_the_same_bits(station: Workspace, averaging: str) -> None:
    plan = in_precision("double", **{"training.epochs": 2, "averaging": averaging})
    whole, broken = train(station, plan), train(station, plan, until=1)
    assert len(losses(broken)) == 1
    finish(execute(station, broken, lambda: False, Launch(resume=True)))
    assert dtypes(broken) == {"float64"}
    assert fingerprint(read_model(whole.model).weights) == fingerprint(read_model(broken.model).weights)


def test_a_base_is_taken_into_the_plan_s_precision(station: Workspace) -> None:
    base = read_model(station.run(1).model)
    plan = replace(
        in_precision("double"), base=Base(run=1, until="max pooling 2"), preprocessing=base.preprocessor.settings
    )
    run = train(station, plan)
    ours = read_model(run.model).weights["convolution 1"]["kernel"]
    assert ours.dtype == np.float64
    assert np.array_equal(ours, base.weights["convolution 1"]["kernel"])
    back = train(
        station,
        replace(plan, base=Base(run=run.number, until="max pooling 2")).changed({"training.precision": "single"}),
    )
    assert dtypes(back) == {"float32"}
    probed = answer(ProbeBase(str(station.folder), plan.write(), quick=True))
    assert 0 <= probed.untrained <= 1


def test_kept_outputs_of_a_frozen_part_and_those_computed_anew_train_to_the_same_bits_in_double(
    station: Workspace, monkeypatch: pytest.MonkeyPatch
) -> None:
    first = station.run(1).plan().changed({"training.precision": "double", "training.augmentation_variants": 2})
    plan = replace(first, base=Base(run=1, until="max pooling 2"), augmentation=(Flip(),))
    stored = train(station, plan)
    monkeypatch.setattr(frozen_outputs, "BUDGET", 10)
    beyond = train(station, plan)
    assert list((station.cache / "frozen").glob("*.npy"))
    assert fingerprint(read_model(stored.model).weights) == fingerprint(read_model(beyond.model).weights)


def test_double_takes_more_memory_and_is_priced_as_it_trains(station: Workspace) -> None:
    single, double = in_precision("single"), in_precision("double")
    each, most = (price_in_memory(plan, 5, 60)[0] for plan in (single, double))
    assert each < most < 2 * each  # the process and prepared images are the same
    held_out = collection(station, double).count("validation")
    assert answer(PricePlan(str(station.folder), double.write())).memory == price_in_memory(double, 6, held_out)[0]
    assert finish(prepare(station, station.claim_run(double), None)).network.dtype == np.float64
