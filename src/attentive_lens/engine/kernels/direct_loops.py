"""The loops of `direct`, compiled: sums of products that stay in the processor's registers.

The innermost loop is a tile: some rows by one or two vectors of columns, every one of them a running sum. Each step
adds one value a row times one row of columns: rows times vectors multiply-adds for rows plus vectors loads, which is
what lets them run near the speed of a large matrix product without laying out windows first. The compiler does not
find such tiles by itself, so it is told in its own terms. Every sum is one chain of fused multiply-adds in the order
of the window's values, whatever the tile: its bits depend on nothing else.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, NamedTuple

import numpy as np
from llvmlite import binding, ir
from numba import njit, types
from numba.core import cgutils
from numba.extending import intrinsic

from attentive_lens.engine.arrays import Array

_WIDE = bool(binding.get_host_cpu_features().get("avx512f"))
VECTOR = 64 if _WIDE else 32
"""Bytes of a vector; a block of columns is two of them, one, or half a one."""
PIXELS = 8
"""Rows of a tile where rows are pixels."""
PIXELS_2 = 8 if _WIDE else 4
"""The same where it is two vectors wide, so that its sums fill no more than the registers."""
FEW = 4
"""Rows of a tile where a row of pixels is shorter."""
BAND = 2048
"""Values of a gradient that are summed over before they are added up: about half of a core's innermost cache."""


class Walk(NamedTuple):
    """How windows stand in maps that are one row of values: all in values of that row.

    Attributes
    ----------
    first : int
        Where the first window begins.
    image, row, column : int
        From one window to that of the next image, output row and output column.
    tall, line : int
        Rows of a window, and from one to the next.
    wide, apart, length : int
        Stretches in a row of a window, from one to the next, and values in each that follow one another.
    """

    first: int
    image: int
    row: int
    column: int
    tall: int
    line: int
    wide: int
    apart: int
    length: int


class Target(NamedTuple):
    """Where outputs stand in an array that is one row of values, and how many there are.

    Attributes
    ----------
    first, image, row, column : int
        As of `Walk`.
    images, rows, columns, filters : int
        Of the outputs.
    """

    first: int
    image: int
    row: int
    column: int
    images: int
    rows: int
    columns: int
    filters: int


class Room(NamedTuple):
    """Where an image is laid out with zeros round it, so that windows may reach outside.

    Attributes
    ----------
    values : ndarray
        One row of values, perhaps a few more than the image needs.
    rows, width : int
        Rows, and values of each; no rows if images need no room.
    top, left : int
        Where in it the image begins: row, and value of a row.
    """

    values: Array
    rows: int
    width: int
    top: int
    left: int


