"""All tables of acts, by what brings them: for the page that lists them, and for whoever checks them."""

from __future__ import annotations

from typing import Any

from faithful_reel.app import help as helping
from faithful_reel.app import keeping, window_acts
from faithful_reel.app.actions import Act
from faithful_reel.app.editing import acts as editing
from faithful_reel.app.editing import ear_acts
from faithful_reel.app.editing import list_acts as lists
from faithful_reel.app.intake import acts as intake
from faithful_reel.app.master import acts as master
from faithful_reel.app.pickups import acts as pickups
from faithful_reel.app.proof import acts as proof
from faithful_reel.app.proof import queue_acts, quick_acts
from faithful_reel.app.recording import acts as recording
from faithful_reel.app.release import acts as release
from faithful_reel.app.splice import acts as splice
from faithful_reel.app.transport import acts as transport

TABLES: dict[str, tuple[Act[Any], ...]] = {
    "the book": keeping.ACTS,
    "Intake": intake.ACTS,
    "the window": window_acts.ACTS,
    "Proof": proof.ACTS,
    "the quick check": quick_acts.ACTS,
    "hearing the book": queue_acts.ACTS,
    "editing": editing.ACTS,
    "by ear": ear_acts.ACTS,
    "lists": lists.ACTS,
    "Pickups": pickups.ACTS,
    "recording": recording.ACTS,
    "Splice": splice.ACTS,
    "Master": master.ACTS,
    "Release": release.ACTS,
    "listening": transport.ACTS,
    "help": helping.ACTS,
}


def every_act() -> list[Act[Any]]:
    """The acts of all tables."""
    return [act for table in TABLES.values() for act in table]
