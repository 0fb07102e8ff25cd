"""The commands about plans, and how settings on the command line change one."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer
from rich.table import Column, Table

from attentive_lens.cli.app import AsJson, PlanFile, Settings, app, out_file
from attentive_lens.cli.speaking import console, from_words, out, parsed, reporting, say_json, watched
from attentive_lens.cli.training.plan_results import (
    LayerFacts,
    LayerShown,
    PlanChecked,
    PlanKeys,
    PlansCompared,
    PlanShown,
    PlanWritten,
)
from attentive_lens.core.records import PlainTable
from attentive_lens.core.values import unknown_word
from attentive_lens.desk.requests.prices import PricePlan
from attentive_lens.errors import BadUsage
from attentive_lens.plan.base import SHELF, Base
from attentive_lens.plan.difference import differences
from attentive_lens.plan.frost import frozen_part
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.starters import STARTERS
from attentive_lens.plan.text import MOST_BYTES

if TYPE_CHECKING:
    from attentive_lens.workspace import Workspace

plans = typer.Typer(help="Write a plan that explains itself, list all settings, check a plan file.")
app.add_typer(plans, name="plan")


@plans.command()
@reporting
def new(
    plan: PlanFile = None,
    settings: Settings = None,
    network: Annotated[
        str, typer.Option("--network", metavar="NAME", help="A starting network, made for the input size and classes.")
    ] = "",
    classes: Annotated[int, typer.Option(metavar="N", min=2, max=100_000, help="Classes, with --network.")] = 2,
    into: Annotated[
        Path | None,
        out_file("Write it here; printed if left out."),
    ] = None,
    as_json: AsJson = False,
) -> None:
    """Write a plan with every key, its meaning, unit and allowed words as comments: the default one, or --plan's."""
    from attentive_lens.core.files import write_text
    from attentive_lens.plan.outline import commented

    chosen = settled(read(plan), settings)
    if network:
        chosen = chosen.changed({"network": network})
        if network in STARTERS:
            chosen = chosen.with_network(STARTERS[network].network_for(chosen.preprocessing.input_size, classes))
    text = commented(chosen)
    if into is None and not as_json:
        out.print(text, end="")
        return
    if into is not None:
        write_text(into, text)
    if as_json:
        say_json(PlanWritten(str(into) if into else None, chosen.write()))
    else:
        out.print(f"{into}: change it, then «attentive-lens train WORKSPACE --plan {into}».")


@plans.command()
@reporting
def keys(as_json: AsJson = False) -> None:
    """List every key that --set takes, with its default, meaning, unit and allowed words."""
    from attentive_lens.plan.outline import settings

    rows = settings()
    if as_json:
        say_json(PlanKeys(tuple(rows)))
        return
    table = Table("key", "default", "allowed", "meaning", box=None)
    for row in rows:
        table.add_row(row.key, row.default, f"{row.allowed} {row.unit}".rstrip(), row.meaning)
    out.print(table)


@plans.command()
@reporting
def check(
    file: Annotated[Path, typer.Argument(help="Plan file (TOML).", metavar="FILE")],
    classes: Annotated[
        int | None, typer.Option(metavar="N", min=2, max=100_000, help="Classes it is to tell apart; 2 if left out.")
    ] = None,
    workspace: Annotated[
        Path | None, typer.Option(metavar="WORKSPACE", help="Whose runs it builds on: the base is checked too.")
    ] = None,
    as_json: AsJson = False,
) -> None:
    """Read a plan file and say what its network is, layer by layer, or all that is wrong with it, line by line."""
    _check_all(file, classes, workspace)
    plan = read(file)
    facts = plan.network_for(classes or 2).facts(plan.preprocessing.shape)
    if as_json:
        rows = tuple(LayerFacts(fact.name, fact.shape, fact.weights, fact.multiply_adds) for fact in facts)
        say_json(PlanChecked(plan.name, sum(fact.weights for fact in facts), rows))
        return
    table = Table(plan.name, "shape", "weights", "multiply-adds", box=None)
    for fact in facts:
        shape = "×".join(map(str, fact.shape))
        table.add_row(fact.name, shape, f"{fact.weights:,}", f"{fact.multiply_adds:,}")
    out.print(table)


