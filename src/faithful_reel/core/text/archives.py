"""Opening documents that are archives of XML, so that a hostile one can do no harm."""

from __future__ import annotations

import struct
import zipfile
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path, PurePosixPath
from typing import Any

from lxml import etree

from faithful_reel.core.errors import FileProblem

MOST_UNPACKED = 256 * 2**20
MOST_PART = 64 * 2**20
MOST_PARTS = 5_000


class Archive:
    """A zip archive that is read with bounds."""

    def __init__(self, path: Path, archive: zipfile.ZipFile) -> None:
        self.path, self._archive = path, archive
        self.names = archive.namelist()

    def read(self, name: str) -> bytes:
        """The bytes of a part.

        Raises
        ------
        KeyError
            There is no such part.
        FileProblem
            It is too large.
        """
        with self._archive.open(name) as file:
            data = file.read(MOST_PART + 1)
        if len(data) > MOST_PART:
            raise FileProblem(f"{self.path.name} unpacks to far more than a manuscript. It was not opened.")
        return data

    def xml(self, name: str) -> Any:
        """The root element of an XML part."""
        return xml_of(self.read(name), self.path)


@contextmanager
def opened(path: Path) -> Iterator[Archive]:
    """Open an archive; refuse those that are locked, would unpack to too much, or whose parts point outside.

    Raises
    ------
    FileProblem
    """
    try:
        with zipfile.ZipFile(path) as archive:
            infos = archive.infolist()
            if len(infos) > MOST_PARTS or sum(info.file_size for info in infos) > MOST_UNPACKED:
                raise FileProblem(f"{path.name} unpacks to far more than a manuscript. It was not opened.")
            for info in infos:
                part = PurePosixPath(info.filename.replace("\\", "/"))
                if part.is_absolute() or ".." in part.parts:
                    raise FileProblem(f"{path.name} holds parts that point outside of it. It was not opened.")
                if info.flag_bits & 1:
                    raise FileProblem(f"{path.name} is locked with a password. Save it without one.")
            yield Archive(path, archive)
    except (
        zipfile.BadZipFile,
        zlib.error,
        struct.error,
        NotImplementedError,
        EOFError,
        RuntimeError,
        OSError,
        ValueError,
    ) as problem:
        raise FileProblem(f"{path.name} is damaged and can not be unpacked. Save the manuscript again.") from problem


def xml_of(data: bytes, path: Path) -> Any:
    """Parse XML; entities that a document defines for itself are refused, since they can grow without end.

    Raises
    ------
    FileProblem
        There are such entities, or it is no XML.
    """
    if b"<!ENTITY" in data[:65_536] or "<!ENTITY".encode("utf-16-le") in data[:65_536]:
        raise FileProblem(f"{path.name} defines XML entities of its own, which no manuscript needs. It was not opened.")
    parser = etree.XMLParser(resolve_entities=False, no_network=True, load_dtd=False, huge_tree=False, recover=False)
    root = etree.fromstring(data, parser)
    if root is None:
        raise FileProblem(f"{path.name} is damaged: a part of it is empty. Save the manuscript again.")
    return root
