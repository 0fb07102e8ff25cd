"""Maps of which pixels an answer depends on. Each is one file and one line here, its settings are in `methods`."""

from __future__ import annotations

from attentive_lens.core.extensions import Parts, is_kind, raising
from attentive_lens.engine.arrays import Array
from attentive_lens.errors import BadUsage
from attentive_lens.explaining.methods import MAP_METHODS, MapSettings
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

METHODS: Parts[type[MapMethod]] = Parts(
    {
        "gradient_times_input": GradientTimesInput,
        "gradient": Gradient,
        "smoothed_gradient": SmoothedGradient,
        "integrated_gradients": IntegratedGradients,
        "guided_gradient": GuidedGradient,
        "class_activation": ClassActivation,
        "contribution": Contribution,
        "contribution_alpha_beta": Contribution,
        "occlusion": Occlusion,
        "random_masks": RandomMasks,
    },
    "explaining.saliency",
    raising,
    lambda thing: thing if is_kind(thing, MapMethod) else None,
)


def map_method(settings: MapSettings | str, other: Array | None = None) -> MapMethod:
    """The method of some settings, or of a kind's usual ones; with the prepared image H×W×C that they name, if any.

    Raises
    ------
    BadUsage
        If they name an image, and there is none.
    """
    chosen = MAP_METHODS[settings]() if isinstance(settings, str) else settings
    if chosen.other_image is not None and other is None:
        why = f"it begins at image {chosen.other_image} of a workspace, and here is none"
        raise BadUsage(f"The map by {chosen.label} was not drawn", why, "Let it begin elsewhere")
    return METHODS[chosen.kind](chosen, other)


__all__ = ["METHODS", "MapMethod", "map_method"]
