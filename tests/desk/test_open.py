"""What a window has open, without a window: images, runs, scores and the plan tell whoever listens."""

from __future__ import annotations

import fcntl
import os
import sqlite3
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from tests.answering import answer

from attentive_lens.core.jobs import finish
from attentive_lens.desk.cards import keep_pictures, read_card
from attentive_lens.desk.history import History
from attentive_lens.desk.images.browsing import Answers, Wanted, browse, histogram
from attentive_lens.desk.images.collection import Library
from attentive_lens.desk.images.curating import Curating, flagged, moved, read_list, relabelled
from attentive_lens.desk.images.state import OpenImages
from attentive_lens.desk.network.design import Design
from attentive_lens.desk.observing import Signal
from attentive_lens.desk.requests.base import Request
from attentive_lens.desk.requests.images import FaultAction
from attentive_lens.desk.requests.models import Score
from attentive_lens.desk.results.state import OpenScores
from attentive_lens.desk.training import runs as desk_runs
from attentive_lens.desk.training.executing import execute
from attentive_lens.desk.training.runs import RunReader, thinned
from attentive_lens.desk.training.state import OpenRuns
from attentive_lens.errors import BadFile, BadValue, LensError
from attentive_lens.plan.plan import Plan
from attentive_lens.training.journal import BatchEvent, Journal
from attentive_lens.workspace import Workspace
from attentive_lens.workspace.corrections import EXCLUDED, NOTHING


class Answering:
    """Answers at once, in this process, and notes what it was asked."""

    def __init__(self) -> None:
        self.command: list[Request[Any]] = []

    def ask(
        self,
        request: Request[Any],
        done: Callable[[Any], None] | None,
        failed: Callable[[str], None] | None = None,
        priority: int = 5,
        scope: str = "",
    ) -> None:
        self.command.append(request)
        try:
            result = answer(request)
        except LensError as error:
            if failed is not None:
                failed(str(error))
        else:
            if done is not None:
                done(result)


class Told:
    """How often a signal was given, and with what."""

    def __init__(self, signal: Signal) -> None:
        self.calls: list[tuple[Any, ...]] = []
        signal.connect(lambda *values: self.calls.append(values))


def opened(station: Workspace) -> tuple[OpenImages, OpenRuns, OpenScores, Answering]:
    asks, design = Answering(), Design(station)
    images = OpenImages(station, lambda: design.plan, asks)
    runs = OpenRuns(station)
    return images, runs, OpenScores(images, runs, asks), asks


def test_decisions_are_told_undone_and_done_again(station: Workspace) -> None:
    images, *_ = opened(station)
    changed, predicted = Told(images.changed), Told(images.message)
    before = images.collection.rows[4].label
    other = (before + 1) % len(images.collection.classes)
    images.relabel("another label", [5], other)
    assert images.collection.rows[4].label == other
    images.undo()
    assert images.collection.rows[4].label == before
    images.undo()
    images.redo()
    images.redo()
    assert images.collection.rows[4].label == other
    assert len(changed.calls) == 3
    assert [sentence for sentence, _ in predicted.calls] == ["Done: another label."]


def test_a_decision_that_cannot_be_written_changes_nothing_and_undo_stays_where_it_was(
    station: Workspace, monkeypatch: pytest.MonkeyPatch
) -> None:
    images, *_ = opened(station)
    images.decide("excluded", [3], moved(EXCLUDED))
    history = images.curating.history
    stored = (history.state, history.last)

    def full(*_: Any) -> None:
        raise BadFile("The decisions could not be kept", "no space left on device", "Make room")

    changed, predicted = Told(images.changed), Told(images.message)
    monkeypatch.setattr(type(station.catalogue), "correct", full)
    images.undo()
    images.decide("flagged", [4], flagged(True))
    images.act(FaultAction("leave them out", (7,), (), (), (), None, ""))
    assert (history.state, history.last) == stored
    assert changed.calls == []
    assert [bad for _, bad in predicted.calls] == [True, True, True]
    monkeypatch.undo()
    images.undo()
    assert images.curating.state == {}
    assert station.catalogue.corrections() == {}
    images.redo()
    assert station.catalogue.corrections()[3].set_name == EXCLUDED


def test_history_says_where_each_step_leads() -> None:
    history = History(0)
    assert (history.before, history.after, history.undo(), history.redo()) == (0, 0, "", "")
    for k in (1, 2, 3):
        history.add(f"to {k}", k)
    assert (history.state, history.before, history.after) == (3, 2, 3)
    assert history.undo() == "to 3"
    assert (history.before, history.after, history.next) == (1, 3, "to 3")
    history.add("to 9", 9)
    assert (history.state, history.next, history.redo()) == (9, "", "")
    assert [history.undo() for _ in range(4)] == ["to 9", "to 2", "to 1", ""]
    assert history.state == 0


