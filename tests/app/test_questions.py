"""What is asked before sound goes: every act that takes time or sound away, by what is marked and what the lanes are.

The table is `docs/questions.md`; `FAITHFUL_REEL_WRITE=1` writes it anew.
"""

from __future__ import annotations

import os
from dataclasses import replace
from pathlib import Path

import pytest
from support.model import LENGTH, TONE, Editor

from faithful_reel.app.recording.over import OverPresenter
from faithful_reel.core.book.commands import AddFinding, EditReel
from faithful_reel.core.collate.findings import Finding, Kind
from faithful_reel.core.reel.commands import ReplaceByTake
from faithful_reel.core.reel.reel import Lane, Piece, Rest
from faithful_reel.core.units import Span
from faithful_reel.core.work.editing import copy_of
from faithful_reel.core.work.mending import mending_edit
from faithful_reel.core.work.recorded import Over

TABLE = Path(__file__).resolve().parents[2] / "docs" / "questions.md"
VOICE = Lane("voice", (Piece("a", 0, LENGTH),), tone=TONE)
CLERK = Lane("clerk", (Rest(300), Piece("b", 300, LENGTH - 500)))
SEA = Lane("sea", (Rest(1000), Piece("m", 0, 3000)), music=True)
LANES = {
    "one voice": [VOICE],
    "two voices": [VOICE, CLERK],
    "second voice muted": [VOICE, replace(CLERK, muted=True)],
    "second voice first": [CLERK, VOICE],
    "narrator unlinked": [replace(VOICE, linked=False), CLERK],
    "voice and music": [VOICE, SEA],
}
MARKS = {
    "words of the narrator, all lanes in hand": lambda e: e.editing.select_words(6, 7),
    "words of the narrator, the second lane in hand": lambda e: (e.editing.choose_lane(1), e.editing.select_words(6, 7)),
    "a stretch drawn on the second lane": lambda e: e.editing.draw(2600, 3300, 1),
    "a stretch typed as times": lambda e: e.editing.select(2600, 3300),
}
SHORT = ((("l1"), (Piece("n", 10, 110),)),)


def _copied(e, *, lanes=None):
    reel = e.bench.chapter.reel
    names = [k.id for k in reel.lanes] if lanes is None else lanes
    e.cutting.copied = copy_of(e.bench.chapter, [Span(5000, 5100)], names, "")


def _paste_shorter(e):
    _copied(e)
    return e.cutting.paste()


def _move_one(e):
    span, own = e.editing.span, e.editing.own_lane(e.bench.chapter.reel)
    lane = e.bench.chapter.reel.lanes[own or 0].id
    e.cutting.copied = copy_of(e.bench.chapter, [span], [lane], "")
    e.editing.transport.spot = 5500
    return e.cutting.move_here()


def _move_all(e):
    e.cutting.copied = copy_of(e.bench.chapter, [e.editing.span], [k.id for k in e.bench.chapter.reel.lanes if k.linked], "")
    e.editing.transport.spot = 5500
    return e.cutting.move_here()


def _shorter_take(e):
    lane = next(k.id for k in e.bench.chapter.reel.lanes if k.name == "voice")
    edit = ReplaceByTake(e.editing.span.start, e.editing.span.stop, "n", 100, 200, 0.0, TONE, lane=lane)
    return e.bench.do(EditReel("c1", edit))


def _mend(e):
    added = Finding("f", Kind.ADDED, "", "um", 7, 0, 2700, 2900, 0.9)
    e.bench.do(AddFinding("c1", added))
    tokens = [t for t in e.bench.tokens(e.bench.chapter) if t.word != 6]
    return e.bench.do(EditReel("c1", mending_edit(e.bench.book, e.bench.chapter, tokens, added), ("f",)))


def _record_over(e):
    reel = e.bench.chapter.reel
    lane = e.editing.need_lane(reel)
    if lane is None:
        return False
    over = Over("c1", reel, e.editing.span, lane, "the words")
    OverPresenter(e.editing, lambda: None, e.editing._settings)._lay(over, e.bench.book.recording("n"), Span(10, 110), 0.0)
    return e.bench.chapter.reel is not reel


