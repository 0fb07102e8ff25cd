"""Channels, neighbours, changes tried, and the groups of mistakes."""

from __future__ import annotations

import numpy as np
import pytest
from tests.answering import change, probe_of
from tests.explaining.test_explaining import IMAGE, SHAPE, linear
from tests.explaining.test_methods import small, spot

from attentive_lens.core.jobs import finish
from attentive_lens.engine.network import Network
from attentive_lens.explaining.causes.grouping import _group, _joined, _split_by_place, grouped, in_cells
from attentive_lens.explaining.changes import CHANGES, changed, mixed
from attentive_lens.explaining.channels import Excitement, contributions, patch, scaled, speaks_for, synthetic
from attentive_lens.explaining.distances import leading_eigenvectors, principal, squared_distances
from attentive_lens.explaining.neighbours import nearest
from attentive_lens.explaining.probe import Probe, Targets
from attentive_lens.explaining.regions import evaluated
from attentive_lens.explaining.saliency import map_method
from attentive_lens.explaining.smallest import Search, smallest_cover
from attentive_lens.explaining.trust import gains
from attentive_lens.plan.layers import Convolution, GlobalPooling, Output, Relu
from attentive_lens.plan.network import NetworkPlan


def test_a_channel_s_contribution_is_what_is_lost_to_first_order_without_it() -> None:
    probe, node = small(), "relu 2"
    request = Targets.classes([0], 3)
    adds = contributions(probe, IMAGE, node, request)[0]
    out = probe.outputs(node, IMAGE[None])
    assert len(adds) == out.shape[-1]
    channel = int(np.abs(adds).argmax())
    rows = scaled(probe, IMAGE, node, channel, [1.0, 0.0, 1.0 + 1e-6])
    assert rows[0] == pytest.approx(probe.answers(IMAGE[None])[0], abs=1e-9)
    assert not np.allclose(rows[0], rows[1])
    edited = np.repeat(out, 2, axis=0)
    edited[0, ..., channel] *= 1 + 1e-6
    edited[1, ..., channel] *= 1 - 1e-6
    copies = np.repeat(IMAGE[None], 2, axis=0)
    ends = probe.network.forward(copies, edited={node: edited}).outputs[probe.network.output][:, 0]
    assert (ends[0] - ends[1]) / 2e-6 == pytest.approx(adds[channel], rel=1e-4)


def test_the_most_exciting_places_are_those_of_a_slow_search() -> None:
    outs = np.random.default_rng(0).standard_normal((20, 4, 5, 3))
    collected = Excitement(6)
    for first in range(0, 20, 7):
        collected.add(outs[first : first + 7])
    result = collected.strongest()
    for channel in range(3):
        best = sorted(range(20), key=lambda k: -outs[k, :, :, channel].max())[:6]
        assert result.images[channel].tolist() == best
        for image, row, column, value in zip(
            best, result.rows[channel], result.columns[channel], result.values[channel], strict=True
        ):
            assert outs[image, row, column, channel] == pytest.approx(value)
            assert value == pytest.approx(outs[image, :, :, channel].max())


def test_a_patch_is_the_receptive_field_with_grey_outside() -> None:
    fact = next(f for f in small().network.plan.facts(SHAPE) if f.name == "convolution 2")
    pixels = np.random.default_rng(0).integers(0, 128, SHAPE).astype(np.uint8)
    assert fact.receptive_field == 8
    whole = patch(pixels, fact, 4, 4)
    top = fact.offset + fact.jump * 4
    assert np.array_equal(whole, pixels[top : top + 8, top : top + 8])
    corner = patch(pixels, fact, 0, 0)
    assert (corner[: -fact.offset] == 128).all()
    assert np.array_equal(corner[-fact.offset :, -fact.offset :], pixels[: 8 + fact.offset, : 8 + fact.offset])


