"""Adversarial pairs: gradients of both sides by differences, losses against a textbook, spectral normalisation."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.stats import mannwhitneyu

from attentive_lens.engine.adversarial import ADVERSARIAL_LOSSES, Pair, PairStep, as_drawn, told_apart
from attentive_lens.engine.layers import StepContext
from attentive_lens.engine.network import Network
from attentive_lens.engine.optimisers import AdamOptimiser
from attentive_lens.engine.ranks import Cut
from attentive_lens.engine.spectral import SpectralNormalisation
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.plan.blocks import Builder
from attentive_lens.plan.generators import GENERATORS
from attentive_lens.plan.initialisations import Orthogonal
from attentive_lens.plan.layers import (
    BatchNormalisation,
    ClassInput,
    Concatenate,
    Connected,
    Convolution,
    Drawing,
    Dropout,
    Flatten,
    LeakyRelu,
    Noise,
    Output,
    RealOrDrawn,
    Relu,
    Reshape,
    Tanh,
    TransposedConvolution,
)
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.plan.nodes import IMAGE
from attentive_lens.plan.optimisers import Adam

SIDE, CLASSES, COUNT, STEP = 8, 3, 6, 1e-6


def network(dtype: type = np.float64, dropout: bool = True) -> Network:
    """A small pair that is told classes by a branch and by a map, with normalisation and dropout on both sides."""
    onto = Builder()
    noise = onto.add(Noise(size=5), IMAGE)
    label = onto.add(ClassInput(), IMAGE)
    branch = onto.add(Connected(units=4), label)
    onto.add(Concatenate(), noise, branch)
    onto.add(Connected(units=16 * 3))
    onto.add(Reshape(side=4))
    onto.add(BatchNormalisation())
    onto.add(LeakyRelu(negative_slope=0.3))
    if dropout:
        onto.add(Dropout(rate=0.25))
    onto.add(TransposedConvolution(filters=3))
    onto.add(Tanh())
    meeting = onto.add(RealOrDrawn(), IMAGE, onto.add(Drawing(likelihood="none")))
    onto.add(Reshape(side=SIDE), onto.add(Connected(units=SIDE**2), label))
    onto.add(Concatenate(), meeting, onto.last)
    onto.add(Convolution(filters=4, kernel_size=4, stride=2, padding="same"))
    onto.add(BatchNormalisation())
    onto.add(LeakyRelu(negative_slope=0.2))
    if dropout:
        onto.add(Dropout(rate=0.25))
    onto.add(Flatten())
    onto.add(Output())
    plan = NetworkPlan(tuple(onto.nodes)).for_classes(CLASSES, 1)
    return Network.start(plan, (SIDE, SIDE, 3), 1, dtype)


class Steps:
    """Both sides' steps of one pair on the same images, classes and noise."""

    def __init__(self, net: Network, loss: str, threads: int = 2) -> None:
        random = np.random.default_rng(4)
        self.pair, self.loss, self.threads = Pair(net), ADVERSARIAL_LOSSES[loss], threads
        self.images = random.random((COUNT, SIDE, SIDE, 3)).astype(net.dtype)
        self.labels = np.arange(COUNT) % CLASSES
        self.noise = random.standard_normal((COUNT, 5)).astype(net.dtype)
        self.back, self.through = self.pair.routes(frozenset(net.weights))
        self.context, self.cut = StepContext(3, 1, 2, 0), Cut(COUNT, net.multiply_adds)

    def discriminate(self, mismatched: np.ndarray | None = None) -> PairStep:
        with ThreadPool(self.threads) as pool:
            return self.pair.discriminate(
                self.images, self.labels, self.noise, self.back, self.context, pool, self.loss, self.cut, mismatched
            )

    def mismatched(self) -> PairStep:
        """Real images under the next class besides."""
        return self.discriminate((self.labels + 1) % CLASSES)

    def generate(self) -> PairStep:
        with ThreadPool(self.threads) as pool:
            return self.pair.generate(self.labels, self.noise, self.through, self.context, pool, self.loss, self.cut)


