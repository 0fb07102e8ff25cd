"""Pictures that come from outside are decoded in processes of their own: one that breaks a decoder ends no server."""

from __future__ import annotations

import os
from collections.abc import Sequence
from functools import partial
from pathlib import Path
from queue import SimpleQueue

from attentive_lens.core.helpers import Helper, cores
from attentive_lens.errors import LensError
from attentive_lens.images.pixel_format import PixelArray
from attentive_lens.images.preprocessing import Preprocessor
from attentive_lens.images.stored import size_of_file
from attentive_lens.serving.limits import Limits


def read_received(preprocessor: Preprocessor, megapixels: int, contents: Sequence[bytes]) -> list[PixelArray | str]:
    """Pictures at the input size, or the reason why there are none; too large ones stay packed, none is on any disk."""
    outcome: list[PixelArray | str] = []
    for content in contents:
        with os.fdopen(os.memfd_create("picture"), "wb") as stream:
            stream.write(content)
            stream.flush()
            file = Path(f"/proc/self/fd/{stream.fileno()}")
            height, width = size_of_file(file)
            if height * width > megapixels * 1_000_000:
                outcome.append(f"it has {width}×{height} pixels, and {megapixels} million are the most here")
                continue
            try:
                outcome.append(preprocessor.opened(file))
            except LensError as error:
                outcome.append(error.why)
    return outcome


class Decoders:
    """As many processes as there are cores; a process that breaks off or takes too long is begun anew.

    Parameters
    ----------
    preprocessor : Preprocessor
        The model's.
    limits : Limits
    """

    def __init__(self, preprocessor: Preprocessor, limits: Limits) -> None:
        self._work = partial(read_received, preprocessor, limits.megapixels)
        self._seconds = limits.seconds
        self._free: SimpleQueue[Helper] = SimpleQueue()
        self.count = max(1, cores())
        for _ in range(self.count):
            self._free.put(Helper(self._work))

    def read(self, contents: Sequence[bytes]) -> list[PixelArray | str]:
        """Pixels of pictures, or why there are none; blocks. If a process breaks off, each picture is tried alone."""
        outcome = self._tried(contents)
        if outcome is not None:
            return outcome
        if len(contents) == 1:
            return ["it broke its decoder, or took too long to be decoded"]
        return [each for content in contents for each in self.read([content])]

    def _tried(self, contents: Sequence[bytes]) -> list[PixelArray | str] | None:
        helper = self._free.get()
        try:
            done, result = helper.do(list(contents), self._seconds * len(contents))
        except (OSError, EOFError, TimeoutError):
            helper.close()
            helper = Helper(self._work)
            return None
        finally:
            self._free.put(helper)
        return result if done else None

    def close(self) -> None:
        """End all processes."""
        for _ in range(self.count):
            self._free.get().close()
