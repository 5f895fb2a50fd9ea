"""Builds a self-contained Debian package: the program, its Python packages, and those parts of Qt that it uses.

    python packaging/debian/build.py OUT_FOLDER

It is to be run with the Python of the system that the package is for, or one of the same minor version, as compiled packages
go with that. Everything lies in one private folder, an environment of the system's Python; nothing is written there at run
time, as the bytecode is in the package and is not checked against its sources.
"""

from __future__ import annotations

import compileall
import gzip
import hashlib
import os
import py_compile
import re
import shutil
import subprocess
import sys
import tempfile
from email.utils import formatdate
from pathlib import Path

HERE = Path(__file__).parent
ROOT = HERE.parent.parent
sys.path.insert(0, str(ROOT / "src"))

from rundlet.integration.files import all_files  # noqa: E402
from rundlet.integration.system_libraries import LIBRARIES  # noqa: E402

PRIVATE = Path("usr/lib/rundlet")
VERSION_HERE = f"{sys.version_info.major}.{sys.version_info.minor}"
NEXT_VERSION = f"{sys.version_info.major}.{sys.version_info.minor + 1}"
SITE = PRIVATE / "lib" / f"python{VERSION_HERE}" / "site-packages"

QT_MODULES = ("QtCore", "QtGui", "QtWidgets", "QtDBus", "QtSvg")
QT_PLUGINS = (
    "platforms/libqxcb.so",
    "platforms/libqwayland*.so",
    "platforms/libqoffscreen.so",
    "xcbglintegrations/libqxcb-*.so",
    "wayland-shell-integration/*.so",
    "wayland-decoration-client/*.so",
    "wayland-graphics-integration-client/libqt-plugin-wayland-egl.so",
    "iconengines/libqsvgicon.so",
    "imageformats/libqgif.so",
    "imageformats/libqic[no]*.so",
    "imageformats/libqjpeg.so",
    "imageformats/libqwebp.so",
    "imageformats/libqsvg.so",
    "platforminputcontexts/libibus*.so",
    "platforminputcontexts/libcompose*.so",
    "platformthemes/libqxdgdesktopportal.so",
)
"""What is loaded by name at run time; the libraries that these and the modules need are found by asking the loader."""

RENAMED = {"libglib2.0-0": "libglib2.0-0 | libglib2.0-0t64"}
"""Packages that have another name in later releases."""

UNUSED = (
    "bin",
    "rundlet/demo",
    "*.dist-info/RECORD",
    "*.dist-info/sboms",
    "pycparser*",
    "tqdm/completion.sh",
    *(f"numpy/{name}" for name in ("f2py", "distutils", "_pyinstaller")),
    "numpy/_core/*_tests*.so",
)
"""What is loaded when it is asked for alone, which the program never does; a test runs it as it is packed."""

DESCRIPTION = """\
Description: Pack, look into and unpack zip, 7z and tar archives
 Rundlet packs files and folders into archives, shows what is in an archive,
 and unpacks all or some of it. What will be there afterwards is shown before
 anything is done.
"""


def run(*words: str | Path) -> str:
    """Run a command and give what it prints."""
    return subprocess.run([str(word) for word in words], check=True, capture_output=True, text=True).stdout


def build(out: Path) -> Path:
    """Build the package; gives its file."""
    version = re.search(r'__version__ = "(.+)"', (ROOT / "src/rundlet/__init__.py").read_text())
    assert version is not None
    architecture = run("dpkg", "--print-architecture").strip()
    with tempfile.TemporaryDirectory() as made:
        stage = Path(made) / "stage"
        install(stage)
        prune(stage / SITE)
        compile_all(stage)
        desktop_files(stage)
        documents(stage, version[1])
        control(stage, version[1], architecture)
        for folder, folders, files in os.walk(stage):
            for name in folders:
                Path(folder, name).chmod(0o755)
            for name in files:
                path = Path(folder, name)
                if not path.is_symlink():
                    is_run = path.read_bytes()[:2] == b"#!" and (PRIVATE / "bin") in path.relative_to(stage).parents
                    path.chmod(0o755 if is_run or path.name == "postinst" else 0o644)
        out.mkdir(parents=True, exist_ok=True)
        package = out / f"rundlet_{version[1]}_{architecture}.deb"
        run("dpkg-deb", "--root-owner-group", "-Zxz", "--build", stage, package)
        size = sum(path.lstat().st_size for path in stage.rglob("*") if path.is_file())
        print(f"{package}: {package.stat().st_size / 1e6:.1f} MB, {size / 1e6:.1f} MB installed")  # noqa: T201
    return package