@pytest.mark.parametrize("loss", ADVERSARIAL_LOSSES)
@pytest.mark.parametrize("side", ["discriminate", "mismatched", "generate"])
def test_every_weight_of_a_side_has_the_gradient_that_differences_give(side: str, loss: str) -> None:
    steps, random = Steps(network(), loss), np.random.default_rng(1)
    net, of_discriminator = steps.pair.network, steps.pair.discriminator
    gradients = getattr(steps, side)().gradients
    own = {name for name in net.weights if (name in of_discriminator) == (side != "generate")}
    assert gradients.keys() == own
    for node, arrays in gradients.items():
        for name, grad in arrays.items():
            weights = net.weights[node][name]
            for _ in range(3):
                place = tuple(int(random.integers(size)) for size in weights.shape)
                before, losses = float(weights[place]), []
                for sign in (1, -1):
                    weights[place] = before + sign * STEP
                    losses.append(getattr(steps, side)().loss)
                weights[place] = before
                difference = (losses[0] - losses[1]) / (2 * STEP)
                assert abs(difference - grad[place]) < 1e-6 * max(1.0, abs(difference)), (node, name)


@pytest.mark.parametrize("name", GENERATORS)
def test_starting_pairs_split_into_two_sides_that_share_nothing_but_the_class(name: str) -> None:
    plan = GENERATORS[name].network_for(16).for_classes(CLASSES, 1)
    draws = plan.up_to(plan.drawing.name)
    assert draws | plan.discriminator == {node.name for node in plan.nodes}
    assert plan.meeting in plan.discriminator
    assert plan.class_inputs <= draws
    assert bool(plan.class_inputs) == GENERATORS[name].by_class
    assert plan.facts((16, 16, 3))[-1].shape == (1,)


def test_losses_are_those_of_the_textbook() -> None:
    scores = np.array([[-2.0], [0.5], [3.0]])
    sigmoid = 1 / (1 + np.exp(-scores))
    crossed, squared, hinged = (ADVERSARIAL_LOSSES[name] for name in ("non-saturating", "least squares", "hinge"))
    np.testing.assert_allclose(crossed.real(scores)[0], -np.log(sigmoid))
    np.testing.assert_allclose(crossed.drawn(scores)[0], -np.log(1 - sigmoid))
    np.testing.assert_allclose(crossed.generator(scores)[0], -np.log(sigmoid))
    np.testing.assert_allclose(squared.real(scores)[0], (scores - 1) ** 2 / 2)
    np.testing.assert_allclose(squared.drawn(scores)[0], scores**2 / 2)
    np.testing.assert_allclose(squared.generator(scores)[0], (scores - 1) ** 2 / 2)
    np.testing.assert_allclose(hinged.real(scores)[0], [[3.0], [0.5], [0.0]])
    np.testing.assert_allclose(hinged.drawn(scores)[0], [[0.0], [1.5], [4.0]])
    np.testing.assert_allclose(hinged.generator(scores)[0], -scores)
    assert (crossed.middle, squared.middle, hinged.middle) == (0.0, 0.5, 0.0)
    for loss in ADVERSARIAL_LOSSES.values():
        for judge in (loss.real, loss.drawn, loss.generator):
            near = [judge(scores + sign * 1e-6)[0] for sign in (1, -1)]
            np.testing.assert_allclose(judge(scores)[1], (near[0] - near[1]) / 2e-6, atol=1e-6)


def test_far_scores_have_losses_that_are_numbers() -> None:
    scores = np.array([[-1e4], [1e4]], np.float32)
    for loss in ADVERSARIAL_LOSSES.values():
        for judge in (loss.real, loss.drawn, loss.generator):
            losses, grad = judge(scores)
            assert np.isfinite(losses).all()
            assert np.isfinite(grad).all()
            assert grad.dtype == losses.dtype == np.float32


