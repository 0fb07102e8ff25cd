"""What is done with a class as a whole: renamed, made part of another, left out of the next run."""

from __future__ import annotations

from dataclasses import replace

from PyQt6.QtWidgets import QComboBox, QInputDialog, QWidget

from attentive_lens.plan.labels import NO_LABEL
from attentive_lens.window import look
from attentive_lens.window.parts.basics import button, chooser, filter_button, horizontal, label, vertical
from attentive_lens.window.session import Session
from attentive_lens.window.words import counted, thousands


class ClassesBox(QWidget):
    """A class is chosen, then something is done with it; all of it can be undone."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        inside = vertical(self, spacing=6)
        inside.addWidget(label("Classes", strong=True))
        self.classes = chooser("class to change", "class", "The class that the buttons below are about.")
        self.classes.setMinimumContentsLength(16)
        self.classes.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.classes.currentIndexChanged.connect(self._choose)
        inside.addWidget(self.classes)
        row = horizontal(spacing=4)
        tip = "Rename it; earlier runs keep the old name."
        self.rename = button("Rename …", "rename class", tip, self._rename)
        tip = "Give all its images the label of another class; a class without images has no unit in the output."
        self.merge = button("Merge into …", "merge class", tip, self._merge)
        tip = "The next run does not learn this class: its images are in no set."
        self.leave = filter_button("Leave out", "leave class out", tip, self._leave)
        for each in (self.rename, self.merge, self.leave):
            row.addWidget(each)
        row.addStretch()
        inside.addLayout(row)
        self.says = label(role="faint", size=look.SMALL, name="classes note")
        self.says.setWordWrap(True)
        inside.addWidget(self.says)
        self.refresh()

    @property
    def name(self) -> str:
        """The class chosen."""
        return str(self.classes.currentData() or "")

    def refresh(self) -> None:
        """List the classes as they are; the one chosen stays."""
        collection, before = self.session.images.collection, self.name
        self.classes.blockSignals(True)
        self.classes.clear()
        for number, name in enumerate(collection.kinds):
            if not (collection.several and name == NO_LABEL):
                self.classes.addItem(f"{name} · {thousands(int(collection.of_kind(number).sum()))}", name)
        self.classes.setCurrentIndex(max(0, self.classes.findData(before)))
        self.classes.blockSignals(False)
        self._choose()

    def _choose(self) -> None:
        collection, out = self.session.images.collection, self.session.design.plan.split.left_out
        for each in (self.rename, self.merge):
            each.setEnabled(bool(self.name) and not self.session.reading_only)
        self.leave.setChecked(self.name in out)
        self.leave.setEnabled(bool(self.name))
        learned = collection.learned(self.session.design.plan.task)
        several = collection.several and self.session.design.plan.task.several
        names = collection.kinds if several else collection.classes
        untaught = [name for name in names if name not in learned and name not in (*out, NO_LABEL)]
        what = counted(len(learned), "label", "labels") if several else counted(len(learned), "class", "classes")
        words = f"{what} will be learned."
        if untaught:
            more = f" and {len(untaught) - 4} more" if len(untaught) > 4 else ""
            words += f" Without training images, so without a unit: {', '.join(untaught[:4])}{more}."
        self.says.setText(words)

    def _rename(self) -> None:
        old = self.name
        new, given = QInputDialog.getText(self, "Rename the class", f"What {old} is to be called:", text=old)
        if given and new.strip() and new.strip() != old:
            if self.session.images.collection.several:
                self.session.images.replace_label(old, new)
            else:
                self.session.images.rename_class(old, new)
            self.classes.setCurrentIndex(max(0, self.classes.findData(new.strip())))

    def _merge(self) -> None:
        collection = self.session.images.collection
        classes = collection.classes
        others = [name for name in collection.kinds if name not in (self.name, NO_LABEL)]
        into, given = QInputDialog.getItem(self, "Merge the class", f"{self.name} becomes part of:", others, 0, False)
        if given and into in others and collection.several:
            self.session.images.replace_label(self.name, into)
        elif given and into in others:
            collection, number = self.session.images.collection, classes.index(self.name)
            numbers = [row.number for row in collection.rows if row.label == number]
            many = counted(len(numbers), "image", "images")
            self.session.images.relabel(f"made {self.name} part of {into}: {many}", numbers, classes.index(into))

    def _leave(self) -> None:
        plan, name = self.session.design.plan, self.name
        out = tuple(each for each in plan.split.left_out if each != name)
        left = len(out) == len(plan.split.left_out)
        split = replace(plan.split, left_out=(*out, name) if left else out)
        words = f"leaving {name} out" if left else f"using {name} again"
        self.session.design.change(replace(plan, split=split), words)
        self.session.message.emit(f"The next run is {words}.", False)
