"""Maps of which pixels an answer depends on. Each is one file and one line here, its settings are in `methods`."""

from __future__ import annotations

from collections.abc import Sequence

from attentive_lens.core.extensions import Parts, is_kind, raising
from attentive_lens.engine.arrays import Array
from attentive_lens.errors import BadUsage
from attentive_lens.explaining.methods import MAP_METHODS, ByChannelSettings, MapSettings
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


def map_method(settings: MapSettings | str, other: Array | None = None, channels: Sequence[str] = ()) -> MapMethod:
    """The method of some settings, or of a kind's usual ones.

    Parameters
    ----------
    settings : MapSettings or str
    other : ndarray, H×W×C, optional
        The prepared image that they name.
    channels : sequence of str
        Names of the channels of a prepared image, C.

    Raises
    ------
    BadUsage
        If they name an image, and there is none, or a channel that the model does not see.
    """
    chosen = MAP_METHODS[settings]() if isinstance(settings, str) else settings
    if chosen.other_image is not None and other is None:
        why = f"it begins at image {chosen.other_image} of a workspace, and here is none"
        raise BadUsage(f"The map by {chosen.label} was not drawn", why, "Let it begin elsewhere")
    channel = chosen.channel if isinstance(chosen, ByChannelSettings) else ""
    if channel and channel not in channels:
        why = f"the model sees no channel «{channel[:60]}»; it sees {', '.join(channels)}"
        raise BadUsage(f"The map by {chosen.label} was not drawn", why, "Name one of these")
    return METHODS[chosen.kind](chosen, other, channels.index(channel) if channel else None)


__all__ = ["METHODS", "MapMethod", "map_method"]
