"""The task that lists what a figure stands on."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.desk.requests.manifests import MakeManifest, Manifested, called
from attentive_lens.desk.results.manifest import (
    Changes,
    Entry,
    changes,
    digest_of,
    manifest,
    read_manifest,
    write_manifest,
)
from attentive_lens.workspace import Workspace


def make_manifest(request: MakeManifest) -> Job[Manifested]:
    """See `MakeManifest`."""
    place = Workspace.open(Path(request.workspace))
    before: tuple[Entry, ...] | None = None
    if request.against.isdecimal():
        before = manifest(place, place.run(int(request.against)))
    elif request.against:
        before = read_manifest(Path(request.against))
    yield Progress(0, 0, "listing images")
    entries = manifest(place, place.run(request.run) if request.run else None)
    apart = changes(before, entries) if before is not None else Changes()
    if request.file:
        write_manifest(Path(request.file), entries)
    here = f"run {request.run}" if request.run else "the workspace"
    return Manifested(
        request.run,
        len(entries),
        digest_of(entries),
        request.file,
        request.against,
        apart.none if before is not None else None,
        **asdict(apart),
        sentences=tuple(apart.words(Path(called(request.against)).name, here)),
    )
