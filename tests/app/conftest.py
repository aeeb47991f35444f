"""The window on a fresh demo book, with the simulated sound card."""

from __future__ import annotations

import pytest
from support.app import DemoWindow


@pytest.fixture(scope="session")
def demo_book(tmp_path_factory, demo):
    """A demo book that tests copy from: made once."""
    from faithful_reel.core.book.demo import make_demo_book

    folder = tmp_path_factory.mktemp("demo") / "demo.reelbook"
    make_demo_book(folder, demo)
    return folder


@pytest.fixture
def opened(qtbot, tmp_path, demo_book):
    """A window on a copy of the demo book."""
    window = DemoWindow(qtbot, tmp_path, demo_book)
    yield window
    window.close()
