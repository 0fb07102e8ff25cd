"""The images of a workspace as a plan splits them."""

from __future__ import annotations

import hashlib
from collections import Counter
from collections.abc import Hashable, Iterable, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.numbering import place_of
from attentive_lens.core.recent import Recent
from attentive_lens.core.telling import counted
from attentive_lens.desk.images.columns import known_columns
from attentive_lens.errors import BadValue
from attentive_lens.images.reading import Reading
from attentive_lens.images.split import LEFT_OUT, SETS, groups_by_name, part
from attentive_lens.plan.labels import NO_LABEL, labels_of, members_of, of_one
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.tasks import TaskSettings
from attentive_lens.workspace import Corrections, ImageRow, Run, Workspace
from attentive_lens.workspace.corrections import EXCLUDED, GONE, corrected
from attentive_lens.workspace.thresholds import thresholds_of


@dataclass(frozen=True)
class Collection:
    """The images of a workspace as a plan parts them.

    Attributes
    ----------
    classes : list of str
        Names by class number.
    rows : list of ImageRow
        By number, with people's corrections applied.
    sets : list of str
        "training", "validation" or "test" for each row; "left out", "excluded" or "gone" for those not used.
    skipped : list of (file, reason)
        Files that gave no image.
    former : dict
        Class numbers by names that classes had before they were renamed.
    about : str
        The one label by which images have classes here, and its threshold, see `about_label`; mostly none.
    stored : ndarray, N int64, or None
        Class numbers in the catalogue, where they are others here.
    several : bool
        Whether a class is a set of labels, for an image may have several.
    labels_left_out : frozenset of str
        Labels that a plan does not learn.
    """

    classes: list[str]
    rows: list[ImageRow]
    sets: list[str]
    skipped: list[tuple[str, str]]
    former: dict[str, int] = field(default_factory=dict)
    about: str = ""
    stored: NDArray[np.int64] | None = field(default=None, compare=False)
    several: bool = False
    labels_left_out: frozenset[str] = frozenset()

    @cached_property
    def labels(self) -> NDArray[np.int64]:
        """Class numbers, N."""
        return np.array([row.label for row in self.rows], np.int64)

    @cached_property
    def digests(self) -> NDArray[np.int64]:
        """Of the images' pixels, N; 0 where none was noted."""
        return np.array([row.digest for row in self.rows], np.int64)

    @cached_property
    def folders(self) -> frozenset[tuple[int, str]]:
        """Class numbers of the images in use, each with a folder that some of its images stand in."""
        used = np.flatnonzero(self.in_sets((*SETS, LEFT_OUT))).tolist()
        return frozenset((self.rows[place].label, self.rows[place].file.rpartition("/")[0]) for place in used)

    @cached_property
    def flagged(self) -> NDArray[np.int64]:
        """Places of the images that somebody marked."""
        return np.flatnonzero(np.fromiter((row.flagged for row in self.rows), bool, len(self.rows)))

    @cached_property
    def _coded(self) -> tuple[list[str], NDArray[np.int64]]:
        """Names of the sets there are, and every image's as its place among them."""
        names = list(dict.fromkeys(self.sets))
        place = {name: k for k, name in enumerate(names)}
        return names, np.fromiter(map(place.__getitem__, self.sets), np.int64, len(self.sets))

    def in_sets(self, names: Iterable[str]) -> NDArray[np.bool_]:
        """Which images, N, are in one of some sets."""
        known, codes = self._coded
        wanted = set(names)
        return np.array([name in wanted for name in known], bool)[codes]

    def set_codes(self, names: Sequence[str]) -> NDArray[np.int64]:
        """Every image's set as its place among all sets' names."""
        known, codes = self._coded
        return np.array([names.index(name) for name in known], np.int64)[codes]

    @cached_property
    def _by_set(self) -> dict[str, NDArray[np.int64]]:
        names, codes = self._coded
        return {name: np.flatnonzero(codes == k) for k, name in enumerate(names)}

    def members(self, set_name: str) -> NDArray[np.int64]:
        """Places of a set's images, in their order."""
        return self._by_set.get(set_name, np.zeros(0, np.int64))

    @cached_property
    def counts(self) -> Counter[tuple[str, int]]:
        """Images by set and class number."""
        names, codes = self._coded
        counts = np.bincount(codes * len(self.classes) + self.labels, minlength=len(names) * len(self.classes))
        each = counts.reshape(len(names), len(self.classes)).tolist()
        return Counter({(name, k): n for name, row in zip(names, each, strict=True) for k, n in enumerate(row) if n})

    def count(self, set_name: str, label: int | None = None) -> int:
        """Images of a set, or of one class in it."""
        if label is not None:
            return self.counts[set_name, label]
        return sum(n for (name, _), n in self.counts.items() if name == set_name)

    @cached_property
    def totals(self) -> list[int]:
        """Images in use by class number."""
        return [sum(self.counts[name, k] for name in (*SETS, LEFT_OUT)) for k in range(len(self.classes))]

    @cached_property
    def taught(self) -> list[str]:
        """Names of the classes with training images: those that a network trained on them has units for."""
        counts = np.bincount(self.labels[self.members("training")], minlength=len(self.classes))
        return [name for name, count in zip(self.classes, counts.tolist(), strict=True) if count]

    @cached_property
    def labels_taught(self) -> list[str]:
        """Labels that some training images have and that are not left out, where a class is a set of labels."""
        return [label for label in labels_of(self.taught) if label not in self.labels_left_out]

    @cached_property
    def kinds(self) -> tuple[str, ...]:
        """What images are looked through by: classes, or where they may have several labels, these and none."""
        if not self.several:
            return tuple(self.classes)
        return (*self.labels_present, *([NO_LABEL] if NO_LABEL in self.classes else []))

    @cached_property
    def labels_present(self) -> tuple[str, ...]:
        """Labels that some image has, where a class is a set of labels: sets that no image has are left behind."""
        return labels_of(self.classes[label] for label in np.unique(self.labels).tolist())

    @property
    def kinds_in_words(self) -> str:
        """«6 classes», or «6 labels» where images may have several."""
        if not self.several:
            return counted(len(self.classes), "class", "classes")
        return counted(len(self.labels_present), "label", "labels")

    @cached_property
    def _kinds_of_classes(self) -> NDArray[np.bool_]:
        """Which kinds the images of each class are of, C×K."""
        if not self.several:
            return np.eye(len(self.classes), dtype=bool)
        there = members_of(self.classes, self.kinds)
        if self.kinds and self.kinds[-1] == NO_LABEL:
            there[:, -1] = [name == NO_LABEL for name in self.classes]
        return there

    def of_kind(self, kind: int) -> NDArray[np.bool_]:
        """Which images, N, are of one of `kinds`."""
        if not self.several:
            return np.asarray(self.labels == kind)
        inside: NDArray[np.bool_] = self._kinds_of_classes[:, kind][self.labels]
        return inside

    def kinds_of(self, label: int) -> list[int]:
        """The numbers of the kinds that images of a class are of."""
        return [label] if not self.several else np.flatnonzero(self._kinds_of_classes[label]).tolist()

    def count_of_kind(self, set_name: str, kind: int | None = None) -> int:
        """Images of a set, or of one kind in it."""
        if kind is None or not self.several:
            return self.count(set_name, kind)
        return sum(self.counts[set_name, k] for k in np.flatnonzero(self._kinds_of_classes[:, kind]).tolist())

    @cached_property
    def kind_totals(self) -> list[int]:
        """Images in use by kind."""
        if not self.several:
            return self.totals
        totals: list[int] = (np.array(self.totals, np.int64) @ self._kinds_of_classes).tolist()
        return totals

    def learned(self, task: TaskSettings) -> list[str]:
        """Names that a network trained for a task on these images has units for."""
        return self.labels_taught if task.several else self.taught

    def targets(self, labels: Sequence[str]) -> NDArray[np.float32]:
        """Which of L labels the images of each of C classes have, C×L, 0 and 1."""
        return members_of(self.classes, labels).astype(np.float32)

    def about_label(self, label: str, threshold: float) -> Collection:
        """With two classes in place of sets of labels: images without a label, and those with it.

        What is worked out with it is void when the label is said from another threshold.
        """
        there = members_of(self.classes, [label])[:, 0]
        rows = [replace(row, label=int(there[row.label])) for row in self.rows]
        former = {name: int(there[number]) for name, number in self.former.items()}
        about, classes = f"{label} from {threshold}", list(of_one(label))
        stored = self.labels
        return replace(self, classes=classes, rows=rows, former=former, about=about, stored=stored, several=False)

    @cached_property
    def fingerprint(self) -> str:
        """Changes when a label, a set or, as far as a rescan noted it, an image's pixels do."""
        content = repr(
            (
                self.classes,
                *([self.about] if self.about else []),
                [(row.label, row.digest) for row in self.rows],
                self.sets,
            )
        )
        return hashlib.sha256(content.encode("utf-8", "surrogateescape")).hexdigest()[:16]


