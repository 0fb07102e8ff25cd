"""How a table or an array file is to be read as images."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.core.values import Value, spec

LAYOUTS = ("", "NHW", "NHWC", "NCHW", "HWN", "HWCN", "NP", "PN")
"""Axes in order: N images, H rows, W columns, C channels; P all pixels of an image in one row or column."""

ORDERS = ("", "HWC", "CHW", "WHC", "CWH")
"""Of the pixels where an image is one long row: what comes last changes fastest."""


@dataclass(frozen=True)
class Reading(Value):
    """Where the images and the labels are in a source, and how pixels follow each other.

    A field left empty (or 0) is found out from the source. What cannot be found out has several readings, and
    somebody has to look at the pictures and choose.
    """

    title: ClassVar[str] = "reading"

    images: str = spec("", label="images in", meaning="Name of the array or column with the images; empty: found out.")
    labels: str = spec(
        "",
        label="labels in",
        meaning="Name of the array or column with the labels, or a pattern whose bracket is the class in files' names;"
        " empty: found out.",
    )
    layout: str = spec(
        "",
        label="axes",
        choices=LAYOUTS,
        meaning="Axes of the array in order: N images, H rows, W columns, C channels, P all pixels in one line.",
    )
    order: str = spec(
        "",
        label="pixels run",
        choices=ORDERS,
        meaning="Order of the pixels of an image kept in one line; the last axis named changes fastest.",
    )
    height: int = spec(0, label="rows", unit="pixels", low=0, high=20000, meaning="Rows of an image; 0: found out.")
    width: int = spec(0, label="columns", unit="pixels", low=0, high=20000, meaning="Columns; 0: found out.")

    white: int = spec(
        0,
        label="white",
        low=0,
        high=65535,
        meaning="Value that is white where there are more than 8 bits a channel, in all images alike; 0: found out.",
    )

    def agrees(self, wish: Reading) -> bool:
        """Whether this reading has every setting that was asked for."""
        return all(not getattr(wish, name) or getattr(wish, name) == getattr(self, name) for name in self.specs())

    @property
    def summary(self) -> str:
        """The settings that are not empty, as a command line takes them."""
        return " ".join(f"{name}={getattr(self, name)}" for name in self.specs() if getattr(self, name))
