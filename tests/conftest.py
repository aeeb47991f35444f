"""What all tests share: warnings, Qt messages, leftover threads and timers fail them."""

from __future__ import annotations

import gc
import json
import os
import threading
import time
import warnings
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ.setdefault("QT_MEDIA_BACKEND", "ffmpeg")
warnings.filterwarnings("ignore", message="builtin type .* has no __module__ attribute", category=DeprecationWarning)

import pytest  # noqa: E402
from hypothesis import HealthCheck, settings  # noqa: E402
from support.sounds import DEMO  # noqa: E402

# a busy machine is no failure: no test asserts wall-clock times
settings.register_profile("house", deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("house")


@pytest.hookimpl(tryfirst=True)
def pytest_collection_modifyitems(items):
    """What needs the ears runs in one worker: they are loaded once, and every demo chapter is heard once a run."""
    for item in items:
        if {"ears", "heard_file"} & set(item.fixturenames):
            item.add_marker(pytest.mark.xdist_group("ears"))


def pytest_collection_finish(session):
    """In a worker, groups are told by the names of tests: a version of the tools that lets them pass unseen fails here."""
    if hasattr(session.config, "workerinput") and session.config.getoption("loadgroup", default=False):
        grouped = [item for item in session.items if item.get_closest_marker("xdist_group")]
        assert all(item.nodeid.endswith("@ears") for item in grouped), (
            "tests are not grouped: see the pins of pytest and pytest-xdist"
        )


@pytest.fixture(autouse=True, scope="session")
def own_data_folder(tmp_path_factory):
    """What is kept for all books is kept in a folder of the run."""
    os.environ["XDG_DATA_HOME"] = str(tmp_path_factory.mktemp("data"))


@pytest.fixture(autouse=True)
def no_thread_is_left():
    """A test that leaves a thread running fails; pools get a moment to end."""
    before = set(threading.enumerate())
    yield
    deadline = time.monotonic() + 5
    while (left := [t for t in threading.enumerate() if t not in before and t.is_alive()]) and time.monotonic() < deadline:
        time.sleep(0.01)
    assert not left, f"threads left running: {left}"


@pytest.fixture(autouse=True)
def no_timer_is_left(request):
    """A test of the window that leaves a timer running fails; what waits for its turn gets a moment to have it."""
    yield
    if "qtbot" not in request.fixturenames and "opened" not in request.fixturenames:
        return
    from PyQt6 import sip
    from PyQt6.QtCore import QCoreApplication, QTimer

    timers = [o for o in gc.get_objects() if isinstance(o, QTimer) and not sip.isdeleted(o)]
    deadline = time.monotonic() + 1
    while (left := [t for t in timers if not sip.isdeleted(t) and t.isActive()]) and time.monotonic() < deadline:
        QCoreApplication.processEvents()
    assert not left, f"timers left running: {[t.parent() for t in left]}"


@pytest.fixture(scope="session")
def demo() -> Path:
    """The folder with the demo book's files."""
    return DEMO


@pytest.fixture(scope="session")
def ears():
    """All recognisers, loaded once."""
    from faithful_reel.core.hear.ears import installed_ears

    return installed_ears()


@pytest.fixture(scope="session")
def heard_file(tmp_path_factory):
    """The file that remembers what the ears made of the demo's chapters, once `proofs` was asked for."""
    return tmp_path_factory.mktemp("heard") / "heard.sqlite"


@pytest.fixture(scope="session")
def proofs(demo, ears, heard_file):
    """(what was planted, the chapter, its proof) of the demo's raw chapters, heard once."""
    from faithful_reel.core.audio.files import ear_sound
    from faithful_reel.core.collate.proofing import proofed
    from faithful_reel.core.hear.memory import Memory
    from faithful_reel.core.text.manuscript import read_script

    truth = json.loads((demo / "truth.json").read_text())
    names = [f"chapter-{n}" for n in (1, 2, 3)]
    scripts = {n: read_script(demo / f"{n}.txt") for n in names}
    with Memory(heard_file) as memory:
        return [(truth[n], scripts[n], proofed(ear_sound(demo / f"{n}.flac"), scripts[n], ears, memory=memory)) for n in names]


@pytest.fixture(scope="session")
def demo_book(tmp_path_factory, demo):
    """A demo book that tests copy from: made once."""
    from faithful_reel.core.book.demo import make_demo_book

    folder = tmp_path_factory.mktemp("demo") / "demo.reelbook"
    make_demo_book(folder, demo, two_voices=False)
    return folder


@pytest.fixture(scope="session")
def whole_demo_book(tmp_path_factory, demo):
    """The demo book with its chapter for two voices: made once."""
    from faithful_reel.core.book.demo import make_demo_book

    folder = tmp_path_factory.mktemp("whole") / "demo.reelbook"
    make_demo_book(folder, demo)
    return folder


@pytest.fixture(scope="session")
def both_voices(whole_demo_book, ears, tmp_path_factory):
    """The demo's two-voice chapter heard once: (its book, what was heard, the file that remembers it)."""
    from faithful_reel.core.book.recordings import path_of
    from faithful_reel.core.book.session import Session
    from faithful_reel.core.book.store import BookStore
    from faithful_reel.core.hear.memory import Memory
    from faithful_reel.core.jobs import Unwatched
    from faithful_reel.core.text.words import Chapter
    from faithful_reel.core.work.hearing import heard_voices

    kept = tmp_path_factory.mktemp("voices") / "heard.sqlite"
    with BookStore(whole_demo_book) as store:
        book = Session(store).book
        text = store.get(Chapter, book.chapters[-1].text)
    sound = {r.hash: path_of(whole_demo_book, r, book.rate) for r in book.recordings}
    with Memory(kept) as memory:
        found = heard_voices(book, book.chapters[-1], text, sound.__getitem__, ears, Unwatched(), None, memory)
    return book, text, found, kept


@pytest.fixture
def remembering(opened, proofs, heard_file):
    """The same window on a book whose chapters were heard before: hearing them again takes a moment."""
    import shutil

    from faithful_reel.core.book.store import HEARD

    assert proofs
    shutil.copyfile(heard_file, opened.book / HEARD)
    return opened


@pytest.fixture
def opened(qtbot, tmp_path, demo_book):
    """A window on a copy of the demo book, with the simulated sound card."""
    from support.app import DemoWindow

    window = DemoWindow(qtbot, tmp_path, demo_book)
    yield window
    window.close()