def pinned() -> list[str]:
    """The versions that are tested together."""
    return re.findall(r"^\S+==\S+", (ROOT / "constraints.txt").read_text("utf-8"), re.MULTILINE)


def numpy_wheel() -> Path:
    """NumPy without the library for matrices, which is as large as all else of it and has nothing to do here.

    Making it takes ten minutes, so it is kept in ``build``.
    """
    kept = ROOT / "build" / "wheels"
    wanted = next(line for line in pinned() if line.startswith("numpy=="))
    pattern = f"numpy-{wanted.partition('==')[2]}-cp{VERSION_HERE.replace('.', '')}-*.whl"
    if not list(kept.glob(pattern)):
        print("Building NumPy, which takes about ten minutes …")  # noqa: T201
        settings = [f"-Csetup-args=-D{name}" for name in ("allow-noblas=true", "blas=none", "lapack=none")]
        run(
            sys.executable,
            "-m",
            "pip",
            "wheel",
            "--quiet",
            "--no-deps",
            "--no-binary",
            "numpy",
            "-w",
            kept,
            *settings,
            wanted,
        )
    return next(iter(kept.glob(pattern)))


def install(stage: Path) -> None:
    """An environment of the system's Python with everything in it."""
    site = stage / SITE
    site.mkdir(parents=True)
    versions = stage.parent / "versions.txt"
    versions.write_text("\n".join(pinned()) + "\n")
    run(sys.executable, "-m", "pip", "install", "--quiet", "--no-compile", "--disable-pip-version-check", "--target", site,
        "--constraint", versions, numpy_wheel(), ROOT)  # fmt: skip
    binaries = stage / PRIVATE / "bin"
    binaries.mkdir()
    (binaries / "python3").symlink_to("/usr/bin/python3")
    (stage / PRIVATE / "pyvenv.cfg").write_text("home = /usr/bin\ninclude-system-site-packages = false\n")
    (binaries / "rundlet").write_text(
        f"#!/{PRIVATE}/bin/python3\nimport sys\n\nfrom rundlet.cli.main import main\n\nsys.exit(main())\n"
    )
    (stage / "usr/bin").mkdir(parents=True)
    (stage / "usr/bin/rundlet").symlink_to("../lib/rundlet/bin/rundlet")


def prune(site: Path) -> None:
    """Leave out what is not used: most of Qt, commands, tests, and what only compilers need."""
    for name in UNUSED:
        for path in sorted(site.glob(name)):
            shutil.rmtree(path) if path.is_dir() else path.unlink()
    for pattern in ("**/tests", "**/test", "**/include", "**/__pycache__"):
        for path in sorted(site.glob(pattern)):
            shutil.rmtree(path, ignore_errors=True)
    for pattern in (
        "**/*.pyi",
        "**/*.h",
        "**/*.pxd",
        "**/*.pyx",
        "**/*.c",
        "**/*.cpp",
        "**/*.a",
        "xkcdpass/static/[!e]*",
        "xkcdpass/static/eff_*",
    ):
        for path in sorted(site.glob(pattern)):
            if path.is_file():
                path.unlink()
    qt = site / "PySide6"
    plugins = qt / "Qt" / "plugins"
    wanted = {path for pattern in QT_PLUGINS for path in plugins.glob(pattern)}
    modules = {qt / f"{name}.abi3.so" for name in QT_MODULES}
    needed = wanted | modules | set(qt.glob("libpyside6.abi3*"))
    libraries = _needed(needed, site)
    for path in sorted(qt.rglob("*")):
        keep = path in needed or path in libraries or path.suffix == ".py" or path.name == "py.typed"
        if path.is_file() and not keep:
            path.unlink()
    for name in ("scripts", "support", "metatypes", "typesystems", "glue", "translations"):
        for path in sorted(qt.glob(f"**/{name}")):
            if path.is_dir() and name != "support":
                shutil.rmtree(path)
    for folder in sorted((path for path in qt.rglob("*") if path.is_dir()), reverse=True):
        if not any(folder.iterdir()):
            folder.rmdir()
    # Libraries that were made to find each other by other paths can't be stripped, but this one can.
    for path in site.glob("cryptography/**/*.so"):
        run("strip", "--strip-unneeded", path)


