"""Decisions about images: made over a selection, undone, written to a table and read back from one."""

from __future__ import annotations

import csv
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from attentive_lens.core.numbering import place_of
from attentive_lens.core.values import unknown_word
from attentive_lens.desk.history import History
from attentive_lens.desk.images.collection import collection
from attentive_lens.desk.images.data import several_labels
from attentive_lens.desk.requests.images import FaultAction
from attentive_lens.errors import BadFile, BadValue, LensError
from attentive_lens.images.sources.base import class_name
from attentive_lens.plan.labels import label_set, labels_in, labels_of
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Correction, Corrections, ImageRow, Workspace
from attentive_lens.workspace.corrections import EXCLUDED, NOTHING, SETS, corrected

COLUMNS = ("image", "file", "part", "index", "label", "set", "flag", "source label", "used as")


class Curating:
    """The decisions about a workspace's images, with their history.

    Every change is written to the catalogue at once; source files are never touched.

    Parameters
    ----------
    workspace : Workspace
        Whose images.
    """

    def __init__(self, workspace: Workspace) -> None:
        self.workspace = workspace
        self.history: History[Corrections] = History(workspace.catalogue.corrections())
        self._coined: dict[int, str] = {}

    @property
    def state(self) -> Corrections:
        """The decisions as they are now."""
        return self.history.state

    def reread(self) -> None:
        """Take in what another process decided; it is in none of the steps that can be undone here."""
        now = self.workspace.catalogue.corrections()
        others = {n: now.get(n, NOTHING) for n in now.keys() | self.state.keys() if now.get(n) != self.state.get(n)}

        def with_others(state: Corrections) -> Corrections:
            return {n: decision for n, decision in {**state, **others}.items() if decision}

        self.history.map(with_others)

    def change(self, summary: str, numbers: Iterable[int], change: Callable[[Correction], Correction]) -> None:
        """Decide the same about some images; ``summary`` says what, for the word beside «undo».

        Raises
        ------
        BadFile
            If the catalogue cannot be written; nothing is changed then.
        """
        self.apply(summary, {number: change(self.state.get(number, NOTHING)) for number in numbers})

    def apply(self, summary: str, changes: Corrections, new_classes: Sequence[str] = ()) -> None:
        """Decide about each of some images; decisions that are so already are no change.

        Classes that are new come with the decisions that name them, or not at all.
        """
        news = {n: decision for n, decision in changes.items() if decision != self.state.get(n, NOTHING)}
        if news:
            self._write(news, new_classes)
            after = {n: decision for n, decision in {**self.state, **news}.items() if decision}
            self.history.add(summary, after)

    def undo(self) -> str:
        """Take the last change back; what it was, or an empty word if there is none."""
        return self._go(self.history.before, self.history.undo)

    def redo(self) -> str:
        """Make the change taken back again; what it was, or an empty word."""
        return self._go(self.history.after, self.history.redo)

    def _go(self, state: Corrections, step: Callable[[], str]) -> str:
        """Written first: where that fails, the history stands where it stood."""
        touched = state.keys() | self.state.keys()
        changes = {n: state.get(n, NOTHING) for n in touched if state.get(n) != self.state.get(n)}
        if changes:
            self._write(changes)
        return step()

    def _write(self, changes: Corrections, new_classes: Sequence[str] = ()) -> None:
        self.workspace.check_writable("The decision was not kept")
        count = self.workspace.catalogue.size()[1]
        self._coined |= dict(enumerate(new_classes, count))
        # A class goes with the last decision that names it, so one that is made again brings its class along.
        last = max((c.label for c in changes.values() if c.label is not None), default=-1)
        self.workspace.catalogue.correct(changes, [self._coined[number] for number in range(count, last + 1)])


def relabel(curating: Curating, summary: str, rows: Sequence[ImageRow], numbers: Iterable[int], label: int) -> None:
    """Give some images another class; for one whose source says so already, the decision is taken back.

    ``rows`` are the catalogue's, without corrections.
    """
    state = curating.state
    decisions = {n: _unless(label, rows[place_of(n)].label) for n in numbers}
    curating.apply(summary, {n: replace(state.get(n, NOTHING), label=decided) for n, decided in decisions.items()})


def merge_classes(curating: Curating, rows: Sequence[ImageRow], name: str, other: str) -> int:
    """Give every image of a class another one, as `relabel`; how many.

    Raises
    ------
    BadValue
        If there is no class of one of the names, or both are the same.
    """
    classes = curating.workspace.catalogue.classes()
    for each in (name, other):
        if each not in classes:
            raise unknown_word("class", each, frozenset(classes))
    if name == other:
        raise BadValue(f"«{name}» was not merged", "it would become part of itself", "Name another class")
    one, into, state = classes.index(name), classes.index(other), curating.state
    labels = {row.number: state.get(row.number, NOTHING).label for row in rows}
    numbers = [row.number for row in rows if (row.label if labels[row.number] is None else labels[row.number]) == one]
    relabel(curating, f"made {name} part of {other}: {len(numbers)} images", rows, numbers, into)
    return len(numbers)