def test_a_synthetic_image_excites_its_channel_more_than_noise_and_real_ones() -> None:
    network = small().network
    made = synthetic(network, "relu 1", 2)
    assert np.array_equal(made, synthetic(network, "relu 1", 2))

    def strength(image: np.ndarray) -> float:
        trace = network.forward(image[None], watch=frozenset({"relu 1"}))
        return float(trace.outputs["relu 1"][..., 2].mean())

    assert strength(made) > 2 * strength(IMAGE)


def test_what_channels_add_to_classes_is_told_for_every_class() -> None:
    probe = small()
    images = np.random.default_rng(1).standard_normal((5, *SHAPE))
    result = speaks_for(probe, images, "relu 2")
    one = contributions(probe, images[0], "relu 2", Targets.classes([0, 1, 2], 3))
    assert result.shape == one.shape
    assert speaks_for(probe, images[:1], "relu 2") == pytest.approx(one, abs=1e-9)


def test_neighbours_components_and_embedding_keep_what_is_near() -> None:
    random = np.random.default_rng(0)
    features = np.concatenate([random.normal(k * 20, 1, (30, 10)) for k in range(3)]).astype(np.float32)
    order, gaps = nearest(features, features[5], 30)
    assert order[0] == 5
    assert gaps[0] == 0
    assert set(order) == set(range(30))
    places, explained = principal(features)
    assert explained[0] > 0.9
    assert np.argsort(places[[0, 40, 80], 0]).tolist() in ([0, 1, 2], [2, 1, 0])


@pytest.mark.parametrize("shape", [(40, 90), (300, 280), (280, 300), (700, 20), (20, 700)])
def test_principal_components_are_those_of_the_whole_decomposition(shape: tuple[int, int]) -> None:
    strengths = np.arange(1, shape[1] + 1)
    features = np.random.default_rng(1).standard_normal(shape) / strengths + strengths
    around = features - features.mean(axis=0)
    left, sizes, _ = np.linalg.svd(around, full_matrices=False)
    places, explained = principal(features)
    assert np.abs(places) == pytest.approx(np.abs(left[:, :2] * sizes[:2]), abs=1e-6 * sizes[0])
    assert explained == pytest.approx(sizes[:2] ** 2 / (sizes**2).sum())


@pytest.mark.parametrize("side", [9, 256, 300])
def test_leading_eigenvectors_are_the_greatest(side: int) -> None:
    square = np.random.default_rng(2).standard_normal((side, side))
    values, vectors = leading_eigenvectors(square + square.T, 4)
    assert values == pytest.approx(np.linalg.eigvalsh(square + square.T)[::-1][:4])
    assert (square + square.T) @ vectors == pytest.approx(vectors * values, abs=1e-8 * side)


def test_distances_are_those_of_every_pair() -> None:
    one, other = (np.random.default_rng(k).standard_normal((n, 5)) for k, n in ((1, 7), (2, 11)))
    assert squared_distances(one, other) == pytest.approx(((one[:, None] - other[None]) ** 2).sum(axis=2))


PIXELS = np.random.default_rng(3).integers(30, 220, (20, 24, 3)).astype(np.uint8)
CALLS = {
    "cover": {"row": 0.5, "column": 0.5, "side": 0.25},
    "blur": {"row": 0.5, "column": 0.5, "side": 0.5},
    "brush": {"row": 0.2, "column": 0.2, "radius": 0.1, "red": 1.0},
    "clone": {"row": 0.2, "column": 0.2, "radius": 0.1, "from_row": 0.7, "from_column": 0.7},
    "translate": {"down": 0.1, "across": 0.0},
    "rotate": {"degrees": 90.0},
    "scale": {"factor": 2.0},
    "brighten": {"factor": 0.5},
    "denoise": {},
    "flatten": {"channel": 1},
    "noise": {"deviation": 0.1},
    "mix": {"image": 2, "share": 0.3},
    "cover_object": {},
    "cover_rest": {},
}