def _tile(rows: int, vectors: int, vector_bytes: int, adds: bool = False) -> Callable[..., Any]:
    """An operation of the compiler: start + a · b, for so many rows of a and so many vectors of columns of b.

    It takes the values ``a`` from ``at`` on, ``down`` apart from row to row; ``loops``, pairs of how many steps and how
    many values a step, outermost first; ``b`` from ``bt`` on, one row of columns for every step, ``along`` apart;
    ``start`` from ``st`` on; whether negative sums become 0; the target ``c`` from ``ct`` on, ``across`` apart from row
    to row; and how many columns there are. With ``adds`` sums are added to the target, else they replace it.
    """

    @intrinsic
    def tile(
        typing: Any, a: Any, at: Any, down: Any, loops: Any, b: Any, bt: Any, along: Any, start: Any, st: Any,
        activate: Any, c: Any, ct: Any, across: Any, used: Any,
    ) -> Any:  # fmt: skip
        del typing, at, down, bt, along, st, activate, ct, across, used
        n = types.intp
        signature = types.void(a, n, n, loops, b, n, n, start, n, types.boolean, c, n, n, n)
        return signature, generate

    def generate(context: Any, builder: Any, signature: Any, arguments: Any) -> Any:
        a, at, down, loops, b, bt, along, start, st, activate, c, ct, across, used = arguments
        element = context.get_data_type(signature.args[0].dtype)
        size = context.get_abi_sizeof(element)
        lanes = vector_bytes // size
        word, long = ir.IntType(32), ir.IntType(64)
        vector, numbers = ir.VectorType(element, lanes), ir.VectorType(long, lanes)
        flags, pointer = ir.VectorType(ir.IntType(1), lanes), vector.as_pointer()
        align, zero = ir.Constant(word, size), ir.Constant(vector, [0.0] * lanes)

        def operation(name: str, result: Any, *kinds: Any) -> Any:
            of = ir.FunctionType(result, kinds)
            return cgutils.get_or_insert_function(builder.module, of, f"llvm.{name.format(f'v{lanes}f{8 * size}')}")

        multiply_add = operation("fma.{}", vector, vector, vector, vector)
        load = operation("masked.load.{}.p0", vector, pointer, word, flags, vector)
        store = operation("masked.store.{}.p0", ir.VoidType(), vector, pointer, word, flags)

        def data(place: int, value: Any) -> Any:
            return context.make_array(signature.args[place])(context, builder, value).data

        def spread(value: Any, kind: Any) -> Any:
            empty = ir.Constant(kind, ir.Undefined)
            first = builder.insert_element(empty, value, ir.Constant(word, 0))
            return builder.shuffle_vector(first, empty, ir.Constant(ir.VectorType(word, lanes), [0] * lanes))

        def moved(index: Any, times: int, by: Any) -> Any:
            return builder.add(index, builder.mul(ir.Constant(long, times), by))

        def vector_at(pointer_to: Any, index: Any, v: int) -> Any:
            return builder.bitcast(builder.gep(pointer_to, [moved(index, v, ir.Constant(long, lanes))]), pointer)

        values, columns, starts, target = data(0, a), data(4, b), data(7, start), data(10, c)
        places = [list(range(v * lanes, (v + 1) * lanes)) for v in range(vectors)]
        exist = [builder.icmp_signed("<", ir.Constant(numbers, own), spread(used, numbers)) for own in places]

        def row_at(pointer_to: Any, index: Any) -> list[Any]:
            return [
                builder.call(load, [vector_at(pointer_to, index, v), align, exist[v], zero]) for v in range(vectors)
            ]

        sums = [[cgutils.alloca_once_value(builder, first) for first in row_at(starts, st)] for _ in range(rows)]
        here = cgutils.alloca_once_value(builder, bt)

        # rows apart, as numbers whose relation the compiler cannot see: it would step from one to the next, one by one
        unseen = ir.InlineAsm(ir.FunctionType(long, [long]), "", "=r,0", side_effect=False)
        rows_apart = [builder.call(unseen, [moved(ir.Constant(long, 0), r, down)]) for r in range(rows)]

        def step(index: Any) -> None:
            bt = builder.load(here)
            row = (
                row_at(columns, bt)
                if adds
                else [builder.load(vector_at(columns, bt, v), align=size) for v in range(vectors)]
            )
            builder.store(builder.add(builder.load(here), along), here)
            for r in range(rows):
                factor = spread(builder.load(builder.gep(values, [builder.add(index, rows_apart[r])])), vector)
                for v in range(vectors):
                    total = builder.call(multiply_add, [factor, row[v], builder.load(sums[r][v])])
                    builder.store(total, sums[r][v])

        def nest(counts: list[Any], index: Any) -> None:
            if not counts:
                step(index)
                return
            with cgutils.for_range(builder, counts[0]) as loop:
                nest(counts[2:], builder.add(index, builder.mul(loop.index, counts[1])))

        nest(cgutils.unpack_tuple(builder, loops), at)
        with builder.if_then(activate):
            for total in (total for row in sums for total in row):
                value = builder.load(total)
                builder.store(builder.select(builder.fcmp_ordered("<", value, zero), zero, value), total)
        for r, row in enumerate(sums):
            to = moved(ct, r, across)
            before = row_at(target, to) if adds else []
            for v, total in enumerate(row):
                value = builder.load(total)
                value = builder.fadd(before[v], value) if adds else value
                builder.call(store, [value, vector_at(target, to, v), align, exist[v]])
        return context.get_dummy_value()

    return tile


