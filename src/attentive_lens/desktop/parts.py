"""Each thing that is put on a desktop: where it goes under the folder of shared data, and what it holds."""

from __future__ import annotations

from collections.abc import Sequence
from html import escape
from pathlib import Path

from attentive_lens.core.version import RELEASED, VERSION
from attentive_lens.desktop.entry import DATA, PROGRAM, entry, filled

ICONS = Path(__file__).parent / "icons"
SIZES = (16, 22, 24, 32, 48, 64, 128, 256, 512)
"""Sides of the icon, in pixels."""
ENTRY = f"applications/{PROGRAM}.desktop"
FILE_TYPE = f"mime/packages/{PROGRAM}.xml"
SHELLS = {
    "bash": f"bash-completion/completions/{PROGRAM}",
    "zsh": f"zsh/site-functions/_{PROGRAM}",
    "fish": f"fish/vendor_completions.d/{PROGRAM}.fish",
}
"""Where each shell looks for how a command goes on."""
PICTURES = {
    "explain": "Two answers under one lens",
    "network": "The network as plates on a rail",
    "training": "Curves, with advice",
    "causes": "What mistakes come from, and what would end it",
}
"""Of docs/screenshots, and what they show."""


def parts(command: Sequence[str], pictures_at: str = "", workspaces: Sequence[Path] = ()) -> dict[str, bytes]:
    """Contents by place.

    Parameters
    ----------
    command : sequence of str
        The words that start the program.
    pictures_at : str
        Web address under which the pictures of docs/screenshots are; without one none are named, as a description of
        a program may name no files.
    workspaces : sequence of Path
        Opened lately.
    """
    from typer import completion  # only here: the window begins sooner without

    hicolor = "icons/hicolor"
    made = {
        ENTRY: entry(command, workspaces).encode("utf-8"),
        FILE_TYPE: (DATA / "file-type.xml").read_bytes(),
        "metainfo/org.attentive_lens.AttentiveLens.metainfo.xml": description(pictures_at).encode("utf-8"),
        f"man/man1/{PROGRAM}.1": (DATA / f"{PROGRAM}.1").read_bytes(),
        f"{hicolor}/scalable/apps/{PROGRAM}.svg": (ICONS / f"{PROGRAM}.svg").read_bytes(),
        f"{hicolor}/symbolic/apps/{PROGRAM}-symbolic.svg": (ICONS / f"{PROGRAM}-symbolic.svg").read_bytes(),
    }
    for size in SIZES:
        made[f"{hicolor}/{size}x{size}/apps/{PROGRAM}.png"] = (ICONS / f"{size}.png").read_bytes()
    variable = f"_{PROGRAM}_COMPLETE".replace("-", "_").upper()
    for shell, place in SHELLS.items():
        script = completion.get_completion_script(  # type: ignore[attr-defined]  # it is used there
            prog_name=PROGRAM, complete_var=variable, shell=shell
        )
        made[place] = f"{script}\n".encode()
    return made


def description(pictures_at: str = "") -> str:
    """What lists of programs show (AppStream 1.0)."""
    screenshots = ""
    if pictures_at:
        shown = (
            f"    <screenshot{' type=' + chr(34) + 'default' + chr(34) if name == 'explain' else ''}>\n"
            f"      <caption>{escape(caption)}</caption>\n"
            f"      <image>{escape(pictures_at.rstrip('/'))}/{name}.png</image>\n    </screenshot>\n"
            for name, caption in PICTURES.items()
        )
        screenshots = f"  <screenshots>\n{''.join(shown)}  </screenshots>\n"
    return filled("description.xml", screenshots=screenshots, version=VERSION, date=RELEASED)
