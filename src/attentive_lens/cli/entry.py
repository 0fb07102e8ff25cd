"""From words on the command line to a command and an exit code: 0 done, 1 failed with a reason, 2 wrong usage."""

from __future__ import annotations

import difflib
import importlib
import os
import sys
from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING, Any

from attentive_lens.core.extensions import left_out
from attentive_lens.core.launching import processes_launched
from attentive_lens.core.version import VERSION
from attentive_lens.desk.log import note_fault
from attentive_lens.errors import BadUsage, LensError

if TYPE_CHECKING:
    from typer import Typer

    from attentive_lens.desk.requests.base import Request

COMMANDS: dict[str, str] = {
    "demo": "commands",
    "new": "images/collecting",
    "rescan": "images/collecting",
    "source": "images/collecting",
    "restore": "images/collecting",
    "add": "images/collecting",
    "label": "images/collecting",
    "columns": "columns.TakeColumns",
    "outlines": "outlines.TakeOutlines",
    "faults": "images/collecting",
    "plan": "training/planning",
    "rehearse": "rehearsing.Rehearse",
    "train": "commands",
    "watch": "commands",
    "runs": "results/comparing",
    "bin": "results/comparing",
    "compare": "results/comparing",
    "repeat": "results/comparing",
    "sweep": "training/searching",
    "cross-validate": "training/searching",
    "advise": "training/steering",
    "control": "training/steering",
    "manifest": "manifests.MakeManifest",
    "score": "results/scoring",
    "verify": "results/scoring",
    "calibrate": "verifying.Calibrate",
    "costs": "costs.WeighCosts",
    "thresholds": "labels.ChooseThresholds",
    "robustness": "robustness.MeasureRobustness",
    "explain": "explaining/maps",
    "causes": "explaining/maps",
    "class-maps": "explaining/maps",
    "objects": "objects.MeasureObjects",
    "cases": "explaining/cases",
    "report": "reporting.WriteReport",
    "export": "exporting.ExportModel",
    "import-model": "importing.ImportModel",
    "model": "shelf.OpenModel",
    "shelf": "shelf.ListShelf",
    "shelf-put": "shelf.PutOnShelf",
    "shelf-edit": "shelf.EditShelf",
    "shelf-verify": "shelf.VerifyOnShelf",
    "layer": "explaining/inspecting",
    "activity": "explaining/inspecting",
    "numbers": "explaining/inspecting",
    "channel": "inspecting.Channels",
    "neighbours": "inspecting.Neighbours",
    "similarity": "similarity.CompareLayers",
    "map": "images/mapping",
    "encode": "drawing.EncodeImages",
    "decode": "drawing.Decode",
    "draw": "drawing.DrawImages",
    "reconstruct": "drawing.Reconstruct",
    "fidelity": "fidelity.MeasureFidelity",
    "probe": "bases.ProbeBase",
    "rates": "rates.SweepRates",
    "try": "explaining/inspecting",
    "predict": "results/predicting",
    "serve": "serving",
    "watch-folder": "results/watching_folder",
    "drift": "drift.MeasureDrift",
    "extensions": "extensions.ListExtensions",
    "measure": "measuring",
    "about": "measuring",
    "desktop": "desktop.PutOnDesktop",
}
"""The module of each, or the request in a module of `desk.requests` that it asks; that alone is loaded for it."""
PROGRAM = "attentive-lens"
TOGETHER = "train"
"""The command that several processes carry out together."""
COMPLETING = "_ATTENTIVE_LENS_COMPLETE"
"""Set by a shell that asks how a command could go on."""


def is_command(words: list[str]) -> bool:
    """Whether these words are for `run_command`, rather than naming a workspace for the window."""
    return COMPLETING in os.environ or bool(words and (words[0] in COMMANDS or words[0].startswith("-")))


def workspace_named(words: list[str]) -> str | None:
    """The folder to open the window on, or None.

    Raises
    ------
    BadUsage
        If the words are neither a command nor one folder; with the nearest command.
    """
    if not words:
        return None
    first, *rest = words
    if os.path.exists(first):  # noqa: PTH110  # unlike Path's, «no» for a name that is too long
        if rest:
            why = f"the window takes one folder, and «{' '.join(rest)}» stands behind it"
            raise BadUsage(f"{first} was not opened", why, "Leave that out, or name a command first")
        return first
    near = difflib.get_close_matches(first, COMMANDS, n=1)
    remedy = f"Did you mean «{near[0]}»?" if near else "See «attentive-lens --help»"
    raise BadUsage(f"«{first}» is not known", "it is neither a command nor a folder that exists", remedy)


