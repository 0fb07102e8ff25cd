"""Attentive Lens: train convolutional image classifiers and find out why they get an image wrong."""

from __future__ import annotations

import os
import tempfile
from pathlib import Path
from typing import TYPE_CHECKING, Any

from attentive_lens.core.version import VERSION
from attentive_lens.errors import LensError

if TYPE_CHECKING:
    from attentive_lens.desk.script import Model, Run, Workspace, ask, new_workspace, open_model, open_workspace

__version__ = VERSION
__all__ = [
    "LensError",
    "Model",
    "Run",
    "Workspace",
    "__version__",
    "ask",
    "new_workspace",
    "open_model",
    "open_workspace",
]


def _kernel_cache() -> str:
    """Folder for compiled kernels: the user's cache, or a temporary folder where that cannot be written."""
    home = os.environ.get("XDG_CACHE_HOME") or str(Path("~/.cache").expanduser())
    folder = Path(home) / "attentive-lens" / "kernels"
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError:
        pass
    else:
        if os.access(folder, os.W_OK):
            return str(folder)
    return str(Path(tempfile.gettempdir()) / f"attentive-lens-kernels-{os.getuid()}")


# Compiled code is kept between starts; this must stand before the first import of Numba.
os.environ.setdefault("NUMBA_CACHE_DIR", _kernel_cache())


def __getattr__(name: str) -> Any:
    """Load the scripting face on first use, so that a light command does not pay for it."""
    if name in __all__:
        from attentive_lens.desk import script

        return getattr(script, name)
    raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
