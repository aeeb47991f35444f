"""What every reader of manuscripts gives: paragraphs of styled words, with headings, breaks and pages."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

from faithful_reel.core.text.words import LONGEST_WORD, Word

MOST_WORDS = 700_000
MOST_LETTERS = 8_000_000
"""The longest novels have about 600,000 words (from memory)."""


class TooMuch(Exception):
    """There is far more text than a manuscript has, or a word that is none."""


@dataclass(slots=True)
class Paragraph:
    """A paragraph as a reader finds it.

    `level` is 0 for text, 1 and more for headings; `opens_page` says that a page was begun for it.
    """

    words: list[Word]
    level: int = 0
    scene_break: bool = False
    opens_page: bool = False
    title: bool = False

    @property
    def text(self) -> str:
        """The words with single spaces."""
        return " ".join(w.text for w in self.words)


@dataclass(slots=True)
class Document:
    """A manuscript before it is cut into chapters.  Footnotes stand apart, since they are not read aloud in place."""

    paragraphs: list[Paragraph] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    title: str = ""
    author: str = ""


class Writer:
    """Collects words as a reader meets runs of text; runs may end in the middle of a word."""

    def __init__(self) -> None:
        self.document = Document()
        self.page = 0
        self._words: list[Word] = []
        self._glued = self._lined = False
        self._broken = self._paged = False
        self._letters = self._count = 0

    def run(self, text: str, *, italic: bool = False) -> None:
        """Take a stretch of text in one style.

        Raises
        ------
        TooMuch
        """
        self._letters += len(text)
        pieces = text.split() if self._letters <= MOST_LETTERS else []
        self._count += len(pieces)
        if self._letters > MOST_LETTERS or self._count > MOST_WORDS:
            raise TooMuch
        if any(len(piece) > LONGEST_WORD for piece in pieces):
            raise TooMuch
        for i, piece in enumerate(pieces):
            if i == 0 and self._glued and not text[0].isspace() and self._words:
                last = self._words[-1]
                if len(last.text) + len(piece) > LONGEST_WORD:
                    raise TooMuch
                self._words[-1] = replace(last, text=last.text + piece)
            else:
                self._words.append(Word(piece, 0, 0, self.page, italic, self._lined))
                self._lined = False
        if text:
            self._glued = not text[-1].isspace()

    def space(self) -> None:
        """A tab: the next run begins a new word."""
        self._glued = False

    def line(self) -> None:
        """A line ends within its paragraph: the next word begins one."""
        self._glued = False
        self._lined = bool(self._words)

    def new_page(self, number: int = 0) -> None:
        """A page begins: the next, or one with a printed number."""
        self.page = number or self.page + 1
        self._paged = self._paged or not self._words

    def scene_break(self) -> None:
        """A blank line, a rule or stars between two scenes."""
        self._broken = True

    def end(self, *, level: int = 0, title: bool = False) -> None:
        """The paragraph ends."""
        if self._words:
            made = Paragraph(self._words, level, self._broken and bool(self.document.paragraphs), self._paged, title)
            if not level and is_scene_break(made.text):
                self._broken = True
            else:
                self.document.paragraphs.append(made)
                self._broken = self._paged = False
        self._words, self._glued, self._lined = [], False, False

    def note(self, text: str) -> None:
        """A footnote's text."""
        if text.strip():
            self.document.notes.append(" ".join(text.split()))


def is_scene_break(text: str) -> bool:
    """Whether a paragraph is only an ornament between scenes."""
    bare = text.replace(" ", "")
    return (
        0 < len(bare) <= 12
        and not any(c.isalnum() for c in bare)
        and (set(bare) <= set("*•·~#⁂❦☙❧◆◇—–-_=+o") and bare not in "—–-")
    )
