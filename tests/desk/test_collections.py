"""What a collection counts and picks out by sets is what a slow look at every row gives."""

from __future__ import annotations

from collections import Counter

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from attentive_lens.desk.images.browsing import SHOWN_SETS
from attentive_lens.desk.images.collection import Collection
from attentive_lens.workspace import ImageRow

IMAGES = st.lists(
    st.tuples(st.integers(0, 2), st.sampled_from(SHOWN_SETS), st.booleans(), st.sampled_from(["a/b/x", "a/y", "z"])),
    max_size=12,
)


def collection_of(images: list[tuple[int, str, bool, str]]) -> Collection:
    rows = [
        ImageRow(k + 1, file, label, None, 8, 8, "colour", 9, flagged=flagged, digest=k)
        for k, (label, _, flagged, file) in enumerate(images)
    ]
    return Collection(["p", "q", "r"], rows, [name for _, name, *_ in images], [])


@given(IMAGES, st.sets(st.sampled_from([*SHOWN_SETS, "unheard of"])))
def test_sets_are_counted_and_picked_out_as_by_looking_at_every_row(
    images: list[tuple[int, str, bool, str]], wanted: set[str]
) -> None:
    collection = collection_of(images)
    assert collection.in_sets(wanted).tolist() == [name in wanted for name in collection.sets]
    assert collection.set_codes(SHOWN_SETS).tolist() == [SHOWN_SETS.index(name) for name in collection.sets]
    assert collection.flagged.tolist() == [k for k, image in enumerate(images) if image[2]]
    assert collection.digests.tolist() == list(range(len(images)))
    assert collection.counts == Counter((name, label) for label, name, *_ in images)
    for name in SHOWN_SETS:
        assert collection.members(name).tolist() == [k for k, each in enumerate(collection.sets) if each == name]
        assert collection.count(name) == len(collection.members(name))
    used = [image for image in images if image[1] in SHOWN_SETS[:4]]
    assert collection.folders == {(label, file.rpartition("/")[0]) for label, _, _, file in used}
    assert collection.totals == [sum(image[0] == k for image in used) for k in range(3)]
    assert np.array_equal(collection.labels, [image[0] for image in images])
