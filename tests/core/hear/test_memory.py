"""What was heard once is not heard again, whatever happens to the file that remembers it."""

from __future__ import annotations

import sqlite3

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from faithful_reel.core.errors import FileProblem
from faithful_reel.core.hear.memory import Memory, key_of, memory_in
from faithful_reel.core.hear.recogniser import Heard, words_in
from faithful_reel.core.units import Span

SOUND = np.random.default_rng(7).standard_normal(4000).astype(np.float32)


class CountingEar:
    """Hears one word in the middle of any stretch, and counts how often it was asked."""

    witness = "first"

    def __init__(self, key="a"):
        self.key, self.asked = key, 0

    def words(self, _x, span):
        self.asked += 1
        return [Heard("word", span.start + 3, span.stop - 3, 0.75, "first")]


def test_a_stretch_is_heard_once_and_wherever_it_stands(tmp_path):
    ear = CountingEar()
    with Memory(tmp_path / "cache" / "m.sqlite") as memory:
        assert words_in(ear, SOUND, Span(100, 900), memory) == [Heard("word", 103, 897, 0.75, "first")]
        moved = np.concatenate([np.zeros(50, np.float32), SOUND])
        assert words_in(ear, moved, Span(150, 950), memory) == [Heard("word", 153, 947, 0.75, "first")]
        assert ear.asked == 1
        words_in(ear, SOUND, Span(100, 901), memory)
        assert ear.asked == 2
        other = CountingEar("b")
        words_in(other, SOUND, Span(100, 900), memory)
        assert other.asked == 1
    with Memory(tmp_path / "cache" / "m.sqlite") as memory:
        words_in(ear, SOUND, Span(100, 900), memory)
    assert ear.asked == 2


def test_without_a_path_nothing_is_remembered():
    ear = CountingEar()
    memory = Memory()
    words_in(ear, SOUND, Span(0, 500), memory)
    words_in(ear, SOUND, Span(0, 500), memory)
    assert ear.asked == 2


def test_a_damaged_file_is_begun_anew(tmp_path):
    path = tmp_path / "m.sqlite"
    path.write_bytes(b"no database at all, but long enough to be taken for one" * 40)
    with Memory(path) as memory:
        assert memory.recalled(SOUND, Span(0, 9), ("x",), lambda: [1, None]) == [1, None]
        assert memory.recalled(SOUND, Span(0, 9), ("x",), lambda: "not asked") == [1, None]


def test_where_it_can_not_be_written_the_ears_just_hear(tmp_path):
    memory = Memory(tmp_path / "m.sqlite")
    memory.close()
    assert memory.recalled(SOUND, Span(0, 9), ("x",), lambda: 5) == 5


WAY = st.lists(st.text(st.characters(codec="utf-8", exclude_characters="\0"), max_size=4), max_size=4)


@given(WAY, WAY)
def test_two_ways_of_asking_have_two_names(a, b):
    assert (key_of(SOUND, Span(0, 9), *a) == key_of(SOUND, Span(0, 9), *b)) == (a == b)


@pytest.mark.slow
def test_a_chapter_heard_again_is_the_same_and_asks_no_ear(demo, ears, proofs, heard_file, monkeypatch):
    from faithful_reel.core.audio.files import ear_sound
    from faithful_reel.core.collate.proofing import proofed

    _, script, before = proofs[2]
    x = ear_sound(demo / "chapter-3.flac")
    asked = []
    for ear in (ears.first, ears.second, ears.third):
        monkeypatch.setattr(type(ear), "words", lambda _self, _x, span: asked.append(span) or [])
    monkeypatch.setattr("faithful_reel.core.hear.aligner.Aligner._asked", lambda _self, request: asked.append(request))
    with Memory(heard_file) as memory:
        assert proofed(x, script, ears, memory=memory) == before
    assert asked == []


@pytest.mark.parametrize("content", [b"Chapter One, and no hearing.", b"SQLite format 3\0 but torn", b"", None])
def test_a_file_that_holds_anything_else_is_refused_and_left_alone(tmp_path, content):
    path = tmp_path / "notes.txt"
    if content is None:
        with sqlite3.connect(path) as db:
            db.execute("CREATE TABLE steps (id)")
        db.close()
    else:
        path.write_bytes(content)
    before = path.read_bytes()
    with pytest.raises(FileProblem, match=r"notes\.txt is no file in which hearings are kept"):
        memory_in(path)
    assert path.read_bytes() == before
    assert [p.name for p in tmp_path.iterdir()] == ["notes.txt"]


def test_a_file_named_by_the_user_is_made_and_used_again(tmp_path):
    x = np.ones(100, np.float32)
    with memory_in(tmp_path / "kept.heard") as memory:
        assert memory.recalled(x, Span(0, 50), ["a"], lambda: [1, 2]) == [1, 2]
    with memory_in(tmp_path / "kept.heard") as memory:
        assert memory.recalled(x, Span(0, 50), ["a"], lambda: [3]) == [1, 2]
    with memory_in(None) as memory:
        assert memory.recalled(x, Span(0, 50), ["a"], lambda: [3]) == [3]