def requests_asked(commands: Mapping[str, str] = COMMANDS) -> dict[str, type[Request[Any]]]:
    """The requests of those commands that ask one, by command."""
    requests: dict[str, type[Request[Any]]] = {}
    for name, home in commands.items():
        module, _, request = home.partition(".")
        if request:
            of_module = importlib.import_module(f"attentive_lens.desk.requests.{module}")  # noqa: TID251  # named in COMMANDS
            requests[name] = getattr(of_module, request)
    return requests


def with_commands(named: str = "") -> Typer:
    """The application with the command of that name alone, or with all where none has it: they take long to load."""
    from attentive_lens.cli.app import application

    chosen = COMMANDS if named not in COMMANDS else {named: COMMANDS[named]}
    for module in dict.fromkeys(home for home in chosen.values() if "." not in home):
        file = module.replace("/", ".")
        importlib.import_module(f"attentive_lens.cli.{file}")  # noqa: TID251  # of this room, seen file by file
    requests = requests_asked(chosen)
    if requests:
        from attentive_lens.cli.asking import add_command

        for name, request in requests.items():
            add_command(name, request)
    return application([named] if named in COMMANDS else list(COMMANDS))


def run_command(words: list[str], other_face: Mapping[str, Callable[..., object]]) -> int:
    """Run the command named by the first word.

    Parameters
    ----------
    words : list of str
        Without the program's name.
    other_face : mapping
        What the window's face does for this one, given from outside, for neither knows the other: "open_window" opens
        it on a workspace.
    """
    if words == ["--version"]:
        sys.stdout.write(f"{VERSION}\n")
        return 0
    if words == ["--help"]:
        from attentive_lens.cli.overview import overview

        overview(COMMANDS)(words, standalone_mode=False, prog_name=PROGRAM)
        return 0
    from typer.exceptions import Abort, TyperException

    from attentive_lens.cli.speaking import say_error, say_json

    app = with_commands(words[0] if words else "")
    if processes_launched() != 1 and words and words[0] in COMMANDS and words[0] != TOGETHER:
        why = f"each of {processes_launched() or 'several'} processes would do the same"
        sys.stderr.write(f"{BadUsage(f'{words[0]} was not begun', why, f'Only {TOGETHER} runs under a launcher')}\n")
        return 2
    for each in left_out():
        sys.stderr.write(f"{each.sentence}\n")
    try:
        code = app(words, standalone_mode=False, prog_name=PROGRAM, obj=dict(other_face))
    except TyperException as error:
        message = error.format_message().rstrip(".")
        command = next((word for word in words if word in COMMANDS), "")
        remedy = f"See «{' '.join(filter(None, ('attentive-lens', command, '--help')))}»"
        if "--json" in words:
            what = f"The command {command or words[0]} was not understood"
            say_json({"error": {"what": what, "why": message, "remedy": remedy}})
        else:
            sys.stderr.write(f"{message}. {remedy}.\n")
        return error.exit_code
    except LensError as error:  # of a value that was looked at before the command began
        say_error(error, "--json" in words)
        return 2 if isinstance(error, BadUsage) else 1
    except Abort:
        return 1
    except SystemExit as end:
        return int(end.code or 0)
    except Exception as error:  # noqa: BLE001  # a bug: its trace goes to the log, and one sentence to whoever asked
        fault = _fault(error)
        if "--json" in words:
            say_json({"error": fault.as_dict()})
        else:
            sys.stderr.write(f"{fault}\n")
        return 1
    return int(code or 0)


def _fault(error: Exception) -> LensError:
    """A fault of the program as a sentence; its trace is noted in the log."""
    why = f"{type(error).__name__}: {str(error).splitlines()[0] if str(error) else 'no more is known'}"
    return LensError("The program has a fault", f"{why}; {note_fault(error)}", "Please report it with that trace")