@dataclass(frozen=True)
class Library:
    """The catalogue as its sources gave it, read once; `collection` adds decisions and a plan.

    Attributes
    ----------
    classes, rows, skipped
        As in `Collection`, without corrections.
    copies : dict
        Group number of images known to be copies, by image number.
    former : dict
        Class numbers by names that classes had before they were renamed.
    workspace : Workspace
        Whose it is.
    several : bool
        Whether its images may have several labels.
    """

    classes: list[str]
    rows: list[ImageRow]
    skipped: list[tuple[str, str]]
    copies: dict[int, int]
    former: dict[str, int]
    workspace: Workspace
    several: bool = False

    @cached_property
    def columns(self) -> dict[str, dict[int, str]]:
        """Column → image's number → word, of the tables beside the images; read when somebody wants it first."""
        return known_columns(self.workspace)

    @classmethod
    def read(cls, workspace: Workspace) -> Library:
        """From the catalogue, or as it was read the last time if that has not changed since."""
        catalogue = workspace.catalogue
        stamp = catalogue.settled_stamp()
        key = (catalogue.file.absolute(), stamp)
        known = _LIBRARIES.known(key)
        if known is not None:
            return known
        library = cls(
            catalogue.classes(),
            catalogue.images(),
            catalogue.skipped(),
            catalogue.copies(),
            catalogue.former_names(),
            workspace,
            Reading.read(catalogue.origins()[1].reading).several_labels,
        )
        return library if stamp is None else _LIBRARIES.keep(key, library)

    def check_groups(self, plan: Plan) -> None:
        """Raise `BadValue` where a plan keeps images together by a column that no table has."""
        if plan.split.keep_together == "column" and plan.split.group_column not in self.columns:
            known = ", ".join(self.columns) or "none"
            why = f"no table has a column «{plan.split.group_column}»; known are: {known}"
            raise BadValue("split.group_column", why, "Take in a table that has it, or choose another column")

    def groups(self, plan: Plan) -> dict[int, int]:
        """Group by the place of an image, of those that a plan's split keeps together."""
        split = plan.split
        if split.keep_together == "copies":
            return {place_of(number): group for number, group in self.copies.items()}
        if split.keep_together == "name pattern" and split.group_pattern:
            return groups_by_name([row.name for row in self.rows], split.group_pattern)
        if split.keep_together == "column":
            words = self.columns.get(split.group_column, {})
            known = {word: number for number, word in enumerate(dict.fromkeys(words.values()))}
            return {place_of(image): known[word] for image, word in words.items() if image <= len(self.rows)}
        return {}

    def units(self, plan: Plan, copies: bool = False) -> NDArray[np.int64]:
        """A number for each image, N; images that a plan's split keeps together by their names or a column have one.

        Copies of one picture have one too if asked for.
        """
        numbers = np.arange(len(self.rows))
        if copies or plan.split.keep_together != "copies":
            for at, group in self.groups(plan).items():
                numbers[at] = -1 - group
        return numbers

    def _strata(self, rows: list[ImageRow]) -> list[int]:
        """What the split holds out the same part of: classes; of several labels, the rarest that an image has.

        Sets of labels are too many and too small for that, and so every label has its part where it is rare.
        """
        labels = [row.label for row in rows]
        if not self.several:
            return labels
        there = members_of(self.classes, labels_of(self.classes))
        images = np.bincount(labels, minlength=len(self.classes)) @ there
        rarity = np.where(there, images, np.iinfo(np.int64).max)
        rarest = np.where(there.any(axis=1), rarity.argmin(axis=1) if there.shape[1] else 0, there.shape[1])
        strata: list[int] = rarest[labels].tolist()
        return strata

    def collection(self, corrections: Corrections, plan: Plan) -> Collection:
        """With corrections, split as a plan says and seed."""
        rows = corrected(self.rows, corrections)
        groups = self.groups(plan)
        sets = part(self._strata(rows), [row.given_set for row in rows], plan.split, plan.seed, groups)
        numbers = {name: number for number, name in enumerate(self.classes)}
        out = (
            set()
            if self.several
            else {
                number
                for name in plan.split.left_out
                if (number := numbers.get(name, self.former.get(name))) is not None
            }
        )
        if out:
            pairs = zip(rows, sets, strict=True)
            sets = [LEFT_OUT if row.label in out and name in SETS else name for row, name in pairs]
        labels_out = frozenset(plan.split.left_out) if self.several else frozenset[str]()
        return Collection(
            self.classes, rows, sets, self.skipped, self.former, several=self.several, labels_left_out=labels_out
        )