def _check_all(file: Path, classes: int | None, workspace: Path | None) -> None:
    """Say every fault of a plan file but the first, which is raised."""
    from attentive_lens.desk.network.checking import faults_of
    from attentive_lens.workspace import Workspace

    place = None if workspace is None else Workspace.open(workspace)
    try:
        text = file.read_text("utf-8-sig")
    except (OSError, UnicodeDecodeError):
        return  # reading it says why
    faults = faults_of(text, classes, place) if len(text) < MOST_BYTES else ()
    for number, fault in enumerate(faults):
        where = f"line {fault.line} of {file}" if fault.line else str(file)
        mend = f" Nearest repairs: {'; '.join(fault.repairs).lower()}." if fault.repairs else ""
        if number or fault.repairs:
            console.print(f"{where}: {fault.error}{mend}", soft_wrap=True)
    if faults:
        first, error = faults[0], faults[0].error
        where = f"{file}, line {first.line}: " if first.line else f"{file}: "
        raise type(error)(f"{where}{error.what}", error.why, error.remedy)


@plans.command()
@reporting
def show(
    what: Annotated[
        str | None, typer.Argument(help="Plan file (TOML), or with --workspace a run's number.", metavar="FILE|RUN")
    ] = None,
    plan: PlanFile = None,
    settings: Settings = None,
    workspace: Annotated[
        Path | None,
        typer.Option("--workspace", metavar="FOLDER", help="Its images and classes: with it the price is measured."),
    ] = None,
    run: Annotated[
        int | None, typer.Option("--run", metavar="RUN", min=1, help="The plan of this run of the workspace.")
    ] = None,
    classes: Annotated[int, typer.Option(metavar="N", min=2, max=100_000, help="Without a workspace.")] = 2,
    threads: Annotated[
        bool, typer.Option("--threads", help="With --workspace: time a batch for each number of threads.")
    ] = False,
    as_json: AsJson = False,
) -> None:
    """Show a plan's network as a table: shape, receptive field, weights, cost; with --workspace what an epoch takes."""
    if what is not None:
        if plan is not None or run is not None:
            raise BadUsage("Two plans are named", f"{what} and another one", "Name one")
        run, plan = (int(what), None) if what.isascii() and what.isdigit() and len(what) < 10 else (None, Path(what))
    if threads and workspace is None:
        raise BadUsage("--threads needs --workspace", "a batch is of its images and classes", "Name its folder")
    if run is not None and workspace is None:
        raise BadUsage("--run needs --workspace", "a run is of a workspace", "Name its folder")
    if run is not None and (plan is not None or settings):
        raise BadUsage("A run has its own plan", "it never changes", "Leave out --plan and --set")
    chosen, classes = _of_workspace(plan, settings, workspace, run, classes)
    stored = frozen_part(chosen)
    network = chosen.network_for(classes)
    facts = network.facts(chosen.preprocessing.shape)
    cost = sum(fact.multiply_adds for fact in facts)
    price = None
    if workspace is not None:
        from attentive_lens.desk.tasks import carry_out

        price = watched(carry_out(PricePlan(str(workspace), chosen.write(), threads)), "measuring the price")
    layers = tuple(
        LayerShown(
            fact.name,
            fact.shape,
            fact.weights,
            fact.multiply_adds,
            fact.numbers * chosen.training.bytes_a_number,
            fact.receptive_field,
            fact.multiply_adds / max(1, cost),
            fact.name in chosen.frozen or chosen.network.node(fact.name).frozen,
        )
        for fact in facts
    )
    shown = PlanShown(
        chosen.name, sum(fact.weights for fact in facts), cost, layers, price, stored.node, stored.why_not
    )
    if as_json:
        say_json(shown)
    else:
        _say(shown)


def _of_workspace(
    plan: Path | None, settings: list[str] | None, workspace: Path | None, run: int | None, classes: int
) -> tuple[Plan, int]:
    """The plan that is meant, and the number of its classes."""
    if workspace is None:
        return settled(read(plan), settings), classes
    from attentive_lens.workspace import Workspace

    place = Workspace.open(workspace)
    chosen = place.run(run).plan() if run is not None else planned_in(workspace, plan, settings)
    return chosen, max(2, len(place.catalogue.classes()))


