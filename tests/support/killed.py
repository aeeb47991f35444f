"""A scripted editing run that is killed at random moments: run as a program, so that one warm process forks all runs.

Prints a JSON line for each run: the last step that a command had returned, and the reel's length then.
"""

from __future__ import annotations

import json
import os
import random
import select
import signal
import sys
import time
from pathlib import Path

from faithful_reel.core.book.commands import AddFinding, Decide, EditReel, SetDetails
from faithful_reel.core.book.session import Session
from faithful_reel.core.book.store import BookStore
from faithful_reel.core.collate.findings import Decision, Finding, Kind
from faithful_reel.core.reel.commands import CutAndClose, SetGain, SplitAt


def edits(folder: Path, out: int) -> None:
    """Edit for ever; tell each step when its command has returned."""
    session = Session(BookStore(folder))
    rng = random.Random(os.getpid())
    while True:
        reel = session.book.chapters[0].reel
        assert reel is not None
        at = rng.randrange(1000, len(reel) - 5000)
        match rng.randrange(10):
            case 0:
                session.do(SetDetails(f"title {at}", "", ""))
            case 1:
                session.do(EditReel("c1", SetGain(at, at + 400, -1.0)))
            case 2:
                session.do(EditReel("c1", SplitAt(at)))
            case 3:
                made = Finding(f"h{at}-{session.store.head}", Kind.OTHER, "x", "", 0, 1, at, at + 10, 1.0)
                session.do(AddFinding("c1", made))
            case 4 if session.book.chapters[0].findings:
                session.do(Decide("c1", (rng.choice(session.book.chapters[0].findings).id,), Decision.STET))
            case 5 | 6 | 7 if session.store.head > 3:
                session.undo()
            case _:
                session.do(EditReel("c1", CutAndClose(at, at + 7)))
        length = len(session.book.chapters[0].reel or ())
        os.write(out, f"{session.store.head} {length} {len(session.book.chapters[0].findings)}\n".encode())


def run(folder: Path, rng: random.Random) -> dict[str, int]:
    """One run, killed after a random time that begins with its first returned command."""
    reading, writing = os.pipe()
    child = os.fork()
    if child == 0:
        os.close(reading)
        try:
            edits(folder, writing)
        finally:
            os._exit(1)
    os.close(writing)
    told = b""
    select.select([reading], [], [], 60)
    time.sleep(rng.random() * 0.012)
    os.kill(child, signal.SIGKILL)
    while part := os.read(reading, 1 << 16):
        told += part
    os.waitpid(child, 0)
    os.close(reading)
    lines = told.decode().splitlines(keepends=True)
    whole = [line for line in lines if line.endswith("\n")]
    head, length, findings = (int(v) for v in whole[-1].split())
    return {"head": head, "length": length, "findings": findings, "steps": len(whole)}


if __name__ == "__main__":
    for turn in range(int(sys.argv[2])):
        print(json.dumps(run(Path(sys.argv[1]), random.Random(turn))), flush=True)
        sys.stdin.readline()  # until the book was looked at