def relabel_as_new(
    curating: Curating, summary: str, rows: Sequence[ImageRow], numbers: Iterable[int], name: str
) -> None:
    """Give some images a class that there is not yet, or one that there is; as `relabel`."""
    name, classes = class_in(curating.workspace, name), curating.workspace.catalogue.classes()
    if name in classes:
        relabel(curating, summary, rows, numbers, classes.index(name))
        return
    state = curating.state
    changes = {n: replace(state.get(n, NOTHING), label=len(classes)) for n in numbers}
    curating.apply(summary, changes, [name])


def relabel_each(curating: Curating, summary: str, rows: Sequence[ImageRow], names: Mapping[int, str]) -> None:
    """Give each of some images, by number, the class of a name, which may be new; as `relabel`."""
    classes, state, coined = curating.workspace.catalogue.classes(), curating.state, list[str]()
    changes = {}
    for number, word in names.items():
        name = class_in(curating.workspace, word)
        if name not in classes:
            classes.append(name)
            coined.append(name)
        label = _unless(classes.index(name), rows[place_of(number)].label)
        changes[number] = replace(state.get(number, NOTHING), label=label)
    curating.apply(summary, changes, coined)


def replace_label(curating: Curating, rows: Sequence[ImageRow], old: str, new: str) -> int:
    """Call one of several labels otherwise in all images that have it, which is one step; how many these are.

    Where there is a label so called, it becomes that. ``rows`` are the catalogue's, without corrections.

    Raises
    ------
    BadUsage
        If no image has the label.
    BadValue
        If the new name is none of one label.
    """
    new, classes = class_name(new), curating.workspace.catalogue.classes()
    if labels_in(new) != (new,):
        raise BadValue(f"«{old}» was not renamed", f"«{new}» is no name of one label", "Give one, without «;»")
    names = {}
    for row in corrected(list(rows), curating.state):
        own = labels_in(classes[row.label])
        if old in own:
            names[row.number] = label_set(new if label == old else label for label in own)
    if not names:
        raise unknown_word("label", old, frozenset(labels_of(classes)))
    relabel_each(curating, f"calling {old} {new} in {len(names)} images", rows, names)
    return len(names)


def class_in(workspace: Workspace, name: str) -> str:
    """A class's name as a workspace has it: that of a set of labels where images may have several."""
    name = class_name(name)
    return label_set(labels_in(name)) if several_labels(workspace) else name


def relabelled(label: int) -> Callable[[Correction], Correction]:
    """Another class."""
    return lambda decision: replace(decision, label=label)


def moved(set_name: str | None) -> Callable[[Correction], Correction]:
    """Another set, "excluded", or None for the source's and the split's choice."""
    return lambda decision: replace(decision, set_name=set_name)


def flagged(on: bool) -> Callable[[Correction], Correction]:
    """Marked or not."""
    return lambda decision: replace(decision, flagged=on)


def write_list(workspace: Workspace, file: Path, plan: Plan | None = None) -> int:
    """Write every image with its label and set as corrected, as a CSV table; the number of lines.

    Reading the table again changes nothing: the set a split has drawn stands in a column of its own.

    Raises
    ------
    BadFile
        If the file cannot be written.
    """
    images = collection(workspace, plan or Plan())
    first = [row.label for row in workspace.catalogue.images()]
    try:
        with file.open("w", newline="", encoding="utf-8", errors="surrogateescape") as stream:
            table = csv.writer(stream)
            table.writerow(COLUMNS)
            for row, set_name, before in zip(images.rows, images.sets, first, strict=True):
                index = row.index if row.index >= 0 else ""
                named, flag = row.given_set or "as split", "flag" if row.flagged else ""
                words = (images.classes[row.label], named, flag, images.classes[before], set_name)
                table.writerow([row.number, row.file, row.part, index, *words])
    except OSError as error:
        raise BadFile(f"{file} could not be written", str(error.strerror).lower(), "Name another file") from None
    return len(images.rows)


@dataclass(frozen=True)
class Taken:
    """What a table of decisions changed: images relabelled, moved or excluded, flagged; and classes that were new."""

    relabelled: int
    moved: int
    flagged: int
    new_classes: tuple[str, ...]


