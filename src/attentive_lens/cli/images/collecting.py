"""The commands about images: making a workspace, looking for faults, deciding labels and sets."""

from __future__ import annotations

import shlex
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import Annotated

import typer
from rich.table import Table

from attentive_lens.cli.app import AsJson, InWorkspace, app, out_file, printable, rows_of
from attentive_lens.cli.images.image_results import (
    Added,
    Faults,
    Finding,
    Labelled,
    NewWorkspace,
    Rescanned,
    Restored,
    SmallFinding,
    SourceMoved,
)
from attentive_lens.cli.speaking import from_words, out, parsed, reporting, say_json, watched
from attentive_lens.desk.requests.images import Fault, FindFaults, Skipped
from attentive_lens.errors import BadUsage
from attentive_lens.workspace import Workspace


@app.command()
@reporting
def new(
    workspace: InWorkspace,
    source: Annotated[
        Path,
        typer.Argument(
            metavar="SOURCE",
            help="Folder with one folder per class, a table, or a file of arrays (NPZ, NPY, MAT, IDX).",
        ),
    ],
    name: Annotated[str, typer.Option(metavar="TEXT", help="What to call it; the folder's name if left out.")] = "",
    read: Annotated[
        list[str] | None,
        typer.Option(
            "--read",
            metavar="KEY=VALUE",
            help='How to read it: layout=NCHW, labels=kind, channels="red, infrared", scale=range. Repeatable.',
        ),
    ] = None,
    as_json: AsJson = False,
) -> None:
    """Make a workspace from images; they stay where they are."""
    from attentive_lens.desk.making import make_workspace
    from attentive_lens.images.reading import Reading

    reading_settings = parsed(read or [], "--read layout=NCHW")
    kinds = Reading.types()
    with from_words():
        reading = Reading.read(
            {key: str(value) if kinds.get(key) is str else value for key, value in reading_settings.items()}
        )
    imported = watched(make_workspace(workspace, source, name, reading), "reading images")
    images = imported.collection
    counts = dict(zip(images.kinds, images.kind_totals, strict=True))
    if as_json:
        skipped = tuple(Skipped(printable(file), why) for file, why in images.skipped)
        noticed = tuple(SmallFinding("small class", text, ()) for text in imported.findings)
        say_json(NewWorkspace(str(imported.workspace.folder), len(images.rows), counts, skipped, noticed))
        return
    link = "with" if images.several else "of"
    out.print(f"{imported.workspace.folder}: {len(images.rows)} images {link} {images.kinds_in_words}")
    table = Table("label" if images.several else "class", "training", "validation", "test", box=None)
    for k, name in enumerate(images.kinds):
        table.add_row(name, *(str(images.count_of_kind(s, k)) for s in ("training", "validation", "test")))
    out.print(table)
    for text in imported.findings:
        out.print(text)
    if images.skipped:
        out.print(f"{len(images.skipped)} files gave no image:")
        for file, why in images.skipped:
            out.print(f"  {printable(file)}: {why}")


@app.command()
@reporting
def faults(
    workspace: InWorkspace,
    fix: Annotated[
        list[str] | None,
        typer.Option(
            "--fix", metavar="KIND", help="Do the first action of every finding of this kind, as «leak». Repeatable."
        ),
    ] = None,
    as_json: AsJson = False,
) -> None:
    """Look for faults that spoil training: copies in two sets, marks, poor images, doubtful labels, rare classes."""
    from attentive_lens.desk.tasks import carry_out

    results = watched(carry_out(FindFaults(str(workspace))), "looking for faults")
    done = _fixed(Workspace.open(workspace), results.faults, fix or [])
    files = {row.number: printable(row.file) for row in rows_of(workspace)}
    if as_json:
        findings = tuple(
            Finding(f.kind, f.why, f.remedy, f.images, tuple(files[n] for n in f.images), f.groups, f.actions)
            for f in results.faults
        )
        say_json(Faults(findings, results.skipped, tuple(done)))
        return
    for fault in results.faults:
        out.print(f"{fault.kind}: {fault.why}. {fault.remedy}.")
        lines = fault.groups or tuple((image,) for image in fault.images)
        for group in lines[:5]:
            out.print("  " + " = ".join(f"image {image} · {files[image]}" for image in group))
        if len(lines) > 5:
            out.print(f"  … and {len(lines) - 5} more; --json lists all.")
    for unreadable in results.skipped:
        out.print(f"unreadable: {unreadable.file}: {unreadable.reason}")
    if not (results.faults or results.skipped):
        out.print("No faults were found.")
    for word in done:
        out.print(f"done: {word}")


