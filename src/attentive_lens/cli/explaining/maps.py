"""The commands that explain: one image, and what all mistakes have in common."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Annotated

import typer

from attentive_lens.cli.app import (
    AsJson,
    InWorkspace,
    OfRun,
    OnSet,
    app,
    check_set,
    map_method_option,
    out_file,
    out_folder,
    printable,
    run_number,
)
from attentive_lens.cli.explaining.explaining_results import CommonCauses, Explained, NotShown
from attentive_lens.cli.explaining.labels import label_named
from attentive_lens.cli.speaking import out, reporting, say_json, watched
from attentive_lens.core.records import PlainTable
from attentive_lens.core.values import in_words
from attentive_lens.desk.requests.causes import Cause, Causes
from attentive_lens.desk.requests.explaining import (
    PAIR,
    Activations,
    Explain,
    Explanation,
    FirstFilters,
    Trust,
    TrustChecks,
)
from attentive_lens.desk.requests.maps import ClassMaps
from attentive_lens.desk.requests.models import Score
from attentive_lens.desk.requests.subjects import FileImage, RunImage, Subject
from attentive_lens.errors import BadUsage, LensError
from attentive_lens.explaining.figures import Gain
from attentive_lens.explaining.methods import DEFAULT, MAP_METHODS, QUICK


@app.command()
@reporting
def explain(
    places: Annotated[
        list[str],
        typer.Argument(
            metavar="[WORKSPACE RUN] IMAGE…",
            help="A workspace, the number of a run, and numbers of images as «score» prints them; with --model, image"
            " files or folders of them.",
        ),
    ],
    model: Annotated[
        Path | None, typer.Option("--model", metavar="FILE", help="Ask this model file, about any image files.")
    ] = None,
    method: Annotated[str, map_method_option("A map method, or all")] = DEFAULT.kind,
    target: Annotated[
        str | None, typer.Option("--for", metavar="CLASS", help="A class to explain besides said and true.")
    ] = None,
    into: Annotated[Path, out_folder("Where maps and pictures go.")] = Path("explained"),
    trust: Annotated[bool, typer.Option("--trust", help="Measure whether the maps can be believed.")] = False,
    wrong: Annotated[
        int, typer.Option("--wrong", metavar="N", min=0, help="The N surest mistakes, in place of images by number.")
    ] = 0,
    on: OnSet = "validation",
    as_json: AsJson = False,
) -> None:
    """Show which pixels drove the answer that was said and the answer that is true, and the difference."""
    from attentive_lens.cli.explaining.pictures import write_explanation, write_filters
    from attentive_lens.desk.tasks import carry_out

    if model is not None and trust:
        why = "it compares with what a run's images give, and a model file has none"
        raise BadUsage("--trust cannot be measured with --model", why, "Ask the run in its workspace")
    if model is not None and wrong:
        why = "a model file knows no set, and so no mistakes"
        raise BadUsage("--wrong cannot be asked of --model", why, "Ask the run in its workspace")
    methods = (
        [each() for each in MAP_METHODS.values()] if method == "all" else [in_words("--method", MAP_METHODS, method)]
    )
    label = ""
    if model is not None:
        label, target = label_named(model, target)
    subjects = _files(places, model, label) if model is not None else _numbers(places, wrong, on)
    filters = watched(carry_out(FirstFilters(next(iter(subjects.values())))), "first filters")
    filters_picture = write_filters(filters, into)
    verdicts: list[bool | None] = []
    for stem, subject in subjects.items():
        results: list[Explanation] = []
        refused: list[NotShown] = []
        for settings in methods:
            try:
                results.append(watched(carry_out(Explain(subject, settings, target)), "explaining"))
            except LensError as error:
                if method != "all" or settings is methods[0]:
                    raise
                refused.append(NotShown(settings, error.why))
        layers = watched(carry_out(Activations(subject)), "asking the layers")
        measured: list[TrustChecks] = []
        if trust:
            for result in results:
                checks = Trust(subject, result.method, not wrong)
                measured.append(watched(carry_out(checks), "checking trust"))
        explained = replace(
            write_explanation(results, layers, into, stem),
            not_shown=tuple(refused),
            filters_picture=filters_picture,
            measured=tuple(measured),
        )
        verdicts += [result.maps[0].trust.passed for result in results]
        if as_json:
            say_json(explained)
        else:
            _say(explained)
    if wrong and not as_json:
        decided = [verdict for verdict in verdicts if verdict is not None]
        untold = len(verdicts) - len(decided)
        more = f"; of {untold} it cannot be told" if untold else ""
        out.print(f"{sum(decided)} of {len(decided)} maps for what was said pass{more}")


def _numbers(places: list[str], wrong: int, on: str) -> dict[str, Subject]:
    """Images by the beginning of their files' names: those named, or so many surest mistakes."""
    if len(places) < (2 if wrong else 3):
        remedy = "Write «explain WORKSPACE RUN IMAGE …», or «explain --model FILE IMAGE …» for image files"
        raise BadUsage("explain needs more words", "it takes a workspace, a run and at least one image", remedy)
    workspace, run, *images = places
    for word in (run.partition(":")[0], *images):
        if not (word.isascii() and word.isdigit()):
            raise BadUsage(f"«{word}» is no number", "runs and images are named by their numbers", "See «score»")
    numbers = _mistakes(workspace, run_number(run), wrong, on) if wrong else [int(image) for image in images]
    return {f"image-{number:05d}": RunImage(workspace, run_number(run), number) for number in numbers}