def _say(shown: PlanShown) -> None:
    table = Table(
        Column(shown.name, no_wrap=True), "shape", "receptive field", "weights", "multiply-adds", "share", box=None
    )
    for layer in shown.layers:
        shape = "×".join(map(str, layer.shape))
        field = "the image" if layer.receptive_field is None else f"{layer.receptive_field}×{layer.receptive_field}"
        name = f"{layer.layer} (frozen)" if layer.frozen and layer.weights else layer.layer
        share = f"{layer.share:.0%}" if layer.multiply_adds else ""
        table.add_row(name, shape, field, f"{layer.weights:,}", f"{layer.multiply_adds:,}", share)
    out.print(table)
    out.print(f"{shown.weights:,} weights, {shown.multiply_adds:,} multiply-adds an image")
    if shown.computed_once:
        out.print(f"all up to {shown.computed_once} is frozen: its outputs are computed once and kept")
    if shown.why_not_once:
        out.print(f"the frozen layers are computed anew each time: {shown.why_not_once}")
    if shown.price is not None:
        price = shown.price
        out.print(
            f"about {price.epoch_seconds:.3g} s per epoch here: {price.batches} batches of {price.step_seconds:.3g} s,"
            f" {price.evaluation_seconds:.3g} s for {price.validation} validation images; training takes"
            f" about {price.memory / 1e6:.0f} MB of memory, {price.free / 1e9:.1f} GB are free"
        )
        for each in price.threads:
            word = "thread" if each.threads == 1 else "threads"
            out.print(
                f"{each.threads:>4} {word}: a batch is answered in {each.forward_seconds * 1000:.3g} ms"
                f" and learned from in {each.step_seconds * 1000:.3g} ms"
            )


@plans.command()
@reporting
def diff(
    one: Annotated[Path, typer.Argument(help="Plan file (TOML).", metavar="A")],
    other: Annotated[Path, typer.Argument(help="Plan file (TOML).", metavar="B")],
    as_json: AsJson = False,
) -> None:
    """List what two plan files differ in: settings, augmentation steps and layers."""
    rows = differences(read(one), read(other))
    if as_json:
        say_json(PlansCompared(rows))
        return
    if not rows:
        out.print("The two plans are the same.")
        return
    table = Table(Column("key", no_wrap=True), str(one), str(other), box=None)
    for row in rows:
        table.add_row(row.key, row.one if row.one is not None else "–", row.other if row.other is not None else "–")
    out.print(table)


def read(file: Path | None) -> Plan:
    """The plan in a file, or the default one."""
    from attentive_lens.workspace.plan_files import read_plan

    return read_plan(file) if file is not None else Plan()


def settled(plan: Plan, settings: list[str] | None) -> Plan:
    """A plan with ``--set`` words applied, none of which belongs to a workspace."""
    with from_words():
        return plan.changed(parsed(settings or [], "--set training.epochs=5"))


def split_base(settings: PlainTable) -> PlainTable:
    """Take the settings of the base out of all settings; a model's path is made absolute."""
    base = {key: settings.pop(key) for key in list(settings) if key.startswith("base.")}
    known = frozenset(f"base.{name}" for name in Base.specs())
    for key in base:
        if key not in known:
            raise unknown_word("plan", key, known)
    if base and not base.keys() & {"base.run", "base.model"}:
        raise BadUsage("plan.base", "it needs «base.run» or «base.model»", "Name a run or a model file")
    if base and (isinstance(base.get("base.run", 1), bool) or not isinstance(base.get("base.run", 1), int)):
        raise BadUsage("base.run", f"a whole number is needed, got {base['base.run']!r}", "Name a run's number")
    if base.get("base.model") and not str(base["base.model"]).startswith(SHELF):
        base["base.model"] = str(Path(str(base["base.model"])).expanduser().absolute())
    return base


def planned_in(workspace: Path, file: Path | None, settings: list[str] | None) -> Plan:
    """The plan in a file, or the one that the workspace begins with, with ``--set`` words applied."""
    from attentive_lens.desk.network.usual import usual_plan
    from attentive_lens.workspace import Workspace

    with from_words():
        place = Workspace.open(workspace)
        plan = read(file) if file is not None else usual_plan(place)
        return _planned(place, plan, parsed(settings or [], "--set training.epochs=5"))


def _planned(place: Workspace, plan: Plan, settings: PlainTable) -> Plan:
    """The plan with its settings changed; a base alone brings its network and preprocessing along."""
    from attentive_lens.desk.network.bases import base_file, with_base

    base = split_base(settings)
    plan = plan.changed(settings)
    known = Base.read({key.removeprefix("base."): value for key, value in base.items()}) if base else plan.base
    if known is not None:
        base_file(place, known)  # a base that is not there is told before a layer that it does not have
    if not base:
        return plan
    if "network" in settings:
        return plan.changed(base)
    return with_base(place, plan, Base.read({key.removeprefix("base."): value for key, value in base.items()}))
