"""The files that make Rundlet known to a desktop, each made from what the program knows of itself.

They follow the open conventions of the desktop: Desktop Entry Specification 1.4, Shared MIME-info Database 0.21, Icon Theme
Specification 0.13 and AppStream 1.0.
"""

from __future__ import annotations

import shutil
from xml.sax.saxutils import escape

from rundlet import ADDRESS, __version__
from rundlet.integration.archive_types import MIME_TYPES, PART_TYPE, Part
from rundlet.integration.bus_names import BUS_NAME
from rundlet.integration.command_line import DATE, completions, man_pages
from rundlet.integration.icons import APP_ID, PIXELS, icon_path, pixel_icon
from rundlet.integration.menus import menu_files

_SUMMARY = "Pack, look into and unpack archives"
_ABOUT = (
    "Rundlet packs files and folders into zip, 7z and tar archives, shows what is in an archive, and unpacks all or some of it. "
    "What will be there afterwards is shown before anything is done."
)
_POINTS = (
    "Every format and level is tried on a sample first, so that size and time are known beforehand.",
    "Archives can be changed like folders, and are replaced in one step or not at all.",
    "Archives are checked, compared with folders, and what is intact in a damaged one is saved.",
    "Nothing goes to the trash that was not proven to be in the archive.",
)
PICTURES = (
    ("pack", "Packing: what will be made is seen before"),
    ("inside", "What is in an archive"),
    ("unpack", "Unpacking: where everything will land"),
    ("check", "Checking each file of an archive"),
    ("compare", "Comparing an archive with its folder"),
    ("pack-dark", "In dark"),
)
"""The pictures that software catalogs show, by their names in ``docs/screenshots``, and what is under each."""
_ACTIONS = (("pack", "Pack Files"), ("unpack", "Unpack Archives"), ("check", "Check Archives"))


def desktop_entry(command: str) -> str:
    """The entry for the menu.

    Args:
        command: the program, by its whole path where it is in no folder of programs.
    """
    run = _quoted(command)
    lines = [
        "[Desktop Entry]",
        "Type=Application",
        "Version=1.4",
        "Name=Rundlet",
        "GenericName=Packing and Unpacking",
        f"Comment={_SUMMARY}",
        f"Exec={run} %F",
        f"Icon={APP_ID}",
        "Terminal=false",
        "StartupNotify=true",
        f"StartupWMClass={APP_ID}",
        "Categories=Utility;Archiving;Compression;",
        "Keywords=archive;zip;7z;tar;compress;pack;unpack;extract;",
        f"MimeType={';'.join(MIME_TYPES)};",
        f"Actions={';'.join(name for name, _ in _ACTIONS)};",
    ]
    for name, words in _ACTIONS:
        lines += ["", f"[Desktop Action {name}]", f"Name={words}", f"Exec={run} --{name} %F"]
    return "\n".join(lines) + "\n"


def _quoted(command: str) -> str:
    """A program as an entry names it ("The Exec key" of the description)."""
    if all(character.isalnum() or character in "/._-+" for character in command):
        return command
    inner = command.replace("\\", "\\\\").replace('"', '\\"').replace("`", "\\`").replace("$", "\\$")
    return '"' + inner.replace("\\", "\\\\").replace("%", "%%") + '"'


def bus_service(command: str) -> str:
    """What starts it for whoever calls it on the session bus."""
    whole = command if command.startswith("/") else shutil.which(command) or f"/usr/bin/{command}"
    return f"[D-BUS Service]\nName={BUS_NAME}\nExec={_quoted(whole)} --service\n"


def mime_package() -> str:
    """What the shared database is to know besides: the first parts of archives and files that were split."""
    return f"""<?xml version="1.0" encoding="UTF-8"?>
<mime-info xmlns="http://www.freedesktop.org/standards/shared-mime-info">
  <mime-type type="{PART_TYPE}">
    <comment>Part of an archive</comment>
    <icon name="{APP_ID}"/>
    <glob pattern="*.001"/>
    <glob pattern="*.z01"/>
  </mime-type>
</mime-info>
"""


def metainfo(address: str = "") -> str:
    """What software catalogs show.

    Args:
        address: where the project's files are to be had, from where they take the pictures; "" where it has no such place.
    """
    points = "\n".join(f"      <li>{escape(point)}</li>" for point in _POINTS)
    return f"""<?xml version="1.0" encoding="UTF-8"?>
<component type="desktop-application">
  <id>{APP_ID}</id>
  <metadata_license>MIT</metadata_license>
  <project_license>MIT</project_license>
  <name>Rundlet</name>
  <summary>{_SUMMARY}</summary>
  <description>
    <p>{escape(_ABOUT)}</p>
    <ul>
{points}
    </ul>
  </description>
{_on_the_web(address.rstrip("/"))}  <launchable type="desktop-id">{APP_ID}.desktop</launchable>
  <icon type="stock">{APP_ID}</icon>
  <developer>
    <name>The Rundlet developers</name>
  </developer>
  <categories>
    <category>Utility</category>
    <category>Archiving</category>
  </categories>
  <provides>
    <binary>{APP_ID}</binary>
  </provides>
  <content_rating type="oars-1.1"/>
  <releases>
    <release version="{__version__}" date="{DATE}" type="development"/>
  </releases>
</component>
"""


_FOLDERS = {
    Part.FILE_MANAGERS: ("kio", "nemo", "nautilus", "file-manager"),
    Part.COMMAND_LINE: ("man", "bash-completion", "fish", "zsh"),
}


def part_of(name: str) -> Part:
    """To which part a file belongs, by its path below the folder of a person's data."""
    folder = name.partition("/")[0]
    return next((part for part, folders in _FOLDERS.items() if folder in folders), Part.MENU)


def _on_the_web(address: str) -> str:
    """The project's page, and its pictures with a line under each; the first is the one that is shown alone."""
    if not address:
        return ""
    shown = "\n".join(
        f"""    <screenshot{' type="default"' if not number else ""}>
      <caption>{escape(words)}</caption>
      <image>{escape(address)}/docs/screenshots/{name}.png</image>
    </screenshot>"""
        for number, (name, words) in enumerate(PICTURES)
    )
    return f"""  <url type="homepage">{escape(address)}</url>
  <screenshots>
{shown}
  </screenshots>
"""


def all_files(command: str) -> dict[str, bytes]:
    """Every file, by its path below the folder of a person's data.

    Args:
        command: as in :func:`desktop_entry`.
    """
    texts = {
        f"applications/{APP_ID}.desktop": desktop_entry(command),
        f"mime/packages/{APP_ID}.xml": mime_package(),
        f"dbus-1/services/{BUS_NAME}.service": bus_service(command),
        f"metainfo/{APP_ID}.metainfo.xml": metainfo(ADDRESS),
        **menu_files(command, _quoted(command), MIME_TYPES),
        **completions(),
        **man_pages(),
    }
    found = {path: text.encode() for path, text in texts.items()}
    found[f"icons/hicolor/scalable/apps/{APP_ID}.svg"] = icon_path().read_bytes()
    found[f"icons/hicolor/symbolic/apps/{APP_ID}-symbolic.svg"] = icon_path(f"{APP_ID}-symbolic").read_bytes()
    for side in PIXELS:
        found[f"icons/hicolor/{side}x{side}/apps/{APP_ID}.png"] = pixel_icon(side).read_bytes()
    return found
