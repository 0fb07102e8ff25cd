"""A plan runs through in small before the long run, in every way in which it is made; what would end that ends this."""

from __future__ import annotations

from pathlib import Path

import pytest
from tests.cli.running import command, last_object

from attentive_lens.core.jobs import finish
from attentive_lens.desk.images.collection import collection
from attentive_lens.desk.requests.rehearsing import Rehearse, Rehearsed
from attentive_lens.desk.tasks import carry_out, rehearsing
from attentive_lens.desk.tasks.rehearsing import in_small
from attentive_lens.errors import BadValue, LensError
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.starters import STARTERS
from attentive_lens.workspace import Workspace

SMALL = {"network": "two blocks", "preprocessing.input_size": 32, "training.batch_size": 16}


def rehearsed(station: Workspace, **more: object) -> Rehearsed:
    plan = Plan().changed({**SMALL, **more})  # type: ignore[dict-item]
    return finish(carry_out(Rehearse(str(station.folder), plan.write())))


def nothing_is_left(station: Workspace) -> bool:
    return not list(station.cache.glob("rehearsal*")) and [run.number for run in station.runs()] == [1]


def test_it_runs_through_is_told_and_gone(station: Workspace) -> None:
    result = rehearsed(station, **{"training.epochs": 500})
    assert 2 <= result.training <= 75
    assert result.validation > 0
    assert result.accuracy is not None
    assert len(result.losses) == 2
    assert result.batches == 2 * -(-result.training // 16)
    assert not result.runs_away
    assert "It runs through" in " ".join(result.words())
    assert nothing_is_left(station)
    result_of_command = last_object(
        command("rehearse", station.folder, "--set", "preprocessing.input_size=32", "--json")
    )
    assert result_of_command["batches"] > 0
    assert nothing_is_left(station)


@pytest.mark.parametrize("name", STARTERS)
def test_every_starting_network_runs_through(name: str, station: Workspace) -> None:
    assert rehearsed(station, network=name).losses[1] > 0


@pytest.mark.parametrize(
    "settings",
    [
        {"base.run": 1, "base.until": "max pooling 2"},
        {"base.run": 1, "base.until": "max pooling 2", "augmentation": "none"},
        {"schedule": "plateau"},
        {"schedule": "one cycle"},
        {"averaging": "stochastic weight averaging"},
        {"training.keep_every": 1, "training.keep_last": 2},
        {"stopping.patience": 1, "stopping.batches": 1},
        {"optimiser": "sgd", "training.clip_norm": 1.0},
        {"split.validation_fraction": 0.0},
    ],
    ids=str,
)
def test_every_kind_of_plan_runs_through(settings: dict[str, object], station: Workspace) -> None:
    result = rehearsed(station, **settings)
    assert len(result.losses) == 2, "no rule of the plan ends so short a run"
    assert nothing_is_left(station)


def test_a_loss_that_runs_away_is_told(station: Workspace) -> None:
    result = rehearsed(station, **{"optimiser.learning_rate": 9.0})
    assert result.runs_away
    assert "lower learning rate" in " ".join(result.words())


def test_what_would_end_the_run_ends_the_rehearsal_and_nothing_is_left(
    station: Workspace, monkeypatch: pytest.MonkeyPatch
) -> None:
    with pytest.raises(LensError, match="no layer called"):
        rehearsed(station, **{"base.run": 1, "base.until": "nowhere"})
    with pytest.raises(LensError, match="validation set"):
        rehearsed(station, **{"split.validation_fraction": 0.0, "schedule": "plateau"})
    assert nothing_is_left(station)

    def failing(*words: object) -> object:
        raise BadValue("The run ended", "the disk is full", "Free it")

    monkeypatch.setattr(rehearsing, "execute", failing)
    with pytest.raises(BadValue, match="the disk is full"):
        rehearsed(station)
    assert nothing_is_left(station)


def test_few_images_of_every_class_and_two_batches_at_least(station: Workspace) -> None:
    whole = Plan().changed({"training.epochs": 90, "training.batch_size": 8})
    short = in_small(station, whole)
    assert short.training.epochs == 2
    assert short.split.subset_fraction < 1.0 or rehearsing.IMAGES > 60
    large = in_small(station, whole.changed({"training.batch_size": 4096}))
    assert large.split.subset_fraction == 1.0
    halved = in_small(station, whole.changed({"split.subset_fraction": 0.02}))
    assert halved.split.subset_fraction <= 0.02, "what the plan leaves out stays out"


def test_two_whole_batches_are_learned_from_even_where_fewer_images_would_do(
    station: Workspace, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(rehearsing, "IMAGES", 4)
    monkeypatch.setattr(rehearsing, "OF_CLASS", 1)
    count = collection(station, Plan()).count("training")
    for size in (4, 12):
        plan = Plan().changed({"training.batch_size": size})
        assert in_small(station, plan).split.subset_fraction == pytest.approx(max(6, 2 * size) / count)


def test_a_workspace_that_cannot_be_written_says_so(station: Workspace, tmp_path: Path) -> None:
    station.folder.chmod(0o500)
    try:
        if not Workspace.open(station.folder).writable:
            with pytest.raises(LensError, match="not rehearsed"):
                rehearsed(station)
    finally:
        station.folder.chmod(0o700)
