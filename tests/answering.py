"""What tests that ask models share: a probe of a bare network, and a task carried out."""

from __future__ import annotations

from typing import TypeVar

from attentive_lens.core.jobs import finish
from attentive_lens.core.values import read_kind
from attentive_lens.desk.requests.base import Request
from attentive_lens.desk.tasks import carry_out
from attentive_lens.engine.network import Network
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.explaining.change_settings import CHANGE_SETTINGS, ChangeSettings
from attentive_lens.explaining.methods import MAP_METHODS, MapSettings
from attentive_lens.explaining.probe import Probe
from attentive_lens.images.preprocessing import Preprocessor
from attentive_lens.plan.preprocessing import Preprocessing
from attentive_lens.predicting import Predictor

R = TypeVar("R")


def probe_of(network: Network, thread_pool: ThreadPool | None = None, output: str = "softmax") -> Probe:
    """As made of a model, its classes being called 0, 1, 2."""
    classes = network.plan.nodes[-1].layer.output_shape((1,))[0] if output != "one sigmoid" else 2
    names = tuple(str(k) for k in range(classes))
    plain = Preprocessor.plain(Preprocessing(normalisation="0-1"))
    return Probe(Predictor(network, plain, names, output, thread_pool))


def answer(request: Request[R]) -> R:
    """What a request is answered with, in this process."""
    return finish(carry_out(request))


def by(kind: str, **settings: object) -> MapSettings:
    """A map method."""
    return read_kind("method", MAP_METHODS, {"kind": kind, **settings})


def change(kind: str, **settings: object) -> ChangeSettings:
    """A change tried on an image."""
    return read_kind("change", CHANGE_SETTINGS, {"kind": kind, **settings})
