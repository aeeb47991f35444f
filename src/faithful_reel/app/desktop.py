"""Installed like an application: menu entry, icons, file types, metadata and man page, in place for one user, and away again.

References
----------
freedesktop.org: Desktop Entry Specification 1.4, Icon Theme Specification 0.13, Shared MIME-info Specification 0.22,
XDG Base Directory Specification 0.8; AppStream 1.0, section 2.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import time
from collections.abc import Iterator
from dataclasses import dataclass
from importlib import resources
from pathlib import Path
from typing import Any

import typer

from faithful_reel import __version__
from faithful_reel.core.errors import StoreProblem

ID = "org.faithfulreel.FaithfulReel"
SIZES = (16, 22, 24, 32, 48, 64, 128, 256, 512)
MARK = "# made by faithful-reel install"
"""Stands in the launcher, so that no file of somebody else is replaced or removed."""


@dataclass(frozen=True, slots=True)
class Homes:
    """Where a user's files of an application go."""

    data: Path
    programs: Path

    @classmethod
    def of_user(cls) -> Homes:
        """As the XDG Base Directory Specification says."""
        data = os.environ.get("XDG_DATA_HOME", "")
        return cls(Path(data) if data.startswith("/") else Path.home() / ".local/share", Path.home() / ".local/bin")


def _asset(name: str) -> bytes:
    return (resources.files("faithful_reel") / "assets" / "desktop" / name).read_bytes()


def icon_png(size: int) -> bytes:
    """The icon as PNG, `size` pixels square."""
    from PyQt6.QtCore import QBuffer, QByteArray
    from PyQt6.QtGui import QImage, QPainter
    from PyQt6.QtSvg import QSvgRenderer

    image = QImage(size, size, QImage.Format.Format_ARGB32)
    image.fill(0)
    painter = QPainter(image)
    QSvgRenderer(QByteArray(_asset("icons/scalable.svg"))).render(painter)
    painter.end()
    buffer = QBuffer()
    buffer.open(QBuffer.OpenModeFlag.WriteOnly)
    image.save(buffer, "PNG")
    return bytes(buffer.data().data())


def man_page(command: Any) -> str:
    """The manual page of all words of the shell, in the man macros; `command` is as `typer.main.get_command` gives it."""
    date = time.strftime("%Y-%m-%d", time.gmtime(int(os.environ.get("SOURCE_DATE_EPOCH", time.time()))))
    lines = [
        f'.TH FAITHFUL\\-REEL 1 "{date}" "faithful\\-reel {__version__}" "User Commands"',
        ".SH NAME",
        "faithful\\-reel \\- proof, splice and master audiobook narration",
        ".SH SYNOPSIS",
        ".B faithful\\-reel",
        "[\\fIWORD\\fR ...]",
        ".SH DESCRIPTION",
        "Without a word the window opens, with the books that were open before and the demo book.",
        "The words below work on plain files and on books; they print JSON where they are asked for it,",
        "progress on standard error, and end with 0 done, 1 done with failures found, 2 unusable input.",
        ".SH WORDS",
    ]
    context = typer.Context(command, info_name="faithful-reel")
    for name, word in sorted(command.commands.items()):
        lines += [".SS " + _roff(f"faithful-reel {name}"), _roff(word.help or "")]
        for parameter in word.params:
            record = parameter.get_help_record(typer.Context(word, parent=context, info_name=name))
            if record is not None and record[0] != "--help":
                lines += [".TP", f".B {_roff(record[0])}", _roff(" ".join(record[1].split()))]
    return "\n".join(lines) + "\n"


def _roff(text: str) -> str:
    escaped = text.replace("\\", "\\e").replace("-", "\\-")
    return "\n".join("\\&" + line if line.startswith((".", "'")) else line for line in escaped.split("\n"))


