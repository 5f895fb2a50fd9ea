"""At home on the desktop: what is installed is valid, is found, starts Rundlet, and goes without a trace."""

from __future__ import annotations

import configparser
import errno
import json
import shlex
import shutil
import subprocess
import sys
from pathlib import Path
from typing import TYPE_CHECKING
from xml.etree import ElementTree as ET

import pytest
from PySide6.QtCore import QXmlStreamReader
from PySide6.QtGui import QImage, QPainter
from PySide6.QtSvg import QSvgRenderer

from rundlet.cli.main import VERBS, main
from rundlet.core.errors import FileProblem
from rundlet.core.formats.detect import WRITABLE
from rundlet.desktop.pages.checks_page import ChecksTarget
from rundlet.desktop.pages.pack_target import PackTarget
from rundlet.integration.archive_types import KINDS, MIME_TYPES, Part
from rundlet.integration.default_programs import has_entry, opens_with_rundlet, set_opened
from rundlet.integration.files import all_files, desktop_entry, metainfo, part_of
from rundlet.integration.icons import PIXELS, icon_path, pixel_icon
from rundlet.integration.menus import ENTRIES
from support import packed

if TYPE_CHECKING:
    from rundlet.desktop.window import Window
    from windows import Settle


ROOT = Path(__file__).parent.parent