def _line(pixels: int, vectors: int, vector_bytes: int) -> Callable[..., Any]:
    """A whole row of outputs, by tiles of so many pixels, of `FEW` where it is shorter, or one by one.

    The last tile ends where the row does: what it shares with the one before is written twice, to the same bits.
    """
    many, few, one = (_tile(count, vectors, vector_bytes) for count in (pixels, FEW, 1))

    @njit(nogil=True)
    def line(a: Any, at: int, down: int, loops: Any, b: Any, bt: int, along: int, start: Any, st: int, activate: bool,
             c: Any, ct: int, across: int, used: int, columns: int) -> None:  # fmt: skip
        size = pixels if columns >= pixels else FEW if columns >= FEW else 1
        for first in range(0, columns, size):
            x = min(first, columns - size)
            i, o = at + x * down, ct + x * across
            if size == pixels:
                many(a, i, down, loops, b, bt, along, start, st, activate, c, o, across, used)
            elif size == FEW:
                few(a, i, down, loops, b, bt, along, start, st, activate, c, o, across, used)
            else:
                one(a, i, down, loops, b, bt, along, start, st, activate, c, o, across, used)

    return line


_line_2, _line_1, _line_half = _line(PIXELS_2, 2, VECTOR), _line(PIXELS, 1, VECTOR), _line(PIXELS, 1, VECTOR // 2)
_eight_2, _eight_1, _eight_half = (_tile(8, 2, VECTOR, True), _tile(8, 1, VECTOR, True),
                                   _tile(8, 1, VECTOR // 2, True))  # fmt: skip
_nine_2, _nine_1, _nine_half = (_tile(9, 2, VECTOR, True), _tile(9, 1, VECTOR, True),
                                _tile(9, 1, VECTOR // 2, True))  # fmt: skip


def block_width(left: int, lanes: int) -> int:
    """Columns of the next block where so many are left, with so many in a vector."""
    return 2 * lanes if left > lanes else lanes if left > lanes // 2 else lanes // 2


_block_width = njit(nogil=True)(block_width)


@njit(nogil=True)
def _lay_out(images: Array, image: int, room: Room) -> None:
    """Copy an image of N×H×W·C into its room, with zeros round it.

    By single values: slices bring the compiler the words of their complaints, and half as much to do again.
    """
    _, height, width = images.shape
    out, at = room.values, 0
    for y in range(room.rows):
        inside = room.top <= y < room.top + height
        begin = room.left if inside else room.width
        for x in range(begin):
            out[at + x] = 0
        if inside:
            for x in range(width):
                out[at + begin + x] = images[image, y - room.top, x]
            for x in range(begin + width, room.width):
                out[at + x] = 0
        at += room.width


@njit(cache=True, nogil=True)
def correlate(
    images: Array, room: Room, walk: Walk, panels: Array, lanes: int, bias: Array, activate: bool, out: Array,
    to: Target,
) -> None:  # fmt: skip
    """Write bias + window · filters for every window.

    Parameters
    ----------
    images : ndarray, N×H×W·C
        Maps.
    room : Room
        For one of them with zeros round it.
    walk : Walk
        In an image as it lies in the room, or all images where they need none.
    panels : ndarray
        Filters in blocks of `block_width` columns, each a row of columns for every value of a window.
    lanes : int
        Values in a vector.
    bias : ndarray, filters
        Where sums start from.
    activate : bool
        Whether negative sums become 0.
    out : ndarray
        One row of values, see `Target`.
    """
    depth = walk.tall * walk.wide * walk.length
    loops, step = (walk.tall, walk.line, walk.wide, walk.apart, walk.length, 1), walk.column
    maps = room.values if room.rows else images.reshape(-1)
    for image in range(to.images):
        corner = walk.first  # as in the other loop: a function for both was measured, and made each half as slow again
        if room.rows:
            _lay_out(images, image, room)
        else:
            corner += image * walk.image
        for r in range(to.rows):
            at, ct = corner + r * walk.row, to.first + image * to.image + r * to.row
            f, panel = int(to.filters) * 0, int(depth) * 0  # of a plain 0 the compiler makes a case of its own
            while f < to.filters:
                left = to.filters - f
                width = _block_width(left, lanes)
                if width == 2 * lanes:
                    _line_2(maps, at, step, loops, panels, panel, width, bias, f, activate, out, ct + f, to.column,
                            left, to.columns)  # fmt: skip
                elif width == lanes:
                    _line_1(maps, at, step, loops, panels, panel, width, bias, f, activate, out, ct + f, to.column,
                            left, to.columns)  # fmt: skip
                else:
                    _line_half(maps, at, step, loops, panels, panel, width, bias, f, activate, out, ct + f, to.column,
                               left, to.columns)  # fmt: skip
                f += width
                panel += depth * width


@njit(cache=True, nogil=True)
def correlate_with_gradient(
    images: Array, room: Room, walk: Walk, grad: Array, of: Target, lanes: int, span: int, out: Array
) -> None:
    """Add, for every value of a window and every filter, the sum of value · gradient over all windows.

    Parameters
    ----------
    images, room, walk
        As for `correlate`; readable up to ``span`` values behind the last window.
    grad : ndarray
        One row of values, see `Target`; its rows, columns and filters stand closely together.
    lanes : int
        Values in a vector.
    span : int
        Values of a window in a tile: 8 or 9.
    out : ndarray, tall·wide·length·filters
        ``length`` of the walk, rounded up to spans.
    """
    nothing = np.zeros(2 * lanes, out.dtype)
    length = -(-walk.length // span) * span
    band = max(1, BAND // (of.columns * min(of.filters, 2 * lanes)))
    maps = room.values if room.rows else images.reshape(-1)
    for image in range(of.images):
        first = walk.first
        if room.rows:
            _lay_out(images, image, room)
        else:
            first += image * walk.image
        for top in range(0, of.rows, band):
            loops = (min(band, of.rows - top), walk.row, of.columns, walk.column)
            bt, n = of.first + image * of.image + top * of.row, of.filters
            for u in range(walk.tall):
                for v in range(walk.wide):
                    corner = first + top * walk.row + u * walk.line + v * walk.apart
                    for j in range(0, length, span):
                        at, ct = corner + j, ((u * walk.wide + v) * length + j) * n
                        f = 0
                        while f < n:
                            width, b, c, left = _block_width(n - f, lanes), bt + f, ct + f, n - f
                            if span == 8:
                                if width == 2 * lanes:
                                    _eight_2(maps, at, 1, loops, grad, b, n, nothing, 0, False, out, c, n, left)
                                elif width == lanes:
                                    _eight_1(maps, at, 1, loops, grad, b, n, nothing, 0, False, out, c, n, left)
                                else:
                                    _eight_half(maps, at, 1, loops, grad, b, n, nothing, 0, False, out, c, n, left)
                            elif width == 2 * lanes:
                                _nine_2(maps, at, 1, loops, grad, b, n, nothing, 0, False, out, c, n, left)
                            elif width == lanes:
                                _nine_1(maps, at, 1, loops, grad, b, n, nothing, 0, False, out, c, n, left)
                            else:
                                _nine_half(maps, at, 1, loops, grad, b, n, nothing, 0, False, out, c, n, left)
                            f += width
