"""Installed like an application: everything in place for one user, checked by the desktop's own validators, and away again."""

from __future__ import annotations

import re
import shutil
import subprocess
import sys
import xml.etree.ElementTree as ET
from pathlib import Path

import pytest
import typer
from PyQt6.QtGui import QImage

from faithful_reel import cli
from faithful_reel.app.desktop import ID, SIZES, Homes, installed, man_page, removed
from faithful_reel.core.errors import StoreProblem

COMMAND = typer.main.get_command(cli.app)


@pytest.fixture
def homes(tmp_path):
    return Homes(tmp_path / "share", tmp_path / "bin")


def checked_by(*command):
    """Run a validator of the desktop; its name is the source."""
    if shutil.which(command[0]) is None:
        pytest.skip(f"{command[0]} is not here")
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stdout + done.stderr
    return done.stdout


def test_all_is_put_in_place_and_taken_away_again(homes, tmp_path):
    made = installed(COMMAND, homes, Path("/opt/reel/bin/faithful-reel"))
    assert all(p.is_file() for p in made)
    assert {p.name for p in made} >= {
        f"{ID}.desktop",
        f"{ID}.xml",
        f"{ID}.metainfo.xml",
        "faithful-reel.1",
        f"{ID}.png",
        "faithful-reel",
    }
    stranger = homes.data / "applications" / "other.desktop"
    stranger.write_text("[Desktop Entry]\n")
    gone = removed(COMMAND, homes)
    assert set(gone) == set(made)
    left = {p.name for p in homes.data.rglob("*") if p.is_file() and "faithful" in p.read_bytes()[:4000].decode("latin1").lower()}
    assert not {n for n in left if ID in n}
    assert stranger.is_file()


def test_installing_twice_changes_nothing_and_leaves_no_scraps(homes):
    first = {p: p.read_bytes() for p in installed(COMMAND, homes, Path("/opt/reel/bin/faithful-reel"))}
    assert {p: p.read_bytes() for p in installed(COMMAND, homes, Path("/opt/reel/bin/faithful-reel"))} == first
    assert not list(homes.data.rglob("*.part"))


def test_a_program_of_the_same_name_is_neither_replaced_nor_removed(homes):
    homes.programs.mkdir(parents=True)
    other = homes.programs / "faithful-reel"
    other.write_text("#!/bin/sh\necho mine\n")
    installed(COMMAND, homes, Path("/opt/reel/bin/faithful-reel"))
    removed(COMMAND, homes)
    assert "mine" in other.read_text()


def test_the_launcher_starts_the_program_wherever_it_lies(homes, tmp_path):
    program = tmp_path / "a folder with 'quotes'" / "faithful-reel"
    program.parent.mkdir()
    program.write_text('#!/bin/sh\necho started "$@"\n')
    program.chmod(0o755)
    installed(COMMAND, homes, program)
    done = subprocess.run([homes.programs / "faithful-reel", "open", "A b.reelbook"], capture_output=True, text=True, check=True)
    assert done.stdout == "started open A b.reelbook\n"


def test_a_folder_that_can_not_be_written_is_told(tmp_path):
    (tmp_path / "share").write_text("a file, not a folder")
    with pytest.raises(StoreProblem, match="can not be written"):
        installed(COMMAND, Homes(tmp_path / "share", tmp_path / "bin"), Path("/opt/x"))


@pytest.mark.published("Desktop Entry Specification 1.4, by desktop-file-validate")
def test_the_menu_entry_is_valid(homes):
    installed(COMMAND, homes, Path("/opt/a b/faithful-reel"))
    path = homes.data / "applications" / f"{ID}.desktop"
    checked_by("desktop-file-validate", str(path))
    assert 'Exec="/opt/a b/faithful-reel" open --no-terminal %f' in path.read_text()