def test_a_step_of_each_side_worked_by_hand() -> None:
    """One weight a side: the generator draws w·z at every pixel, the discriminator scores v·x."""
    onto = Builder()
    onto.add(Noise(size=1), IMAGE)
    onto.add(Connected(units=1))
    onto.add(Reshape(side=1))
    onto.add(RealOrDrawn(), IMAGE, onto.add(Drawing(likelihood="none")))
    onto.add(Flatten())
    onto.add(Output())
    plan = NetworkPlan(tuple(onto.nodes)).for_classes(1, 1)
    net = Network.start(plan, (1, 1, 1), 0, np.float64)
    (drawing, judging) = ("fully connected 1", "output")
    w, v, z, x = 0.4, -0.7, 1.5, 0.8
    net.weights[drawing]["matrix"][:], net.weights[judging]["matrix"][:] = w, v
    pair, loss = Pair(net), ADVERSARIAL_LOSSES["non-saturating"]
    back, through = pair.routes(frozenset(net.weights))
    context, cut = StepContext(0, 0, 0, 0), Cut(1, net.multiply_adds)
    images, noise, labels = np.full((1, 1, 1, 1), x), np.array([[z]]), np.zeros(1, np.int64)
    with ThreadPool(1) as pool:
        judged = pair.discriminate(images, labels, noise, back, context, pool, loss, cut)
        drawn = pair.generate(labels, noise, through, context, pool, loss, cut)
    real, fake = v * (2 * x - 1), v * w * z
    sigmoid = lambda s: 1 / (1 + np.exp(-s))  # noqa: E731
    assert judged.loss == pytest.approx(np.log1p(np.exp(-real)) + np.log1p(np.exp(fake)))
    assert judged.right == (float(real > 0), float(fake <= 0))
    by_hand = -(1 - sigmoid(real)) * (2 * x - 1) + sigmoid(fake) * w * z
    assert judged.gradients[judging]["matrix"].item() == pytest.approx(by_hand)
    assert drawn.loss == judged.opponent == pytest.approx(np.log1p(np.exp(-fake)))
    assert drawn.gradients[drawing]["matrix"].item() == pytest.approx(-(1 - sigmoid(fake)) * v * z)


@pytest.mark.parametrize("side", ["discriminate", "generate"])
def test_a_step_is_the_same_bits_for_any_number_of_threads(side: str) -> None:
    first, second = (getattr(Steps(network(np.float32), "hinge", threads), side)() for threads in (1, 3))
    assert (first.loss, first.right) == (second.loss, second.right)
    for node, arrays in first.gradients.items():
        for name, grad in arrays.items():
            assert grad.tobytes() == second.gradients[node][name].tobytes()
            assert np.abs(grad).max() > 0 or name == "bias"
    assert all(np.array_equal(a[n], b[n]) for a, b in zip(first.sums, second.sums, strict=True) for n in a)


def test_each_side_tells_the_sums_of_its_own_normalisations_by_the_batch() -> None:
    steps = Steps(network(dropout=False), "hinge")
    judged, drawn = steps.discriminate(), steps.generate()
    assert [list(sums) for sums in judged.sums] == [["batch normalisation 2"]] * 2
    assert [list(sums) for sums in drawn.sums] == [["batch normalisation 1"]]
    assert not np.allclose(judged.sums[0]["batch normalisation 2"], judged.sums[1]["batch normalisation 2"])
    # the generator draws for the discriminator as for itself: by the batch's figures, not by the running ones
    net, own = steps.pair.network, steps.pair.class_values(steps.labels)
    watch = frozenset({"batch normalisation 1"})
    shown = net.forward(
        steps.pair.nothing(COUNT), route=steps.back, context=steps.context, watch=watch,
        edited={steps.pair.code: steps.noise, **own},
    ).outputs["batch normalisation 1"]  # fmt: skip
    np.testing.assert_allclose(shown.mean(axis=(0, 1, 2)), 0, atol=1e-12)


def test_real_images_under_another_class_count_half_as_drawn_ones_do() -> None:
    steps = Steps(network(dropout=False), "hinge")
    plain, more = steps.discriminate(), steps.mismatched()
    net, classes = steps.pair.network, steps.pair.class_values
    scores = []
    for given in (
        {steps.pair.meeting: as_drawn(steps.images, net), **classes(steps.labels)},
        {steps.pair.code: steps.noise, **classes(steps.labels)},
        {steps.pair.meeting: as_drawn(steps.images, net), **classes((steps.labels + 1) % CLASSES)},
    ):
        trace = net.forward(steps.pair.nothing(COUNT), route=steps.back, context=steps.context, edited=given)
        scores.append(trace.outputs["output"])
    real, drawn, other = (np.maximum(0, 1 + sign * each).mean() for sign, each in zip((-1, 1, 1), scores, strict=True))
    assert plain.loss == pytest.approx(real + drawn)
    assert more.loss == pytest.approx(real + (drawn + other) / 2)
    assert more.right == plain.right
    assert len(more.sums) == len(plain.sums) + 1 == 3


