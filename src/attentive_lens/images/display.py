"""How images of any depth and channels are shown to the eye; nothing that is learned hangs on it."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.files import write_text
from attentive_lens.core.values import Value, spec
from attentive_lens.errors import BadValue, LensError
from attentive_lens.images.pixel_format import COLOURS, MOST_CHANNELS, PixelArray, white_in

FILE = "display.json"
NARROWEST = 0.001


@dataclass(frozen=True)
class Display(Value):
    """Which channels are shown, and the part of the scale that goes from black to white."""

    title: ClassVar[str] = "display"

    channels: tuple[int, ...] = spec(
        (),
        low=1,
        high=MOST_CHANNELS,
        label="shown channels",
        meaning="Numbers of three channels for red, green and blue, or of one, shown in grey; none: the first three, or"
        " the first of fewer.",
    )
    level: float = spec(
        0.5, low=0.0, high=1.0, label="level", meaning="Middle of what is shown, as a part of the images' scale."
    )
    width: float = spec(
        1.0, low=NARROWEST, high=2.0, label="width", meaning="How much is shown about it, as a part of the scale."
    )

    def __post_init__(self) -> None:
        super().__post_init__()
        if len(self.channels) not in (0, 1, 3):
            why = f"{len(self.channels)} channels are named"
            raise BadValue(self.title, why, "Name one, or three for red, green and blue")

    def chosen(self, channels: int) -> list[int]:
        """Places of those that are shown, among so many."""
        wanted = self.channels if self.channels and max(self.channels) <= channels else ()
        return [number - 1 for number in wanted] or ([0, 1, 2] if channels >= 3 else [0])

    def shown(self, pixels: PixelArray) -> NDArray[np.uint8]:
        """Pixels …×H×W×C as they are shown, …×H×W×1 or ×3; ordinary pictures as they are."""
        channels = pixels.shape[-1]
        if pixels.dtype == np.uint8 and channels in (1, 3):
            return np.asarray(pixels, np.uint8)
        places = self.chosen(channels)
        values = pixels if places == list(range(channels)) else pixels[..., places]
        white = white_in(pixels)
        low, slope = (self.level - self.width / 2) * white, 255 / (self.width * white)
        scaled = (values - np.float32(low)) * np.float32(slope) + np.float32(0.5)
        return np.asarray(scaled.clip(0, 255), np.uint8)


def usual_display(channels: Sequence[str]) -> Display:
    """Of images of such channels: red, green and blue as what they are, where they are among more."""
    if len(channels) > len(COLOURS) and set(COLOURS) <= set(channels):
        return Display(channels=tuple(channels.index(name) + 1 for name in COLOURS))
    return Display()


_current = Display()


def shown_as() -> Display:
    """How this process shows images."""
    return _current


def show_as(display: Display) -> None:
    """Show images so in this process from now on."""
    global _current  # noqa: PLW0603  # as a theme is: a matter of the process, and of nothing that is learned
    _current = display


def read_display(folder: Path) -> Display:
    """How a workspace's images are shown; the plain way where nothing was said or it is damaged."""
    try:
        table = json.loads((folder / FILE).read_text("utf-8"))
        return Display.read(table) if isinstance(table, dict) else Display()
    except (OSError, ValueError, LensError):
        return Display()


def write_display(folder: Path, display: Display) -> None:
    """Keep it; `BadFile` if it cannot be written."""
    write_text(folder / FILE, json.dumps(display.write()))
