"""Whether an MPI launcher started this process as one of several."""

from __future__ import annotations

import os

SIZES, ONE_OF_SOME = ("PMI_SIZE", "OMPI_COMM_WORLD_SIZE"), "PMIX_RANK"
"""Set by launchers for each process they start: how many there are, or only which of some it is."""


def processes_launched() -> int:
    """How many there are as the launcher says; 1 without one, 0 where it does not say."""
    sizes = [int(size) for name in SIZES if (size := os.environ.get(name, "")).isdigit()]
    return max(sizes) if sizes else 0 if ONE_OF_SOME in os.environ else 1
