"""The stand-in booth: what it says it read is where it says, and nothing is read that nobody asked for."""

from __future__ import annotations

import contextlib
import json
import random
import zipfile

import numpy as np
import pytest
import soundfile
from hypothesis import given, settings
from hypothesis import strategies as st

from faithful_reel.core.audio.voice import VoiceBands
from faithful_reel.core.errors import FileProblem
from faithful_reel.core.pickups.ledger import Want
from faithful_reel.core.pickups.sheets import Sheet, SheetLine, csv_sheet, xlsx_sheet
from faithful_reel.core.standins.booth import (
    BoothSettings,
    PreparedVoice,
    lines_of_sheet,
    number_said,
    performed,
    voices_of,
    words_of,
)
from faithful_reel.core.units import BOOK_RATE


class Humming:
    """Says any text as a hum whose pitch is its length."""

    def said(self, text, take):
        if "unsayable" in text:
            return None
        n = round((0.3 + 0.05 * len(text)) * BOOK_RATE)
        t = np.arange(n) / BOOK_RATE
        rough = np.random.default_rng(take + 1).standard_normal(n) * 0.02
        return (0.2 * np.sin(2 * np.pi * (120 + len(text)) * t) + 0.1 * np.sin(2 * np.pi * 900 * t) + rough).astype(np.float32)


LINES = ("The tide went out.", "A line of green bottles lay there.", "Nobody spoke.")


def test_the_same_seed_gives_the_same_performance_and_another_gives_another():
    one, again, other = (performed(LINES, [Humming()], BoothSettings(seed=s)) for s in (3, 3, 4))
    assert np.array_equal(one.sound, again.sound)
    assert one.said == again.said
    assert not np.array_equal(one.sound[:9000], other.sound[:9000])


@settings(max_examples=25, deadline=None)
@given(st.integers(0, 10_000), st.integers(1, 4), st.booleans())
def test_every_line_ends_with_a_good_take_and_all_is_told_in_order(seed, most, shuffled):
    made = performed(
        LINES, [Humming()], BoothSettings(seed=seed, takes=(1, most), shuffled=shuffled, talk=0.5, restarts=0.5, slips=0.5)
    )
    assert made.unsaid == []
    assert all(a.stop <= b.start for a, b in zip(made.said, made.said[1:], strict=False))
    assert made.said[-1].stop <= len(made.sound)
    for number in range(len(LINES)):
        mine = [s.what for s in made.said if s.line == number]
        assert mine[0] == "slate"
        assert mine[-1] == "take"
        assert 1 <= mine.count("take") <= most
    order = [s.line for s in made.said if s.what == "slate"]
    assert sorted(order) == [0, 1, 2]
    if not shuffled:
        assert order == [0, 1, 2]


