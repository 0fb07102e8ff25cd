"""Auto-encoders: gradients by differences, densities by an independent library, a likelihood in closed form."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from scipy import stats

from attentive_lens.engine.encoding import Coder, EncodingStep
from attentive_lens.engine.layers import StepContext
from attentive_lens.engine.likelihoods import divergence, likelihood, log_density, shown
from attentive_lens.engine.network import Network
from attentive_lens.engine.optimisers import AdamOptimiser
from attentive_lens.engine.ranks import Cut
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.plan.layers import (
    BatchNormalisation,
    Codes,
    Connected,
    Convolution,
    Drawing,
    Flatten,
    LayerSettings,
    MaxPooling,
    NormalCodes,
    Relu,
    Reshape,
    Tanh,
    TransposedConvolution,
)
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.plan.optimisers import Adam

SHAPE, STEP = (8, 8, 3), 1e-5


def network(code: LayerSettings, drawing: Drawing, dtype: type = np.float64) -> Network:
    encoder = [Convolution(filters=4), BatchNormalisation(), Relu(), MaxPooling(), Flatten(), Connected(units=6)]
    decoder = [Connected(units=80), Tanh(), Reshape(side=4), TransposedConvolution(filters=4), BatchNormalisation(),
               Relu(), Convolution(filters=3)]  # fmt: skip
    return Network.start(NetworkPlan.stack([*encoder, code, *decoder, drawing]), SHAPE, 1, dtype)


def batch(count: int, seed: int = 0) -> tuple[np.ndarray, np.ndarray]:
    random = np.random.default_rng(seed)
    return random.standard_normal((count, *SHAPE)), random.random((count, *SHAPE))


def step(coder: Coder, count: int, weight: float, threads: int = 2) -> EncodingStep:
    images, targets = batch(count)
    dtype = coder.network.dtype
    route = coder.network.route(frozenset(coder.network.weights))
    with ThreadPool(threads) as pool:
        cut = Cut(count, coder.network.multiply_adds)
        return coder.learn(
            images.astype(dtype), targets.astype(dtype), route, StepContext(3, 1, 2, 0), pool, weight, cut
        )


@pytest.mark.parametrize(
    ("code", "drawing"),
    [
        (Codes(), Drawing()),
        (Codes(), Drawing(mean="free")),
        (NormalCodes(), Drawing(likelihood="bernoulli")),
        (NormalCodes(), Drawing(variance="learned", deviation=0.3)),
        (NormalCodes(samples=3), Drawing(mean="free", variance="learned", deviation=0.5)),
    ],
)
def test_every_weight_has_the_gradient_that_differences_give(code: LayerSettings, drawing: Drawing) -> None:
    coder, random = Coder(network(code, drawing)), np.random.default_rng(1)
    gradients = step(coder, 5, 0.7).gradients
    assert gradients.keys() == coder.network.weights.keys()
    for node, arrays in gradients.items():
        for name, grad in arrays.items():
            weights = coder.network.weights[node][name]
            for _ in range(3):
                place = tuple(int(random.integers(side)) for side in weights.shape)
                old = weights[place]
                weights[place] = old + STEP
                above = step(coder, 5, 0.7).loss
                weights[place] = old - STEP
                below = step(coder, 5, 0.7).loss
                weights[place] = old
                scale = max(1.0, float(np.abs(grad).max()))
                assert (above - below) / (2 * STEP) == pytest.approx(grad[place], abs=1e-6 * scale), (node, name)


def test_the_loss_is_its_parts_and_samples_are_means() -> None:
    one = step(Coder(network(NormalCodes(), Drawing())), 6, 0.25)
    assert one.loss == pytest.approx(one.reconstruction + 0.25 * one.divergence)
    several = step(Coder(network(NormalCodes(samples=40), Drawing())), 6, 0.25)
    assert several.divergence == pytest.approx(one.divergence)
    assert several.reconstruction == pytest.approx(one.reconstruction, rel=0.1)
    assert several.reconstruction != one.reconstruction
    assert step(Coder(network(Codes(), Drawing())), 6, 0.25).divergence == 0


def test_a_step_has_the_same_bits_for_any_number_of_threads() -> None:
    results = [step(Coder(network(NormalCodes(samples=2), Drawing(), np.float32)), 7, 1.0, n) for n in (1, 2, 4)]
    for other in results[1:]:
        assert other.loss == results[0].loss
        for node, arrays in results[0].gradients.items():
            for name, grad in arrays.items():
                assert np.array_equal(grad, other.gradients[node][name]), (node, name)


def test_likelihoods_are_those_of_an_independent_library() -> None:
    raw, images = batch(4, 3)
    mean = 1 / (1 + np.exp(-raw))
    cases = {
        Drawing(deviation=0.2): (None, stats.norm.logpdf(images, mean, 0.2)),
        Drawing(mean="free", variance="learned"): (np.array([-1.5]), stats.norm.logpdf(images, raw, np.exp(-0.75))),
        Drawing(likelihood="bernoulli"): (None, images * np.log(mean) + (1 - images) * np.log(1 - mean)),
    }
    for drawing, (log_variance, logs) in cases.items():
        losses = likelihood(drawing, raw, images, log_variance).losses
        assert losses == pytest.approx(-logs.reshape(4, -1).sum(axis=1)), drawing
        assert shown(drawing, raw) == pytest.approx(raw.clip(0, 1) if drawing.mean == "free" else mean), drawing


def test_the_divergence_is_what_many_codes_show() -> None:
    random = np.random.default_rng(0)
    statistics = random.normal(0, 0.7, (3, 8))
    losses, grad = divergence(statistics)
    noise = random.standard_normal((200_000, 1, 4))
    codes = statistics[:, :4] + noise * np.exp(statistics[:, 4:] / 2)
    shown_by_many = (log_density(codes, statistics) - log_density(codes)).mean(axis=0)
    assert losses == pytest.approx(shown_by_many, abs=0.02)
    assert divergence(np.zeros((1, 8)))[0] == 0
    for place in ((0, 1), (2, 6)):
        nudged = statistics.copy()
        nudged[place] += STEP
        assert (divergence(nudged)[0] - losses).sum() / STEP == pytest.approx(grad[place], abs=1e-4)
    assert log_density(codes, statistics)[0, 0] == pytest.approx(
        stats.norm.logpdf(codes[0, 0], statistics[0, :4], np.exp(statistics[0, 4:] / 2)).sum()
    )


def linear() -> tuple[Coder, np.ndarray, float]:
    """A linear auto-encoder trained on normal data, the data, and their likelihood by principal components.

    Tipping & Bishop 1999, eqs. 7 and 8: the variance left over, and ln|C| of what is modelled.
    """
    random = np.random.default_rng(5)
    loads = random.normal(0, 1, (2, 12)) * np.array([[1.0], [0.6]])
    data = random.standard_normal((600, 2)) @ loads + 0.5 + random.normal(0, 0.4, (600, 12))
    values, _ = np.linalg.eigh(np.cov(data.T, bias=True))
    rest = values[:-2].mean()
    expected = -0.5 * (12 * np.log(2 * np.pi) + np.log(values[-2:]).sum() + 10 * np.log(rest) + 12)
    drawing = Drawing(mean="free", variance="learned", deviation=1.0)
    plan = NetworkPlan.stack([Flatten(), Connected(units=4), NormalCodes(), Connected(units=12), drawing])
    coder = Coder(Network.start(plan, (2, 2, 3), 2, np.float64))
    images = data.reshape(-1, 2, 2, 3)
    rule, route = AdamOptimiser(Adam()), coder.network.route(frozenset(coder.network.weights))
    with ThreadPool(1) as pool:
        for k in range(1200):
            rule.settings = Adam(learning_rate=0.02 * 0.5 ** (k // 200), beta2=0.99)
            result = coder.learn(images, images, route, StepContext(0, 0, k, 0), pool, 1.0, Cut(600, 100))
            rule.step(coder.network.weights, result.gradients)
    return coder, images, float(expected)


def test_a_linear_auto_encoder_comes_to_the_likelihood_of_principal_components() -> None:
    coder, images, expected = linear()
    random = np.random.default_rng(1)
    statistics = coder.encode(images)
    noise = random.standard_normal((64, 600, 2))
    bounds = [-(np.add(*coder.bound(statistics, images, each))).mean() for each in noise[:32]]
    assert np.mean(bounds) == pytest.approx(expected, abs=0.01 * abs(expected))
    assert np.mean(bounds) < expected + 0.01
    weighted = coder.weighted_bound(statistics, images, noise).mean()
    assert weighted == pytest.approx(expected, abs=0.01 * abs(expected))
    loose = statistics + np.array([0.3, -0.3, 0.8, 0.8])  # codes from elsewhere: the bound falls, the estimate less
    fallen = -(np.add(*coder.bound(loose, images, noise[0]))).mean()
    assert (
        fallen
        < coder.weighted_bound(loose, images, noise[:4]).mean()
        < coder.weighted_bound(loose, images, noise).mean()
    )
    one = coder.weighted_bound(loose, images, noise[:1])
    codes = coder.drawn_codes(loose, noise[0])
    kl = log_density(codes, loose) - log_density(codes)
    assert one == pytest.approx(-coder.bound(loose, images, noise[0])[0] - kl)


def test_each_half_runs_alone() -> None:
    coder = Coder(network(NormalCodes(), Drawing(), np.float32))
    images = batch(5)[0].astype(np.float32)
    statistics = coder.encode(images)
    drawn = coder.decode(coder.means(statistics))
    assert drawn == pytest.approx(shown(coder.drawing, coder.network.forward(images).outputs["drawing"]), abs=1e-6)
    ran: list[str] = []
    for name, layer in coder.network.layers.items():

        def forward(*given: Any, own: Any = layer.forward, of: str = name) -> Any:
            ran.append(of)
            return own(*given)

        layer.forward = forward  # type: ignore[method-assign]
    names = list(coder.network.layers)
    half = names.index(coder.code)
    coder.encode(images)
    assert set(ran) <= set(names[:half])
    ran.clear()
    coder.decode(coder.means(statistics))
    assert ran
    assert set(ran) <= set(names[half + 1 :])