def test_pairs_that_are_ranked_right_are_counted() -> None:
    assert told_apart(np.array([3.0, 1.0]), np.array([0.0, 2.0])) == 0.75
    assert told_apart(np.array([[1.0]]), np.array([[1.0], [0.0]])) == 0.75
    random = np.random.default_rng(0)
    real, drawn = random.standard_normal(300) + 1, random.standard_normal(200)
    assert told_apart(real, drawn) == pytest.approx(mannwhitneyu(real, drawn).statistic / 60_000)
    step, blind = Steps(network(dropout=False), "hinge"), Steps(network(dropout=False), "hinge")
    for array in blind.pair.network.weights["output"].values():
        array[:] = 0
    assert 0 <= step.discriminate().apart <= 1
    assert blind.discriminate().apart == 0.5


def test_what_is_frozen_has_no_gradient_and_the_rest_has_the_same() -> None:
    steps = Steps(network(dropout=False), "non-saturating")
    whole = steps.generate().gradients
    steps.back, steps.through = steps.pair.routes(frozenset(steps.pair.network.weights) - {"fully connected 2"})
    part = steps.generate().gradients
    assert whole.keys() - part.keys() == {"fully connected 2"}
    assert all(np.array_equal(grad, whole[node][name]) for node in part for name, grad in part[node].items())


def test_drawings_are_of_the_class_and_the_noise_that_are_named() -> None:
    pair, random = Pair(network(np.float32)), np.random.default_rng(0)
    noise = pair.random_codes(random, 20)
    assert noise.shape == (20, 5)
    labels = np.arange(20) % CLASSES
    drawn = pair.decode(noise, None, labels)
    assert drawn.shape == (20, SIDE, SIDE, 3)
    assert drawn.min() >= 0
    assert drawn.max() <= 1
    for k in (0, 7, 19):
        np.testing.assert_array_equal(pair.decode(noise[k : k + 1], None, labels[k : k + 1])[0], drawn[k])
    other = pair.decode(noise, None, (labels + 1) % CLASSES)
    assert not np.allclose(other, drawn)
    raw = pair.raw(noise, None, labels)
    np.testing.assert_allclose(drawn, (raw + 1) / 2, atol=1e-6)
    np.testing.assert_allclose(as_drawn(drawn, pair.network), raw, atol=1e-6)
    scores = pair.scores(drawn, labels)
    edited = {pair.code: noise, **pair.class_values(labels)}
    np.testing.assert_allclose(scores, pair.network.forward(pair.nothing(20), edited=edited).outputs["output"][:, 0],
                               atol=1e-5)  # fmt: skip


def test_even_noise_is_even() -> None:
    onto = Builder()
    onto.add(Noise(size=4, distribution="uniform"), IMAGE)
    onto.add(Connected(units=3))
    onto.add(Reshape(side=1))
    onto.add(RealOrDrawn(), IMAGE, onto.add(Drawing(likelihood="none")))
    onto.add(Flatten())
    onto.add(Output())
    net = Network.start(NetworkPlan(tuple(onto.nodes)).for_classes(1, 1), (1, 1, 3), 0)
    codes = Pair(net).random_codes(np.random.default_rng(0), 5000)
    assert codes.min() >= -1
    assert codes.max() <= 1
    assert abs(codes.std() - 1 / np.sqrt(3)) < 0.02


def test_spectral_normalisation_divides_by_the_largest_singular_value_and_puts_weights_back() -> None:
    net = network()
    nodes = Pair(net).discriminator
    before = net.copy_weights()
    spectral = SpectralNormalisation(nodes, 0)
    for _ in range(200):
        with spectral.applied(net.weights, True) as values:
            pass
    with spectral.applied(net.weights, False) as values:
        assert {node for node, _ in values} == {"fully connected 3", "convolution 1", "output"}
        for (node, name), (value, left, right) in values.items():
            matrix = before[node][name].reshape(-1, before[node][name].shape[-1])
            assert value == pytest.approx(np.linalg.svd(matrix, compute_uv=False)[0], rel=1e-6)
            assert np.linalg.svd(net.weights[node][name].reshape(matrix.shape), compute_uv=False)[0] == pytest.approx(1)
            assert np.linalg.norm(left) == pytest.approx(1)
            assert np.linalg.norm(right) == pytest.approx(1)
    for node, arrays in before.items():
        assert all(np.array_equal(array, net.weights[node][name]) for name, array in arrays.items())
    again = SpectralNormalisation(nodes, 0)
    again.restore(spectral.memory())
    assert all(np.array_equal(vector, spectral.vectors[key]) for key, vector in again.vectors.items())
    assert len(again.vectors) == 3