_LIBRARIES: Recent[Library] = Recent(2)
_COLLECTIONS: Recent[Collection] = Recent(4)


def collection(workspace: Workspace, plan: Plan, run: Run | None = None) -> Collection:
    """The catalogue's images with people's corrections, split as the plan says and seed.

    With a run, the sets are those it was trained with, whatever was moved since; images it did not know are left out.
    """
    key = state(workspace, plan, run)
    known = _COLLECTIONS.known(key) if key is not None else None
    if known is not None:
        return known
    result = Library.read(workspace).collection(workspace.catalogue.corrections(), plan)
    noted = run.images() if run is not None else None
    if noted is not None:
        then = [*noted[1][: len(result.rows)], *[LEFT_OUT] * (len(result.rows) - len(noted[1]))]
        sets = [now if now in (EXCLUDED, GONE) else old for now, old in zip(result.sets, then, strict=True)]
        result = replace(result, sets=sets)
    if run is not None and run.label:
        result = result.about_label(run.label, thresholds_of(run.whole)[run.label].value)
    return result if key is None else _COLLECTIONS.keep(key, result)


def state(workspace: Workspace, plan: Plan, run: Run | None = None) -> tuple[Hashable, ...] | None:
    """All that decides a `collection`; None while the catalogue has just been changed."""
    stamp = workspace.catalogue.settled_stamp()
    noted = run.images_stamp() if run is not None else None
    label = (run.label, run.thresholds_stamp()) if run is not None and run.label else None
    return None if stamp is None else (workspace.folder.absolute(), stamp, plan.split, plan.seed, noted, label)