def _mistakes(workspace: str, run: int, wrong: int, on: str) -> list[int]:
    from attentive_lens.desk.tasks import carry_out
    from attentive_lens.errors import NotHere

    check_set(on)
    scores = watched(carry_out(Score(workspace, run, on)), "scoring")
    if not scores.wrong:
        why = f"run {run} answers every {on} image rightly"
        raise NotHere("There are no mistakes to explain", why, "Choose another set")
    return [answer.image for answer in scores.wrong[:wrong]]


def _files(places: list[str], model: Path, label: str) -> dict[str, Subject]:
    """Image files by the beginning of the names of what is written for them."""
    from attentive_lens.desk.results.answering import image_files
    from attentive_lens.desk.results.models import model_of
    from attentive_lens.images.pages import parted

    files: dict[str, Subject] = {}
    pixel_format = model_of(model).preprocessor.pixel_format
    for name in image_files([Path(place) for place in places], pixel_format):
        file, page = parted(name)
        stem = printable(Path(file).stem) + (f"-page-{page}" if page is not None else "")
        number = sum(1 for known in files if known == stem or known.startswith(f"{stem}~"))
        files[f"{stem}~{number + 1}" if number else stem] = FileImage(name, str(model), label=label)
    return files


def _say(explained: Explained) -> None:
    """One image's explanation in words."""
    answers = explained.probabilities
    true = f", true {explained.true} ({answers[explained.true]:.2f})" if explained.true else ""
    name = f"image {explained.image}" if explained.image is not None else explained.file
    out.print(f"{name}: said {explained.predicted} ({answers[explained.predicted]:.2f}){true}")
    for entry in explained.maps:
        trust = entry.trust
        if trust is None:
            out.print(f"  map of {entry.target} ({entry.method.words}): {entry.picture}")
            continue
        if trust.empty:
            out.print(f"  the map for {entry.target} is zero everywhere: this method finds nothing that speaks for it")
            continue
        if trust.gain is None:
            continue
        out.print(f"  map for {entry.target} ({entry.method.words}): {entry.picture}\n    {_gain(trust.gain)}")
        if trust.completeness is not None:
            sums = trust.completeness
            out.print(
                f"    its parts add up to {sums.sum:.3f} of {sums.expected:.3f}, {sums.error:.1%} off"
                f" (score {sums.score:.3f})"
            )
    for refused in explained.not_shown:
        out.print(f"  no map by {refused.method.words}: {refused.reason}")
    for measured in explained.measured:
        _say_trust(measured)
    out.print(f"  activations: {explained.layers_picture}")
    if explained.filters_picture:
        out.print(f"  first-layer filters: {explained.filters_picture}")


def _gain(gain: Gain) -> str:
    """The verdict, with what it rests on."""
    rivals = ", ".join(f"{name} {value:.2f}" for name, value in gain.rivals.items())
    return (
        f"{gain.verdict}: gains {gain.value:.2f} (more than {gain.limit:.2f}), {gain.share:.0%} of what could be"
        f" reached; random maps {gain.random:.2f}, {rivals}"
    )


def _say_trust(checks: TrustChecks) -> None:
    """The measured figures, each beside its limit."""
    words = {True: "passes", False: "fails", None: "cannot be told"}
    for check in checks.maps:
        out.print(f"  {PAIR[check.key]}: {_gain(check.gain)}; rank correlation under small noise {check.stability:.2f}")
        if check.completeness is not None:
            out.print(f"    its parts add up to the score but for {check.completeness.error:.2%}")
    anew = checks.weight_randomisation
    out.print(
        f"  with all weights randomised the rank correlation is {anew.all_layers:.2f} (below {anew.limit:.2f}):"
        f" {words[anew.passed]}, on {anew.images} images"
    )
    alike = ", ".join(f"{key} {value:.2f}" for key, value in sorted(checks.agreement.items(), key=lambda p: -p[1]))
    if alike:
        out.print(f"  rank correlation with other methods: {alike}")


