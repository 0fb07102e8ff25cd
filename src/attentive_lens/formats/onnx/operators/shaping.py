"""What moves values about, reads shapes or makes arrays of them, without reckoning."""

from __future__ import annotations

import math

import numpy as np
from onnx import helper

from attentive_lens.formats.onnx.operators.base import Node, Operator, Values, axes_of, is_plain, whole_numbers


def cast(node: Node, x: Values) -> Values:
    """To another type of numbers."""
    kind = helper.tensor_dtype_to_np_dtype(node.get("to"))
    if not is_plain(kind) or not is_plain(x.dtype):
        raise node.refuse(f"«{kind}» of «{x.dtype}» are no plain numbers")
    with np.errstate(all="ignore"):
        return x.astype(kind)


def concat(node: Node, *inputs: Values) -> Values:
    """One behind the other."""
    node.check_size([sum(each.size for each in inputs)])
    return np.concatenate(inputs, axis=node.get("axis", 1))


def flatten(node: Node, x: Values) -> Values:
    """Two axes: all before one, and all from it on."""
    axis = node.get("axis", 1)
    axis += x.ndim if axis < 0 else 0
    return x.reshape(math.prod(x.shape[:axis]), -1)


def reshape(node: Node, x: Values, shape: Values | None = None) -> Values:
    """0 keeps a side, unless it is to mean none; −1 is what is left."""
    sides = whole_numbers(node.get("shape") if shape is None else shape)
    if not node.get("allowzero", 0):
        if any(side == 0 and k >= x.ndim for k, side in enumerate(sides)):
            raise node.refuse(f"it keeps a side that an array of rank {x.ndim} has not")
        sides = [x.shape[k] if side == 0 else side for k, side in enumerate(sides)]
    known = math.prod(side for side in sides if side != -1)
    if sides.count(-1) > 1 or (x.size != known if -1 not in sides else known == 0 or x.size % known):
        raise node.refuse(f"{x.size} numbers cannot stand in the shape {sides}")
    return x.reshape(sides)


def transpose(node: Node, x: Values) -> Values:
    """Axes in another order, backward where none is named."""
    order = node.get("perm")
    return x.transpose(None if order is None else axes_of(order, x.ndim, node))


def squeeze(node: Node, x: Values, axes: Values | None = None) -> Values:
    """Without axes of 1: all, or those named."""
    named = node.get("axes") if axes is None else axes
    return np.squeeze(x, None if named is None else axes_of(named, x.ndim, node))


def unsqueeze(node: Node, x: Values, axes: Values | None = None) -> Values:
    """With axes of 1 at the places named, as they are counted in the output."""
    named = whole_numbers(node.get("axes") if axes is None else axes)
    return np.expand_dims(x, axes_of(named, x.ndim + len(named), node))


def shape_of(node: Node, x: Values) -> Values:
    """Sides, all or some."""
    return np.array(x.shape[slice(node.get("start", 0), node.get("end"))], np.int64)


def sliced(node: Node, x: Values, *inputs: Values | None) -> Values:
    """Stretches along axes; attributes before version 10."""
    if node.version < 10:
        starts, ends, axes, steps = (node.get(name) for name in ("starts", "ends", "axes", "steps"))
    else:
        starts, ends, axes, steps = (inputs[k] if k < len(inputs) else None for k in range(4))
    first, last = whole_numbers(starts), whole_numbers(ends)
    along = axes_of(range(len(first)) if axes is None else axes, x.ndim, node)
    stride = [1] * len(first) if steps is None else whole_numbers(steps)
    if not len(first) == len(last) == len(along) == len(stride) or 0 in stride:
        raise node.refuse("its starts, ends, axes and steps do not belong together")
    parts = [slice(None)] * x.ndim
    for axis, start, end, step in zip(along, first, last, stride, strict=True):
        side = x.shape[axis]
        start, end = (place + side if place < 0 else place for place in (start, end))
        if step > 0:
            parts[axis] = slice(min(max(start, 0), side), min(max(end, 0), side), step)
        else:
            end = min(max(end, -1), side)
            parts[axis] = slice(min(max(start, 0), side - 1), None if end < 0 else end, step)
    return x[tuple(parts)]


