"""Keeping freed memory for what comes next, where the C library can be told to."""

from __future__ import annotations

import contextlib
import ctypes
from functools import cache

LARGEST_OPTION, LARGEST = -3, 32 << 20
"""``M_MMAP_THRESHOLD``: bytes of an array from which on it is given back when it is freed; no more are allowed."""
KEPT_OPTION, KEPT = -1, 1 << 30
"""``M_TRIM_THRESHOLD``: free bytes from which on some are given back."""


@cache
def keep_freed_memory() -> None:
    """Have the C library keep what is freed: a step's arrays are the next step's, a picture's those of the next one.

    Otherwise arrays above a fraction of a megabyte are given back and fetched again, page by page, every time.
    """
    with contextlib.suppress(AttributeError, OSError):
        library = ctypes.CDLL(None)
        library.mallopt(LARGEST_OPTION, LARGEST)
        library.mallopt(KEPT_OPTION, KEPT)
