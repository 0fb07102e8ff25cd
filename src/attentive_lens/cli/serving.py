"""The command that has a model answer over HTTP."""

from __future__ import annotations

import os
import secrets
import sys
from pathlib import Path
from typing import Annotated

import typer

from attentive_lens.cli.app import AsJson, app
from attentive_lens.cli.results.answer_results import ServerBegun
from attentive_lens.cli.speaking import console, out, reporting, say_json, watched
from attentive_lens.core.files import check_folder_of
from attentive_lens.errors import BadFile, BadUsage, NotHere

TOKEN = "ATTENTIVE_LENS_TOKEN"  # noqa: S105  # the name of the variable
"""The environment variable that may hold the token."""
SHORTEST = 16
"""Characters of a token."""


@app.command()
@reporting
def serve(
    model: Annotated[Path, typer.Argument(help="Model file (.alens or .onnx).", metavar="MODEL")],
    host: Annotated[
        str, typer.Option(help="Address to listen at; others than this machine need a token.")
    ] = "127.0.0.1",
    port: Annotated[int, typer.Option(metavar="N", min=0, max=65535, help="Port; 0 for any that is free.")] = 8765,
    token: Annotated[
        Path | None,
        typer.Option("--token", metavar="FILE", help=f"File with the token to be sent; or set {TOKEN}."),
    ] = None,
    unlike: Annotated[
        bool, typer.Option("--unlike", help="Tell how unlike all training images each is; for the model of a run.")
    ] = False,
    drift: Annotated[
        Path | None, typer.Option("--drift", metavar="FILE", help="Keep there how each day's images differ (.json).")
    ] = None,
    images: Annotated[int, typer.Option("--images", metavar="N", min=1, help="Images in a request, at most.")] = 64,
    megabytes: Annotated[
        int, typer.Option("--megabytes", metavar="N", min=1, max=2000, help="Of a request, at most.")
    ] = 64,
    megapixels: Annotated[
        int, typer.Option("--megapixels", metavar="N", min=1, max=200, help="Of an image, at most.")
    ] = 50,
    as_json: AsJson = False,
) -> None:
    """Have a model answer over HTTP: answers, maps, and how each day's images differ; Ctrl+C ends it.

    Its page (the address, in a browser) tells what can be asked. Nothing is kept but the file of --drift.
    """
    from attentive_lens.desk.results.beside_model import familiar_to, held_out_to
    from attentive_lens.desk.results.models import model_of
    from attentive_lens.serving.limits import Limits
    from attentive_lens.serving.running import Serving, is_this_machine, run_server

    if drift is not None:
        check_folder_of(drift)
    read = model_of(model)
    word = _token(token)
    if not is_this_machine(host) and not word:
        word = secrets.token_urlsafe(24)
        console.print(f"Others than this machine may ask, with this token: {word}")
    known = watched(familiar_to(model), "looking at what it was trained on") if unlike else None
    usual, lacking = None, None
    try:
        usual = watched(held_out_to(model), "looking at held-out images")
    except NotHere as error:
        if drift is not None:
            raise
        lacking = error
    if caution := read.preprocessor.settings.caution_of_files:
        console.print(caution)

    def say(address: str, at: int) -> None:
        url = f"http://{f'[{address}]' if ':' in address else address}:{at}"
        if as_json:
            say_json(ServerBegun(url, str(model), bool(word)))
            sys.stdout.flush()
        else:
            out.print(f"{model} answers at {url} (Ctrl+C ends it)")

    limits = Limits(images=images, megabytes=megabytes, megapixels=megapixels)
    run_server(Serving(read, model.name, host, port, word, limits, known, usual, lacking, drift), say)


def _token(file: Path | None) -> str:
    """From the file, or from the environment; empty where neither is."""
    if file is None:
        word = os.environ.get(TOKEN, "").strip()
    else:
        try:
            word = file.read_text(encoding="utf-8").strip()
        except (OSError, ValueError) as error:
            why = str(getattr(error, "strerror", None) or "it is no text").lower()
            raise BadFile(f"{file} could not be read", why, "Name a file with the token") from None
    if (file is not None or word) and (len(word) < SHORTEST or not word.isascii() or not word.isprintable()):
        why = f"it is not {SHORTEST} or more plain characters"
        raise BadUsage("The token was not taken", why, "Choose a longer one: whoever has it may ask")
    return word
