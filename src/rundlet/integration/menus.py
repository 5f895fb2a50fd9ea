"""Entries in the menus of file managers, each by the extension point that its handbook describes."""

from __future__ import annotations

import shlex
from xml.etree import ElementTree as ET

from rundlet.integration.icons import APP_ID

ENTRIES = (
    ("pack", "Pack These …", False),
    ("unpack-here", "Unpack Here", True),
    ("unpack", "Unpack Into …", True),
    ("check", "Check Archive", True),
)
"""What is done, what it is called, and whether it is for archives alone."""


def menu_files(command: str, run: str, types: tuple[str, ...]) -> dict[str, str]:
    """The files that go below a person's data, by their paths there.

    Args:
        command: the program.
        run: the same, quoted as desktop entries want it.
        types: the types of archives.
    """
    return {**_service_menus(run, types), **_actions(run, types), **_file_actions(run, types), **_scripts(command)}


def _service_menus(run: str, types: tuple[str, ...]) -> dict[str, str]:
    """Service menus: one for all files, one for archives."""
    found = {}
    for archives in (False, True):
        entries = [entry for entry in ENTRIES if entry[2] is archives]
        lines = [
            "[Desktop Entry]",
            "Type=Service",
            "X-KDE-ServiceTypes=KonqPopupMenu/Plugin",
            f"MimeType={';'.join(types) if archives else 'all/all'};",
            f"Actions={';'.join(name for name, _, _ in entries)};",
            "X-KDE-Submenu=Rundlet",
        ]
        for name, words, _ in entries:
            lines += ["", f"[Desktop Action {name}]", f"Name={words}", f"Icon={APP_ID}", f"Exec={run} --{name} %F"]
        found[f"kio/servicemenus/{APP_ID}-{'archives' if archives else 'files'}.desktop"] = "\n".join(lines) + "\n"
    return found


def _actions(run: str, types: tuple[str, ...]) -> dict[str, str]:
    """Actions, one file each."""
    found = {}
    for name, words, archives in ENTRIES:
        lines = [
            "[Nemo Action]",
            f"Name={words}",
            f"Comment={words}",
            f"Exec={run} --{name} %F",
            f"Icon-Name={APP_ID}",
            "Selection=notnone",
            "Extensions=any;" if not archives else f"Mimetypes={';'.join(types)};",
        ]
        found[f"nemo/actions/{APP_ID}-{name}.nemo_action"] = "\n".join(lines) + "\n"
    return found


def _file_actions(run: str, types: tuple[str, ...]) -> dict[str, str]:
    """Actions after the Desktop Entry Specification's extension for file managers."""
    found = {}
    for name, words, archives in ENTRIES:
        lines = [
            "[Desktop Entry]",
            "Type=Action",
            f"Name={words}",
            f"Icon={APP_ID}",
            "Profiles=all;",
            "",
            "[X-Action-Profile all]",
            f"MimeTypes={';'.join(types) if archives else 'all/all'};",
            f"Exec={run} --{name} %F",
        ]
        found[f"file-manager/actions/{APP_ID}-{name}.desktop"] = "\n".join(lines) + "\n"
    return found


def _scripts(command: str) -> dict[str, str]:
    """Scripts, which get the selected files as their arguments."""
    found = {}
    for name, words, _ in ENTRIES:
        text = f'#!/bin/sh\n# {words}\nexec {shlex.quote(command)} --{name} "$@"\n'
        found[f"nautilus/scripts/Rundlet: {words.removesuffix(' …')}"] = text
    return found


def with_custom_actions(content: bytes, command: str, *, there: bool) -> bytes:
    """A file of custom actions with ours among them, or without; all else in it stays.

    Args:
        content: the file; b"" where there is none yet.
        command: the program.

    Raises:
        ValueError: when it is no such file.
    """
    try:
        root = ET.fromstring(content or b"<actions/>")  # noqa: S314 - a file of the person's own
    except ET.ParseError as error:
        raise ValueError(str(error)) from error
    if root.tag != "actions":
        raise ValueError(root.tag)
    for action in list(root.iterfind("action")):
        if (action.findtext("unique-id") or "").startswith(f"{APP_ID}-"):
            root.remove(action)
    for name, words, archives in ENTRIES if there else ():
        action = ET.SubElement(root, "action")
        patterns = "*.zip;*.7z;*.tar;*.tar.*;*.tgz;*.txz;*.gz;*.bz2;*.xz;*.zst;*.jar;*.001" if archives else "*"
        facts = {
            "icon": APP_ID,
            "name": words,
            "unique-id": f"{APP_ID}-{name}",
            "command": f"{shlex.quote(command)} --{name} %F",
            "description": words,
            "patterns": patterns,
        }
        for tag, text in facts.items():
            ET.SubElement(action, tag).text = text
        kinds = (
            ("other-files",)
            if archives
            else ("directories", "audio-files", "image-files", "other-files", "text-files", "video-files")
        )
        for kind in kinds:
            ET.SubElement(action, kind)
    ET.indent(root)
    return bytes(ET.tostring(root, encoding="UTF-8", xml_declaration=True)) + b"\n"