def gather(node: Node, x: Values, places: Values) -> Values:
    """Entries along an axis, counted from the end where they are negative."""
    axis = axes_of([node.get("axis", 0)], x.ndim, node)[0]
    if places.size and (places.min() < -x.shape[axis] or places.max() >= x.shape[axis]):
        raise node.refuse(f"it takes an entry that {x.shape[axis]} have not")
    node.check_size((*x.shape[:axis], *places.shape, *x.shape[axis + 1 :]))
    return np.take(x, places, axis)


def expand(node: Node, x: Values, shape: Values) -> Values:
    """Repeated along axes of 1."""
    sides = np.broadcast_shapes(x.shape, tuple(whole_numbers(shape)))
    node.check_size(sides)
    return np.broadcast_to(x, sides).copy()


def constant(node: Node) -> Values:
    """An array of its own, or numbers."""
    for name, kind in (("value_float", np.float32), ("value_floats", np.float32), ("value_int", np.int64),
                       ("value_ints", np.int64)):  # fmt: skip
        if name in node.attributes:
            return np.asarray(node.get(name), kind)
    value = node.get("value")
    if not isinstance(value, np.ndarray):
        raise node.refuse("it holds no array of numbers")
    return value


def constant_of_shape(node: Node, shape: Values) -> Values:
    """One number everywhere, 0 where none is named."""
    sides = whole_numbers(shape)
    node.check_size(sides)
    value = node.get("value", np.zeros(1, np.float32))
    return np.full(sides, value.reshape(-1)[0], value.dtype)


def split(node: Node, x: Values, sizes: Values | None = None) -> tuple[Values, ...]:
    """Parts along an axis: of the sizes named, or as equal as can be."""
    axis = axes_of([node.get("axis", 0)], x.ndim, node)[0]
    named = node.get("split") if sizes is None else sizes
    side, count = x.shape[axis], node.get("num_outputs", len(node.outputs))
    most = -(-side // max(1, count))
    parts = [min(most, max(0, side - k * most)) for k in range(count)] if named is None else whole_numbers(named)
    if sum(parts) != side or min(parts, default=0) < 0:
        raise node.refuse(f"its parts {parts} do not make {side}")
    return tuple(np.split(x, np.cumsum(parts)[:-1], axis))


MODES = {"constant": "constant", "reflect": "reflect", "edge": "edge", "wrap": "wrap"}
"""How a border is filled, by the standard's name for it and NumPy's."""


def pad(node: Node, x: Values, pads: Values | None = None, value: Values | None = None, axes: Values | None = None
        ) -> Values:  # fmt: skip
    """A border of a value, or of the array itself; negative widths cut off. Attributes before version 11."""
    widths = whole_numbers((node.get("pads") or node.get("paddings")) if pads is None else pads)
    along = axes_of(range(x.ndim) if axes is None else axes, x.ndim, node)
    mode = node.get("mode", "constant")
    if len(widths) != 2 * len(along) or mode not in MODES:
        raise node.refuse("its widths do not belong to its axes, or its mode is not known")
    before, after = [0] * x.ndim, [0] * x.ndim
    for k, axis in enumerate(along):
        before[axis], after[axis] = widths[k], widths[len(along) + k]
    cut = tuple(slice(max(0, -b), side - max(0, -a)) for b, a, side in zip(before, after, x.shape, strict=True))
    x, around = x[cut], [(max(0, b), max(0, a)) for b, a in zip(before, after, strict=True)]
    node.check_size([side + sum(widths_) for side, widths_ in zip(x.shape, around, strict=True)])
    if mode == "constant":
        filling = node.get("value", 0.0) if value is None else value.reshape(-1)[0]
        return np.pad(x, around, constant_values=np.asarray(filling, x.dtype))
    return np.pad(x, around, mode=MODES[mode])  # type: ignore[call-overload,no-any-return]


SHAPING: dict[str, Operator] = {
    "Cast": cast,
    "Concat": concat,
    "Flatten": flatten,
    "Reshape": reshape,
    "Transpose": transpose,
    "Squeeze": squeeze,
    "Unsqueeze": unsqueeze,
    "Shape": shape_of,
    "Slice": sliced,
    "Gather": gather,
    "Expand": expand,
    "Constant": constant,
    "ConstantOfShape": constant_of_shape,
    "Split": split,
    "Pad": pad,
}
"""By the standard's names."""