def _fixed(place: Workspace, faults: Sequence[Fault], kinds: list[str]) -> list[str]:
    """Do the first action of the findings of some kinds; what was done."""
    from attentive_lens.desk.images.curating import Curating, act
    from attentive_lens.desk.images.together import keep_together
    from attentive_lens.errors import BadUsage, BadValue
    from attentive_lens.plan.plan import Plan

    curating = Curating(place)
    done = []
    for kind in kinds:
        matching = [fault for fault in faults if fault.kind == kind]
        if not matching:
            there = ", ".join(sorted({fault.kind for fault in faults})) or "nothing"
            raise BadUsage(f"There is no «{kind}» to fix", f"what was found is: {there}", "Name one of these")
        for fault in matching:
            action = fault.actions[0] if fault.actions else None
            if action is not None and action.settings:
                words = " ".join(f"--set {shlex.quote(f'{key}={value}')}" for key, value in action.settings.items())
                raise BadValue(f"«{kind}» cannot be fixed here", "it is a matter of the plan", f"Train with {words}")
            if action is None or action.step:
                raise BadValue(f"«{kind}» cannot be fixed here", "it is a matter of the plan", fault.remedy)
            if action.together:
                done.append(f"{kind}: {action.word}. {keep_together(place, Plan(), action.together)}")
                continue
            act(curating, action)
            done.append(f"{kind}: {action.word}")
    return done


@app.command()
@reporting
def add(
    workspace: InWorkspace,
    images: Annotated[
        list[Path], typer.Argument(help="Image files (FILE#2: a page), or folders.", metavar="IMAGE_OR_FOLDER…")
    ],
    label: Annotated[str, typer.Option("--as", metavar="CLASS", help="Their class; a new one if there is none.")],
    as_json: AsJson = False,
) -> None:
    """Copy new images into a workspace as images of a class; the next run knows them."""
    from attentive_lens.desk.results.answering import image_files
    from attentive_lens.workspace.adding import add_images

    numbers = add_images(Workspace.open(workspace), [Path(file) for file in image_files(images)], label)
    if as_json:
        say_json(Added(label, tuple(numbers)))
        return
    out.print(f"{len(numbers)} images added as {label}: image {numbers[0]} to {numbers[-1]}")


@app.command()
@reporting
def rescan(
    workspace: InWorkspace,
    contents: Annotated[
        bool, typer.Option("--contents", help="Read every image, not only files of another size or time of change.")
    ] = False,
    as_json: AsJson = False,
) -> None:
    """Look through the source again: new images are added, changed ones read anew, lost ones kept but not used."""
    from attentive_lens.desk.making import look_again

    changes = watched(look_again(Workspace.open(workspace), contents), "reading images")
    counts = {"added": changes.added, "changed": changes.changed, "gone": changes.gone, "back": changes.back}
    if as_json:
        say_json(Rescanned(**{key: tuple(numbers) for key, numbers in counts.items()}, problems=changes.problems))
        return
    out.print(", ".join(f"{len(numbers)} {word}" for word, numbers in counts.items()))
    if changes.changed:
        out.print("Scores, maps and neighbours that stand on changed images are made anew when they are asked for.")
    for problem in changes.problems:
        out.print(problem)


