"""The commands about plans, and how settings on the command line change one."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer
from rich.table import Table

from attentive_lens.cli.app import AsJson, PlanFile, Settings, app
from attentive_lens.cli.results import LayerFacts, PlanChecked, PlanKeys, PlanWritten
from attentive_lens.cli.speaking import from_words, out, parsed, reporting, say_json
from attentive_lens.core.records import PlainTable
from attentive_lens.core.values import unknown_word
from attentive_lens.errors import BadUsage
from attentive_lens.plan.base import Base
from attentive_lens.plan.plan import Plan

plans = typer.Typer(help="Write a plan that explains itself, list all settings, check a plan file.")
app.add_typer(plans, name="plan")


@plans.command()
@reporting
def new(
    plan: PlanFile = None,
    settings: Settings = None,
    into: Annotated[
        Path | None, typer.Option("--out", metavar="FILE", help="Write it here; printed if left out.")
    ] = None,
    as_json: AsJson = False,
) -> None:
    """Write a plan with every key, its meaning, unit and allowed words as comments: the default one, or --plan's."""
    from attentive_lens.core.files import write_text
    from attentive_lens.plan.outline import commented

    chosen = settled(read(plan), settings)
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
    classes: Annotated[int, typer.Option(metavar="N", min=2, max=100_000, help="Classes it is to tell apart.")] = 2,
    as_json: AsJson = False,
) -> None:
    """Read a plan file and say what its network is, layer by layer, or what is wrong with it."""
    plan = read(file)
    facts = plan.network.with_outputs(plan.loss.outputs(classes)).facts(plan.preprocessing.shape)
    if as_json:
        rows = tuple(LayerFacts(fact.name, fact.shape, fact.weights, fact.multiply_adds) for fact in facts)
        say_json(PlanChecked(plan.name, sum(fact.weights for fact in facts), rows))
        return
    table = Table(plan.name, "shape", "weights", "multiply-adds", box=None)
    for fact in facts:
        shape = "×".join(map(str, fact.shape))
        table.add_row(fact.name, shape, f"{fact.weights:,}", f"{fact.multiply_adds:,}")
    out.print(table)


def read(file: Path | None) -> Plan:
    """The plan in a file, or the default one."""
    from attentive_lens.workspace.runs import read_plan

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
    if base.get("base.model"):
        base["base.model"] = str(Path(str(base["base.model"])).expanduser().absolute())
    return base
