"""Which images are shown and in which order, against a slow reading of the same wish; what the window remembers."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from attentive_lens.desk import remembering
from attentive_lens.desk.images.browsing import (
    MEASURES,
    ORDERS,
    SHOWN_SETS,
    Answers,
    Said,
    Wanted,
    browse,
    histogram,
    pixels_of,
)
from attentive_lens.desk.images.collection import Collection
from attentive_lens.workspace import ImageRow


def collected(random: np.random.Generator, n: int) -> Collection:
    rows = [
        ImageRow(
            k + 1, f"{k}.png", int(random.integers(3)), "", int(random.integers(1, 9)), 5, "RGB", 1,
            flagged=bool(random.random() < 0.3),
        )
        for k in range(n)
    ]  # fmt: skip
    return Collection(["a", "b", "c"], rows, [str(s) for s in random.choice(SHOWN_SETS, n)], [])


@given(
    st.integers(0, 2**30),
    st.integers(0, 40),
    st.one_of(st.none(), st.integers(0, 2)),
    st.frozensets(st.sampled_from(SHOWN_SETS)),
    st.booleans(),
    st.sampled_from(["", "correct", "wrong"]),
    st.sampled_from(ORDERS),
    st.booleans(),
)
def test_a_wish_is_met_as_reading_every_row_would_meet_it(
    seed: int,
    n: int,
    label: int | None,
    sets: frozenset[str],
    flagged: bool,
    answered: str,
    order: str,
    descending: bool,
) -> None:
    random = np.random.default_rng(seed)
    result = collected(random, n)
    measures = {"pixels": pixels_of(result), "brightness": random.integers(0, 5, n).astype(np.float32)}
    request = random.permutation(n)[: n // 2] + 1
    predicted = {int(k): int(random.integers(3)) for k in request}
    answers = Answers(
        {
            number: Said("abc"[said], float(random.random()), said == result.rows[number - 1].label)
            for number, said in predicted.items()
        }
    )
    wanted = Wanted(label, sets, flagged, answered, {"brightness": (1.0, 3.0)}, order, descending)
    expected = set()
    for place, row in enumerate(result.rows):
        said = predicted.get(row.number)
        verdict = "" if said is None else "correct" if said == row.label else "wrong"
        if (
            (label is None or row.label == label)
            and result.sets[place] in sets
            and (row.flagged or not flagged)
            and 1 <= measures["brightness"][place] <= 3
            and (answered in ("", verdict) or not answers.predicted)
        ):
            expected.add(place)
    groups = browse(result, wanted, measures, answers)
    shown = [int(place) for group in groups for place in group.places]
    assert sorted(shown) == sorted(expected)
    assert all(len(group.places) for group in groups)
    if order in measures:
        values = measures[order][shown]
        assert (np.diff(-values if descending else values) >= 0).all()
    elif order in MEASURES or order == "class and set":
        keys = [(result.rows[k].label, SHOWN_SETS.index(result.sets[k]), k) for k in shown]
        assert keys == sorted(keys)
    else:
        sure = {
            group.title: [answers.predicted[int(k) + 1].probability for k in group.places]
            for group in groups
            if group.title in ("wrong", "correct")
        }
        assert all(sorted(p, reverse=title == "wrong") == p for title, p in sure.items())


def test_a_histogram_counts_every_value_once() -> None:
    counts, low, high = histogram([1.0, 1.0, 2.0, 5.0], 4)
    assert (counts.tolist(), low, high) == ([2, 1, 0, 1], 1.0, 5.0)
    assert histogram([3.0])[0].sum() == 1
    assert histogram([])[0].sum() == 0


def test_places_used_before_are_remembered_latest_first_while_they_are_there(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    assert remembering.recent_sources() == remembering.recent_workspaces() == []
    places = [tmp_path / name for name in ("one", "two", "three")]
    for place in places:
        place.mkdir()
        (place / "workspace.toml").touch()
        remembering.remember_source(place)
        remembering.remember(place, {"stage": "images"})
    remembering.remember_source(places[0])
    remembering.remember(places[0], {"stage": "results"})
    assert remembering.recent_sources() == remembering.recent_workspaces() == [places[0], places[2], places[1]]
    assert remembering.recall(places[0]) == {"stage": "results"}
    (places[2] / "workspace.toml").unlink()
    assert remembering.recent_workspaces() == [places[0], places[1]]
    for file in (tmp_path / "state").rglob("*.json"):
        file.write_text("[")
    assert remembering.recent_sources() == remembering.recent_workspaces() == []
    assert remembering.recall(places[0]) == {}