@app.command()
@reporting
def source(
    workspace: InWorkspace,
    folder: Annotated[Path, typer.Argument(metavar="SOURCE", help="Where the images are now.")],
    as_json: AsJson = False,
) -> None:
    """Name the place of a source that was moved; numbers, labels, decisions and runs stay."""
    from attentive_lens.desk.making import move_source

    files, missing = move_source(Workspace.open(workspace), folder)
    if as_json:
        say_json(SourceMoved(str(workspace), str(folder), files, missing))
        return
    out.print(f"{folder}: {files} images are there, {missing} are not")
    if missing:
        out.print("«rescan» takes note of those that are gone.")


@app.command()
@reporting
def restore(workspace: InWorkspace, as_json: AsJson = False) -> None:
    """Bring a damaged catalogue back from its copy, with every decision since; the damaged file is kept."""
    place = Workspace.open(workspace)
    place.check_writable("The catalogue was not restored")
    images, decisions = place.catalogue.restore()
    if as_json:
        say_json(Restored(str(workspace), images, decisions))
        return
    out.print(f"{workspace}: {images} images, {decisions} of them with decisions")


def _pairs(words: list[str], example: str) -> list[tuple[str, str]]:
    """«one=other» as pairs."""
    for word in words:
        if "=" not in word.strip("="):
            raise BadUsage(f"«{word}» says nothing", "two names with «=» between them are needed", f"Write {example}")
    return [(one.strip(), other.strip()) for one, _, other in (word.partition("=") for word in words)]


@app.command()
@reporting
def label(
    workspace: InWorkspace,
    file: Annotated[
        Path | None,
        typer.Argument(metavar="[FILE]", help="CSV table with «image» or «file», and «label», «set», «flag»."),
    ] = None,
    into: Annotated[
        Path | None,
        out_file("Write every image with its label and set here."),
    ] = None,
    new_classes: Annotated[bool, typer.Option("--new-classes", help="Labels not known yet become classes.")] = False,
    rename: Annotated[
        list[str] | None,
        typer.Option(
            "--rename", metavar="OLD=NEW", help="Call a class, or one of several labels, otherwise. Repeatable."
        ),
    ] = None,
    merge: Annotated[
        list[str] | None,
        typer.Option("--merge", metavar="CLASS=INTO", help="Make a class part of another one. Repeatable."),
    ] = None,
    as_json: AsJson = False,
) -> None:
    """Take corrected labels, sets and flags from a table, or write them to one; image files are never touched."""
    from attentive_lens.desk.images.curating import Curating, merge_classes, read_list, replace_label, write_list
    from attentive_lens.desk.images.data import several_labels
    from attentive_lens.errors import BadUsage
    from attentive_lens.images.sources.base import class_name

    place = Workspace.open(workspace)
    if not (file or into or rename or merge):
        why = "neither a table nor --out, --rename or --merge is named"
        raise BadUsage("There is nothing to do", why, "Name one of them")
    labelled = Labelled(None, None, None, (), None, None)
    if rename or merge:
        place.check_writable("The classes were not changed")
    several = several_labels(place)
    for old, new in _pairs(rename or [], "--rename OLD=NEW"):
        if several:
            replace_label(Curating(place), place.catalogue.images(), old, new)
        else:
            place.catalogue.rename_class(old, class_name(new))
        if not as_json:
            out.print(f"{old} is called {class_name(new)} now")
    for name, other in _pairs(merge or [], "--merge CLASS=INTO"):
        merge_ = replace_label if several else merge_classes
        count = merge_(Curating(place), place.catalogue.images(), name, other)
        labelled = replace(labelled, relabelled=(labelled.relabelled or 0) + count)
        if not as_json:
            out.print(f"{name} is part of {other} now: {count} images relabelled")
    if file is not None:
        decisions = read_list(place, file, new_classes)
        labelled = replace(
            labelled,
            relabelled=decisions.relabelled,
            moved=decisions.moved,
            flagged=decisions.flagged,
            new_classes=decisions.new_classes,
        )
        if not as_json:
            out.print(f"{decisions.relabelled} relabelled, {decisions.moved} moved, {decisions.flagged} flags changed")
    if into is not None:
        labelled = replace(labelled, file=str(into), images=write_list(place, into))
        if not as_json:
            out.print(f"{into}: {labelled.images} images")
    if as_json:
        say_json(labelled)
