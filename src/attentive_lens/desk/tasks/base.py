"""What every task gives."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from numpy.typing import NDArray


@dataclass(frozen=True)
class Result:
    """What a task gives: values that JSON can hold, and arrays by name."""

    values: dict[str, Any]
    arrays: dict[str, NDArray[Any]] = field(default_factory=dict)
