"""Workspaces opened lately, told to the desktop: in the menu of the program's entry, and among recent files."""

from __future__ import annotations

import contextlib
import xml.etree.ElementTree as ElementTree
from collections.abc import Sequence
from datetime import UTC, datetime
from pathlib import Path

from attentive_lens.core.files import replacing
from attentive_lens.desktop.entry import PROGRAM, entry, started_by
from attentive_lens.desktop.parts import ENTRY
from attentive_lens.desktop.placing import placed, shared_data

LIST = "recently-used.xbel"
BOOKMARK, MIME = (
    "http://www.freedesktop.org/standards/desktop-bookmarks",
    "http://www.freedesktop.org/standards/shared-mime-info",
)
OWNER = "http://freedesktop.org"
KIND = "inode/directory"
LARGEST = 16 << 20
"""Bytes of a list that is still read: no longer one is a list of recent files."""


def tell_recent(workspaces: Sequence[Path]) -> None:
    """Tell this user's desktop which workspaces were opened lately, the latest first.

    The menu is that of an entry that was put there by this program for this user; where there is none, or nothing can
    be written, the desktop is told nothing.
    """
    share = shared_data(for_all=False)
    with contextlib.suppress(OSError):
        if ENTRY in placed(share):
            text = entry(started_by(), workspaces)
            if (share / ENTRY).read_text("utf-8") != text:
                with replacing(share / ENTRY) as part:
                    part.write_text(text, "utf-8")
                    part.chmod(0o644)
        if workspaces and share.is_dir():
            _note_opened(share / LIST, workspaces[0])


def _note_opened(file: Path, folder: Path) -> None:
    """Put a folder on the list of recent files (Desktop Bookmark Specification); one that cannot be read is left."""
    for prefix, space in (("bookmark", BOOKMARK), ("mime", MIME)):
        ElementTree.register_namespace(prefix, space)
    root = ElementTree.Element("xbel", version="1.0")
    if file.exists():
        if file.stat().st_size > LARGEST:
            return
        try:
            root = ElementTree.parse(file).getroot()
        except (ElementTree.ParseError, ValueError):
            return
    now = datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%S.%fZ")
    address = folder.absolute().as_uri()
    own = next((each for each in root.iter("bookmark") if each.get("href") == address), None)
    if own is None:
        own = ElementTree.SubElement(root, "bookmark", href=address, added=now)
        ElementTree.SubElement(own, "title").text = folder.name
        about = ElementTree.SubElement(ElementTree.SubElement(own, "info"), "metadata", owner=OWNER)
        ElementTree.SubElement(about, f"{{{MIME}}}mime-type", type=KIND)
        ElementTree.SubElement(about, f"{{{BOOKMARK}}}applications")
    own.set("modified", now)
    own.set("visited", now)
    by = own.find(f"info/metadata/{{{BOOKMARK}}}applications")
    if by is not None:
        ours = next((each for each in by if each.get("name") == PROGRAM), None)
        count = int(ours.get("count", "0")) if ours is not None and ours.get("count", "0").isdecimal() else 0
        if ours is None:
            ours = ElementTree.SubElement(by, f"{{{BOOKMARK}}}application", name=PROGRAM, exec=f"'{PROGRAM} %f'")
        ours.set("modified", now)
        ours.set("count", str(count + 1))
    file.parent.mkdir(parents=True, exist_ok=True)
    with replacing(file) as part:
        ElementTree.ElementTree(root).write(part, encoding="UTF-8", xml_declaration=True)
        part.chmod(0o600)