def files(homes: Homes, program: Path, command: Any) -> Iterator[tuple[Path, bytes]]:
    """Every file of the installation with what is in it; `program` is what the menu entry starts."""
    entry = _asset(f"{ID}.desktop").decode().replace("Exec=faithful-reel", f"Exec={_as_argument(program)}")
    data = homes.data
    yield data / "applications" / f"{ID}.desktop", os.fsencode(entry)
    yield data / "mime" / "packages" / f"{ID}.xml", _asset(f"{ID}.xml")
    metadata = _asset(f"{ID}.metainfo.xml").decode().replace("@VERSION@", __version__)
    made = time.strftime("%Y-%m-%d", time.gmtime(int(os.environ.get("SOURCE_DATE_EPOCH", time.time()))))
    yield data / "metainfo" / f"{ID}.metainfo.xml", metadata.replace("@DATE@", made).encode()
    yield data / "man" / "man1" / "faithful-reel.1", man_page(command).encode()
    icons = data / "icons" / "hicolor"
    yield icons / "scalable" / "apps" / f"{ID}.svg", _asset("icons/scalable.svg")
    yield icons / "symbolic" / "apps" / f"{ID}-symbolic.svg", _asset("icons/symbolic.svg")
    for size in SIZES:
        yield icons / f"{size}x{size}" / "apps" / f"{ID}.png", icon_png(size)


def _as_argument(program: Path) -> str:
    """A path as the first word of an entry's `Exec`.

    References
    ----------
    freedesktop.org, Desktop Entry Specification 1.5: quoting ("The Exec key"), and the escapes of values, which are undone first.
    """
    quoted = str(program).replace("%", "%%")
    if any(c in quoted for c in " \t\n\"'\\><~|&;$*?#()`"):
        for c in ("\\", '"', "`", "$"):
            quoted = quoted.replace(c, f"\\{c}")
        quoted = f'"{quoted}"'
    return quoted.replace("\\", "\\\\").replace("\n", "\\n").replace("\t", "\\t")


def _launcher(program: Path) -> bytes:
    escaped = str(program).replace("'", "'\\''")
    return os.fsencode(f"#!/bin/sh\n{MARK}\nexec '{escaped}' \"$@\"\n")


def _is_ours(launcher: Path) -> bool:
    try:
        return MARK.encode() in launcher.read_bytes()[:200]
    except OSError:
        return False


def installed(command: Any, homes: Homes | None = None, program: Path | None = None) -> list[Path]:
    """Put everything in place; what was made.

    Raises
    ------
    StoreProblem
        A file can not be written; those that were there before stay.
    """
    homes, program = homes or Homes.of_user(), program or Path(sys.argv[0]).absolute()
    launcher = homes.programs / "faithful-reel"
    wanted = dict(files(homes, program, command))
    if launcher.absolute() != program and (_is_ours(launcher) or not (launcher.exists() or launcher.is_symlink())):
        wanted[launcher] = _launcher(program)
    for path, content in wanted.items():
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            part = path.with_name(f".{path.name}.part")
            part.write_bytes(content)
            part.chmod(0o755 if path == launcher else 0o644)
            part.replace(path)
        except OSError as problem:
            raise StoreProblem(f"{path} can not be written ({problem.strerror}). Check the folder and try again.") from problem
    _refresh(homes)
    return list(wanted)


def removed(command: Any, homes: Homes | None = None) -> list[Path]:
    """Take everything away that `installed` put there; what is gone."""
    homes = homes or Homes.of_user()
    gone = []
    for path, _ in files(homes, Path("faithful-reel"), command):
        if path.is_file():
            path.unlink()
            gone.append(path)
    launcher = homes.programs / "faithful-reel"
    if _is_ours(launcher):
        launcher.unlink()
        gone.append(launcher)
    _refresh(homes)
    return gone


def _refresh(homes: Homes) -> None:
    """Have the desktop notice, where it has the tools for that."""
    icons = homes.data / "icons" / "hicolor"
    for tool, *arguments in (
        ("update-mime-database", str(homes.data / "mime")),
        ("update-desktop-database", str(homes.data / "applications")),
        ("gtk-update-icon-cache", "-q", "-t", "-f", str(icons)),
    ):
        found = shutil.which(tool)
        if found and Path(arguments[-1]).is_dir():
            subprocess.run([found, *arguments], check=False, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
