"""Build the pages of docs/ for a browser: python scripts/documents.py [FOLDER], docs/pages if none is named.

A warning, a link that leads nowhere or a page in no list of contents ends it with 1. Wheels are built with the same
pages in them, `attentive_lens/documents`, from which the program's help is read too.
"""

from __future__ import annotations

import shutil
import subprocess
import sys
import tempfile
from pathlib import Path
from typing import Any

from hatchling.builders.hooks.plugin.interface import BuildHookInterface

ROOT = Path(__file__).parents[1]
BESIDE = (".buildinfo", "objects.inv")
"""What the generator leaves beside the pages, for itself and for other sites."""


def build(into: Path) -> int:
    """Write all pages into a folder, with those they were written from in `_sources`; 0 if nothing was wrong."""
    shutil.rmtree(into, ignore_errors=True)
    with tempfile.TemporaryDirectory() as kept:
        words = ["-q", "-W", "--keep-going", "-b", "html", "-d", kept, str(ROOT / "docs"), str(into)]
        code = subprocess.run([sys.executable, "-m", "sphinx", *words], check=False).returncode
    for name in BESIDE:
        (into / name).unlink(missing_ok=True)
    return code


class PagesHook(BuildHookInterface):  # type: ignore[type-arg]
    """Puts the pages into a wheel."""

    PLUGIN_NAME = "custom"

    def initialize(self, version: str, build_data: dict[str, Any]) -> None:
        """Build them; of an editable installation the sources are read."""
        if version == "editable":
            return
        self.folder = Path(tempfile.mkdtemp())
        if build(self.folder / "pages"):
            raise RuntimeError("the documents could not be built without a warning")
        build_data["force_include"][str(self.folder / "pages")] = "attentive_lens/documents"

    def finalize(self, version: str, build_data: dict[str, Any], artifact_path: str) -> None:
        """Leave nothing behind."""
        if version != "editable":
            shutil.rmtree(self.folder, ignore_errors=True)


if __name__ == "__main__":
    sys.exit(build(Path(sys.argv[1]) if len(sys.argv) > 1 else ROOT / "docs" / "pages"))
