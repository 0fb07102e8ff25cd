"""Commands that ask one request and print what it gives; options and help are the request's, words the result's own.

A field that is described is an argument where it must be given, and an option where it need not (but for those that the
request names). What several commands ask in the same way is named by what it is: ``workspace``, ``run``, ``subject`` (a
run and an image), ``plan``, ``on`` and ``file``.
"""

from __future__ import annotations

import inspect
from dataclasses import MISSING, Field, fields
from pathlib import Path
from typing import Annotated, Any

import typer

from attentive_lens.cli.app import AsJson, InWorkspace, OfRun, OnSet, PlanFile, Settings, app, check_set, out_file
from attentive_lens.cli.speaking import reporting, say, say_json, watched
from attentive_lens.core.values import Spec
from attentive_lens.desk.requests.base import Request
from attentive_lens.desk.requests.subjects import RunImage

OfImage = Annotated[int, typer.Argument(help="Number of the image.", metavar="IMAGE")]
GIVEN: dict[str, dict[str, Any]] = {
    "workspace": {"workspace": InWorkspace},
    "run": {"run": OfRun},
    "subject": {"workspace": InWorkspace, "run": OfRun, "image": OfImage},
    "plan": {"plan": PlanFile, "settings": Settings},
    "on": {"on": OnSet},
}
"""What the command takes for a field of that name, wherever it stands."""
WORDS = {int: "N", float: "X", str: "WORD"}
"""What stands in the help for a value of a type."""


def add_command(name: str, request: type[Request[Any]]) -> None:
    """Put the command that asks a request into the application."""

    def ask(**given: Any) -> None:
        from attentive_lens.desk.tasks import carry_out

        result = watched(carry_out(request(**_values(request, given))), request.doing)
        say_json(result) if given["as_json"] else say(result)

    parameters = [parameter for each in fields(request) for parameter in _parameters(request, each)]
    parameters.append(_parameter("as_json", AsJson, False))
    ask.__signature__ = inspect.Signature(parameters)  # type: ignore[attr-defined]
    ask.__annotations__ = {parameter.name: parameter.annotation for parameter in parameters}
    ask.__doc__ = request.__doc__
    app.command(name)(reporting(ask))


def _parameter(name: str, annotation: Any, default: Any = inspect.Parameter.empty) -> inspect.Parameter:
    return inspect.Parameter(name, inspect.Parameter.KEYWORD_ONLY, default=default, annotation=annotation)


def _parameters(request: type[Request[Any]], of: Field[Any]) -> list[inspect.Parameter]:
    """What the command takes for a field."""
    default = inspect.Parameter.empty if of.default is MISSING else of.default
    if of.name in GIVEN:
        free = of.name == "plan"
        return [_parameter(name, kind, None if free else default) for name, kind in GIVEN[of.name].items()]
    known: Spec | None = of.metadata.get("spec")
    if known is None:
        return []
    if of.name == "file":
        return [_parameter("file", Annotated[Path | None, out_file(known.meaning)], None)]
    kind, label = request.types()[of.name], known.label or of.name
    several = kind == tuple[str, ...]
    if several:
        kind, default = list[str] | None, None
    shown = known.names.upper() or WORDS.get(kind, "WORD")
    if kind is bool:
        flag = f"--{label}/--no-{label}" if default else f"--{label}"
        return [_parameter(of.name, Annotated[bool, typer.Option(flag, help=known.meaning)], default)]
    words: Any
    if default is inspect.Parameter.empty or of.name in request.arguments:
        words = typer.Argument(help=known.meaning, min=known.low, max=known.high, metavar=shown)
    else:
        words = typer.Option(f"--{label}", help=known.meaning, min=known.low, max=known.high, metavar=shown)
    return [_parameter(of.name, Annotated[kind, words], default)]


def _values(request: type[Request[Any]], given: dict[str, Any]) -> dict[str, Any]:
    """The fields of the request, from what the command was given."""
    workspace = str(given.get("workspace", ""))
    values: dict[str, Any] = {}
    for each in fields(request):
        match each.name:
            case "workspace":
                values["workspace"] = workspace
            case "subject":
                values["subject"] = RunImage(workspace, given["run"], given["image"])
            case "plan":
                from attentive_lens.cli.training.planning import planned_in

                values["plan"] = planned_in(given["workspace"], given["plan"], given["settings"]).write()
            case "on":
                check_set(given["on"])
                values["on"] = given["on"]
            case "file":
                values["file"] = str(given["file"] or "")
            case name if name in given:
                value = given[name]
                values[name] = tuple(value or ()) if each.default == () else value
    return values
