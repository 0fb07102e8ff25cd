"""Scores that are open in the window: asked for once, and what they give of a large collection worked out once."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import numpy as np
import pytest

from attentive_lens.desk.images.collection import Collection
from attentive_lens.desk.observing import Signal
from attentive_lens.desk.results import state
from attentive_lens.desk.results.state import OpenScores
from attentive_lens.scoring.scores import Scores, scored


def some_scores() -> Scores:
    answers = np.array([[0.9, 0.1], [0.4, 0.6], [0.7, 0.3]])
    true, losses = np.array([0, 0, 1]), -np.log(np.array([0.9, 0.4, 0.3]))
    return scored("validation", ("a", "b"), (1, 2, 3), true, answers.argmax(axis=1), answers, losses, "cross-entropy")


@pytest.fixture
def asks() -> list[tuple[Any, Callable[[Any], None], Callable[[str], None]]]:
    """What was wanted: the request, and what takes its result or its failure."""
    return []


@pytest.fixture
def scores(asks: list[Any]) -> OpenScores:
    view = SimpleNamespace(number=2, has_model=True, state="done", best=None)
    runs = SimpleNamespace(
        current=2,
        in_view=2,
        asks_about="",
        view=view,
        draws=False,
        workspace=SimpleNamespace(run=lambda number: number),
    )
    collection = Collection(["a", "b"], [], ["validation"], [])
    images = SimpleNamespace(
        changed=Signal(), collection=collection, workspace=SimpleNamespace(folder=Path("/nowhere"))
    )
    ask = SimpleNamespace(ask=lambda request, done, failed, **_: asks.append((request, done, failed)))
    return OpenScores(images, runs, ask)  # type: ignore[arg-type]


def test_what_failed_is_not_tried_again_by_whoever_hears_of_it(scores: OpenScores, asks: list[Any]) -> None:
    scores.ready.connect(lambda: scores.of(7))
    assert scores.of(7) is None
    assert [request.run for request, *_ in asks] == [7]
    asks[0][2]("There is no run 7.")
    assert scores.problem == "There is no run 7."
    assert len(asks) == 1, "hearing that it failed asks no more"
    scores.want()
    assert scores.problem == ""
    scores.of(7)
    assert [request.run for request, *_ in asks] == [7, 2, 7], "who wants scores tries again"


def test_what_is_made_of_the_same_scores_is_made_once(
    scores: OpenScores, asks: list[Any], monkeypatch: pytest.MonkeyPatch
) -> None:
    calls: list[str] = []
    monkeypatch.setattr(state, "changed_since", lambda *_: calls.append("labels") or [3])
    monkeypatch.setattr(state, "cautions_of", lambda *_: calls.append("cautions") or ["look out"])
    scores.want()
    asks[0][1](some_scores())
    answers = scores.answers.predicted
    assert {n: (each.name, round(each.probability, 3), each.right) for n, each in answers.items()} == {
        1: ("a", 0.9, True),
        2: ("b", 0.6, False),
        3: ("a", 0.7, False),
    }
    assert scores.answers is scores.answers
    assert scores.mistakes() == [3, 2]
    for _ in range(2):
        assert scores.cautions() == ["look out"]
        assert scores.relabelled == [3]
    assert sorted(calls) == ["cautions", "labels"]
    before = scores.answers
    scores.forget()
    assert scores.answers.predicted == {}
    asks[-1][1](some_scores())
    assert scores.answers is not before
    scores.cautions()
    assert sorted(calls) == ["cautions", "cautions", "labels"]
