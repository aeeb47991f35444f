"""The galley: manuscript lines with their strips of sound, words above the sound they belong to."""

from faithful_reel.app.widgets.galley.content import Cell, Cells, Columns, GalleyContent, Strip
from faithful_reel.app.widgets.galley.galley import Galley
from faithful_reel.app.widgets.galley.marks import draw_decision
from faithful_reel.app.widgets.galley.setting import LOWEST, TALLEST, WIDEST, Measures
from faithful_reel.app.widgets.galley.strips import draw_sound
from faithful_reel.app.widgets.galley.view import PagePlace
from faithful_reel.core.work.page import Mark, Other

__all__ = [
    "LOWEST", "TALLEST", "WIDEST", "Cell", "Cells", "Columns", "Galley", "GalleyContent", "Mark", "Measures", "Other",
    "PagePlace", "Strip", "draw_decision", "draw_sound",
]  # fmt: skip
