"""How many strokes the acts take that are done all day, counted in the real window; the table in the docs is made here."""

from __future__ import annotations

import os
from pathlib import Path

import pytest
from PyQt6.QtTest import QTest
from support.hands import ALT, RATE, at_proof, drag, start
from support.hearing import STEP, WORD, lay_hearing, lay_retake

from faithful_reel.app.editing.cutting import Cutting
from faithful_reel.core.collate.findings import Decision
from faithful_reel.core.reel.reel import RoomTone

TABLE = Path(__file__).parents[2] / "docs" / "strokes.md"
HEAD = """# Strokes

What the acts take that are done all day: keys pressed, and stretches drawn with the mouse, from having the thing at hand to hearing
what came of it. Made by `tests/app/test_strokes.py`, which does each in the real window and counts. *Hear every edit at once* and *A
decision plays the next finding* are on, as they are at first.

| act | strokes | keys | drawn | heard |
|---|---|---|---|---|
"""


class Hands:
    """Presses keys and drags, and counts."""

    def __init__(self, desk):
        self.desk, self.window = desk, desk.window
        self.transport, self.editing = desk.window.transport, desk.window.parts.editing
        self.keys, self.drawn = [], 0

    def at_rest(self):
        """Nothing sounds and no key is held: what was counted is forgotten."""
        self.transport.stop()
        QTest.qWait(260)
        self.keys, self.drawn = [], 0

    def press(self, act):
        """The key of an act, on the page."""
        key = self.window.actions_[act].shortcut()
        assert not key.isEmpty(), act
        self.keys.append(key.toString())
        self.window.galley.setFocus()
        QTest.keyClick(self.window.galley, key[0].key(), key[0].keyboardModifiers())

    def drag(self, first, last):
        """Draw a stretch in the loupe."""
        self.drawn += 1
        drag(self.window.loupe, first, last, ALT)

    @property
    def reel(self):
        return self.window.bench.chapter.reel

    @property
    def around(self):
        """The middle of what is heard."""
        stretch = self.transport._stretch
        return (stretch.start + stretch.stop) // 2


def decide(hands):
    """A finding is at hand."""
    proof = hands.window.parts.proof
    proof.step(1)
    before = proof.current
    hands.at_rest()
    hands.press("proof.stet")
    decided = next(f for f in hands.window.bench.chapter.findings if f.id == before)
    assert decided.decision is Decision.STET
    assert proof.current != before
    return hands.transport._stretch.stop == proof.span(proof.finding()).stop + RATE


def cut(hands):
    """A word is marked."""
    hands.desk.click_word(20)
    hands.window.actions_.run("span.word")
    length = len(hands.reel)
    hands.at_rest()
    hands.press("edit.cut_close")
    assert length - len(hands.reel) == WORD
    return hands.around == start(20)


def hear_after(hands):
    """After the cut before."""
    hands.at_rest()
    hands.press("ear.join")
    return hands.around == start(20)


def hear_before(hands):
    """While it sounds."""
    hands.keys = []
    assert hands.transport.playing
    hands.press("ear.as_it_was")
    return len(hands.transport.instead) == len(hands.reel) + WORD


