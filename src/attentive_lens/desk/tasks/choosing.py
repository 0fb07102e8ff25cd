"""The map method that a request asks for, with its baseline or layer."""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np

from attentive_lens.core.jobs import Job
from attentive_lens.core.values import unknown_word
from attentive_lens.desk.models import model_and_data
from attentive_lens.desk.requests.explaining import BASELINES, Explain, ExplainFile, Trust
from attentive_lens.desk.requests.maps import Maps
from attentive_lens.errors import BadUsage, BadValue
from attentive_lens.explaining.saliency import METHODS, MapMethod
from attentive_lens.explaining.saliency.class_activation import ClassActivation
from attentive_lens.explaining.saliency.integrated_gradients import IntegratedGradients
from attentive_lens.formats.bundle import ModelFile
from attentive_lens.workspace import Workspace

_IMAGE = re.compile(r"image (\d{1,9})")


def method_of(name: str) -> MapMethod:
    """The method of that name; a sentence with the nearest if there is none."""
    if name not in METHODS:
        raise unknown_word("method", name, frozenset(METHODS))
    return METHODS[name]


def chosen_method(name: str, model: ModelFile, request: Explain | ExplainFile | Maps | Trust) -> Job[MapMethod]:
    """The method, from the request's baseline or for its layer where it has such."""
    method: MapMethod = method_of(name)
    if isinstance(method, IntegratedGradients) and request.baseline:
        method = yield from _from(request.baseline, model, request)
    elif isinstance(method, ClassActivation) and request.layer:
        facts = {fact.name: fact.shape for fact in model.plan.facts(model.preprocessor.settings.shape)}
        if request.layer not in facts:
            raise unknown_word("layer", request.layer, frozenset(facts))
        if len(facts[request.layer]) != 3:
            why = "its output is one row of values"
            raise BadValue(f"{request.layer} has no feature maps", why, "Choose a layer before it")
        method = ClassActivation(request.layer)
    method.key = name
    return method


def _from(baseline: str, model: ModelFile, request: Explain | ExplainFile | Maps | Trust) -> Job[IntegratedGradients]:
    """Integrated gradients from one of `BASELINES`, or from another image of the workspace."""
    if baseline == "black":
        nothing = np.zeros((1, *model.preprocessor.settings.shape), np.uint8)
        return IntegratedGradients(start=model.preprocessor.apply(nothing)[0])
    if baseline in BASELINES:
        return IntegratedGradients((baseline,))
    other = _IMAGE.fullmatch(baseline)
    if other is None:
        raise unknown_word("baseline", baseline, frozenset({*BASELINES, "image N"}))
    workspace = "" if isinstance(request, ExplainFile) else request.workspace
    if not workspace or isinstance(request, ExplainFile):
        why = "a model file has no images to begin from"
        raise BadUsage(f"The baseline {baseline} cannot be used", why, "Ask the run in its workspace")
    place, number = Workspace.open(Path(workspace)), int(other[1])
    _, data = yield from model_and_data(place, place.run(request.run), number)
    return IntegratedGradients(start=model.preprocessor.apply(data.pixels[data.place(number)][None])[0])
