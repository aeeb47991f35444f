"""The recognisers that hear in windows: what is heard in which window."""

from __future__ import annotations

import threading
import time
from types import SimpleNamespace

import numpy as np
import pytest

from faithful_reel.core.hear.windowed import AT_ONCE, TAIL, WINDOW, _InWindow

RATE = 16_000


class Ear:
    """An ear of numbers: it hears the tokens that it is given for a window's length, and notes which windows were encoded."""

    def __init__(self, short: list[int], whole: list[int], read: int = 0) -> None:
        self.heard, self.sizes, self.running, self.together = {WINDOW: whole}, [], [], []
        self.short, self.read = short, read
        self.tokenizer = SimpleNamespace(sot_sequence=[1], no_timestamps=2, eot=1000, split_to_word_tokens=self.split)
        self.model = SimpleNamespace(generate=self.generate, align=self.align)
        self._lock = threading.Lock()

    def encode(self, features):
        size = features.shape[-1]
        with self._lock:
            self.running.append(size)
            self.sizes.append(size)
            self.together.append(list(self.running))
        time.sleep(0.02)
        with self._lock:
            self.running.remove(size)
        return size

    def generate(self, encoded, *_, **__):
        return [SimpleNamespace(sequences_ids=[self.heard.get(encoded, self.short)])]

    def align(self, _encoded, _start, tokens, frames):
        read = self.read or len(tokens[0])  # what comes after those takes no time
        stamps = [(k, min(k, read) * frames // 2 // (read + 1)) for k in range(len(tokens[0]) + 1)]
        return [SimpleNamespace(alignments=stamps, text_token_probs=[0.9] * len(tokens[0]))]

    def split(self, tokens):
        return [f" w{t}" for t in tokens], [[t] for t in tokens]


def heard(ear, seconds=5.0):
    frames = round(100 * seconds)
    return _InWindow(ear, np.zeros((80, frames), np.float32), round(seconds * RATE)).words()


def test_a_chunk_is_heard_in_a_window_of_its_own_length():
    ear = Ear([11, 12, 13], [])
    assert [w for w, *_ in heard(ear)] == ["w11", "w12", "w13"]
    assert ear.sizes == [500 + TAIL]


LINE = [*range(20, 27)]


@pytest.mark.parametrize(("short", "read"), [(LINE * 2, 7), ([9, *LINE * 2, *LINE], 15), ([*range(20, 80)], 0)])
def test_a_loop_is_heard_again_in_the_full_window(short, read):
    """The copy takes no time in the sound; or there are more tokens than anybody can say."""
    ear = Ear(short, [11, 12], read)
    assert [w for w, *_ in heard(ear)] == ["w11", "w12"]
    assert ear.sizes == [500 + TAIL, WINDOW]


@pytest.mark.parametrize("short", [LINE * 2, [9, *LINE, *LINE, 30]])
def test_a_line_that_is_read_twice_is_no_loop(short):
    ear = Ear(short, [11, 12])
    assert [w for w, *_ in heard(ear)] == [f"w{k}" for k in short]
    assert ear.sizes == [500 + TAIL]


def test_where_nothing_is_heard_nothing_is_placed():
    assert heard(Ear([], [])) == []
    assert heard(Ear([*range(20, 80)], [])) == []


def test_nothing_is_encoded_beside_a_full_window():
    ear = Ear(LINE * 2, [11, 12], len(LINE))
    threads = [threading.Thread(target=heard, args=(ear, 5.0 + k)) for k in range(6)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(timeout=10)
    assert ear.sizes.count(WINDOW) == len(threads)
    assert all(len(sizes) == 1 for sizes in ear.together if WINDOW in sizes)
    assert max(map(len, ear.together)) == AT_ONCE
