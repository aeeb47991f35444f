"""A short run of somebody who presses everything; a long one is in the benchmarks."""

from __future__ import annotations

import pytest
from support.hearing import lay_hearing
from support.monkey import Monkey


@pytest.mark.slow
@pytest.mark.parametrize("seed", [11, 12])
def test_pressing_everything_breaks_nothing(opened, tmp_path, monkeypatch, seed):
    lay_hearing(opened.window.bench)
    lay_hearing(opened.window.bench, "c2")
    (tmp_path / "made").mkdir()
    monkey = Monkey(opened, seed, tmp_path / "made")
    monkey.dialogs(monkeypatch.setattr)
    start = opened.window.bench.session.store.count()
    for number in range(180):
        monkey.move()
        if number == 90:
            monkey.same_when_reopened()
    opened.idle()
    monkey.same_when_reopened()
    assert opened.window.bench.session.store.count() - start > 25
    opened.close()
    monkey.sound()
    assert monkey.faults == []