def read_list(workspace: Workspace, file: Path, new_classes: bool = False) -> Taken:
    """Take decisions from a CSV table: all of them, or none if a line is wrong.

    The first line names the columns: «image» (number) or «file» says which, and any of «label», «set» (training,
    validation, test, excluded, or «as split») and «flag» (any word, or empty) what. Cells left empty decide nothing.

    Raises
    ------
    BadFile
        If it cannot be read.
    BadValue
        If a line names an unknown image, class or set; the message has the line.
    """
    rows = workspace.catalogue.images()
    classes = workspace.catalogue.classes()
    before = workspace.catalogue.corrections()
    lines = _lines(file)
    columns = set(lines[0][1]) if lines else set()
    if not columns & {"image", "file"} or not columns & {"label", "set", "flag"}:
        known = "«image» or «file», and «label», «set» or «flag»"
        raise BadValue(f"{file} decides nothing", f"its first line does not name {known}", "Name the columns")
    by_file = _by_file(rows, workspace.folder)
    after: dict[int, Correction] = {}
    several, known_labels = several_labels(workspace), set(labels_of(classes))
    added: list[str] = []
    for number, line in lines:
        try:
            row = _named(line, rows, by_file)
            decision = after.get(row.number, before.get(row.number, NOTHING))
            if label := class_in(workspace, line["label"]) if line.get("label") else "":
                is_known_set = several and set(labels_in(label)) <= known_labels
                if label not in classes and (new_classes or is_known_set):
                    classes.append(label)
                    added.append(label)
                if label not in classes:
                    raise unknown_word("class", label, frozenset(classes))
                decision = replace(decision, label=_unless(classes.index(label), row.label))
            if word := line.get("set", ""):
                decision = replace(decision, set_name=_set(word, decision, row))
            if "flag" in line:
                decision = replace(decision, flagged=bool(line["flag"]))
        except LensError as error:
            raise BadValue(f"{file}, line {number}: {error.what}", error.why, error.remedy) from None
        after[row.number] = decision
    news = {n: decision for n, decision in after.items() if decision != before.get(n, NOTHING)}
    Curating(workspace).apply("decisions from a table", news, added)
    was = {n: before.get(n, NOTHING) for n in news}
    return Taken(
        sum(decision.label != was[n].label for n, decision in news.items()),
        sum(decision.set_name != was[n].set_name for n, decision in news.items()),
        sum(decision.flagged != was[n].flagged for n, decision in news.items()),
        tuple(added),
    )


def _lines(file: Path) -> list[tuple[int, dict[str, str]]]:
    """Line number and cells by column for every line after the first."""
    try:
        with file.open(newline="", encoding="utf-8-sig", errors="surrogateescape") as stream:
            table = csv.DictReader(stream)
            lines = []
            for line in table:
                if None in line or None in line.values():
                    need = len(table.fieldnames or ())
                    why = f"it does not have {need} cells"
                    raise BadValue(f"{file}, line {table.line_num} was not understood", why, "Mend it")
                lines.append((table.line_num, {str(k).strip().lower(): str(v).strip() for k, v in line.items()}))
            return lines
    except OSError as error:
        raise BadFile(f"{file} could not be read", str(error.strerror).lower(), "Check the path") from None
    except csv.Error as error:
        raise BadFile(f"{file} could not be read", f"it is no table ({error})", "Replace it") from None


def _by_file(rows: Sequence[ImageRow], folder: Path) -> dict[tuple[str, str, str], ImageRow | None]:
    """Rows by file as written, in full, and by its bare name where only one has it; None marks several."""
    rows_by_file: dict[tuple[str, str, str], ImageRow | None] = {}
    for row in rows:
        place = (row.part, str(row.index) if row.index >= 0 else "")
        for file in {row.file, str(folder.absolute() / row.file)}:
            rows_by_file[file, *place] = row
    for row in rows:
        bare = (row.file.rsplit("/", 1)[-1], row.part, str(row.index) if row.index >= 0 else "")
        if rows_by_file.get(bare) is not row:
            rows_by_file[bare] = None if bare in rows_by_file else row
    return rows_by_file


def _named(
    line: dict[str, str], rows: Sequence[ImageRow], by_file: dict[tuple[str, str, str], ImageRow | None]
) -> ImageRow:
    if word := line.get("image", ""):
        if not word.isdigit() or not 1 <= int(word) <= len(rows):
            raise BadValue(f"there is no image {word}", f"images are numbered 1 to {len(rows)}", "Mend the number")
        return rows[int(word) - 1]
    key = (line.get("file", ""), line.get("part", ""), line.get("index", ""))
    if key not in by_file:
        raise BadValue(f"«{key[0]}» is not known", "no image of the workspace has this file", "Mend the name")
    row = by_file[key]
    if row is None:
        raise BadValue(f"«{key[0]}» is not clear", "several images have this name", "Write the path, or the number")
    return row


def _unless(value: int, same: int) -> int | None:
    return None if value == same else value


def _set(word: str, decision: Correction, row: ImageRow) -> str | None:
    """The decision a set's name stands for; an image that is gone keeps its own."""
    if word == "as split":
        return None
    if word == "gone":
        return decision.set_name
    if word not in (*SETS, EXCLUDED):
        raise unknown_word("set", word, frozenset((*SETS, EXCLUDED, "as split")))
    return None if word == row.given_set else word


def act(curating: Curating, action: FaultAction) -> None:
    """Do what a finding's action says about images (its change of the augmentation belongs to a plan)."""
    decided: dict[int, Correction] = {}

    def own(number: int) -> Correction:
        return decided.get(number, curating.state.get(number, NOTHING))

    for number in action.exclude:
        decided[number] = replace(own(number), set_name=EXCLUDED)
    for number in action.flag:
        decided[number] = replace(own(number), flagged=True)
    for number, label in action.relabel:
        decided[number] = replace(own(number), label=label)
    curating.apply(action.word, decided)