@pytest.mark.parametrize("kind", CHANGES)
def test_a_change_gives_a_new_image_of_the_same_sort(kind: str) -> None:
    before = PIXELS.copy()
    for pixels in (PIXELS, PIXELS[:, :, :1]):
        settings = change(kind, **CALLS[kind])
        covered = np.zeros(pixels.shape[:2], np.float32)
        covered[3:9, 4:12] = 1
        out = changed(pixels, settings, pixels[::-1] if settings.other_image is not None else None, covered)
        assert (out.shape, out.dtype) == (pixels.shape, np.uint8)
        assert not np.array_equal(out, pixels)
    assert np.array_equal(PIXELS, before)


def test_changes_do_what_they_are_called() -> None:
    covered = CHANGES["cover"](PIXELS, 0.5, 0.5, 0.25)
    assert (np.abs(covered.astype(int) - PIXELS).sum(axis=2) > 0).sum() <= 5 * 6
    wide = CHANGES["cover"](PIXELS, 0.5, 0.5, 0.1, across=0.5)
    rows, columns = np.nonzero(np.abs(wide.astype(int) - PIXELS).sum(axis=2))
    assert (np.ptp(rows) + 1, np.ptp(columns) + 1) == (round(0.1 * PIXELS.shape[0]), round(0.5 * PIXELS.shape[1]))
    half = mixed(PIXELS, 255 - PIXELS, 0.5)
    assert half.astype(float) == pytest.approx(np.full(PIXELS.shape, 127.5), abs=0.51)
    assert np.array_equal(mixed(PIXELS, 255 - PIXELS, 0.0), PIXELS)
    down = CHANGES["translate"](PIXELS, 0.1, 0.0)
    assert np.array_equal(down[2:], PIXELS[:-2])
    square = PIXELS[:, :20]
    assert np.array_equal(CHANGES["rotate"](square, 90.0), np.rot90(square))
    assert CHANGES["brighten"](PIXELS, 0.5).astype(float) == pytest.approx(PIXELS / 2, abs=0.51)
    painted = CHANGES["brush"](PIXELS, 0.5, 0.5, 0.1, red=1.0)
    assert painted[10, 12].tolist() == [255, 0, 0]
    cloned = CHANGES["clone"](PIXELS, 0.25, 0.25, 0.08, 0.75, 0.75)
    assert np.array_equal(cloned[5, 6], PIXELS[15, 18])


def test_the_smallest_cover_is_on_what_the_answer_rests_on() -> None:
    probe, image, where = spot()
    search = finish(smallest_cover(probe, image))
    assert search.complete
    result = search.cover
    assert result is not None
    assert result.predicted == 1
    rows, columns = np.nonzero(where)
    assert abs(result.row * 16 - (rows.mean() + 0.5)) <= 2
    assert abs(result.column * 16 - (columns.mean() + 0.5)) <= 2
    assert result.side <= 4 / 16
    assert finish(smallest_cover(probe, -0.01 * image)) == Search(None, True)


@pytest.mark.parametrize("shape", [(12, 30, 3), (30, 12, 3)])
def test_where_rows_and_columns_differ_the_cover_that_is_told_is_the_square_that_was_tried(
    shape: tuple[int, int, int],
) -> None:
    weights, image = np.zeros(shape), np.zeros(shape)
    weights[3:6, shape[1] - 6 : shape[1] - 3] = 1.0
    network = linear(weights)
    network.weights["output"]["bias"] = np.array([-2.0, 0.0])
    image[3:6, shape[1] - 6 : shape[1] - 3] = 0.2
    cover = finish(smallest_cover(probe_of(network), image)).cover
    assert cover is not None
    covered = CHANGES["cover"](np.full(shape, 200, np.uint8) + np.uint8(1) * (weights > 0).astype(np.uint8),
                            cover.row, cover.column, cover.side, across=cover.across)  # fmt: skip
    other = np.argwhere((covered != 200 + (weights > 0)).any(axis=2))
    assert cover.side == pytest.approx(cover.pixels / shape[0])
    assert cover.across == pytest.approx(cover.pixels / shape[1])
    assert len(other) <= cover.pixels**2


