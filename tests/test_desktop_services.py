"""With the rest of the desktop, on a session bus of its own: one window for all, notifications, staying awake, the keyring."""

from __future__ import annotations

import hashlib
import os
import shlex
import shutil
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any
from urllib.parse import quote, unquote, urlsplit
from xml.etree import ElementTree as ET

import pytest
from jeepney import DBusAddress, MatchRule, message_bus, new_method_call
from jeepney.io.blocking import DBusConnection, Proxy, open_dbus_connection
from PySide6.QtCore import QMimeData, QUrl
from PySide6.QtGui import QColor, QGuiApplication, QImage

from rundlet.cli.main import main
from rundlet.core.formats.detect import by_id
from rundlet.core.model.format_info import WriteOptions
from rundlet.core.plans.pack_plan import plan_pack
from rundlet.core.work.packer import pack
from rundlet.desktop import desktop_services
from rundlet.desktop import window as window_module
from rundlet.desktop.pages.checks_page import ChecksTarget
from rundlet.desktop.shared_thumbnails import share_thumbnail, shared_thumbnail
from rundlet.desktop.window import Window
from rundlet.integration.bus_names import BUS_NAME, INTERFACE, OBJECT_PATH, open_bus, paths_of, uris
from rundlet.integration.forwarding import forward
from rundlet.integration.keyring import (
    KeyringProblem,
    delete_password,
    has_keyring,
    keep_password,
    kept_passwords,
    password_of,
)
from rundlet.integration.passphrases import WORDS, passphrase
from rundlet.integration.recent_files import note_recent, recent_list
from support import Raw, held, packed, raw_zip
from windows import CTRL, Settle, Stand, click

if TYPE_CHECKING:
    from pytestqt.qtbot import QtBot

PROGRAM = Path(sys.executable).with_name("rundlet")
MOCK = "org.freedesktop.DBus.Mock"
NOTIFICATIONS = ("org.freedesktop.Notifications", "/org/freedesktop/Notifications")
LOGIN = ("org.freedesktop.login1", "/org/freedesktop/login1")


def called(
    connection: DBusConnection, where: tuple[str, str], interface: str, method: str, signature: str = "", body: Any = ()
) -> Any:
    """What a method gives."""
    message = new_method_call(DBusAddress(where[1], where[0], interface), method, signature or None, body)
    answer = connection.send_and_get_reply(message, timeout=20)
    assert answer.header.message_type.name == "method_return", answer.body
    return answer.body[0] if answer.body else None


def _configured(folder: Path) -> Path:
    """What a bus is started with on which nothing is started by being called."""
    file = folder / "bus.conf"
    file.write_text(
        f"<busconfig><type>session</type><listen>unix:dir={folder}</listen><auth>EXTERNAL</auth>"
        '<policy context="default"><allow send_destination="*" eavesdrop="true"/><allow eavesdrop="true"/><allow own="*"/>'
        "</policy></busconfig>"
    )
    return file


