"""The case book of a workspace: images that somebody opened to find out why, with evidence, cause, note and remedy."""

from __future__ import annotations

import json
from dataclasses import dataclass, field, replace
from pathlib import Path

from attentive_lens.core.files import write_text
from attentive_lens.core.numbering import label_of
from attentive_lens.core.records import PlainTable, from_plain, to_plain
from attentive_lens.errors import BadFile, NotHere

FILE, FORMAT = "cases.json", 1
CAUSES = (
    "a mark or place",
    "wrong label",
    "out of focus",
    "too dark or too pale",
    "cut off or too small",
    "colour cast",
    "unlike the training images",
    "classes that look alike",
    "a rare kind",
    "not known",
)
"""What a cause may be, to begin with; more are added as they are named."""


@dataclass(frozen=True)
class Evidence:
    """Something that was seen and may be seen again.

    Attributes
    ----------
    kind : str
        "map", "neighbours", "change", "activations" or "answer".
    words : str
        What it shows, in a sentence.
    run : int
        Whose model it was.
    settings : dict
        What it takes to make it again: method, layer, changes, as the kind has them.
    """

    kind: str
    words: str
    run: int
    settings: PlainTable = field(default_factory=dict)


@dataclass(frozen=True)
class Case:
    """One image that somebody wants to understand.

    Attributes
    ----------
    number : int
        From 1, in the order they were opened; numbers are never used again.
    image : int
        Its number in the catalogue.
    run : int
        The run that answered it when the case was opened.
    predicted, true : str
        The class it said then, and that on the label then.
    opened : float
        Seconds since 1970.
    evidence : tuple of Evidence
        What was pinned.
    cause, note, remedy : str
        Empty until somebody says.
    closed : bool
        Whether somebody is done with it.
    """

    number: int
    image: int
    run: int
    predicted: str
    true: str
    opened: float
    evidence: tuple[Evidence, ...] = ()
    cause: str = ""
    note: str = ""
    remedy: str = ""
    closed: bool = False


@dataclass(frozen=True)
class CaseBook:
    """All cases of a workspace.

    Attributes
    ----------
    cases : tuple of Case
        By number.
    causes : tuple of str
        What a cause may be.
    last : int
        The greatest number that a case ever had.
    """

    cases: tuple[Case, ...] = ()
    causes: tuple[str, ...] = CAUSES
    last: int = 0

    def case(self, number: int) -> Case:
        """A case by its number; `NotHere` if there is none."""
        for case in self.cases:
            if case.number == number:
                return case
        raise NotHere(f"There is no case {number}", f"the book has {len(self.cases)}", "List them with «cases»")

    def of_image(self, image: int, label: str = "") -> Case | None:
        """The case of an image, about a label if one is named; the latest if there are several."""
        of_image = (case for case in reversed(self.cases) if case.image == image)
        return next((case for case in of_image if label_of(case.run) == label), None)

    def with_case(self, case: Case) -> CaseBook:
        """The book with a case in the place of the one of its number, or as a further one; a new cause is listed."""
        others = tuple(case if other.number == case.number else other for other in self.cases)
        if case.number > self.last:
            others = (*others, case)
        causes = self.causes if not case.cause or case.cause in self.causes else (*self.causes, case.cause)
        return CaseBook(others, causes, max(self.last, case.number))

    def without(self, number: int) -> CaseBook:
        """The book without a case."""
        self.case(number)
        return replace(self, cases=tuple(case for case in self.cases if case.number != number))


def read_cases(folder: Path) -> CaseBook:
    """The case book of a workspace's folder; an empty one where none was begun.

    Raises
    ------
    BadFile
        If its file is damaged, or of a later version.
    """
    file = folder / FILE
    try:
        table = json.loads(file.read_text("utf-8"))
        if table["format"] != FORMAT:
            why = f"it has format {table['format']!r}, this version reads {FORMAT}"
            raise BadFile(f"{file} could not be read", why, "Open it with the version that wrote it")
        return from_plain(CaseBook, table["book"], ())
    except FileNotFoundError:
        return CaseBook()
    except (OSError, ValueError, TypeError, LookupError) as error:
        why = str(error).splitlines()[0][:120] if str(error) else type(error).__name__
        raise BadFile(f"{file} could not be read", f"it is damaged ({why})", "Restore it, or move it away") from None


def write_cases(folder: Path, book: CaseBook) -> None:
    """Write the book whole, or leave what is there.

    Raises
    ------
    BadFile
        If it cannot be written.
    """
    text = json.dumps({"format": FORMAT, "book": to_plain(book, [])}, ensure_ascii=False, indent=1)
    write_text(folder / FILE, text + "\n")