def slow_search(probe: Probe, image: np.ndarray) -> tuple[int, set[tuple[int, int, int]]] | None:
    """The least side that changes the answer, and all its places with what is said then: every square, one by one."""
    predicted = int(probe.scores(image[None])[0].argmax())
    for side in range(1, min(image.shape[:2]) // 2 + 1):
        result = set()
        for row in range(image.shape[0] - side + 1):
            for column in range(image.shape[1] - side + 1):
                copy = image.copy()
                copy[row : row + side, column : column + side] = image.mean(axis=(0, 1))
                other = int(probe.scores(copy[None])[0].argmax())
                if other != predicted:
                    result.add((row, column, other))
        if result:
            return side, result
    return None


def test_no_smaller_square_anywhere_changes_the_answer() -> None:
    sides = []
    for seed in range(12):
        network = Network.start(
            NetworkPlan.stack([Convolution(filters=3), Relu(), GlobalPooling(mode="max"), Output()]).with_outputs(3),
            (10, 9, 2),
            seed,
            np.float64,
        )
        probe, image = probe_of(network), np.random.default_rng(seed).standard_normal((10, 9, 2))
        search, slow = finish(smallest_cover(probe, image)), slow_search(probe, image)
        assert search.complete
        assert (search.cover is None) == (slow is None)
        if search.cover is not None and slow is not None:
            side, places = slow
            assert search.cover.pixels == side
            row, column = search.cover.row * 10 - side / 2, search.cover.column * 9 - side / 2
            assert (round(row), round(column), search.cover.predicted) in places
            sides.append(side)
            hurried = finish(smallest_cover(probe, image, most=0))
            assert hurried.cover is not None
            assert not hurried.complete or hurried.cover.pixels == side
            assert hurried.cover.pixels >= side
    assert len(set(sides)) > 1


class Whimsical:
    """Answers otherwise when exactly 2×2 pixels are covered in one corner, or any 5×5 or more."""

    def scores(self, images: np.ndarray) -> np.ndarray:
        covered = np.isclose(images, 0.0).all(axis=3)
        few = (covered.sum(axis=(1, 2)) == 4) & covered[:, -1, -1]
        other = few | (covered.sum(axis=(1, 2)) >= 25)
        return np.stack([~other, other], axis=1).astype(np.float64)

    def predicted(self, scores: np.ndarray) -> np.ndarray:
        return scores.argmax(axis=1)


def test_a_smaller_square_is_found_though_larger_ones_change_nothing() -> None:
    image = np.random.default_rng(0).uniform(1, 2, (16, 16, 2))
    image -= image.mean(axis=(0, 1))
    search = finish(smallest_cover(Whimsical(), image))  # type: ignore[arg-type]
    assert search.complete
    assert search.cover is not None
    assert (search.cover.pixels, search.cover.row, search.cover.column) == (2, 15 / 16, 15 / 16)
    hurried = finish(smallest_cover(Whimsical(), image, most=0))  # type: ignore[arg-type]
    assert hurried.cover is not None
    assert (hurried.cover.pixels, hurried.complete) == (5, False)


def test_every_way_of_covering_takes_the_image_s_own_mean() -> None:
    """Of an image that is one colour everywhere, nothing changes, whatever is covered."""
    probe = small()
    flat = np.broadcast_to(np.array([0.7, -1.2, 2.0]), SHAPE).copy()
    request = Targets.classes([0, 1], 3)
    for name in ("occlusion", "random_masks"):
        assert np.abs(map_method(name).maps(probe, flat, request)).max() < 1e-6, name
    (region,) = evaluated(probe, flat, request, np.ones(SHAPE[:2], np.float32), [np.eye(16, dtype=bool)])
    assert np.abs(region.gives).max() < 1e-9
    (gain,) = gains(probe, flat, np.random.default_rng(0).random((1, 16, 16)).astype(np.float32), [(0, 1)], [{}])
    assert gain.value == pytest.approx(0, abs=1e-9) == pytest.approx(gain.random, abs=1e-9)
    assert gain.passed is None
    assert finish(smallest_cover(probe, flat)).cover is None
    pixels = np.full((12, 12, 3), 90, np.uint8)
    assert np.array_equal(CHANGES["cover"](pixels, 0.5, 0.5, 0.5), pixels)


def test_mistakes_on_a_mark_form_a_group_of_their_own() -> None:
    random = np.random.default_rng(0)
    maps = np.abs(random.normal(0, 0.05, (50, 32, 32))).astype(np.float32)
    for k in range(30):
        maps[k, 26:29, 3:6] += 1
    for k in range(30, 50):
        r, c = random.integers(8, 20, 2)
        maps[k, r : r + 4, c : c + 4] += 1
    features = np.concatenate([random.normal(0, 1, (30, 6)), random.normal(4, 1, (20, 6))])
    groups = grouped(maps, features)
    marked = next(group for group in groups if group.at_one_place)
    assert sorted(marked.members) == list(range(30))
    assert (marked.row, marked.column) == pytest.approx((27.5 / 32, 4.5 / 32), abs=0.05)
    assert sum(group.at_one_place for group in groups) == 1
    assert sum(len(group.members) for group in groups) == 50
    assert [len(g.members) for g in grouped(maps[:2], features[:2])] == [2]
    assert grouped(maps[:0], features[:0]) == []
    assert in_cells(np.zeros((20, 20), np.float32)).sum() == pytest.approx(1)


def test_those_who_do_not_rest_on_the_group_s_place_are_set_apart() -> None:
    random = np.random.default_rng(1)
    maps = np.abs(random.normal(0, 0.01, (40, 32, 32))).astype(np.float32)
    maps[:30, 26:29, 3:6] += 1  # all have the mark; ten rest on something else more
    maps[20:30, 14:17, 14:17] += 3
    maps[30:, 10:20, 10:20] += 1
    cells = np.stack([in_cells(map_) for map_ in maps])
    marked, others = _split_by_place(cells, np.arange(30))
    assert sorted(marked.members) == list(range(20))
    assert marked.gathered == 1
    assert sorted(others.members) == list(range(20, 30))
    assert [len(group.members) for group in _split_by_place(cells, np.arange(20))] == [20]
    assert [len(group.members) for group in _split_by_place(cells, np.arange(30, 40))] == [10]


def test_two_groups_on_one_place_are_one_cause() -> None:
    random = np.random.default_rng(2)
    maps = np.abs(random.normal(0, 0.01, (30, 32, 32))).astype(np.float32)
    maps[:20, 26:29, 3:6] += 1
    maps[20:, 4:7, 26:29] += 1
    cells = np.stack([in_cells(map_) for map_ in maps])
    parts = [_group(cells, np.arange(a, b)) for a, b in ((0, 8), (8, 20), (20, 30))]
    assert sorted(len(group.members) for group in _joined(cells, parts)) == [10, 20]


def test_a_square_of_half_the_side_is_tried_too() -> None:
    """Score 36 against 12: only with all 36 pixels at the mean, 0.25, is it less."""
    weights, image = np.zeros((12, 12, 1)), np.zeros((12, 12, 1))
    weights[3:9, 3:9] = image[3:9, 3:9] = 1.0
    network = linear(weights)
    network.weights["output"]["bias"] = np.array([0.0, 12.0])
    search = finish(smallest_cover(probe_of(network), image))
    assert search.cover is not None
    assert (search.cover.pixels, search.complete) == (6, True)
    assert (search.cover.row, search.cover.column) == (0.5, 0.5)