@pytest.fixture
def data(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A home with nothing in it, and the folder of a person's data in it."""
    for variable, folder in (("XDG_DATA_HOME", "share"), ("XDG_STATE_HOME", "state"), ("XDG_CONFIG_HOME", "config")):
        monkeypatch.setenv(variable, str(tmp_path / folder))
    return tmp_path / "share"


def everything(folder: Path) -> list[str]:
    return sorted(str(path.relative_to(folder)) for path in folder.rglob("*")) if folder.exists() else []


def test_installed_and_removed_without_a_trace(data: Path, capsys: pytest.CaptureFixture[str]) -> None:
    assert main(["desktop", "status"]) == 1 and "is missing" in capsys.readouterr().out
    assert main(["desktop", "install"]) == 0
    for name in all_files("rundlet"):
        assert (data / name).is_file()
    capsys.readouterr()
    assert main(["desktop", "status", "--json"]) == 0
    assert {each["presence"] for each in json.loads(capsys.readouterr().out)["result"]} == {"there"}
    assert main(["desktop", "install"]) == 0  # once more does no harm
    assert main(["desktop", "remove"]) == 0
    assert everything(data) == [] and everything(data.parent / "state") == []
    assert main(["desktop", "remove"]) == 0


def test_part_by_part(data: Path, capsys: pytest.CaptureFixture[str]) -> None:
    """Each part comes and goes by itself, and the others stay as they are."""
    parts = {part: {name for name in all_files("rundlet") if part_of(name) is part} for part in Part}
    assert all(parts.values())

    def files() -> set[str]:
        return {name for name in everything(data) if name in set().union(*parts.values())}

    for part in Part:
        assert main(["desktop", "install", "--part", part]) == 0 and files() == parts[part]
        assert main(["desktop", "status", "--part", part]) == 0 and main(["desktop", "status"]) == 1
        others = [word for other in Part if other is not part for word in ("--part", other)]
        assert main(["desktop", "remove", *others]) == 0 and files() == parts[part]
        assert main(["desktop", "install"]) == 0
        assert main(["desktop", "remove", "--part", part]) == 0
        assert files() == set().union(*parts.values()) - parts[part]
        assert main(["desktop", "remove"]) == 0 and everything(data) == [] and everything(data.parent / "state") == []
    assert main(["desktop", "install", "--part", "nothing"]) == 2


def test_what_opens_archives(data: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Rundlet comes before what was chosen, and what was chosen comes back; all else in the file stays as it is."""
    file = data.parent / "config" / "mimeapps.list"
    zip_types, tar_types = KINDS[0][1], KINDS[2][1]
    assert not has_entry() and not opens_with_rundlet(zip_types)
    set_opened(zip_types, opens=False)
    assert not file.exists()
    assert main(["desktop", "install", "--part", "menu"]) == 0 and has_entry()
    for kind, types in KINDS:
        set_opened(types, opens=True)
        assert opens_with_rundlet(types), kind
    assert main(["desktop", "remove"]) == 0 and not file.exists()  # nobody else has written anything into it
    theirs = (
        "# mine\n[Added Associations]\napplication/zip=a.desktop;\n\n[Default Applications]\ntext/plain=b.desktop\n"
        "application/zip=c.desktop;d.desktop;\napplication/x-tar = e.desktop\n\n[Removed Associations]\n"
        "application/zip=f.desktop;rundlet.desktop;\n"
    )
    file.write_text(theirs)
    set_opened(zip_types, opens=True)
    set_opened(zip_types, opens=True)
    assert "application/zip=rundlet.desktop;c.desktop;d.desktop;\n" in file.read_text() and opens_with_rundlet(
        zip_types
    )
    assert "application/zip=f.desktop;\n" in file.read_text() and not opens_with_rundlet(tar_types)
    set_opened(tar_types, opens=True)
    parsed = configparser.ConfigParser(delimiters="=", strict=True)
    parsed.read_string(file.read_text())
    assert parsed["Default Applications"]["application/x-tar"] == "rundlet.desktop;e.desktop;"
    assert set(parsed["Default Applications"]) == {"text/plain", "application/zip", *tar_types}
    set_opened((*zip_types, *tar_types), opens=False)
    back = theirs.replace(";rundlet.desktop;", ";").replace("x-tar = e.desktop", "x-tar=e.desktop;")
    assert file.read_text() == back and not opens_with_rundlet(zip_types)
    kept = data.parent / "dotfiles"
    file.rename(kept)
    file.symlink_to(kept)
    set_opened(zip_types, opens=True)
    assert file.is_symlink() and "rundlet" in kept.read_text()
    kept.write_bytes(b"[Default Applications]\ntext/x-\xe9=a.desktop\n")
    set_opened(zip_types, opens=True)
    assert b"text/x-\xe9=a.desktop\n" in kept.read_bytes() and opens_with_rundlet(zip_types)
    before = kept.read_bytes()

    def refused(*_: object, **__: object) -> str:
        raise PermissionError(errno.EACCES, "no")

    with monkeypatch.context() as unreadable:  # it is there and can't be read, so it is not written anew either
        unreadable.setattr(Path, "read_text", refused)
        with pytest.raises(FileProblem):
            set_opened(tar_types, opens=True)
        assert not opens_with_rundlet(zip_types)
    assert kept.read_bytes() == before
    if gio := shutil.which("gio"):
        assert main(["desktop", "install"]) == 0
        said = subprocess.run([gio, "mime", "application/zip"], capture_output=True, text=True, check=True).stdout
        assert said.splitlines()[0].endswith("rundlet.desktop")


def test_the_icon_in_pixels_is_the_drawing() -> None:
    renderer = QSvgRenderer(str(icon_path()))
    for side in PIXELS:
        kept = QImage(str(pixel_icon(side)))
        drawn = QImage(side, side, QImage.Format.Format_ARGB32)
        drawn.fill(0)
        painter = QPainter(drawn)
        renderer.render(painter)
        painter.end()
        assert kept.convertToFormat(QImage.Format.Format_ARGB32) == drawn, "run scripts/make_icons.py"
        assert all_files("rundlet")[f"icons/hicolor/{side}x{side}/apps/rundlet.png"] == pixel_icon(side).read_bytes()


def test_files_for_packages(data: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    assert main(["desktop", "files"]) == 2
    assert main(["desktop", "files", "--into", str(tmp_path / "share2")]) == 0
    assert {name for name in everything(tmp_path / "share2") if (tmp_path / "share2" / name).is_file()} == set(
        all_files("rundlet")
    )


def test_custom_actions_among_those_of_others(data: Path) -> None:
    """A file manager that keeps all of them in one file: ours come and go, the others stay; what is no such file is left."""
    file = data.parent / "config" / "Thunar" / "uca.xml"
    assert main(["desktop", "install"]) == 0 and not file.parent.exists()  # where it is not used, nothing is made
    file.parent.mkdir(parents=True)
    theirs = "<actions><action><name>Mine</name><unique-id>1-2</unique-id><command>x %f</command></action></actions>"
    file.write_text(theirs)
    for _ in range(2):
        assert main(["desktop", "install"]) == 0
        names = [each.findtext("name") for each in ET.parse(file).getroot()]
        assert names == ["Mine", *(words for _, words, _ in ENTRIES)]
        assert all(
            shutil.which(shlex.split(each.findtext("command") or "")[0]) for each in ET.parse(file).getroot()[1:]
        )
    assert main(["desktop", "remove"]) == 0
    assert [each.findtext("name") for each in ET.parse(file).getroot()] == ["Mine"]
    for broken in ("<actions", "<other/>"):
        file.write_text(broken)
        assert main(["desktop", "install"]) == 0 and main(["desktop", "remove"]) == 0
        assert file.read_text() == broken


def test_what_others_put_there_stays(data: Path, capsys: pytest.CaptureFixture[str]) -> None:
    mine = data / "applications" / "mine.desktop"
    mine.parent.mkdir(parents=True)
    mine.write_text("[Desktop Entry]\nType=Application\nName=Mine\nExec=true\n")
    theirs = data / "mime" / "packages" / "rundlet.xml"
    theirs.parent.mkdir(parents=True)
    theirs.write_text("<!-- written by hand -->")
    assert main(["desktop", "install"]) == 1
    assert "rundlet.xml: is somebody else's" in capsys.readouterr().out
    entry = data / "applications" / "rundlet.desktop"
    entry.write_text(entry.read_text() + "X-Changed=true\n")
    assert main(["desktop", "remove"]) == 1
    assert mine.exists() and "X-Changed" in entry.read_text() and theirs.read_text() == "<!-- written by hand -->"
    left = {name for name in everything(data) if not name.endswith(".cache")}
    assert {"applications/mine.desktop", "applications/rundlet.desktop", "mime/packages/rundlet.xml"} <= left
    assert not any("rundlet.1" in name or name.startswith("icons") for name in left)


@pytest.mark.parametrize(
    ("command", "written"),
    [
        ("rundlet", "Exec=rundlet %F"),
        ("/home/a b/bin/rundlet", 'Exec="/home/a b/bin/rundlet" %F'),
        ("/odd/100%/$x/rundlet", 'Exec="/odd/100%%/\\\\$x/rundlet" %F'),
    ],
)
def test_the_entry(command: str, written: str) -> None:
    text = desktop_entry(command)
    assert written in text
    entry = configparser.ConfigParser(interpolation=None, strict=True)
    entry.optionxform = str  # type: ignore[assignment, method-assign]
    entry.read_string(text)
    main_group = entry["Desktop Entry"]
    for action in main_group["Actions"].strip(";").split(";"):
        assert f"--{action} %F" in entry[f"Desktop Action {action}"]["Exec"]
    assert main_group["MimeType"].strip(";").split(";") == list(MIME_TYPES)


def test_all_that_is_read_is_opened_with_it(tmp_path: Path) -> None:
    """Each format is of a type that the entry names, by the desktop's own database."""
    from PySide6.QtCore import QMimeDatabase

    database = QMimeDatabase()
    for known in WRITABLE:
        (tmp_path / known.info.id).mkdir()
        kind = database.mimeTypeForFile(str(packed(tmp_path / known.info.id, known.info.id)))
        assert {kind.name(), *kind.aliases(), *kind.allAncestors()} & set(MIME_TYPES), known.info.id


def test_pictures_for_software_catalogs(tmp_path: Path) -> None:
    """Where the project has a place on the web, its page and its pictures are named, and each of these is there."""
    file, web = tmp_path / "rundlet.metainfo.xml", "https://rundlet.example/files/"
    file.write_text(metainfo(web))
    images = [str(image.text) for image in ET.parse(file).iter("image")]
    assert len(images) > 3 and all((ROOT / image.removeprefix(web)).is_file() for image in images)
    assert "screenshot" not in metainfo()
    if shutil.which("appstreamcli") is None:
        pytest.skip("appstreamcli is not there")
    words = ["appstreamcli", "validate", "--no-net", "--override=cid-desktopapp-is-not-rdns=info", str(file)]
    said = subprocess.run(words, capture_output=True, text=True, check=False)
    assert said.returncode == 0, said.stdout


@pytest.mark.parametrize(
    ("tool", "words", "names"),
    [
        # The project has no domain of its own that its name could begin with, and no place on the web yet.
        ("desktop-file-validate", [], ["applications/rundlet.desktop"]),
        (
            "appstreamcli",
            ["validate", "--no-net", "--override=cid-desktopapp-is-not-rdns=info,url-homepage-missing=info"],
            ["metainfo/rundlet.metainfo.xml"],
        ),
        ("xmllint", ["--noout"], ["mime/packages/rundlet.xml", "icons/hicolor/scalable/apps/rundlet.svg"]),
        ("bash", ["-n"], ["bash-completion/completions/rundlet"]),
        ("shellcheck", [], ["bash-completion/completions/rundlet"]),
        ("zsh", ["-n"], ["zsh/site-functions/_rundlet"]),
        ("fish", ["--no-execute"], ["fish/vendor_completions.d/rundlet.fish"]),
        ("mandoc", ["-T", "lint", "-W", "warning"], [f"man/man1/rundlet-{verb}.1" for verb in VERBS]),
    ],
)
def test_their_own_checkers_accept_them(tmp_path: Path, tool: str, words: list[str], names: list[str]) -> None:
    found = shutil.which(tool)
    if found is None:
        pytest.skip(f"{tool} is not here")
    files = all_files("rundlet")
    for name in names:
        path = tmp_path / Path(name).name
        path.write_bytes(files[name])
        done = subprocess.run([found, *words, str(path)], capture_output=True, text=True, check=False)
        if "not recognized" in done.stderr:  # an earlier version, which does not miss that either
            known = [word.replace(",url-homepage-missing=info", "") for word in words]
            done = subprocess.run([found, *known, str(path)], capture_output=True, text=True, check=False)
        assert done.returncode == 0, (name, done.stdout, done.stderr)


def test_every_file_is_well_made() -> None:
    files = all_files("rundlet")
    for name, content in files.items():
        if name.endswith((".xml", ".svg")):
            document = QXmlStreamReader(content.decode())
            while not document.atEnd():
                document.readNext()
            assert not document.hasError(), name
    for verb in VERBS:
        page = files[f"man/man1/rundlet-{verb}.1"].decode()
        assert (
            ".Sh NAME" in page
            and ".Sh EXIT STATUS" in page
            and all(line.startswith((".", "\\&")) or not line.startswith("'") for line in page.splitlines())
        )
        for shell in ("bash-completion/completions/rundlet", "fish/vendor_completions.d/rundlet.fish"):
            assert verb in files[shell].decode()


def test_completions_complete(tmp_path: Path) -> None:
    script = tmp_path / "rundlet"
    script.write_bytes(all_files("rundlet")["bash-completion/completions/rundlet"])

    def completed(*words: str) -> set[str]:
        line = " ".join(f"'{word}'" for word in words)
        run = f". '{script}'; COMP_WORDS=({line}); COMP_CWORD={len(words) - 1}; _rundlet; printf '%s\\n' \"${{COMPREPLY[@]}}\""
        return set(
            subprocess.run(["bash", "-c", run], capture_output=True, text=True, check=True, cwd=tmp_path).stdout.split()
        )

    assert completed("rundlet", "sal") == {"salvage"}
    assert "--certain" in completed("rundlet", "compare", "--c")
    assert "rundlet" in completed("rundlet", "pack", "run")


@pytest.mark.parametrize("task", ["pack", "check", "unpack"])
def test_opened_for_a_task(window: Window, settle: Settle, home: Path, task: str) -> None:
    """The menus of the desktop open the window with the files selected and the task chosen."""
    archive = packed(home, "zip")
    window.begin([archive], task)
    settle()
    assert window.workspace.selector.paths() == (archive,)
    if task == "pack":
        assert isinstance(window.target.page, PackTarget) and window.target.go.text() == "Pack 1 item"
    elif task == "check":
        page = window.target.page
        assert isinstance(page, ChecksTarget) and page.verdict.text() == "1 of 1 archive is intact."
    else:
        assert window.target.go.text() == "Unpack 1 archive"


def test_what_can_not_be_selected_is_not_begun_later(window: Window, settle: Settle, home: Path) -> None:
    (home / "in").mkdir()
    window.begin([home / "x.zip"], "unpack-here")  # which comes later
    settle()
    archive = packed(home, "zip")
    hidden = archive.with_name(".x.zip")
    shutil.copy(archive, hidden)
    window.workspace.choose([archive])
    settle()
    assert window.workspace.selector.paths() == (archive,)
    window.begin([hidden], "unpack-here")  # which is not shown
    settle()
    window.begin([home / "in"])
    settle()
    window.workspace.show_hidden = True
    settle()
    window.workspace.choose([hidden])
    settle()
    assert window.workspace.selector.paths() == (hidden,)
    assert not window.jobs.running and not window.history.journal.records()


def test_as_a_program(tmp_path: Path) -> None:
    program = Path(sys.executable).with_name("rundlet")
    words = [str(program), "--check", str(tmp_path / "nowhere.zip")]
    done = subprocess.run(words, capture_output=True, text=True, check=False)
    assert done.returncode == 2 and "nowhere.zip" in done.stderr
