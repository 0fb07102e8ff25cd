"""Sets of labels by their names, and the task that learns them."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from attentive_lens.errors import BadValue
from attentive_lens.plan.labels import NO_LABEL, label_set, labels_in, labels_of, members_of, of_one
from attentive_lens.plan.losses import LOSSES
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.tasks import TASKS

NAMES = st.text("abc ü-", min_size=1, max_size=6).map(str.strip).filter(bool)


@given(st.sets(NAMES, max_size=5))
def test_a_set_is_its_name(labels: set[str]) -> None:
    name = label_set(labels)
    assert set(labels_in(name)) == labels
    assert label_set(reversed(labels_in(name))) == name
    assert (name == NO_LABEL) == (not labels)


@given(st.lists(st.sets(NAMES, max_size=4), max_size=6))
def test_members_are_those_of_the_names(sets: list[set[str]]) -> None:
    classes = [label_set(each) for each in sets]
    labels = labels_of(classes)
    assert list(labels) == sorted(set().union(*sets))
    there = members_of(classes, labels)
    assert there.shape == (len(sets), len(labels))
    for own, row in zip(sets, there, strict=True):
        assert {label for label, on in zip(labels, row, strict=True) if on} == own


def test_cells_are_parted_by_any_sign() -> None:
    assert labels_in("dark | spiny|dark", "|") == ("dark", "spiny", "dark")
    assert label_set(labels_in("dark | spiny|dark", "|")) == "dark; spiny"
    assert labels_in("a b  c", " ") == ("a", "b", "c")
    assert labels_in("") == labels_in(NO_LABEL) == ()
    assert of_one("spiny") == ("not spiny", "spiny")


def test_the_task_brings_what_it_needs_and_takes_it_back() -> None:
    several = Plan().changed({"task": "multi-label"})
    assert (several.task.kind, several.loss.kind, several.best_by) == (
        "multi-label",
        "sigmoid cross-entropy",
        "mean_average_precision",
    )
    assert several.outputs == "sigmoid" and several.units(9) == 9
    assert Plan.read(several.write()) == several
    assert several.changed({"task": "classify"}) == Plan()
    weighed = Plan().changed({"loss.class_weights": "balanced"}).changed({"task": "multi-label"})
    assert weighed.loss.class_weights == "balanced"


def test_a_plan_that_lets_an_image_have_one_class_is_refused() -> None:
    several = Plan().changed({"task": "multi-label"})
    for kind in LOSSES:
        if kind == "sigmoid cross-entropy":
            continue
        with pytest.raises(BadValue, match="one class"):
            several.changed({"loss": kind})
    with pytest.raises(BadValue, match="class-balanced"):
        several.changed({"training.sampling": "class-balanced"})
    with pytest.raises(BadValue, match="top_5"):
        several.changed({"training.best_by": "top_5"})


def test_every_task_has_measures_with_the_one_it_is_chosen_by() -> None:
    for kind, task in TASKS.items():
        plan = Plan().changed({"task": kind})
        assert plan.best_by in ("", "loss", *task().measures), kind
        assert np.all([measure.meaning.endswith(".") for measure in task().measures.values()])
