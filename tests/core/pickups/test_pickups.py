"""Sorting takes, gaps of a line, the call sheet."""

from __future__ import annotations

import csv
import io
import json

import pytest

from faithful_reel.core.audio.files import read_mono
from faithful_reel.core.collate.links import collated
from faithful_reel.core.errors import FileProblem
from faithful_reel.core.hear.recogniser import Heard
from faithful_reel.core.jobs import Unwatched
from faithful_reel.core.pickups.ledger import Pickup, call_sheet
from faithful_reel.core.pickups.placing import heard_in, takes_of
from faithful_reel.core.pickups.takes import changed_tokens, find_line, find_takes, leaving_gaps, line_gaps, proposed
from faithful_reel.core.units import EAR_RATE, Span


def heard(text):
    return [Heard(t, 1000 * i, 1000 * i + 800, 0.9) for i, t in enumerate(text.split())]


LINE = ["By", "nine", "o’clock", "the", "whole", "town", "had", "come", "down", "to", "look."]


def test_every_take_of_a_line_is_found_and_the_last_right_one_proposed():
    said = heard("Pickup 3. By nine o'clock the whole town come down to look. By nine o'clock the whole town had come down to look. "
                 "By 9 o'clock the whole town had come down to look. Pickup 4. A gull stood there on one leg.")  # fmt: skip
    takes = find_takes(LINE, said)
    assert [t.departures for t in takes] == [1, 0, 0]
    assert proposed(takes) == 2
    assert [said[t.words.start].text for t in takes] == ["By", "By", "By"]
    assert [said[t.words.stop - 1].text for t in takes] == ["look."] * 3


def test_other_lines_are_no_takes():
    assert find_takes(LINE, heard("A gull stood there on one leg as though it had bought the land.")) == []
    assert proposed([]) == -1


def test_a_line_is_found_in_the_script():
    script = [
        "He",
        "did",
        "not",
        "like",
        "surprises.",
        "By",
        "nine",
        "o’clock",
        "the",
        "whole",
        "town",
        "had",
        "come",
        "down",
        "to",
        "look.",
        "Children",
        "ran",
        "out.",
    ]
    assert find_line(script, LINE) == 5
    assert find_line(script, ["the", "whole", "town"]) == 8
    with pytest.raises(FileProblem, match="not in the script"):
        find_line(script, ["something", "quite", "different", "altogether"])


def test_gaps_take_extra_words_out_but_leave_neighbours_alone():
    written = ["nobody", "listened.", "Mr.", "Gray", "walked"]
    said = heard("nobody ever listened. Mr. Gray Mr. Gray walked")
    links = collated(written, [h.text for h in said])
    bounds = Span(0, 20_000)
    entering = line_gaps(links, said, range(2), bounds)
    assert entering[1] == Span(800, 1000)  # before "ever": a cut there takes it out
    leaving = leaving_gaps(links, said, range(2), bounds)
    assert leaving[1] == Span(1800, 2000)  # after "ever"
    assert changed_tokens(links, range(2)) == range(2)


def test_changed_tokens_of_a_line():
    links = collated(["a", "line", "of", "green", "bottles"], ["a", "line", "of", "great", "bottles"])
    assert changed_tokens(links, range(5)) == range(3, 4)
    assert changed_tokens(links, range(3)) == range(3)  # nothing departs: all of it


def test_the_call_sheet_says_what_and_where():
    pickup = Pickup("p1", "c1", ("f1",), "Write “that” down, please.", "this", 10, 4, 44_100 * 75, 44_100 * 76)
    say = (("tarrow", "TA-roh"), ("write", "like right"))
    rows = list(csv.reader(io.StringIO(call_sheet([pickup], {"c1": "Low Water"}, 44_100, say))))
    assert rows[1] == ["1", "Low Water", "1:15.0", "Write “that” down, please.", "this", "write: like right", ""]


@pytest.mark.slow
def test_the_demos_pickup_recording_is_sorted(demo, ears):
    truth = json.loads((demo / "truth.json").read_text())["pickups-1"]["takes"]
    said = heard_in(read_mono(demo / "pickups-1.flac", EAR_RATE), 44_100, ears.first, Unwatched())
    for line in dict.fromkeys(t["line"] for t in truth):
        takes, best = takes_of(line, said, "r")
        real = [t for t in truth if t["line"] == line]
        assert len(takes) == len(real) == 2
        assert best >= 0
        assert takes[best].departures <= 1  # the ear may mishear a word of an invented town
        for take, where in ((t, w) for t, w in zip(takes, real, strict=True) if not t.departures):
            assert take.start / 44_100 == pytest.approx(where["start"], abs=0.12)
            assert take.stop / 44_100 == pytest.approx(where["end"], abs=0.15)