def test_a_table_that_fails_leaves_no_class_behind(station: Workspace, tmp_path: Path) -> None:
    classes = station.catalogue.classes()
    file = tmp_path / "labels.csv"
    file.write_text("image,label\n1,sedge\n2,hazel\n9999,sedge\n", "utf-8")
    with pytest.raises(BadValue, match="9999"):
        read_list(station, file, new_classes=True)
    assert station.catalogue.classes() == classes
    file.write_text("image,label\n1,sedge\n2,hazel\n", "utf-8")
    read_list(station, file, new_classes=True)
    assert set(station.catalogue.classes()) == {*classes, "sedge", "hazel"}
    taken = dict.fromkeys(station.catalogue.corrections(), NOTHING)
    station.catalogue.correct(taken)
    assert station.catalogue.classes() == classes


def test_scores_are_asked_for_once_and_forgotten_when_a_label_changes(station: Workspace) -> None:
    images, runs, scores, asks = opened(station)
    ready = Told(scores.ready)
    assert scores.current is None
    scores.want("test")
    scores.want("test")
    assert [own for own in asks.command if isinstance(own, Score)] == [Score(str(station.folder.absolute()), 1, "test")]
    assert len(ready.calls) == 2
    assert scores.current is not None
    assert {own.image for own in scores.current.answers} == set(scores.answers.predicted)
    assert len(scores.mistakes()) == len(scores.current.wrong)
    images.relabel("another", [scores.current.answers[0].image], 0)
    assert sum(isinstance(own, Score) for own in asks.command) == 2
    assert runs.current == 1


class Later(Answering):
    """Answers when it is told to."""

    def __init__(self) -> None:
        super().__init__()
        self.waiting: list[Callable[[], None]] = []

    def ask(self, request: Request[Any], done: Any, failed: Any = None, priority: int = 5, scope: str = "") -> None:
        result = answer(request)
        self.command.append(request)
        self.waiting.append(lambda: done(result))


def test_scores_of_labels_that_changed_meanwhile_are_asked_for_again(station: Workspace) -> None:
    later, design = Later(), Design(station)
    images = OpenImages(station, lambda: design.plan, later)
    scores = OpenScores(images, OpenRuns(station), later)
    scores.want("test")
    place = images.collection.sets.index("test")
    images.relabel("another", [place + 1], (images.collection.rows[place].label + 1) % len(images.collection.classes))
    assert len(later.command) == 2
    later.waiting[0]()
    assert scores.current is None
    later.waiting[1]()
    assert scores.current is not None
    row = scores.current.places[place + 1]
    assert scores.current.true[row] == images.collection.rows[place].label


def test_images_that_are_new_can_be_browsed_before_they_are_measured(station: Workspace, tmp_path: Path) -> None:
    images, *_ = opened(station)
    images.want_pixels()
    assert set(images.measures) >= {"brightness", "sharpness"}
    file = tmp_path / "new.png"
    file.write_bytes(station.path_of(images.collection.rows[0]).read_bytes())
    images._asks = Later()
    assert images.add([file], "smooth") == [len(images.collection.rows)]
    assert images.pixels is not None
    assert np.array_equal(np.unique(images.pixels[-1]), [128])
    for name in images.measures:
        (group,) = browse(images.collection, Wanted(order=name), images.measures, Answers())
        assert len(group.places) == len(images.collection.rows)
        assert histogram(images.measures[name])[0].sum() >= len(images.collection.rows) - 1


def test_scores_that_cannot_be_had_say_why(station: Workspace) -> None:
    plan = Plan(network=station.run(1).plan().network).changed(
        {"split.validation_fraction": 0.0, "training.epochs": 1, "preprocessing.input_size": 32}
    )
    finish(execute(station, station.claim_run(plan), lambda: False))
    _, runs, scores, _ = opened(station)
    runs.choose(2)
    scores.want("validation")
    assert "no validation set" in scores.problem
    assert scores.current is None
    scores.want("test")
    assert scores.problem == ""
    assert scores.cautions() == []


def test_runs_that_go_on_elsewhere_are_seen(station: Workspace) -> None:
    _, runs, _, _ = opened(station)
    changed, predicted = Told(runs.changed), Told(runs.message)
    runs.tick()
    assert changed.calls == []
    elsewhere = station.claim_run(station.run(1).plan().changed({"training.epochs": 1}))
    runs.tick()
    assert set(runs.views) == {1, 2}
    assert len(changed.calls) == 1
    held = elsewhere.hold()
    runs.tick()
    assert runs.views[2].state == "training"
    assert runs.training is runs.views[2]
    os.close(held)
    finish(execute(station, elsewhere, lambda: False))
    runs.tick()
    assert runs.views[2].state == "done"
    assert any("Run 2 done" in sentence for sentence, _ in predicted.calls)


def test_only_runs_that_exist_come_into_view(station: Workspace) -> None:
    _, runs, _, _ = opened(station)
    changed = Told(runs.changed)
    runs.choose(7)
    runs.choose(1)
    assert (runs.current, changed.calls) == (1, [])
    assert runs.plan() == station.run(1).plan()