ACTS = {
    "Take out": lambda e: e.cutting.take_out(),
    "Cut": lambda e: e.cutting.cut() or e.cutting.copied is not None,
    "Keep only": lambda e: e.cutting.keep_only(),
    "Insert a pause, over it": lambda e: e.cutting.pause(0.1),
    "Fill with room tone": lambda e: e.cutting.fill(),
    "Silence": lambda e: e.cutting.silence(),
    "Paste what is shorter": _paste_shorter,
    "Move here, one lane": _move_one,
    "Move here, all linked lanes": _move_all,
    "Put a shorter take in": _shorter_take,
    "Mend an added word": _mend,
    "Record a shorter take over it": _record_over,
}


def outcome(act, lanes, mark) -> str:
    """What the editor is asked or told, or that the act refuses."""
    editor = Editor(0, [replace(lane) for lane in LANES[lanes]])
    if len(LANES[lanes]) < 2 and "second lane" in mark:
        return ""
    MARKS[mark](editor)
    editor.told.clear()
    before = editor.arrays()
    editor.rng.choice = lambda choices: choices[-1]
    done = ACTS[act](editor)
    if editor.which:
        return "asks which lane"
    if editor.asked:
        assert all((before[k] == row).all() for k, row in editor.arrays().items()), "it was left, and changed all the same"
        return "asks: " + ", ".join(dict.fromkeys(editor.asked))
    music = [m.partition(" was cut")[0] for m in editor.told if "was cut with it" in m]
    if music:
        return f"tells: {', '.join(music)}"
    return "done" if done else f"refuses: {editor.told[-1].partition('.')[0]}"


def table() -> str:
    """The whole table, as Markdown."""
    rows = [
        "# What is asked before sound goes",
        "",
        "Made by `tests/app/test_questions.py`. *asks* names the voices whose sound would go too; nothing is done until the answer.",
        "*tells* names music that was cut with it, after it was done; undo brings it back. *refuses* says why nothing is done; *asks which",
        "lane* shows the lanes, and takes the one that is chosen in hand.",
    ]
    for mark in MARKS:
        rows += ["", f"## Marked: {mark}", "", f"| act | {' | '.join(LANES)} |", f"|---|{'---|' * len(LANES)}"]
        rows += [f"| {act} | {' | '.join(outcome(act, lanes, mark) or '–' for lanes in LANES)} |" for act in ACTS]
    return "\n".join(rows) + "\n"


def test_the_table_of_questions_is_as_it_is_written():
    made = table()
    if os.environ.get("FAITHFUL_REEL_WRITE"):
        TABLE.write_text(made, encoding="utf-8")
    assert made == TABLE.read_text(encoding="utf-8")


@pytest.mark.parametrize("act", ["Take out", "Cut", "Keep only", "Insert a pause, over it", "Paste what is shorter"])
@pytest.mark.parametrize("lanes", ["two voices", "second voice muted", "second voice first"])
def test_every_act_that_takes_time_away_asks_about_every_other_voice_heard_or_not(act, lanes):
    assert outcome(act, lanes, "words of the narrator, all lanes in hand") == "asks: clerk"


@pytest.mark.parametrize("lanes", ["two voices", "second voice muted", "narrator unlinked", "voice and music"])
def test_a_stretch_that_is_drawn_on_a_lane_is_silenced_there_and_one_of_no_lane_is_not(lanes):
    editor = Editor(0, [replace(lane) for lane in LANES[lanes]])
    first, second = ((k, row) for k, row in editor.arrays().items() if k[0] == "c1")
    editor.editing.draw(2600, 3300, 1)
    assert editor.cutting.silence()
    now = editor.arrays()
    assert (now[first[0]] == first[1]).all()
    assert not now[second[0]][2600:3300].any()
    if lanes != "voice and music":
        editor.editing.select(2600, 3300)
        assert not editor.cutting.silence()
        assert "not clear which lane" in editor.told[-1]