@pytest.mark.published("Desktop Entry Specification 1.5, The Exec key: the words as a POSIX shell reads them")
@pytest.mark.parametrize(
    "name",
    [
        "reel",
        "a b",
        'quo"te',
        "do$HOME",
        "100%f",
        "back\\slash\\",
        "`tick`",
        "it's",
        "tab\there",
        "new\nline",
        "#x;y&z|(*)",
        "é日",
    ],
)
def test_the_menu_entry_starts_the_program_wherever_it_lies(homes, name):
    program = Path("/opt") / name / "faithful-reel"
    installed(COMMAND, homes, program)
    path = homes.data / "applications" / f"{ID}.desktop"
    checked_by("desktop-file-validate", str(path))
    lines = [line.removeprefix("Exec=") for line in path.read_text().split("\n") if line.startswith("Exec=")]
    assert len(lines) == 2
    for line in lines:
        value = re.sub(r"\\(.)", lambda m: {"s": " ", "n": "\n", "t": "\t", "r": "\r"}.get(m[1], m[1]), line)
        shell = ["sh", "-c", f"printf '%s\\0' {value}"]
        first, *rest = subprocess.run(shell, capture_output=True, check=True).stdout.decode().split("\0")[:-1]
        assert Path(first.replace("%%", "%")) == program
        assert rest[-1] in ("%f", "--no-terminal")


@pytest.mark.published("AppStream 1.0, by appstreamcli validate")
def test_the_metadata_is_valid(homes):
    installed(COMMAND, homes, Path("/opt/reel/bin/faithful-reel"))
    told = checked_by("appstreamcli", "validate", "--no-net", str(homes.data / "metainfo" / f"{ID}.metainfo.xml"))
    assert "successful" in told


@pytest.mark.published("Shared MIME-info Specification 0.22, by update-mime-database")
def test_a_book_and_an_archive_have_types_of_their_own(homes, demo_book):
    installed(COMMAND, homes, Path("/opt/reel/bin/faithful-reel"))
    checked_by("update-mime-database", str(homes.data / "mime"))
    globs = (homes.data / "mime" / "globs2").read_text()
    assert "vnd.faithful-reel.archive:*.reelarchive" in globs
    assert "vnd.faithful-reel.book:*.reelbook" in globs
    space = "{http://www.freedesktop.org/standards/shared-mime-info}"
    outer = ET.parse(homes.data / "mime" / "packages" / f"{ID}.xml").find(f".//{space}magic/{space}match")
    database = (demo_book / "book.sqlite").read_bytes()
    for match in (outer, outer.find(f"{space}match")):
        at, value = int(match.get("offset")), match.get("value").encode()
        assert database[at : at + len(value)] == value


@pytest.mark.published("Icon Theme Specification 0.13: sizes of the hicolor theme")
@pytest.mark.parametrize("size", SIZES)
def test_the_icon_is_there_in_every_size_and_not_blank(homes, size):
    installed(COMMAND, homes, Path("/opt/reel/bin/faithful-reel"))
    image = QImage(str(homes.data / "icons" / "hicolor" / f"{size}x{size}" / "apps" / f"{ID}.png"))
    assert (image.width(), image.height()) == (size, size)
    colors = {image.pixel(x, y) for x in range(0, size, 2) for y in range(0, size, 2)}
    assert len(colors) > 3


def test_the_manual_page_names_every_word_and_option(tmp_path):
    page = man_page(COMMAND).replace("\\-", "-")
    for name, word in COMMAND.commands.items():
        assert f".SS faithful-reel {name}" in page
        for parameter in word.params:
            if parameter.param_type_name == "option" and "--help" not in parameter.opts:
                assert parameter.opts[0] in page, (name, parameter.opts)


def test_the_desktop_may_hand_over_a_book_by_its_database(tmp_path, demo_book, monkeypatch):
    from faithful_reel.app import main

    opened = []

    class Opened(BaseException):
        pass

    def run_book(folder):
        opened.append(folder)
        raise Opened

    monkeypatch.setattr(main, "run_book", run_book)
    for path in (demo_book / "book.sqlite", demo_book):
        with pytest.raises(Opened):
            main.run_path(path)
    assert opened == [demo_book, demo_book]


def test_the_word_installs_and_removes(tmp_path):
    import os

    environment = os.environ | {"XDG_DATA_HOME": str(tmp_path / "share"), "HOME": str(tmp_path)}
    for flag, verb in ((), "installed"), (("--remove",), "removed"):
        done = subprocess.run(
            [sys.executable, "-m", "faithful_reel", "install", *flag],
            env=environment,
            capture_output=True,
            text=True,
            check=True,
        )
        assert len(done.stdout.splitlines()) == len(SIZES) + 7
        assert all(line.startswith(verb) for line in done.stdout.splitlines())
