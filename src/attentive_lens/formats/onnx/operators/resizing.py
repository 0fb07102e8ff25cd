"""Maps made larger or smaller: nearest and linear, by every rule the standard has for where a pixel comes from."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from attentive_lens.formats.onnx.operators.base import Node, Operator, Values, axes_of, whole_numbers


def _filled(inputs: tuple[Values | None, ...], count: int) -> list[Values | None]:
    """So many inputs: None for those left out at the end."""
    return [inputs[k] if k < len(inputs) else None for k in range(count)]


def _source(node: Node, rule: str, count: int, side: int, scale: float, region: tuple[float, float]) -> Values:
    """Where on an axis of ``side`` pixels each of ``count`` outputs comes from."""
    at = np.arange(count, dtype=np.float64)
    if rule == "asymmetric":
        return at / scale
    if rule == "half_pixel":
        return (at + 0.5) / scale - 0.5
    if rule == "half_pixel_symmetric":
        adjusted = count / (scale * side)
        return side / 2 * (1 - adjusted) + (at + 0.5) / scale - 0.5
    if rule == "align_corners":
        return at * (side - 1) / (scale * side - 1) if count > 1 else np.zeros(1)
    if rule.endswith("half_pixel_for_nn"):
        return (at + 0.5) / scale
    if rule.endswith("_half_pixel"):  # but for a single output, which is the first pixel
        return (at + 0.5) / scale - 0.5 if count > 1 else np.zeros(1)
    if rule.endswith(REGION):
        start, end = region
        if count > 1:
            return start * (side - 1) + at * (end - start) * (side - 1) / (scale * side - 1)
        return np.array([0.5 * (start + end) * (side - 1)])
    raise node.refuse(f"its rule «{rule}» for where a pixel comes from is not known")


REGION = "crop_and_resize"
"""How the rule ends that takes a region of the input."""
NEAREST: dict[str, Callable[[Values], Values]] = {
    "round_prefer_floor": lambda at: np.ceil(at - 0.5),
    "round_prefer_ceil": lambda at: np.floor(at + 0.5),
    "floor": np.floor,
    "ceil": np.ceil,
}
"""Which pixel is nearest to a place between two."""


def _weights(node: Node, at: Values, side: int, scale: float) -> Values:
    """A matrix outputs × inputs for one axis."""
    mode, places = node.get("mode", "nearest"), np.arange(side)
    if mode == "nearest":
        how = NEAREST.get(node.get("nearest_mode", "floor" if node.version < 11 else "round_prefer_floor"))
        if how is None:
            raise node.refuse("its way to the nearest pixel is not known")
        chosen = np.clip(how(at), 0, side - 1).astype(int)
        return np.asarray(places == chosen[:, None], np.float64)
    if mode not in ("linear", "cubic"):
        raise node.refuse(f"its mode «{mode}» is not known")
    stretch = max(1.0, 1 / scale) if node.get("antialias", 0) else 1.0
    reach = (1 if mode == "linear" else 2) * stretch
    first = np.floor(at - reach).astype(int)
    taken = first[:, None] + np.arange(int(np.ceil(2 * reach)) + 2)
    away = np.abs(taken - at[:, None]) / stretch
    if mode == "linear":
        factors = np.maximum(0, 1 - away)
    else:
        a = node.get("cubic_coeff_a", -0.75)
        factors = np.where(
            away <= 1,
            ((a + 2) * away - (a + 3)) * away**2 + 1,
            np.where(away < 2, ((a * away - 5 * a) * away + 8 * a) * away - 4 * a, 0),
        )
    if node.get("exclude_outside", 0):
        factors = np.where((taken >= 0) & (taken < side), factors, 0)
    if stretch > 1 or node.get("exclude_outside", 0):
        factors = factors / factors.sum(axis=1, keepdims=True)
    matrix = np.zeros((len(at), side))
    rows = np.broadcast_to(np.arange(len(at))[:, None], taken.shape)
    np.add.at(matrix, (rows, np.clip(taken, 0, side - 1)), factors)
    return matrix


def resize(node: Node, x: Values, *inputs: Values | None) -> Values:
    """To sides, or by factors; only the axes that change are reckoned."""
    if node.version < 11:
        region_values, scales, sizes = None, inputs[0], None
        rule = "asymmetric"
    else:
        region_values, scales, sizes = _filled(inputs, 3)
        rule = node.get("coordinate_transformation_mode", "half_pixel")
    axes = axes_of(node.get("axes", range(x.ndim)), x.ndim, node)
    sides = [x.shape[axis] for axis in axes]
    if sizes is not None and sizes.size:
        wanted = whole_numbers(sizes)
        factors = [count / side for count, side in zip(wanted, sides, strict=True)]
        policy = node.get("keep_aspect_ratio_policy", "stretch")
        if policy != "stretch":
            one = min(factors) if policy == "not_larger" else max(factors)
            factors = [one] * len(axes)
            wanted = [int(np.floor(side * one + 0.5)) for side in sides]
    elif scales is not None and scales.size:
        factors = [float(value) for value in scales.reshape(-1)]
        wanted = [int(np.floor(side * factor)) for side, factor in zip(sides, factors, strict=True)]
    else:
        raise node.refuse("it names neither sides nor factors")
    if len(wanted) != len(axes) or min(wanted, default=1) < 1 or min(factors) <= 0:
        raise node.refuse(f"its sides {wanted} do not belong to {len(axes)} axes, or hold nothing")
    out_shape = list(x.shape)
    for axis, count in zip(axes, wanted, strict=True):
        out_shape[axis] = count
    node.check_size(out_shape)
    ends = [0.0, 1.0] * len(axes)
    if region_values is not None and region_values.size:
        ends = [float(v) for v in region_values.reshape(-1)]
    else:
        ends = [0.0] * len(axes) + [1.0] * len(axes)
    out, beyond = x.astype(np.float64), np.zeros((), bool)
    for k, axis in enumerate(axes):
        side, count = x.shape[axis], wanted[k]
        region = (ends[k], ends[len(axes) + k])
        if side == count and not rule.endswith(REGION):
            continue
        node.check_size([count, side], "its matrix of")
        at = _source(node, rule, count, side, factors[k], region)
        outside = (at < 0) | (at > side - 1) if rule.endswith(REGION) else np.zeros(len(at), bool)
        out = np.moveaxis(np.tensordot(_weights(node, at, side, factors[k]), out, ([1], [axis])), 0, axis)
        beyond = beyond | outside.reshape(-1, *(1,) * (x.ndim - 1 - axis))
    if beyond.any():
        out = np.where(beyond, node.get("extrapolation_value", 0.0), out)
    if x.dtype.kind in "iu":
        out = np.rint(out)
    return out.astype(x.dtype)


def upsample(node: Node, x: Values, scales: Values | None = None) -> Values:
    """What resizing was called before version 10."""
    factors = np.asarray(node.get("scales")) if scales is None else scales
    return resize(Node(node.name, node.operator, 10, node.inputs, node.outputs, node.attributes), x, factors)


RESIZING: dict[str, Operator] = {"Resize": resize, "Upsample": upsample}
"""By the standard's names."""