def _needed(files: set[Path], site: Path) -> set[Path]:
    """All libraries of ours that these files need."""
    found: set[Path] = set()
    for file in files:
        for line in run("ldd", file).splitlines():
            path = Path(line.partition("=>")[2].split("(")[0].strip())
            if path.is_relative_to(site):
                found |= {path, path.resolve()}
    return found


def compile_all(stage: Path) -> None:
    """Bytecode that is never written again, as nobody may write there."""
    compileall.compile_dir(
        stage / SITE,
        quiet=2,
        stripdir=str(stage),
        prependdir="/",
        invalidation_mode=py_compile.PycInvalidationMode.UNCHECKED_HASH,
        workers=0,
    )


def desktop_files(stage: Path) -> None:
    """All that makes it known to the desktop, in the system's folders."""
    for name, content in all_files("/usr/bin/rundlet").items():
        if name.startswith(("nautilus/", "file-manager/")):
            continue  # which are read from a person's own folders alone
        path = stage / "usr/share" / name
        content = content.replace(b"Exec=/usr/bin/rundlet", b"Exec=rundlet") if "dbus" not in name else content
        if name.startswith("man/"):
            path, content = path.with_name(f"{path.name}.gz"), gzip.compress(content, 9, mtime=0)
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(content)


def documents(stage: Path, version: str) -> None:
    """Its licenses, and those of all that comes with it; what has changed; what the checker is told."""
    folder = stage / "usr/share/doc/rundlet"
    folder.mkdir(parents=True)
    lines = ["Format: https://www.debian.org/doc/packaging-manuals/copyright-format/1.0/", "Upstream-Name: rundlet", ""]
    lines += ["Files: *", "Copyright: The Rundlet developers", "License: MIT", ""]
    license = (ROOT / "LICENSE").read_text("utf-8").splitlines()
    lines += ["License: MIT", *(f" {line}" if line.strip() else " ." for line in license), ""]
    lines += ["Comment: It comes with these packages, each under its own license:"]
    for info in sorted((stage / SITE).glob("*.dist-info")):
        facts = dict(
            line.split(": ", 1) for line in (info / "METADATA").read_text("utf-8").splitlines() if ": " in line[:30]
        )
        words = facts.get("License-Expression") or facts.get("License", "see its files") or "see its files"
        lines.append(f" {facts['Name']} {facts['Version']}: {words.splitlines()[0]}")
    (folder / "copyright").write_text("\n".join(lines) + "\n", "utf-8")
    entry = f"rundlet ({version}) unstable; urgency=medium\n\n  * See CHANGELOG.md of the project.\n\n"
    entry += f" -- The Rundlet developers <rundlet@rundlet.invalid>  {formatdate(_newest())}\n"
    (folder / "changelog.gz").write_bytes(gzip.compress(entry.encode(), 9, mtime=0))
    overrides = stage / "usr/share/lintian/overrides/rundlet"
    overrides.parent.mkdir(parents=True)
    shutil.copy(HERE / "lintian-overrides", overrides)


def _newest() -> float:
    return max(path.stat().st_mtime for path in (ROOT / "src").rglob("*.py"))


def control(stage: Path, version: str, architecture: str) -> None:
    """What the package manager is told."""
    folder = stage / "DEBIAN"
    folder.mkdir()
    kib = sum(path.lstat().st_size for path in stage.rglob("*") if path.is_file()) // 1024
    depends = [
        f"python3 (>= {VERSION_HERE}), python3 (<< {NEXT_VERSION})",
        *("libc6", "libstdc++6", "zlib1g"),
        *(RENAMED.get(library.package, library.package) for library in LIBRARIES),
    ]
    (folder / "control").write_text(
        f"Package: rundlet\nVersion: {version}\nArchitecture: {architecture}\n"
        "Maintainer: The Rundlet developers <rundlet@rundlet.invalid>\n"
        f"Installed-Size: {kib}\nDepends: {', '.join(depends)}\n"
        "Recommends: shared-mime-info, desktop-file-utils, fonts-noto-core\n"
        f"Section: utils\nPriority: optional\n{DESCRIPTION}"
    )
    sums = []
    for path in sorted(stage.rglob("*")):
        if path.is_file() and not path.is_symlink() and folder not in path.parents:
            with path.open("rb") as file:
                sums.append(f"{hashlib.file_digest(file, 'md5').hexdigest()}  {path.relative_to(stage)}")
    (folder / "md5sums").write_text("\n".join(sums) + "\n")


if __name__ == "__main__":
    build(Path(sys.argv[1]))
