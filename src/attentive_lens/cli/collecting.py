"""The commands about images: making a workspace, looking for faults, deciding labels and sets."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any

import typer
from rich.table import Table

from attentive_lens.cli.app import AsJson, InWorkspace, app, printable, rows_of
from attentive_lens.cli.speaking import from_words, out, parsed, reporting, say_json, watched


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
            help="How to read a table or array: layout=NCHW, order=HWC, labels=kind, height=48. Repeatable.",
        ),
    ] = None,
    as_json: AsJson = False,
) -> None:
    """Make a workspace from images; they stay where they are."""
    from attentive_lens.desk.making import make_workspace
    from attentive_lens.plan.reading import Reading

    asked = parsed(read or [], "--read layout=NCHW")
    kinds = Reading.types()
    with from_words():
        reading = Reading.read({key: str(value) if kinds.get(key) is str else value for key, value in asked.items()})
    made = watched(make_workspace(workspace, source, name, reading), "reading images")
    found = made.collection
    counts = dict(zip(found.classes, found.totals, strict=True))
    if as_json:
        say_json(
            {
                "workspace": str(made.workspace.folder),
                "images": len(found.rows),
                "classes": counts,
                "skipped": [{"file": printable(file), "reason": why} for file, why in found.skipped],
                "findings": [{"kind": "small class", "text": text, "files": []} for text in made.findings],
            }
        )
        return
    out.print(f"{made.workspace.folder}: {len(found.rows)} images of {len(counts)} classes")
    table = Table("class", "training", "validation", "test", box=None)
    for k, c in enumerate(found.classes):
        table.add_row(c, *(str(found.count(s, k)) for s in ("training", "validation", "test")))
    out.print(table)
    for text in made.findings:
        out.print(text)
    if found.skipped:
        out.print(f"{len(found.skipped)} files gave no image:")
        for file, why in found.skipped:
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
    from attentive_lens.desk import tasks
    from attentive_lens.workspace import Workspace

    found = watched(tasks.faults(str(workspace)), "looking for faults").values
    done = _fixed(Workspace.open(workspace), found["findings"], fix or [])
    files = {row.number: printable(row.file) for row in rows_of(workspace)}
    if as_json:
        findings = [{**f, "files": [files[image] for image in f["images"]]} for f in found["findings"]]
        skipped = [{"file": file, "reason": why} for file, why in found["skipped"]]
        say_json({"findings": findings, "skipped": skipped, "fixed": done})
        return
    for finding in found["findings"]:
        out.print(f"{finding['kind']}: {finding['why']}. {finding['remedy']}.")
        lines = finding["groups"] or [[image] for image in finding["images"]]
        for group in lines[:5]:
            out.print("  " + " = ".join(f"image {image} · {files[image]}" for image in group))
        if len(lines) > 5:
            out.print(f"  … and {len(lines) - 5} more; --json lists all.")
    for file, why in found["skipped"]:
        out.print(f"unreadable: {file}: {why}")
    if not (found["findings"] or found["skipped"]):
        out.print("No faults were found.")
    for word in done:
        out.print(f"done: {word}")


def _fixed(place: Any, findings: list[dict[str, Any]], kinds: list[str]) -> list[str]:
    """Do the first action of the findings of some kinds; what was done."""
    from attentive_lens.desk.curating import Curating, act
    from attentive_lens.errors import BadUsage, BadValue

    curating = Curating(place)
    done = []
    for kind in kinds:
        own = [f for f in findings if f["kind"] == kind]
        if not own:
            there = ", ".join(sorted({f["kind"] for f in findings})) or "nothing"
            raise BadUsage(f"There is no «{kind}» to fix", f"what was found is: {there}", "Name one of these")
        for finding in own:
            if not finding["actions"] or finding["actions"][0]["step"]:
                raise BadValue(f"«{kind}» cannot be fixed here", "it is a matter of the plan", finding["remedy"])
            act(curating, finding["actions"][0])
            done.append(f"{kind}: {finding['actions'][0]['word']}")
    return done


@app.command()
@reporting
def rescan(workspace: InWorkspace, as_json: AsJson = False) -> None:
    """Look through the source again: new images are added, changed ones read anew, lost ones kept but not used."""
    from attentive_lens.desk.making import look_again
    from attentive_lens.workspace import Workspace

    found = watched(look_again(Workspace.open(workspace)), "reading images")
    told = {"added": found.added, "changed": found.changed, "gone": found.gone, "back": found.back}
    if as_json:
        say_json({key: list(numbers) for key, numbers in told.items()})
        return
    out.print(", ".join(f"{len(numbers)} {word}" for word, numbers in told.items()))


@app.command()
@reporting
def source(
    workspace: InWorkspace,
    folder: Annotated[Path, typer.Argument(metavar="SOURCE", help="Where the images are now.")],
    as_json: AsJson = False,
) -> None:
    """Name the place of a source that was moved; numbers, labels, decisions and runs stay."""
    from attentive_lens.desk.making import move_source
    from attentive_lens.workspace import Workspace

    found, missing = move_source(Workspace.open(workspace), folder)
    if as_json:
        say_json({"workspace": str(workspace), "source": str(folder), "found": found, "missing": missing})
        return
    out.print(f"{folder}: {found} images are there, {missing} are not")
    if missing:
        out.print("«rescan» takes note of those that are gone.")


@app.command()
@reporting
def restore(workspace: InWorkspace, as_json: AsJson = False) -> None:
    """Bring a damaged catalogue back from its copy, with every decision since; the damaged file is kept."""
    from attentive_lens.workspace import Workspace

    images, decisions = Workspace.open(workspace).catalogue.restore()
    if as_json:
        say_json({"workspace": str(workspace), "images": images, "decisions": decisions})
        return
    out.print(f"{workspace}: {images} images, {decisions} of them with decisions")


@app.command()
@reporting
def label(
    workspace: InWorkspace,
    file: Annotated[
        Path | None,
        typer.Argument(metavar="[FILE]", help="CSV table with «image» or «file», and «label», «set», «flag»."),
    ] = None,
    into: Annotated[
        Path | None, typer.Option("--out", metavar="FILE", help="Write every image with its label and set here.")
    ] = None,
    new_classes: Annotated[bool, typer.Option("--new-classes", help="Labels not known yet become classes.")] = False,
    as_json: AsJson = False,
) -> None:
    """Take corrected labels, sets and flags from a table, or write them to one; image files are never touched."""
    from attentive_lens.desk.curating import read_list, write_list
    from attentive_lens.errors import BadUsage
    from attentive_lens.workspace import Workspace

    place = Workspace.open(workspace)
    if file is None and into is None:
        raise BadUsage("There is nothing to do", "neither a table nor --out is named", "Name one of them")
    told: dict[str, Any] = {}
    if file is not None:
        taken = read_list(place, file, new_classes)
        told = {"relabelled": taken.relabelled, "moved": taken.moved, "flagged": taken.flagged}
        told["new_classes"] = list(taken.new_classes)
        if not as_json:
            out.print(f"{taken.relabelled} relabelled, {taken.moved} moved, {taken.flagged} flags changed")
    if into is not None:
        told |= {"file": str(into), "images": write_list(place, into)}
        if not as_json:
            out.print(f"{into}: {told['images']} images")
    if as_json:
        say_json(told)