def test_the_design_tells_what_changed_and_is_kept(station: Workspace) -> None:
    design = Design(station)
    split, changed = Told(design.split_changed), Told(design.changed)
    design.change(design.plan)
    assert (len(split.calls), len(changed.calls)) == (0, 0)
    design.change(design.plan.changed({"training.epochs": 3}))
    assert (len(split.calls), len(changed.calls)) == (0, 1)
    design.change_split(design.plan.split.with_(validation_fraction=0.4))
    assert (len(split.calls), len(changed.calls)) == (1, 2)
    design.change(replace(design.plan, seed=design.plan.seed + 1))
    assert (len(split.calls), len(changed.calls)) == (2, 3)
    design.keep()
    assert Design(station).plan == design.plan
    reading = Design(replace(station, writable=False))
    reading.change(reading.plan.changed({"training.epochs": 8}))
    reading.keep()
    assert Design(station).plan.training.epochs == 3


def test_the_first_window_may_change_a_workspace_and_the_next_only_reads(station: Workspace) -> None:
    first, held = station.for_window()
    assert first.writable
    assert held is not None
    second, none = station.for_window()
    assert none is None
    assert not second.writable
    assert not second.catalogue.immutable, "the other window writes meanwhile"
    curating = Curating(second)
    with pytest.raises(BadFile, match="another window"):
        curating.change("flag", [1], flagged(True))
    assert curating.state == {}
    # what the first decides is seen by the second, whose catalogue is no dead copy
    Curating(first).change("flag", [1], flagged(True))
    assert second.catalogue.corrections()[1].flagged
    os.close(held)
    third, again = station.for_window()
    assert third.writable
    assert again is not None
    os.close(again)


def test_a_disk_without_locks_serves_one_window(station: Workspace, monkeypatch: pytest.MonkeyPatch) -> None:
    def none(*_: Any) -> None:
        raise OSError(95, "Operation not supported")

    monkeypatch.setattr(fcntl, "flock", none)
    result, held = station.for_window()
    assert result.writable
    assert held is not None
    os.close(held)


def test_a_card_tells_a_workspace_in_short(station: Workspace, monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    card = read_card(station.folder)
    assert (card.images, card.classes, card.runs) == (90, 6, 1)
    accuracies = [
        epoch.validation.accuracy for epoch in OpenRuns(station).views[1].epochs if epoch.validation is not None
    ]
    assert card.best == max(accuracies)
    assert (card.training, card.open, card.error, len(card.pictures)) == (False, False, "", 0)
    images, *_ = opened(station)
    images.want_pixels()
    assert images.pixels is not None
    keep_pictures(station.folder, images.pixels, images.collection.labels)
    _, held = station.for_window()
    assert held is not None
    card = read_card(station.folder)
    assert card.open
    assert card.pictures.shape == (5, 64, 64, 3)
    os.close(held)
    assert not read_card(station.folder).open


def test_a_card_of_a_workspace_that_is_damaged_says_so(station: Workspace, tmp_path: Path) -> None:
    (station.folder / "catalogue.sqlite").write_bytes(b"no base")
    assert "could not be used" in read_card(station.folder).error
    assert "not a workspace" in read_card(tmp_path / "gone").error


def test_the_catalogue_knows_its_size_without_reading_its_rows(station: Workspace) -> None:
    catalogue = station.catalogue
    assert catalogue.size() == (len(catalogue.images()), len(catalogue.classes()))
    with sqlite3.connect(catalogue.file) as base:
        base.execute("DELETE FROM images WHERE id > 10")
    base.close()
    assert catalogue.size() == (10, len(catalogue.classes()))


def test_a_library_is_read_once_and_parted_as_often_as_wanted(station: Workspace) -> None:
    library = Library.read(station)
    plain = library.collection({}, Plan())
    decided = library.collection({1: relabelled(3)(NOTHING), 2: moved(EXCLUDED)(NOTHING)}, Plan())
    assert decided.rows[0].label == 3
    assert decided.sets[1] == EXCLUDED
    assert [a for a, b in zip(plain.rows[2:], decided.rows[2:], strict=True) if a != b] == []
    assert plain.fingerprint != decided.fingerprint
    assert library.collection({}, Plan()).fingerprint == plain.fingerprint


def test_a_run_of_any_length_is_followed_in_the_same_memory(
    station: Workspace, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(desk_runs, "MOST_BATCHES", 64)
    run = station.claim_run(station.run(1).plan())
    with Journal(run.journal) as journal:
        journal.write("start", plan="long", epochs=10, loss_function="cross-entropy")
        for step in range(1, 1001):
            journal.write("batch", epoch=1 + (step - 1) // 100, step=step, of=1000, loss=1 / step, learning_rate=0.1)
    view = RunReader(run).view()
    assert len(view.batches) < 64
    assert view.batches[-1].step == view.steps[0] == 1000
    steps = [batch.step for batch in view.batches]
    assert steps == sorted(set(steps))
    losses = [batch.loss for batch in view.batches]
    assert losses == sorted(losses, reverse=True), "means of losses that fall fall"
    odd = [BatchEvent(1, k, 5, float(k)) for k in range(5)]
    assert [(each.step, each.loss) for each in thinned(odd)] == [(1, 0.5), (3, 2.5), (4, 4.0)]