def test_gradients_by_divided_weights_become_those_by_weights() -> None:
    steps = Steps(network(), "least squares")
    net, spectral = steps.pair.network, SpectralNormalisation(steps.pair.discriminator, 0)
    for _ in range(500):  # until the vectors stand still: differences see them move
        with spectral.applied(net.weights, True):
            pass

    def step() -> PairStep:
        with spectral.applied(net.weights, False) as values:
            taken = steps.discriminate()
            spectral.gradients(taken.gradients, net.weights, values)
        return taken

    gradients, random = step().gradients, np.random.default_rng(2)
    for node in ("convolution 1", "output", "fully connected 3"):
        for name, grad in gradients[node].items():
            weights = net.weights[node][name]
            place = tuple(int(random.integers(size)) for size in weights.shape)
            before, losses = float(weights[place]), []
            for sign in (1, -1):
                weights[place] = before + sign * STEP
                losses.append(step().loss)
            weights[place] = before
            assert (losses[0] - losses[1]) / (2 * STEP) == pytest.approx(grad[place], abs=2e-6), (node, name)


ANGLES = np.arange(8) * np.pi / 4
CENTRES = 0.5 + 0.4 * np.stack([np.cos(ANGLES), np.sin(ANGLES)], axis=1)
BATCH, WIDE, DRAWN = 128, 64, 2000


def on_a_ring(seed: int, steps: int, learns: bool = True) -> np.ndarray:
    """Of so many drawings how many lie at each of eight narrow normal clouds, which a small pair learned to draw."""
    onto = Builder()
    onto.add(Noise(size=8), IMAGE)
    for _ in range(2):
        onto.add(Connected(units=WIDE))
        onto.add(Relu())
    onto.add(Connected(units=2))
    onto.add(Tanh())
    onto.add(Reshape(side=1))
    onto.add(RealOrDrawn(), IMAGE, onto.add(Drawing(likelihood="none")))
    onto.add(Flatten())
    for _ in range(2):
        onto.add(Connected(units=WIDE))
        onto.add(LeakyRelu(negative_slope=0.2))
    onto.add(Output())
    plan = NetworkPlan(tuple(onto.nodes)).for_classes(1, 1)
    net = Network.start(plan, (1, 1, 2), seed, np.float32, Orthogonal(gain=1.4))
    pair, random, loss = Pair(net), np.random.default_rng(seed), ADVERSARIAL_LOSSES["non-saturating"]
    back, through = pair.routes(frozenset(net.weights))
    sides = [AdamOptimiser(Adam(learning_rate=rate, beta1=0.5)) for rate in (2e-3, 1e-3)]
    labels, cut = np.zeros(BATCH, np.int64), Cut(BATCH, net.multiply_adds)
    with ThreadPool(1) as pool:
        for number in range(steps):
            points = CENTRES[random.integers(8, size=BATCH)] + 0.01 * random.standard_normal((BATCH, 2))
            images, context = points.astype(np.float32).reshape(-1, 1, 1, 2), StepContext(seed, 0, number, 0)
            noise = [pair.random_codes(random, BATCH) for _ in range(2)]
            judged = pair.discriminate(images, labels, noise[0], back, context, pool, loss, cut)
            if learns:
                sides[0].step(net.weights, judged.gradients)
            drawn = pair.generate(labels, noise[1], through, context, pool, loss, cut)
            sides[1].step(net.weights, drawn.gradients)
    places = pair.decode(pair.random_codes(np.random.default_rng(9), DRAWN)).reshape(-1, 2)
    gaps = np.linalg.norm(places[:, None] - CENTRES, axis=2)
    return np.bincount(gaps.argmin(axis=1)[gaps.min(axis=1) < 0.06], minlength=8)


def test_eight_clouds_on_a_ring_are_all_drawn_in_four_of_five_seeds() -> None:
    counts = [on_a_ring(seed, 1200) for seed in range(5)]
    assert sum(bool((count >= DRAWN // 100).all()) for count in counts) >= 4, counts
    assert np.median([count.sum() for count in counts]) > DRAWN / 2


def test_without_a_discriminator_that_learns_they_are_not() -> None:
    assert (on_a_ring(0, 400, learns=False) < DRAWN // 100).sum() >= 4