def test_somebody_speaks_where_it_says_and_nowhere_else():
    made = performed(LINES, [Humming()], BoothSettings(seed=2))
    bands = VoiceBands(BOOK_RATE)
    bands.feed(made.sound[None])
    voice = bands.voice()
    told = np.zeros(len(voice.speaks), bool)
    for s in made.said:
        told[s.start // voice.size : -(-s.stop // voice.size)] = True
    near = np.convolve(told, np.ones(15), "same") > 0  # what rings on for 0.15 s
    assert not (voice.speaks & ~near).any()
    assert (told & ~voice.speaks).mean() < 0.08  # but for the soft ends


def test_lines_that_no_voice_can_say_are_told_and_the_others_read():
    made = performed(["unsayable", LINES[0]], [Humming()], BoothSettings(talk=0.0))
    assert made.unsaid == [0]
    assert {s.line for s in made.said if s.what == "take"} == {1}


def test_lines_that_nobody_asked_for_are_told_as_such():
    made = performed(LINES, [Humming()], BoothSettings(seed=1, extra=("Something else entirely.",) * 3))
    assert sum(s.what == "extra" for s in made.said) >= 1
    assert all(s.line == -1 for s in made.said if s.what in ("extra", "talk"))


# --- prepared takes --------------------------------------------------------------------------------------------------


@pytest.fixture
def prepared(tmp_path):
    x = np.linspace(-0.5, 0.5, 4 * BOOK_RATE, dtype=np.float32)
    soundfile.write(tmp_path / "booth.flac", x, BOOK_RATE)
    places = {words_of(LINES[0]): [[0, 1000], [1000, 3000]], words_of(LINES[2]): [[5000, 6000]]}
    (tmp_path / "booth.json").write_text(json.dumps(places))
    return tmp_path


def test_prepared_takes_are_known_by_their_words_and_come_in_turn(prepared):
    voice = PreparedVoice(prepared)
    assert [len(voice.said("“the tide went out!”", k)) for k in range(3)] == [1000, 2000, 1000]
    assert voice.said("The tide went in.", 0) is None
    both = voice.said(f"{LINES[0]} {LINES[2]}", 0)  # a line of two sentences is made of both
    assert len(both) == 1000 + round(0.45 * BOOK_RATE) + 1000


def test_the_demos_booth_reads_a_clause_of_a_sentence_from_pause_to_pause(demo):
    voice = PreparedVoice(demo)
    first, second = (
        "It left the old ferry lying on its side in the mud,",
        "and beside it a line of green bottles that nobody would admit to owning.",
    )
    whole, a, b = (voice.said(text, 0) for text in (f"{first} {second}", first, second))
    np.testing.assert_array_equal(np.concatenate([a, b]), whole)
    for edge in (a[-1000:], b[:1000]):
        assert np.abs(edge).max() < 0.01 * np.abs(whole).max()  # cut where nobody speaks
    assert abs(len(a) / len(whole) - len(first) / len(first + second)) < 0.1
    assert voice.said("beside it", 0) is None  # no clause
    assert voice.said(f"{second} Write that down.", 0) is not None


def test_a_folder_without_prepared_takes_is_told(tmp_path, monkeypatch):
    from faithful_reel.core.standins import booth

    monkeypatch.setattr(booth, "voice_is_installed", lambda: False)
    with pytest.raises(FileProblem, match="no voice is installed"):
        voices_of(tmp_path)
    (tmp_path / "booth.json").write_text("{")
    with pytest.raises(FileProblem, match="no prepared takes"):
        voices_of(tmp_path)


def test_the_demos_booth_knows_slates_and_the_lines_that_are_misread(demo):
    voice = PreparedVoice(demo)
    assert voice.said("Pickup 3.", 0) is not None
    for line in ("“Write that down.”", "By nine o’clock the whole town had come down to look."):
        assert voice.said(line, 0) is not None
        assert len(voice.said(line, 0)) != len(voice.said(line, 1))


# --- the sheet -------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(("suffix", "write"), [(".csv", csv_sheet), (".xlsx", xlsx_sheet)])
def test_the_lines_of_a_call_sheet_are_read_back(tmp_path, suffix, write):
    texts = (*LINES, "=1+1 is no formula")
    lines = tuple(
        SheetLine(k, "One", 0, "0:00:01", tuple(t.split()), frozenset({0}), "", Want.WORDS, "", (), "")
        for k, t in enumerate(texts, 1)
    )
    (tmp_path / f"s{suffix}").write_bytes(write(Sheet("t", "", lines)))
    assert lines_of_sheet(tmp_path / f"s{suffix}") == list(texts)


def test_what_is_no_call_sheet_is_told(tmp_path):
    (tmp_path / "a.csv").write_text("a,b\n1,2\n")
    with pytest.raises(FileProblem, match="is no call sheet"):
        lines_of_sheet(tmp_path / "a.csv")
    (tmp_path / "b.xlsx").write_bytes(b"nothing")
    with pytest.raises(FileProblem, match="can not be read"):
        lines_of_sheet(tmp_path / "b.xlsx")
    with pytest.raises(FileProblem, match="can not be read"):
        lines_of_sheet(tmp_path / "none.csv")


def test_damaged_and_absurd_sheets_are_told_and_cost_little(tmp_path):
    path, rng = tmp_path / "a.xlsx", random.Random(7)
    line = SheetLine(1, "One", 0, "0:00:01", ("Read", "this."), frozenset({0}), "", Want.WORDS, "", (), "")
    path.write_bytes(xlsx_sheet(Sheet("t", "", (line,))))
    with zipfile.ZipFile(path) as packed:
        parts = {name: packed.read(name) for name in packed.namelist()}
    for turn in range(150):
        with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as packed:
            for name, data in parts.items():
                changed = bytearray(data)
                for _ in range(rng.choice((0, 1, 3))):
                    changed[rng.randrange(len(changed))] = rng.randrange(256)
                packed.writestr(name, bytes(changed[: rng.randrange(len(changed))] if turn % 9 == 0 else changed))
        with contextlib.suppress(FileProblem):
            lines_of_sheet(path)
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as packed:  # 100 MB of one letter in 100 kB
        for name, data in parts.items():
            packed.writestr(
                name, data.replace(b"</sheetData>", b" " * (100 << 20) + b"</sheetData>") if "sheet1" in name else data
            )
    with pytest.raises(FileProblem, match="can not be read"):
        lines_of_sheet(path)
    (tmp_path / "b.csv").write_bytes(b"read this line\n" + b"x" * (65 << 20))
    with pytest.raises(FileProblem, match="too large"):
        lines_of_sheet(tmp_path / "b.csv")


@pytest.mark.parametrize(
    "known",
    ["[]", "{", "[" * 100_000, "{}x", '{"a": 1}', '{"a": []}', '{"a": [[0]]}', '{"a": [[0, 1e9]]}', '{"a": [[5, 5]]}',
     '{"a": [[-1, 5]]}', '{"a": [[0, 9999999999999999999999]]}', '{"a": [["0", "5"]]}', '{"a": [[true, 5]]}', "null"],
)  # fmt: skip
def test_prepared_takes_that_are_not_told_of_are_refused(tmp_path, known):
    soundfile.write(tmp_path / "booth.flac", np.zeros(100), BOOK_RATE)
    (tmp_path / "booth.json").write_text(known)
    with pytest.raises(FileProblem, match="takes"):
        PreparedVoice(tmp_path)


def test_the_number_of_a_pickup_is_said_as_its_slate_is(demo):
    voices = [PreparedVoice(demo)]
    x = number_said(3, voices, BOOK_RATE)
    assert np.array_equal(x, voices[0].said("Pickup 3.", 0))
    half = number_said(3, voices, BOOK_RATE // 2)
    assert len(half) == pytest.approx(len(x) / 2, abs=2)
    assert number_said(9999, voices, BOOK_RATE) is None
