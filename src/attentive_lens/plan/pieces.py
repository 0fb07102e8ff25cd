"""How batches are cut into pieces, which threads and processes share out; a plan's work decides, not the machine."""

from __future__ import annotations

FEWEST_PIECES, MOST_PIECES = 2, 8
"""Pieces a training batch is cut into, a power of two, whatever the number of threads and processes."""
PIECE_WORK = 2**28
"""Multiply-adds forward that are worth a piece of their own: with fewer, threads wait for each other's Python."""
INFERENCE_PIECE = 8
"""Images in a piece at inference; the last is filled up, for a product's rows can change bits with their number."""


def pieces_of(multiply_adds: int) -> int:
    """Into how many pieces a batch is cut that costs so much forward."""
    worth = max(1, multiply_adds // PIECE_WORK)
    return min(MOST_PIECES, max(FEWEST_PIECES, 1 << (worth.bit_length() - 1)))
