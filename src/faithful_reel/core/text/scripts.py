"""Which ways of writing the page can set: words with spaces between them, from left to right."""

from __future__ import annotations

import unicodedata
from pathlib import Path

from faithful_reel.core.errors import FileProblem

SHARE = 0.3
"""Of the letters: less is a quotation (own rule)."""
LOOKED_AT = 200_000
_WITHOUT_SPACES = ("CJK", "HIRAGANA", "KATAKANA", "THAI", "LAO", "KHMER", "MYANMAR", "TIBETAN")
"""How Unicode's names of letters begin in scripts that set no space between words."""


def refuse_unsettable(text: str, path: Path) -> None:
    """Refuse a text that would be set wrongly.

    Raises
    ------
    FileProblem
        It is written from right to left, or without spaces between its words.

    References
    ----------
    Unicode Standard Annex 9: the bidirectional classes R and AL.
    """
    letters = [c for c in text[:LOOKED_AT] if c.isalpha()]
    if not letters:
        return
    to_the_left = sum(unicodedata.bidirectional(c) in ("R", "AL") for c in letters) / len(letters)
    if to_the_left > SHARE:
        raise FileProblem(f"{path.name} is written from right to left. Only texts that run from left to right can be set.")
    unspaced = sum(unicodedata.name(c, "").startswith(_WITHOUT_SPACES) for c in letters) / len(letters)
    if unspaced > SHARE:
        raise FileProblem(
            f"{path.name} is written without spaces between its words. Only texts with spaces between words can be proofed."
        )
