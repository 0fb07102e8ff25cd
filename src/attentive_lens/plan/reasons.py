"""Why a layer's output has the shape it has, in a sentence that can be reckoned through."""

from __future__ import annotations

from attentive_lens.plan.examination import Facts
from attentive_lens.plan.layers import Concatenate, Connected, Flatten, GlobalPooling, LayerSettings
from attentive_lens.plan.layers.base import Axis, text


def reason(layer: LayerSettings, fact: Facts) -> str:
    """What makes the output's shape of the input's: «Rows and columns: 96 − 3 + 1 = 94»."""
    before, after = fact.input_shape, fact.shape
    if layer.is_input:
        return f"{after[0]} values beside each image, whatever it shows."
    if layer.draws:
        return "The image, as it is drawn."
    if layer.is_output:
        return "One score for each class." if after != (1,) else "One score."
    if layer.is_meeting:
        return "The images drawn, or real ones of the same shape in their place."
    if isinstance(layer, Connected):
        return f"Each of {after[0]} units weighs all {before[0]} values."
    if isinstance(layer, Flatten):
        return f"{text(before)} values are laid out in one row."
    if isinstance(layer, GlobalPooling):
        return f"One value for each of {before[-1]} maps; rows and columns are gone."
    if isinstance(layer, Concatenate):
        return f"The maps of all inputs, one behind the other: {after[-1]}."
    if before == after:
        return "The shape stays as it is."
    if len(before) != 3 or len(after) != 3:
        return f"{text(before)} becomes {text(after)}."
    axes = layer.axes(before)
    if axes is not None:
        parts = [_window(*axes), *_both(*(_reckoned(axis) for axis in axes))]
    elif before[:2] == after[:2]:
        parts = ["Rows and columns stay"]
    else:
        parts = _both(*(f"{one} × {other // one} = {other}" for one, other in zip(before[:2], after[:2], strict=True)))
    if after[-1] != before[-1] and layer.output_channels(before[-1]) == after[-1]:
        parts.append(f"each of {after[-1]} filters draws a map of its own")
    sentence = "; ".join(parts)
    return f"{sentence[0].upper()}{sentence[1:]}."


def _window(rows: Axis, columns: Axis) -> str:
    """The windows, how far apart they are, and what is padded on which side."""
    step = f" every {rows.stride} pixels" if rows.stride > 1 else ""
    words = f"{text((rows.extent, columns.extent))} windows{step}"
    sides = {
        "above": rows.before,
        "below": rows.after,
        "at the left": columns.before,
        "at the right": columns.after,
    }
    if len(set(sides.values())) == 1:
        return f"{words}, padding {rows.before}" if rows.before else f"{words}, no padding"
    return f"{words}, padding {', '.join(f'{width} {side}' for side, width in sides.items())}"


def _reckoned(axis: Axis) -> str:
    """How many windows fit along an axis, as it is worked out."""
    room = " ".join([f"{axis.side}", *(f"+ {pad}" for pad in (axis.before, axis.after) if pad), f"− {axis.extent}"])
    whole, left = divmod(axis.side + axis.before + axis.after - axis.extent, axis.stride)
    if whole + bool(left and axis.ceil) + 1 != axis.count:  # in ceil mode
        return f"windows that hold a pixel: {axis.count}"
    if axis.stride == 1:
        return f"{room} + 1 = {axis.count}"
    rounded = f", rounded {'up' if axis.ceil else 'down'}," if left else ""
    return f"({room}) / {axis.stride} + 1{rounded} = {axis.count}"


def _both(rows: str, columns: str) -> list[str]:
    """Told once where rows and columns are alike."""
    return [f"rows and columns: {rows}"] if rows == columns else [f"rows: {rows}", f"columns: {columns}"]
