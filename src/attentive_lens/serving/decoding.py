"""Pictures that come from outside are decoded in processes of their own: one that breaks a decoder ends no server."""

from __future__ import annotations

import os
from collections.abc import Sequence
from functools import partial
from itertools import islice
from pathlib import Path
from queue import SimpleQueue

from attentive_lens.core.helpers import Helper, cores
from attentive_lens.images.ahead import Opened, Read, read_files
from attentive_lens.images.pages import each_page, page_name
from attentive_lens.images.preprocessing import Preprocessor
from attentive_lens.images.stored import size_of_file
from attentive_lens.serving.limits import Limits
from attentive_lens.serving.receiving import Received


def read_received(preprocessor: Preprocessor, limits: Limits, received: Sequence[Received]) -> list[Read]:
    """Images at the input size, or the reason why there are none: a list for each that was sent, of one or its pages.

    Too large ones stay packed, none is on any disk.
    """
    outcome: list[Read] = []
    for image in received:
        with os.fdopen(os.memfd_create("picture"), "wb") as stream:
            stream.write(image.content)
            stream.flush()
            file = f"/proc/self/fd/{stream.fileno()}"
            read = _read(preprocessor, limits, file, image.page)
            outcome.append([each._replace(name=image.name + each.name) for each in read])
    return outcome


def _read(preprocessor: Preprocessor, limits: Limits, file: str, page: int) -> Read:
    """The images of a file; each is named by what stands behind the file's name."""
    height, width = size_of_file(Path(file))
    if height * width > limits.megapixels * 1_000_000:
        return [Opened("", f"it has {width}×{height} pixels, and {limits.megapixels} million are the most here")]
    named = [page_name(file, page)] if page else each_page([file], preprocessor.pixel_format)
    names = list(islice(named, limits.images + 1))
    if len(names) > limits.images:
        return [Opened("", f"it has more than {limits.images} pages, and these are the most here")]
    return [each._replace(name=each.name.removeprefix(file)) for each in read_files(preprocessor, names)]


class Decoders:
    """As many processes as there are cores; a process that breaks off or takes too long is begun anew.

    Parameters
    ----------
    preprocessor : Preprocessor
        The model's.
    limits : Limits
    """

    def __init__(self, preprocessor: Preprocessor, limits: Limits) -> None:
        self._work = partial(read_received, preprocessor, limits)
        self._seconds = limits.seconds
        self._free: SimpleQueue[Helper] = SimpleQueue()
        self.count = max(1, cores())
        for _ in range(self.count):
            self._free.put(Helper(self._work))

    def read(self, received: Sequence[Received]) -> list[Read]:
        """Images of pictures, a list for each, see `read_received`; blocks.

        If a process breaks off, each picture is tried alone.
        """
        outcome = self._tried(received)
        if outcome is not None:
            return outcome
        if len(received) == 1:
            return [[Opened(received[0].name, "it broke its decoder, or took too long to be decoded")]]
        return [own for each in received for own in self.read([each])]

    def _tried(self, received: Sequence[Received]) -> list[Read] | None:
        helper = self._free.get()
        try:
            done, result = helper.do(list(received), self._seconds * len(received))
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
