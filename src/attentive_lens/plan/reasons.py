"""Why a layer's output has the shape it has, in a sentence."""

from __future__ import annotations

from attentive_lens.plan.examination import Facts
from attentive_lens.plan.layers import Concatenate, Connected, Convolution, Flatten, GlobalPooling, LayerSettings
from attentive_lens.plan.layers.base import text


def reason(layer: LayerSettings, fact: Facts) -> str:
    """What makes the output's shape of the input's: «3×3 windows without padding lose 1 pixel at every border»."""
    before, after = fact.input_shape, fact.shape
    if layer.is_output:
        return "One score for each class."
    if isinstance(layer, Connected):
        return f"Each of {after[0]} units weighs all {before[0]} values."
    if isinstance(layer, Flatten):
        return f"{text(before)} values are laid out in one row."
    if isinstance(layer, GlobalPooling):
        return f"One value for each of {before[-1]} maps; rows and columns are gone."
    if isinstance(layer, Concatenate):
        return f"The maps of all inputs, one behind the other: {after[-1]}."
    reach = layer.reach(before)
    if reach is None or len(before) != 3 or len(after) != 3 or before == after:
        return "The shape stays as it is." if before == after else f"{text(before)} becomes {text(after)}."
    parts = []
    if reach.stride > 1:
        parts.append(f"One output for every {reach.stride}×{reach.stride} pixels, so each side is 1/{reach.stride}")
    elif before[:2] == after[:2]:
        parts.append("Zeros round the border keep rows and columns" if reach.kernel > 1 else "Rows and columns stay")
    elif after[0] < before[0]:
        lost = before[0] - after[0]
        parts.append(f"Only whole {reach.kernel}×{reach.kernel} windows count: {lost} rows and columns fewer")
    else:
        parts.append(f"Each side grows from {before[0]} to {after[0]}")
    if isinstance(layer, Convolution) and after[-1] != before[-1]:
        parts.append(f"each of {after[-1]} filters draws a map of its own")
    return "; ".join(parts) + "."
