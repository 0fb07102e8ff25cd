"""Changes that can be tried on one image, with their settings; the arithmetic is in ``explaining/changes``.

Places are parts of the side, 0–1. To add one: a class here and a function there, each in its table.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar

from attentive_lens.core.values import Kind, spec


@dataclass(frozen=True)
class ChangeSettings(Kind):
    """A change with its settings.

    Attributes
    ----------
    label : str
        What it does, for a list.
    of_object : bool
        Whether it can only be made where the object is known.
    """

    section: ClassVar[str] = "change"
    label: ClassVar[str] = ""
    of_object: ClassVar[bool] = False

    @property
    def placed(self) -> bool:
        """Whether it has a place in the image."""
        return {"row", "column"} <= self.specs().keys()

    @property
    def other_image(self) -> int | None:
        """Number of another image of the workspace that it needs."""
        return None

    @property
    def words(self) -> str:
        """In a sentence."""
        settings = ", ".join(f"{name} {value:g}" for name, value in self.write().items())
        return f"{self.kind} ({settings})" if settings else self.label


def _part(default: float, label: str, meaning: str, low: float = 0.0, slider: tuple[float, float] | None = None) -> Any:
    return spec(default, label=label, low=low, high=1.0, slider=slider, meaning=meaning)


def _row() -> Any:
    return _part(0.5, "down", "Its middle, from the top.")


def _column() -> Any:
    return _part(0.5, "right", "Its middle, from the left.")


def _radius() -> Any:
    return _part(0.12, "radius", "Its radius.", 0.001, (0.02, 0.5))


@dataclass(frozen=True)
class Cover(ChangeSettings):
    """A square in the image's mean colour; with ``across`` a rectangle so wide and ``side`` tall."""

    kind: ClassVar[str] = "cover"
    label: ClassVar[str] = "cover with the mean colour"

    row: float = _row()
    column: float = _column()
    side: float = _part(0.3, "height", "Its height.", 0.001, (0.02, 1.0))
    across: float = _part(0.0, "width", "Its width; 0: as its height.", 0.0, (0.0, 1.0))


@dataclass(frozen=True)
class Blur(ChangeSettings):
    """A square out of focus."""

    kind: ClassVar[str] = "blur"
    label: ClassVar[str] = "blur a square"

    row: float = _row()
    column: float = _column()
    side: float = _part(0.3, "side", "Its side.", 0.001, (0.05, 1.0))
    width: float = _part(0.06, "how much", "Standard deviation of the blur.", 0.0, (0.01, 0.2))


@dataclass(frozen=True)
class Brush(ChangeSettings):
    """A disc of one colour; of grey images red alone counts."""

    kind: ClassVar[str] = "brush"
    label: ClassVar[str] = "paint a disc"

    row: float = _row()
    column: float = _column()
    radius: float = _radius()
    red: float = _part(0.0, "red", "Of its colour.")
    green: float = _part(0.0, "green", "Of its colour.")
    blue: float = _part(0.0, "blue", "Of its colour.")


@dataclass(frozen=True)
class Clone(ChangeSettings):
    """A disc painted with what stands at another place."""

    kind: ClassVar[str] = "clone"
    label: ClassVar[str] = "paint with another place"

    row: float = _row()
    column: float = _column()
    radius: float = _radius()
    from_row: float = _part(0.5, "from, down", "Where it is taken from, from the top.")
    from_column: float = _part(0.5, "from, right", "Where it is taken from, from the left.")


@dataclass(frozen=True)
class Mix(ChangeSettings):
    """So much of another image, and the rest of this one."""

    kind: ClassVar[str] = "mix"
    label: ClassVar[str] = "mix with another image"

    image: int = spec(1, label="image", names="image", low=1, high=10**9, meaning="Number of the other image.")
    share: float = _part(0.4, "share", "How much of it.")

    @property
    def other_image(self) -> int | None:
        """The one mixed in."""
        return self.image


@dataclass(frozen=True)
class Translate(ChangeSettings):
    """The whole image moved; the border repeats."""

    kind: ClassVar[str] = "translate"
    label: ClassVar[str] = "move"

    down: float = spec(0.0, label="down", low=-1.0, high=1.0, slider=(-0.5, 0.5), meaning="How far down.")
    across: float = spec(0.1, label="right", low=-1.0, high=1.0, slider=(-0.5, 0.5), meaning="How far to the right.")


@dataclass(frozen=True)
class Rotate(ChangeSettings):
    """The whole image rotated counter-clockwise about its middle; the border repeats."""

    kind: ClassVar[str] = "rotate"
    label: ClassVar[str] = "rotate"

    degrees: float = spec(
        15.0, label="degrees", unit="°", low=-360.0, high=360.0, slider=(-180, 180), meaning="Counter-clockwise."
    )


@dataclass(frozen=True)
class Scale(ChangeSettings):
    """The whole image enlarged (above 1) or made smaller about its middle; the border repeats."""

    kind: ClassVar[str] = "scale"
    label: ClassVar[str] = "scale"

    factor: float = spec(1.2, label="times", low=0.01, high=100.0, slider=(0.3, 3.0), meaning="How many times.")


@dataclass(frozen=True)
class Brighten(ChangeSettings):
    """All values times a factor."""

    kind: ClassVar[str] = "brighten"
    label: ClassVar[str] = "brighten"

    factor: float = spec(1.2, label="times", low=0.01, high=100.0, slider=(0.2, 2.5), meaning="How many times.")


@dataclass(frozen=True)
class Noise(ChangeSettings):
    """Gaussian noise added to every value."""

    kind: ClassVar[str] = "noise"
    label: ClassVar[str] = "add noise"

    deviation: float = _part(0.08, "how much", "Standard deviation, a part of the whole range.", 0.0, (0.0, 0.5))
    seed: int = spec(0, label="seed", low=0, high=10**6, meaning="Of the noise.")


@dataclass(frozen=True)
class Denoise(ChangeSettings):
    """The median of every window."""

    kind: ClassVar[str] = "denoise"
    label: ClassVar[str] = "median of a window"

    window: int = spec(3, label="pixels", unit="pixels", low=1, high=63, slider=(1, 9), meaning="Side of the window.")


@dataclass(frozen=True)
class Flatten(ChangeSettings):
    """One channel replaced by its own mean."""

    kind: ClassVar[str] = "flatten"
    label: ClassVar[str] = "replace a channel by its mean"

    channel: int = spec(1, label="channel", low=1, high=16, slider=(1, 16), meaning="Which, counted from 1.")


@dataclass(frozen=True)
class CoverObject(ChangeSettings):
    """The object filled from what lies about it."""

    kind: ClassVar[str] = "cover_object"
    label: ClassVar[str] = "cover the object"
    of_object: ClassVar[bool] = True


@dataclass(frozen=True)
class CoverRest(ChangeSettings):
    """All but the object in its mean colour."""

    kind: ClassVar[str] = "cover_rest"
    label: ClassVar[str] = "cover all but the object"
    of_object: ClassVar[bool] = True


CHANGE_SETTINGS: dict[str, type[ChangeSettings]] = {
    change.kind: change
    for change in (
        Cover,
        Blur,
        Brush,
        Clone,
        Mix,
        Translate,
        Rotate,
        Scale,
        Brighten,
        Noise,
        Denoise,
        Flatten,
        CoverObject,
        CoverRest,
    )
}
"""By kind, in the order of lists."""
ChangeSettings.rows = CHANGE_SETTINGS
