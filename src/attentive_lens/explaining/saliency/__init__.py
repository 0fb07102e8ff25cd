"""Maps of which pixels an answer depends on. Each method is one file and one line here, with its facts in `methods`."""

from __future__ import annotations

from attentive_lens.explaining.methods import DEFAULT
from attentive_lens.explaining.saliency.base import MapMethod
from attentive_lens.explaining.saliency.class_activation import ClassActivation
from attentive_lens.explaining.saliency.contribution import Contribution
from attentive_lens.explaining.saliency.gradient import Gradient
from attentive_lens.explaining.saliency.gradient_times_input import GradientTimesInput
from attentive_lens.explaining.saliency.guided_gradient import GuidedGradient
from attentive_lens.explaining.saliency.integrated_gradients import IntegratedGradients
from attentive_lens.explaining.saliency.occlusion import Occlusion
from attentive_lens.explaining.saliency.random_masks import RandomMasks
from attentive_lens.explaining.saliency.smoothed_gradient import SmoothedGradient

METHODS: dict[str, MapMethod] = {
    "gradient_times_input": GradientTimesInput(),
    "gradient": Gradient(),
    "smoothed_gradient": SmoothedGradient(),
    "integrated_gradients": IntegratedGradients(),
    "guided_gradient": GuidedGradient(),
    "class_activation": ClassActivation(),
    "contribution": Contribution(),
    "contribution_alpha_beta": Contribution("alpha-beta"),
    "occlusion": Occlusion(),
    "random_masks": RandomMasks(),
}
for _key, _method in METHODS.items():
    _method.key = _key

__all__ = ["DEFAULT", "METHODS", "MapMethod"]