@app.command()
@reporting
def causes(
    workspace: InWorkspace,
    run: OfRun,
    on: OnSet = "validation",
    method: Annotated[str, map_method_option("The map method that mistakes are compared by")] = QUICK.kind,
    plan_out: Annotated[
        Path | None,
        out_file("Write every remedy's plan: the first here, others beside it."),
    ] = None,
    as_json: AsJson = False,
) -> None:
    """Find what the mistakes of a run come from, tried on the model, each cause with the remedy that fits."""
    from attentive_lens.desk.tasks import carry_out
    from attentive_lens.desk.training.cautions import caution_of_test, judged_by_test
    from attentive_lens.workspace import Workspace

    check_set(on)
    settings = in_words("--method", MAP_METHODS, method)
    causes_found = watched(carry_out(Causes(str(workspace), run, on, settings)), "finding common causes")
    judged = judged_by_test(Workspace.open(workspace))
    plans = plans_of(causes_found.groups)
    written = _write_plans(plan_out, plans) if plan_out is not None else []
    if as_json:
        files = tuple(map(str, written))
        say_json(CommonCauses(run, on, causes_found.mistakes, causes_found.groups, tuple(judged), files))
        return
    out.print(f"run {run} on {on}: {causes_found.mistakes} mistakes in {len(causes_found.groups)} groups")
    for number, group in enumerate(causes_found.groups, 1):
        out.print(f"  {number}. {group.why}")
        out.print(f"     {group.remedy}")
        for remedy in group.remedies:
            out.print(f"     · {remedy.words}: {remedy.forecast}")
        shown = ", ".join(map(str, group.images[:12])) + (", …" if len(group.images) > 12 else "")
        out.print(f"     images {shown}")
    for file, (words, _) in zip(written, plans, strict=False):
        out.print(f"{file}: {words}; train it with «train WORKSPACE --plan {file}»")
    if plans and not written:
        out.print(
            f"With --out FILE the {'remedy is' if len(plans) == 1 else 'remedies are'} written as plans to train."
        )
    if on == "test" and (caution := caution_of_test(judged)):
        out.print(caution)


@app.command("class-maps")
@reporting
def class_maps(
    workspace: InWorkspace,
    run: OfRun,
    on: OnSet = "validation",
    method: Annotated[str, map_method_option("The map method that right answers are looked at by")] = QUICK.kind,
    images: Annotated[int, typer.Option(metavar="N", min=1, help="Right answers of a class, at most.")] = 100,
    into: Annotated[Path, out_folder("Where pictures and maps go.")] = Path("class-maps"),
    as_json: AsJson = False,
) -> None:
    """Show what the right answers of every class rest on, so that a model right for the wrong reason is found."""
    from attentive_lens.cli.explaining.pictures import write_classes
    from attentive_lens.desk.tasks import carry_out

    check_set(on)
    settings = in_words("--method", MAP_METHODS, method)
    outcome = watched(carry_out(ClassMaps(str(workspace), run, on, settings, images)), "explaining right answers")
    written = write_classes(outcome, into)
    if as_json:
        say_json(written)
        return
    out.print(f"run {run} on {on}, by {settings.words}:")
    for each in written.classes:
        out.print(f"  {each.name}: {each.words}")
        out.print(f"    {each.picture}")


def plans_of(groups: tuple[Cause, ...]) -> list[tuple[str, PlainTable]]:
    """The plans of all groups' remedies with their words, each once, those of the largest group first."""
    plans: list[tuple[str, PlainTable]] = []
    for group in groups:
        prepared = [(remedy.words, remedy.plan) for remedy in group.remedies if remedy.plan is not None]
        for words, plan in prepared or ([(group.remedy, group.plan)] if group.plan else []):
            if plan not in [known for _, known in plans]:
                plans.append((words, plan))
    return plans


def _write_plans(file: Path, plans: list[tuple[str, PlainTable]]) -> list[Path]:
    """Each into a file of its own; the files."""
    from attentive_lens.core.files import write_text
    from attentive_lens.errors import NotHere
    from attentive_lens.plan.outline import commented
    from attentive_lens.plan.plan import Plan

    if not plans:
        why = "no plan ends what any group of mistakes shares"
        raise NotHere("There is no plan to write", why, "Leave out --out, and follow the words instead")
    files = [file, *(file.with_name(f"{file.stem}-{k}{file.suffix}") for k in range(2, len(plans) + 1))]
    for each, (_, plan) in zip(files, plans, strict=True):
        write_text(each, commented(Plan.read(plan)))
    return files