def pause(hands):
    """The cursor is in a pause."""
    hands.transport.go_to(start(10) + WORD + (STEP - WORD) // 2)
    Cutting(hands.editing).pause(0.4)
    length = len(hands.reel)
    hands.at_rest()
    hands.press("pause.shorter")
    assert length - len(hands.reel) == round(0.05 * RATE)
    return abs(hands.around - start(10) - WORD) < RATE


def from_here(hands):
    """The cursor is in a sentence."""
    text = hands.window.bench.text(hands.window.bench.chapter)
    tokens = hands.window.bench.tokens(hands.window.bench.chapter)
    sentence = next(s for s in text.sentences() if 12 in s)
    heard = [t for t in tokens.heard() if t.word in sentence]
    hands.transport.go_to(heard[1].start)
    length = len(hands.reel)
    hands.at_rest()
    hands.press("here.out_to_sentence")
    assert length - len(hands.reel) == heard[-1].stop - heard[1].start
    return hands.around == heard[1].start


def fill(hands):
    """The noise is seen in the loupe."""
    hands.editing.let_go()
    at = start(8)
    hands.window.loupe.look_at(at, span_s=2.0)
    length = len(hands.reel)
    tones = sum(isinstance(s, RoomTone) for s in hands.reel.lanes[0].segments)
    hands.at_rest()
    hands.drag(at, at + 9000)
    hands.press("edit.cut_fill")
    assert len(hands.reel) == length
    assert sum(isinstance(s, RoomTone) for s in hands.reel.lanes[0].segments) == tones + 1
    return abs(hands.around - at - 4500) < 500


def join(hands):
    """The cursor is near a join."""
    hands.editing.let_go()
    at = hands.reel.lanes[0].starts()[1]
    hands.transport.go_to(at)
    hands.at_rest()
    hands.press("edit.join_later")
    assert hands.reel.lanes[0].starts()[1] == at + round(0.01 * RATE)
    return abs(hands.around - at) < 500


def sentence(hands):
    """The cursor is in a sentence."""
    hands.editing.let_go()
    hands.desk.click_word(2)
    hands.at_rest()
    hands.press("span.sentence")
    hands.press("ear.marked")
    span = hands.editing.span
    return (hands.transport._stretch.start, hands.transport._stretch.stop) == (span.start, span.stop)


def other_take(hands):
    """The other reading of a line is at hand in the docket."""
    words, _ = lay_retake(hands.window.bench)
    hands.window.parts.proof.choose("f9")
    before = hands.reel
    hands.at_rest()
    hands.press("proof.swap")
    assert hands.reel != before
    placed = hands.window.bench.tokens(hands.window.bench.chapter)
    first = next(t for t in placed if t.word == words.start)
    stretch = hands.transport._stretch
    return stretch.start < first.stop and stretch.stop > first.start


def sign(hands):
    """The chapter is done."""
    bench = hands.window.bench
    chapter = bench.chapter_id
    hands.at_rest()
    hands.press("proof.sign")
    hands.press("view.next_chapter")
    assert bench.book.chapter(chapter).signed
    assert bench.chapter_id != chapter


ROWS = (
    ("decide a finding, and hear the next", decide, 1),
    ("cut the marked word, and hear the join", cut, 1),
    ("hear it as it is now", hear_after, 1),
    ("hear it as it was before", hear_before, 1),
    ("shorten the pause at the cursor, and hear it", pause, 1),
    ("take out from here to the end of the sentence, and hear the join", from_here, 1),
    ("fill a noise that one drag marks, and hear it", fill, 1),
    ("move a join by 10 ms, and hear it", join, 1),
    ("mark the sentence, and hear it", sentence, 2),
    ("take the other take, and hear it", other_take, 1),
    ("sign the chapter off, and open the next", sign, 2),
)


def test_the_acts_of_all_day_take_no_more_strokes_than_they_may_and_the_table_is_as_it_is_written(opened, qtbot):
    at_proof(opened)
    hands, lines = Hands(opened), []
    for name, act, most in ROWS:
        heard = act(hands)
        assert len(hands.keys) <= most, name
        assert heard is None or heard, f"{name}: something else is heard"
        if heard:
            qtbot.waitUntil(lambda: hands.transport.playing)
        keys, drawn = ", ".join(f"`{k}`" for k in hands.keys), str(hands.drawn or "")
        lines.append(f"| {name} | {len(hands.keys)} | {keys} | {drawn} | {'yes' if heard else ''} |")
    hands.transport.stop()
    made = HEAD + "\n".join(lines) + "\n"
    if os.environ.get("FAITHFUL_REEL_WRITE"):
        TABLE.write_text(made, encoding="utf-8")
    assert made == TABLE.read_text(encoding="utf-8")


@pytest.mark.parametrize(("act", "key"), [("ear.join", "F11"), ("ear.as_it_was", "Shift+B"), ("ear.marked", "Shift+Space")])
def test_what_is_heard_is_heard_from_the_loupe_as_well(opened, act, key):
    lay_hearing(opened.window.bench)
    opened.do("view.proof")
    opened.window.loupe.setFocus()
    assert opened.window.actions_[act].shortcut().toString() == key
    opened.click_word(10)
    opened.do("edit.cut_close")
    opened.window.transport.stop()
    opened.window.loupe.setFocus()
    shortcut = opened.window.actions_[act].shortcut()
    QTest.keyClick(opened.window.loupe, shortcut[0].key(), shortcut[0].keyboardModifiers())
    assert opened.window.transport.playing
    opened.window.transport.stop()
