"""What looks through a window that moves over maps: convolutions and poolings, over any number of axes."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.lib.stride_tricks import sliding_window_view

from attentive_lens.formats.onnx.operators.base import Node, Operator, Values, whole_numbers

WIDEST = 2**16
"""Pixels of a kernel, a step or a padding, at most."""


@dataclass(frozen=True)
class Window:
    """How a window goes over maps, an entry an axis.

    Attributes
    ----------
    sides : tuple of int
        Of the window, in values.
    strides, dilations : tuple of int
        Pixels from one output to the next, and from one value of the window to the next.
    before, after : tuple of int
        Padding.
    """

    sides: tuple[int, ...]
    strides: tuple[int, ...]
    dilations: tuple[int, ...]
    before: tuple[int, ...]
    after: tuple[int, ...]

    @property
    def extents(self) -> tuple[int, ...]:
        """Pixels it spans."""
        return tuple((side - 1) * step + 1 for side, step in zip(self.sides, self.dilations, strict=True))

    def counts(self, maps: Sequence[int], ceil: bool = False) -> tuple[int, ...]:
        """How many windows fit on maps of these sides; in ceil mode also one that begins on the map or before it."""
        counts = []
        for side, extent, step, before, after in zip(
            maps, self.extents, self.strides, self.before, self.after, strict=True
        ):
            room = side + before + after - extent
            count = (-(-room // step) if ceil else room // step) + 1
            if ceil and (count - 1) * step >= side + before:
                count -= 1
            counts.append(count)
        return tuple(counts)


def window_of(node: Node, maps: Sequence[int], sides: Sequence[int]) -> Window:
    """The window that a node names, with the padding that its `auto_pad` comes to on maps of these sides.

    Raises
    ------
    BadFile
        If its numbers do not belong together, or no window fits.
    """
    rank = len(maps)
    strides, dilations = (tuple(node.get(name) or (1,) * rank) for name in ("strides", "dilations"))
    pads = list(node.get("pads") or (0,) * (2 * rank))
    numbers = (tuple(sides), strides, dilations, tuple(pads[:rank]))
    if any(len(each) != rank for each in numbers) or len(pads) != 2 * rank:
        raise node.refuse(f"its window does not have the {rank} axes of the maps")
    if not all(0 < each <= WIDEST for each in (*sides, *strides, *dilations)) or not all(
        0 <= each <= WIDEST for each in pads
    ):
        raise node.refuse("its window has a side, a step or a padding that cannot be meant")
    automatic = node.get("auto_pad", "NOTSET")
    if automatic in ("SAME_UPPER", "SAME_LOWER"):
        for axis, side in enumerate(maps):
            extent = (sides[axis] - 1) * dilations[axis] + 1
            missing = max(0, (-(-side // strides[axis]) - 1) * strides[axis] + extent - side)
            small = missing // 2
            pads[axis], pads[rank + axis] = (small, missing - small) if automatic[-5:] == "UPPER" else (
                missing - small, small)  # fmt: skip
    elif automatic == "VALID":
        pads = [0] * (2 * rank)
    elif automatic != "NOTSET":
        raise node.refuse(f"its padding «{automatic}» is not known")
    return Window(tuple(sides), strides, dilations, tuple(pads[:rank]), tuple(pads[rank:]))


def _windows(node: Node, x: Values, window: Window, fill: float, ceil: bool = False) -> Values:
    """Every window: N×C×OUT…×SIDES…; what lies beyond the maps is filled."""
    rank = len(window.sides)
    counts = window.counts(x.shape[2:], ceil)
    if min(counts) < 1:
        raise node.refuse(f"its window of {window.sides} does not fit on maps of {x.shape[2:]}")
    node.check_size([*x.shape[:2], *counts, *window.sides], "what it looks at,")
    around, extents = [(0, 0), (0, 0)], window.extents
    for k in range(rank):
        reached = (counts[k] - 1) * window.strides[k] + extents[k]
        after = max(window.after[k], reached - window.before[k] - x.shape[2 + k])
        around.append((window.before[k], after))
    node.check_size([side + sum(each) for side, each in zip(x.shape, around, strict=True)])
    padded = np.pad(x, around, constant_values=np.asarray(fill, x.dtype))
    views = sliding_window_view(padded, extents, axis=tuple(range(2, 2 + rank)))
    steps = tuple(slice(0, (count - 1) * step + 1, step) for count, step in zip(counts, window.strides, strict=True))
    inside = tuple(slice(None, None, step) for step in window.dilations)
    return views[(slice(None), slice(None), *steps, *inside)]


def conv(node: Node, x: Values, kernel: Values, bias: Values | None = None) -> Values:
    """Cross-correlation with a kernel F×C/groups×SIDES, in as many axes as there are."""
    groups, rank = node.get("group", 1), x.ndim - 2
    fits = kernel.ndim == x.ndim and groups > 0 and x.shape[1] == kernel.shape[1] * groups
    if rank < 1 or not fits or len(kernel) % groups:
        raise node.refuse(f"filters of the shape {kernel.shape} in {groups} groups do not fit {x.shape[1]} channels")
    window = window_of(node, x.shape[2:], kernel.shape[2:])
    views = _windows(node, x, window, 0.0)
    parts = []
    for own, filters in zip(np.split(views, groups, 1), np.split(kernel, groups, 0), strict=True):
        contracted = [1, *range(2 + rank, 2 + 2 * rank)]
        parts.append(np.moveaxis(np.tensordot(own, filters, (contracted, list(range(1, 2 + rank)))), -1, 1))
    out = np.concatenate(parts, axis=1)
    return out if bias is None else out + bias.reshape(-1, *(1,) * rank)


def conv_transpose(node: Node, x: Values, kernel: Values, bias: Values | None = None) -> Values:
    """A convolution run backward: kernel C×F/groups×SIDES… painted by every value."""
    groups, rank = node.get("group", 1), x.ndim - 2
    if rank < 1 or kernel.ndim != x.ndim or groups < 1 or x.shape[1] != len(kernel) or len(kernel) % groups:
        raise node.refuse(f"filters of the shape {kernel.shape} in {groups} groups do not fit {x.shape[1]} channels")
    automatic, extra = node.get("auto_pad", "NOTSET"), list(node.get("output_padding") or (0,) * rank)
    plain = Node(node.name, node.operator, node.version, attributes={**node.attributes, "auto_pad": "NOTSET"})
    window = window_of(plain, x.shape[2:], kernel.shape[2:])
    whole = [(side - 1) * step + extent for side, step, extent in zip(
        x.shape[2:], window.strides, window.extents, strict=True)]  # fmt: skip
    before, after = list(window.before), list(window.after)
    wanted = node.get("output_shape")
    if wanted is not None or automatic in ("SAME_UPPER", "SAME_LOWER"):
        sides = wanted or [side * step for side, step in zip(x.shape[2:], window.strides, strict=True)]
        for k, side in enumerate(list(sides)[-rank:]):
            missing = max(0, whole[k] + extra[k] - side)
            small = missing // 2
            before[k], after[k] = (missing - small, small) if automatic == "SAME_LOWER" else (small, missing - small)
            extra[k] = max(extra[k], side - whole[k])
    elif automatic == "VALID":
        before, after = [0] * rank, [0] * rank
    filters = kernel.shape[1] * groups
    node.check_size([len(x), filters, *(side + more for side, more in zip(whole, extra, strict=True))])
    out = np.zeros((len(x), filters, *(side + max(0, more) for side, more in zip(whole, extra, strict=True))), x.dtype)
    per_group = len(kernel) // groups
    for group in range(groups):
        own, weights = (values[:, :] for values in (x, kernel))
        own = own[:, group * per_group : (group + 1) * per_group]
        weights = weights[group * per_group : (group + 1) * per_group]
        into = out[:, group * kernel.shape[1] : (group + 1) * kernel.shape[1]]
        for place in np.ndindex(*window.sides):
            painted = np.moveaxis(np.tensordot(own, weights[(slice(None), slice(None), *place)], ([1], [0])), -1, 1)
            at = tuple(
                slice(p * d, p * d + (side - 1) * step + 1, step)
                for p, d, side, step in zip(place, window.dilations, x.shape[2:], window.strides, strict=True)
            )
            into[(slice(None), slice(None), *at)] += painted
    cut = tuple(slice(b, side - a) for b, a, side in zip(before, after, out.shape[2:], strict=True))
    out = out[(slice(None), slice(None), *cut)]
    return out if bias is None else out + bias.reshape(-1, *(1,) * rank)


def _pooled(node: Node, x: Values, fill: float) -> tuple[Window, Values]:
    sides = whole_numbers(node.get("kernel_shape") or ())
    window = window_of(node, x.shape[2:], sides)
    return window, _windows(node, x, window, fill, bool(node.get("ceil_mode", 0)))


def _over(x: Values) -> tuple[int, ...]:
    """The axes of the window."""
    rank = (x.ndim - 2) // 2
    return tuple(range(2 + rank, 2 + 2 * rank))


def max_pool(node: Node, x: Values) -> Values | tuple[Values, ...]:
    """The greatest of each window, and where on the map it stood if that is asked for."""
    least = -np.inf if x.dtype.kind == "f" else float(np.iinfo(x.dtype).min)
    window, views = _pooled(node, x, least)
    out = views.max(axis=_over(views))
    if len(node.outputs) < 2:
        return np.asarray(out)
    rank, flat = x.ndim - 2, views.reshape(*out.shape, -1)
    place = np.unravel_index(flat.argmax(axis=-1), window.sides)
    sides, index = x.shape[2:], np.zeros(out.shape, np.int64)
    grid = np.meshgrid(*(np.arange(side) for side in out.shape[2:]), indexing="ij")
    weights = [math.prod(sides[k + 1 :]) for k in range(rank)]
    if node.get("storage_order", 0):
        weights = [math.prod(sides[:k]) for k in range(rank)]
    for k in range(rank):
        index += (grid[k] * window.strides[k] + place[k] * window.dilations[k] - window.before[k]) * weights[k]
    starts = np.arange(math.prod(x.shape[:2])).reshape(*x.shape[:2], *(1,) * rank) * math.prod(sides)
    return out, index + starts


def average_pool(node: Node, x: Values) -> Values:
    """The mean of each window, over the pixels of the map, or over those of the padding too."""
    window, views = _pooled(node, x, 0.0)
    total = views.sum(axis=_over(views))
    ones = np.ones((1, 1, *x.shape[2:]), x.dtype)
    if node.get("count_include_pad", 0):
        around = [(0, 0), (0, 0), *zip(window.before, window.after, strict=True)]
        ones = np.pad(ones, around, constant_values=1)
        window = Window(window.sides, window.strides, window.dilations, *(((0,) * len(window.sides),) * 2))
    counted = _windows(node, ones, window, 0.0, bool(node.get("ceil_mode", 0)))
    counted = counted[(slice(None), slice(None), *(slice(0, side) for side in total.shape[2:]))]
    return np.asarray(total / counted.sum(axis=_over(counted))).astype(x.dtype)


def lp_pool(node: Node, x: Values) -> Values:
    """The root of the sum of powers of each window."""
    power = node.get("p", 2)
    _, views = _pooled(node, np.abs(x) ** power, 0.0)
    return np.asarray(views.sum(axis=_over(views)) ** (1 / power)).astype(x.dtype)


def whole(reduced: Callable[[Node, Values, tuple[int, ...]], Values]) -> Operator:
    """A pooling over whole maps."""
    return lambda node, x: reduced(node, x, tuple(range(2, x.ndim)))


def _global_lp(node: Node, x: Values, axes: tuple[int, ...]) -> Values:
    power = node.get("p", 2)
    return np.asarray((np.abs(x) ** power).sum(axis=axes, keepdims=True) ** (1 / power)).astype(x.dtype)


WINDOWS: dict[str, Operator] = {
    "Conv": conv,
    "ConvTranspose": conv_transpose,
    "MaxPool": max_pool,
    "AveragePool": average_pool,
    "LpPool": lp_pool,
    "GlobalAveragePool": whole(lambda node, x, axes: x.mean(axis=axes, keepdims=True, dtype=x.dtype)),
    "GlobalMaxPool": whole(lambda node, x, axes: x.max(axis=axes, keepdims=True)),
    "GlobalLpPool": whole(_global_lp),
}
"""By the standard's names."""
