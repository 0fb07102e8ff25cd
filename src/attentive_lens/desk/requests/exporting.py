"""The request that writes a model for other programs."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.core.values import spec
from attentive_lens.desk.requests.base import Request
from attentive_lens.errors import BadValue
from attentive_lens.plan.base import SHELF

KINDS = {
    ".onnx": "ONNX, preprocessing included: another program feeds raw pixels",
    ".alens": "our own model file: everything that its answers need",
    ".npz": "weights as NumPy arrays",
    ".safetensors": "weights as safetensors",
}
"""By the ending of the file."""
FILES = ";;".join(f"{words.partition(',')[0].partition(':')[0]} (*{ending})" for ending, words in KINDS.items())
"""For a dialog that asks where it goes."""


@dataclass(frozen=True)
class Exported:
    """A model written for others.

    Attributes
    ----------
    file : str
        Where it is.
    bytes : int
        Its size.
    images : int
        That the written file was asked about by the standard's evaluator; 0 where there is nothing to be asked.
    same : int
        Of these, how many it gives the same class, or draws the same.
    most : float
        By how much an answer, or a pixel, differs at most.
    draws : bool
        Whether it draws images.
    held_out : str
        A file beside it that tells what its run's images are like; empty where there is none.
    caution : str
        What who asks it must know; mostly nothing.
    several : bool
        Whether it answers several labels.
    """

    file: str
    bytes: int
    images: int
    same: int
    most: float
    draws: bool = False
    held_out: str = ""
    caution: str = ""
    several: bool = False

    def words(self) -> Iterator[str]:
        """Where it is, and whether it answers as the model does."""
        yield f"{self.file}: {self.bytes / 1e6:.1f} MB."
        if self.caution:
            yield self.caution
        if self.held_out:
            yield f"{self.held_out} beside it tells what its images are like: with it drift is told of it anywhere."
        if self.images:
            right = "all of" if self.same == self.images else f"{self.same} of"
            kind = "labels" if self.several else "class"
            does = (
                f"draws {right} {self.images} images as the model does; a pixel"
                if self.draws
                else f"gives {right} {self.images} images the {kind} that the model gives; an answer"
            )
            yield f"The standard's own evaluator {does} differs by {self.most:.1g} at most."


@dataclass(frozen=True)
class ExportModel(Request[Exported]):
    """Write a run's best model, or one on the Shelf, for other programs: ONNX with its preprocessing, or weights alone.

    An ONNX file is checked against the standard and asked about a sample by the standard's own evaluator.
    """

    result: ClassVar[type[object]] = Exported
    task: ClassVar[str] = "exporting.export"
    doing: ClassVar[str] = "exporting the model"
    workspace: str
    model: str = spec(names="run_or_name", meaning=f"Number of the run, or a model on the Shelf ({SHELF}motifs).")
    file: str = spec("", meaning=f"Where it goes, by its ending: {', '.join(KINDS)}; an ONNX file here if left out.")
    half: bool = spec(False, meaning="Store the weights in 16 bits: half as large, nearly the same.")
    sample: int = spec(16, low=0, high=1000, meaning="Images that an ONNX file is checked on; 0: none.")

    @property
    def ending(self) -> str:
        """Of its file.

        Raises
        ------
        BadValue
            If it is none of `KINDS`.
        """
        ending = self.file[self.file.rfind(".") :].lower() if "." in self.file else ""
        if self.file and ending not in KINDS:
            known = ", ".join(KINDS)
            raise BadValue(f"{self.file} was not written", f"its ending is none of {known}", "Give it one of these")
        return ending or ".onnx"