@pytest.fixture
def bus(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> Iterator[DBusConnection]:
    """A session bus, which is the system's as well."""
    daemon = subprocess.Popen(
        ["dbus-daemon", f"--config-file={_configured(tmp_path)}", "--nofork", "--print-address"],
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
        text=True,
    )
    assert daemon.stdout is not None
    address = daemon.stdout.readline().strip()
    monkeypatch.setenv("DBUS_SESSION_BUS_ADDRESS", address)
    monkeypatch.setenv("DBUS_SYSTEM_BUS_ADDRESS", address)
    connection = open_dbus_connection(address)
    yield connection
    connection.close()
    daemon.terminate()
    daemon.wait()
    daemon.stdout.close()


def wait_for_name(connection: DBusConnection, name: str, *, there: bool = True) -> None:
    until = time.monotonic() + 60
    while bool(Proxy(message_bus, connection).NameHasOwner(name)[0]) is not there:
        assert time.monotonic() < until, name
        time.sleep(0.05)


@pytest.fixture
def mock(bus: DBusConnection) -> Iterator[Callable[[str, str], None]]:
    """Starts a mock of a service of the desktop."""
    started: list[subprocess.Popen[bytes]] = []

    def start(template: str, name: str) -> None:
        started.append(
            subprocess.Popen(["/usr/bin/python3", "-m", "dbusmock", "--template", template], stdout=subprocess.DEVNULL)
        )
        wait_for_name(bus, name)

    yield start
    for each in started:
        each.terminate()
        each.wait()


@pytest.fixture
def joined(window: Window, bus: DBusConnection, qtbot: QtBot) -> Window:
    """A window that is on the bus."""
    window.services.join()
    qtbot.waitUntil(lambda: window.services.owns_name, timeout=20_000)
    return window


def test_a_second_start_uses_the_first(
    joined: Window, home: Path, settle: Settle, stand: Stand, qtbot: QtBot, bus: DBusConnection
) -> None:
    """Files, archives and tasks go to the window that is open; with --new-window, or where it does not answer, they don't."""
    archive = packed(home, "zip")
    stand(home)
    workspace = joined.workspace

    def start(*words: str) -> int:
        child = subprocess.Popen([str(PROGRAM), *words], cwd=home)
        qtbot.waitUntil(lambda: child.poll() is not None, timeout=60_000)
        settle()
        return child.returncode

    assert start("x.zip") == 0
    assert workspace.place.archive == archive
    joined.window_actions["settings"].trigger()
    assert start("tree/a.txt", "tree/b.bin") == 0
    assert not joined.window_settings.is_shown and workspace.place.folder == home / "tree"
    assert {path.name for path in workspace.selector.paths()} == {"a.txt", "b.bin"}
    assert start("--check", "x.zip") == 0
    page = joined.target.page
    assert isinstance(page, ChecksTarget) and page.verdict.text() == "1 of 1 archive is intact."
    assert start() == 0 and start("nowhere") == 2
    here = (uris([str(home)]), {"activation-token": ("s", "t")})
    bus.send(new_method_call(DBusAddress(OBJECT_PATH, BUS_NAME, INTERFACE), "Open", "asa{sv}", here))
    answers: list[Any] = []
    qtbot.waitUntil(lambda: _received(bus, answers), timeout=20_000)
    settle()
    assert workspace.place.folder == home and "XDG_ACTIVATION_TOKEN" not in os.environ
    for method, signature, body in (
        ("Open", "s", ("x",)),
        ("ActivateAction", "sava{sv}", ("explode", [], {})),
        ("Explode", "", ()),
    ):
        message = new_method_call(DBusAddress(OBJECT_PATH, BUS_NAME, INTERFACE), method, signature or None, body)
        answers.clear()
        bus.send(message)
        qtbot.waitUntil(lambda: _received(bus, answers), timeout=20_000)
        assert answers[-1].header.message_type.name == "error"
    assert workspace.place.folder == home


def _received(bus: DBusConnection, answers: list[Any]) -> bool:
    try:
        message = bus.receive(timeout=0)
    except TimeoutError:
        return False
    if message.header.message_type.name in ("error", "method_return"):
        answers.append(message)
    return bool(answers)


def test_the_menus_of_file_managers(
    joined: Window, home: Path, settle: Settle, stand: Stand, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Each command that the menus have is run as a file manager would run it."""
    for name in ("data", "state", "config"):
        monkeypatch.setenv(f"XDG_{name.upper()}_HOME", str(home / ".local" / name))
    monkeypatch.setenv("PATH", f"{PROGRAM.parent}:{os.environ['PATH']}")
    assert main(["desktop", "install"]) == 0
    data = home / ".local" / "data"
    archive = packed(home, "zip")
    shutil.rmtree(home / "tree")
    commands: dict[str, set[tuple[str, ...]]] = {}
    for file in (*data.glob("kio/servicemenus/*"), *data.glob("nemo/actions/*"), *data.glob("file-manager/actions/*")):
        for line in file.read_text().splitlines():
            if line.startswith("Exec="):
                words = shlex.split(line.removeprefix("Exec="))
                commands.setdefault(words[1], set()).add(tuple(words))
    assert set(commands) == {"--pack", "--unpack", "--unpack-here", "--check"} and all(
        len(each) == 1 for each in commands.values()
    )
    scripts = sorted(data.glob("nautilus/scripts/*"))
    lines = [[word if word != "%F" else str(archive) for word in next(iter(each))] for each in commands.values()]

    def run(words: list[str]) -> None:
        child = subprocess.Popen(words, cwd=home)
        qtbot.waitUntil(lambda: child.poll() is not None, timeout=60_000)
        assert child.returncode == 0
        settle()

    for words in (*lines, *([str(script), str(archive)] for script in scripts)):
        stand(data)
        run(words)
        # The name of the script or the option alone: a folder on the way to them may be named anything.
        asked, page = (Path(words[0]).name if words[0] in map(str, scripts) else words[1]).lower(), joined.target.page
        if "here" in asked:
            qtbot.waitUntil((home / "tree" / "a.txt").exists, timeout=20_000)
            settle()
            shutil.rmtree(home / "tree")
        elif "check" in asked:
            assert isinstance(page, ChecksTarget)
        elif "unpack" in asked:
            assert joined.target.go.text() == "Unpack 1 archive"
        else:
            assert joined.target.go.text() == "Pack 1 item"


def test_no_bus_or_none_that_answers(
    window: Window, home: Path, monkeypatch: pytest.MonkeyPatch, qtbot: QtBot, settle: Settle
) -> None:
    listening = socket.socket(socket.AF_UNIX)
    listening.bind(f"\0rundlet-test-{os.getpid()}")
    listening.listen()
    thread = threading.Thread(target=_hang_up, args=(listening,), daemon=True)
    thread.start()
    for address in ("", "nonsense", f"unix:path={home}/nowhere", f"unix:abstract=rundlet-test-{os.getpid()}"):
        monkeypatch.setenv("DBUS_SESSION_BUS_ADDRESS", address)
        assert not forward(["x"]) and not has_keyring()
        window.services.join()
        settle()
    assert not window.services.owns_name
    with pytest.raises(KeyringProblem, match="can't be reached"):
        kept_passwords()
    listening.shutdown(socket.SHUT_RDWR)
    listening.close()
    thread.join()


def _hang_up(listening: socket.socket) -> None:
    """A bus that takes everybody and goes when it is greeted."""
    with suppress(OSError):
        while True:
            with listening.accept()[0] as caller:
                caller.recv(1024)
                caller.sendall(b"OK 0123\r\n")
                caller.recv(1024)


def test_the_window_goes_while_it_joins(
    window: Window, bus: DBusConnection, monkeypatch: pytest.MonkeyPatch, qtbot: QtBot
) -> None:
    """What it is given then is closed."""
    opened, may_go = threading.Event(), threading.Event()
    given: list[DBusConnection] = []

    def late() -> DBusConnection:
        given.append(open_bus())
        opened.set()
        may_go.wait(20)
        return given[0]

    monkeypatch.setattr(desktop_services, "open_bus", late)
    window.services.join()
    assert opened.wait(20)
    threading.Timer(0.2, may_go.set).start()
    window.close_now()
    qtbot.waitUntil(lambda: given[0].sock.fileno() < 0, timeout=20_000)


def test_the_bus_goes(
    joined: Window, stand: Stand, home: Path, settle: Settle, qtbot: QtBot, bus: DBusConnection
) -> None:
    lost: list[bool] = []
    assert joined.services.bus is not None
    joined.services.bus.lost.connect(lambda: lost.append(True))
    pid = Proxy(message_bus, bus).GetConnectionUnixProcessID("org.freedesktop.DBus")[0]
    os.kill(pid, 15)
    qtbot.waitUntil(lambda: bool(lost), timeout=20_000)
    stand(home)
    assert joined.workspace.place.folder == home and joined.services.bus is None


def test_jobs_are_told_and_undone(
    joined: Window, mock: Callable[[str, str], None], bus: DBusConnection, home: Path, settle: Settle, stand: Stand,
    monkeypatch: pytest.MonkeyPatch, qtbot: QtBot,
) -> None:  # fmt: skip
    """A long job: the computer stays awake, the launcher shows progress, and a notification undoes it at last."""
    mock("notification_daemon", NOTIFICATIONS[0])
    mock("logind", LOGIN[0])
    monkeypatch.setattr(desktop_services, "_LONG", 0.0)
    monkeypatch.setattr(desktop_services, "_STARTED", -1.0)
    shown: list[Path] = []
    monkeypatch.setattr(window_module, "show_in_file_manager", shown.append)
    joined.strip.show_wanted.connect(shown.append)
    rule = MatchRule(type="signal", interface="com.canonical.Unity.LauncherEntry")
    Proxy(message_bus, bus).AddMatch(rule)
    (home / "a").mkdir()
    (home / "a" / "large").write_bytes(os.urandom(60_000_000))
    stand(home)
    joined.services.in_front = lambda: False
    with bus.filter(rule, bufsize=1000) as updates:
        click(joined, "a")
        settle()
        joined.target.go.click()
        qtbot.waitUntil(
            lambda: bool(called(bus, LOGIN, "org.freedesktop.login1.Manager", "ListInhibitors")), timeout=30_000
        )
        what, who, why, mode, *_ = called(bus, LOGIN, "org.freedesktop.login1.Manager", "ListInhibitors")[0]
        assert (what, who, mode) == ("sleep:idle", "Rundlet", "block") and "Packing" in why
        settle()
        qtbot.waitUntil(
            lambda: not called(bus, LOGIN, "org.freedesktop.login1.Manager", "ListInhibitors"), timeout=30_000
        )
    assert updates and updates[0].body[0] == "application://rundlet.desktop"
    assert not updates[-1].body[1]["progress-visible"][1] and updates[0].body[1]["progress-visible"][1]
    qtbot.waitUntil(lambda: bool(called(bus, NOTIFICATIONS, MOCK, "GetMethodCalls", "s", ("Notify",))), timeout=30_000)
    notice = [value for _, value in called(bus, NOTIFICATIONS, MOCK, "GetMethodCalls", "s", ("Notify",))[-1][1]]
    assert "Packing" in notice[3] and "a.zip" in notice[4] and notice[5][2::2] == ["show", "undo"]

    def press(action: str) -> None:
        for member, signature, value in (("ActivationToken", "us", "t"), ("ActionInvoked", "us", action)):
            arguments = [("u", 1), ("s", value)]
            called(bus, NOTIFICATIONS, MOCK, "EmitSignal", "sssav", (NOTIFICATIONS[0], member, signature, arguments))

    press("show")
    qtbot.waitUntil(lambda: bool(shown), timeout=20_000)
    assert (home / "a.zip").exists()
    press("undo")
    qtbot.waitUntil(lambda: not (home / "a.zip").exists(), timeout=20_000)
    settle()
    press("default")
    joined.services.in_front = lambda: True
    count = len(called(bus, NOTIFICATIONS, MOCK, "GetMethodCalls", "s", ("Notify",)))
    click(joined, "a")
    settle()
    joined.target.go.click()
    settle()
    assert len(called(bus, NOTIFICATIONS, MOCK, "GetMethodCalls", "s", ("Notify",))) == count  # nobody looks elsewhere


@pytest.fixture
def keyring(bus: DBusConnection, tmp_path: Path) -> Iterator[None]:
    """A keyring that is open."""
    folder = tmp_path / "keyring"
    folder.mkdir(mode=0o700)
    env = os.environ | {"HOME": str(folder), "XDG_DATA_HOME": str(folder), "XDG_RUNTIME_DIR": str(folder)}
    daemon = subprocess.Popen(
        ["gnome-keyring-daemon", "--unlock", "--components=secrets", "--foreground"],
        stdin=subprocess.PIPE, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, env=env,
    )  # fmt: skip
    assert daemon.stdin is not None
    daemon.stdin.write(b"x")
    daemon.stdin.close()
    wait_for_name(bus, "org.freedesktop.secrets")
    yield
    daemon.terminate()
    daemon.wait()


@pytest.mark.skipif(shutil.which("gnome-keyring-daemon") is None, reason="there is no keyring here")
@pytest.mark.parametrize("fmt", ["zip", "7z"])
def test_the_keyring(
    window: Window, keyring: None, home: Path, settle: Settle, stand: Stand, qtbot: QtBot, fmt: str
) -> None:
    """A password is kept when that is asked for, opens its archive in another window's place, and is deleted in Settings."""
    (home / "a").write_text("content")
    archive = home / f"x.{fmt}"
    options = WriteOptions(1, password="wörd", hide_names=fmt == "7z")
    pack(plan_pack([home / "a"], target=archive, info=by_id(fmt).info, options=options))
    assert has_keyring() and kept_passwords() == [] and password_of(archive) is None
    stand(archive)
    window.workspace.unlock("wrong")
    settle()
    notice = window.source.notice
    assert "keyring" not in notice.words.text()
    window.workspace.unlock("wörd")
    qtbot.waitUntil(lambda: "in the desktop's keyring?" in notice.words.text(), timeout=20_000)
    assert kept_passwords() == []  # not before that is asked for
    notice.offers[0].click()
    qtbot.waitUntil(lambda: "is in the keyring now" in notice.words.text(), timeout=20_000)
    assert password_of(archive) == "wörd" and kept_passwords() == [archive]
    other = Window(home / ".other")
    other.show()
    other.begin([archive])
    qtbot.waitUntil(lambda: other.workspace.archive is not None and not other.workspace.needs_password, timeout=20_000)
    assert not other.source.notice.isVisible()
    other.close_now()
    other.deleteLater()
    keep_password(archive, "old")
    third = Window(home / ".third")
    third.show()
    third.begin([archive])
    field = third.how.unpack.lock
    qtbot.waitUntil(lambda: bool(field.words.text()), timeout=20_000)
    third.workspace.unlock("wörd")
    qtbot.waitUntil(lambda: "in the desktop's keyring?" in third.source.notice.words.text(), timeout=20_000)
    third.source.notice.offers[0].click()
    qtbot.waitUntil(lambda: password_of(archive) == "wörd", timeout=20_000)
    third.close_now()
    third.deleteLater()
    window.window_actions["settings"].trigger()
    view = window.window_settings
    qtbot.waitUntil(lambda: any("Delete a password" in button.text() for button in view.page.buttons), timeout=20_000)
    view.kept_choices()[0][1]()
    qtbot.waitUntil(lambda: not kept_passwords(), timeout=20_000)
    delete_password(archive)


@pytest.mark.skipif(shutil.which("gnome-keyring-daemon") is None, reason="there is no keyring here")
def test_a_new_lock_is_offered_to_the_keyring(
    window: Window, keyring: None, home: Path, settle: Settle, stand: Stand, qtbot: QtBot
) -> None:
    (home / "a").write_text("content")
    stand(home)
    click(window, "a")
    settle()
    options = window.how.pack.options
    options.fold.open()
    options.lock.click()
    options.lock_box.suggest.click()
    password = options.lock_box.first.text()
    assert len(password.split("-")) == WORDS and window.workspace.packing.form.password == password
    window.target.go.click()
    notice = window.source.notice
    qtbot.waitUntil(lambda: "in the desktop's keyring?" in notice.words.text(), timeout=20_000)
    notice.offers[0].click()
    qtbot.waitUntil(lambda: "is in the keyring now" in notice.words.text(), timeout=20_000)
    assert held(home / "a.zip", password)["a"] == b"content" and password_of(home / "a.zip") == password
    assert len({passphrase() for _ in range(50)}) == 50


@pytest.fixture
def screen(monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    """A real display, though nobody sees it."""
    read, write = os.pipe()
    command = ["Xvfb", "-displayfd", str(write), "-screen", "0", "1280x800x24", "-nolisten", "tcp"]
    running = subprocess.Popen(command, pass_fds=[write], stderr=subprocess.DEVNULL)
    os.close(write)
    with os.fdopen(read) as numbers:
        monkeypatch.setenv("DISPLAY", ":" + numbers.readline().strip())
    monkeypatch.setenv("QT_QPA_PLATFORM", "xcb")
    yield
    running.terminate()
    running.wait()


@pytest.mark.skipif(shutil.which("Xvfb") is None, reason="there is no virtual screen here")
def test_opened_by_the_desktop(
    bus: DBusConnection, screen: None, home: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """In a fresh home, after installing: each kind of archive opens with Rundlet, also by its name on the bus alone."""
    for name in ("data", "state", "cache", "config"):
        monkeypatch.setenv(f"XDG_{name.upper()}_HOME", str(home / name))
    monkeypatch.setenv("PATH", f"{PROGRAM.parent}:{os.environ['PATH']}")
    assert main(["desktop", "install"]) == 0
    archives = []
    for fmt in ("zip", "7z", "tar", "tar.gz", "tar.bz2", "tar.xz", "tar.zst"):
        (home / fmt).mkdir()
        archives.append(packed(home / fmt, fmt))
    (home / "y.zip.001").write_bytes(raw_zip([Raw(b"a")]))
    archives.append(home / "y.zip.001")
    shutil.copy(archives[0], home / "odd name & more.jar")
    archives.append(home / "odd name & more.jar")
    pids = set()
    for archive in archives:
        subprocess.run(["gio", "open", str(archive)], check=True, timeout=60)
        until = time.monotonic() + 60
        while str(archive) not in _recent(home / "data"):
            assert time.monotonic() < until, archive
            time.sleep(0.1)
        wait_for_name(bus, BUS_NAME)
        pids.add(Proxy(message_bus, bus).GetConnectionUnixProcessID(BUS_NAME)[0])
    assert len(pids) == 1  # the first one was used again
    os.kill(pids.pop(), 15)
    wait_for_name(bus, BUS_NAME, there=False)
    assert main(["desktop", "remove"]) == 0


def _recent(data: Path) -> set[str]:
    try:
        root = ET.parse(data / "recently-used.xbel").getroot()
    except (OSError, ET.ParseError):
        return set()
    return {unquote(urlsplit(each.get("href", "")).path) for each in root.iterfind("bookmark")}


def test_started_by_its_name_on_the_bus(home: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    for name in ("data", "state", "cache", "config"):
        monkeypatch.setenv(f"XDG_{name.upper()}_HOME", str(home / name))
    monkeypatch.setenv("PATH", f"{PROGRAM.parent}:{os.environ['PATH']}")
    assert main(["desktop", "install"]) == 0
    daemon = subprocess.Popen(
        ["dbus-daemon", "--session", "--nofork", "--print-address"],
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
        text=True,
    )
    assert daemon.stdout is not None
    try:
        with open_dbus_connection(daemon.stdout.readline().strip()) as connection:
            archive = packed(home, "zip")
            where = (BUS_NAME, OBJECT_PATH)
            called(connection, where, INTERFACE, "Open", "asa{sv}", (uris([str(archive)]), {}))
            until = time.monotonic() + 60
            while str(archive) not in _recent(home / "data"):
                assert time.monotonic() < until
                time.sleep(0.1)
            os.kill(Proxy(message_bus, connection).GetConnectionUnixProcessID(BUS_NAME)[0], 15)
            wait_for_name(connection, BUS_NAME, there=False)
    finally:
        daemon.terminate()
        daemon.wait()
        daemon.stdout.close()


def test_recent_files(tmp_path: Path) -> None:
    """What others wrote stays; a list that makes no sense is left alone; the newest is the last, and each is there once."""
    file = tmp_path / "recently-used.xbel"
    theirs = (
        '<?xml version="1.0"?><xbel version="1.0" xmlns:b="http://www.freedesktop.org/standards/desktop-bookmarks">'
        '<bookmark href="file:///x" added="then"><title>X</title><info><metadata owner="http://freedesktop.org">'
        "<b:groups><b:group>Kept</b:group></b:groups></metadata></info></bookmark></xbel>"
    )
    file.write_text(theirs)
    for name in ("ä b.zip", "c.7z", "ä b.zip"):
        assert note_recent(tmp_path / name, "application/zip", list_file=file)
    root = ET.parse(file).getroot()
    assert [unquote(each.get("href", "")).rpartition("/")[2] for each in root] == ["x", "c.7z", "ä b.zip"]
    assert root[0].findtext("title") == "X" and b"Kept" in file.read_bytes() and b'count="2"' in file.read_bytes()
    for broken in (b"", b"<xbel", b"<html/>", b'<!DOCTYPE x [<!ENTITY a "b">]><xbel/>'):
        file.write_bytes(broken)
        assert not note_recent(tmp_path / "x", "application/zip", list_file=file) and file.read_bytes() == broken
    assert recent_list().name == "recently-used.xbel"
    assert (
        paths_of(uris(["/a b/ä", "/c"])) == [Path("/a b/ä"), Path("/c")]
        and paths_of(["http://x/y", "file://other/z"]) == []
    )


def test_thumbnails_are_shared(
    window: Window, home: Path, settle: Settle, stand: Stand, monkeypatch: pytest.MonkeyPatch, qtbot: QtBot
) -> None:
    """Those of other programs are taken where they are of the file as it is now; ours are given to all."""
    monkeypatch.setenv("XDG_CACHE_HOME", str(home / "cache"))
    for name in ("a b'ä.png", "c.png"):
        image = QImage(600, 300, QImage.Format.Format_RGB32)
        image.fill(QColor("red"))
        assert image.save(str(home / name))
    stand(home)
    window.source.pages.show_as("thumbs")
    settle()
    folder = home / "cache" / "thumbnails" / "large"
    window.grab()
    qtbot.waitUntil(lambda: folder.exists() and len(list(folder.glob("*.png"))) == 2, timeout=20_000)
    settle()
    made = sorted(folder.iterdir())
    assert len(made) == 2 and all(path.stat().st_mode & 0o777 == 0o600 for path in made)
    file = home / "a b'ä.png"
    uri = "file://" + quote(str(file), safe="/!$&'()*+,;=:@-._~")
    theirs = home / "cache" / "thumbnails" / "large" / f"{hashlib.md5(uri.encode()).hexdigest()}.png"
    assert theirs in made
    kept = QImage(str(theirs))
    assert (kept.text("Thumb::URI"), kept.width(), kept.height()) == (uri, 256, 128)
    kept.fill(QColor("blue"))
    assert kept.save(str(theirs))
    found = shared_thumbnail(file)
    assert found is not None and found.pixelColor(5, 5).name() == "#0000ff"
    os.utime(file, (1, 1))
    assert shared_thumbnail(file) is None and shared_thumbnail(home / "nowhere.png") is None
    theirs.write_bytes(b"nonsense")
    assert shared_thumbnail(file) is None
    share_thumbnail(theirs, kept)
    assert len(list((home / "cache" / "thumbnails" / "large").iterdir())) == 2  # none of a small picture itself


def test_cut_and_copied_as_file_managers_do(window: Window, home: Path, settle: Settle, stand: Stand) -> None:
    (home / "from").mkdir()
    (home / "to").mkdir()
    for name in ("a", "b", "c"):
        (home / "from" / f"{name}.txt").write_text(name)
    stand(home / "from")
    click(window, "a.txt")
    click(window, "b.txt", CTRL)
    clipboard = QGuiApplication.clipboard()
    for action, word, mark in (("copy", b"copy", b"0"), ("cut", b"cut", b"1")):
        window.file_actions.actions[action].trigger()
        data = clipboard.mimeData()
        lines = bytes(data.data("x-special/gnome-copied-files").data()).split(b"\n")
        assert lines[0] == word and len(lines) == 3 and lines[1].startswith(b"file:///")
        assert bytes(data.data("application/x-kde-cutselection").data()) == mark
    stand(home / "to")
    window.file_actions.actions["paste"].trigger()
    settle()
    assert {path.name for path in (home / "to").iterdir()} == {"a.txt", "b.txt"} and not (
        home / "from" / "a.txt"
    ).exists()
    theirs = QMimeData()
    theirs.setUrls([QUrl.fromLocalFile(str(home / "from" / "c.txt"))])
    theirs.setData("x-special/gnome-copied-files", b"cut\nfile://" + bytes(home / "from" / "c.txt"))
    clipboard.setMimeData(theirs)
    window.file_actions.actions["paste"].trigger()
    settle()
    assert (home / "to" / "c.txt").exists() and not (home / "from" / "c.txt").exists()
