"""Edit commands: frozen orders that map a reel to a new reel.  They are what the journal stores.

`apply` raises `EditRefused` where an order does not fit, and changes nothing then.
"""

from __future__ import annotations

from faithful_reel.core.reel.cutting import (
    CutAndClose,
    CutAndFill,
    InsertPause,
    LengthenPause,
    MoveEdge,
    MoveJoin,
    Overlap,
    Paste,
    PutBackSound,
    ReplaceByTake,
    Slide,
    SplitAt,
    SplitMany,
)
from faithful_reel.core.reel.lanes import (
    AddLane,
    BringIntoStep,
    DressLane,
    LinkLane,
    MixLane,
    OrderLanes,
    PutMarker,
    RemoveLane,
    RemoveMarkers,
    SetLaneTone,
)
from faithful_reel.core.reel.reel import LIKE, SOFT, ToneSource
from faithful_reel.core.reel.shaping import ChangeGain, DrawLine, NamePiece, SetFade, SetGain, SetJoin, SetJoins

ReelCommand = (
    CutAndClose
    | CutAndFill
    | InsertPause
    | LengthenPause
    | Slide
    | SplitAt
    | SplitMany
    | MoveJoin
    | MoveEdge
    | Overlap
    | ReplaceByTake
    | PutBackSound
    | Paste
    | SetGain
    | ChangeGain
    | DrawLine
    | SetFade
    | SetJoin
    | SetJoins
    | NamePiece
    | AddLane
    | RemoveLane
    | OrderLanes
    | DressLane
    | MixLane
    | LinkLane
    | BringIntoStep
    | SetLaneTone
    | PutMarker
    | RemoveMarkers
)
__all__ = [
    "LIKE",
    "SOFT",
    "AddLane",
    "BringIntoStep",
    "ChangeGain",
    "CutAndClose",
    "CutAndFill",
    "DrawLine",
    "DressLane",
    "InsertPause",
    "LengthenPause",
    "LinkLane",
    "MixLane",
    "MoveEdge",
    "MoveJoin",
    "NamePiece",
    "OrderLanes",
    "Overlap",
    "Paste",
    "PutBackSound",
    "PutMarker",
    "ReelCommand",
    "RemoveLane",
    "RemoveMarkers",
    "ReplaceByTake",
    "SetFade",
    "SetGain",
    "SetJoin",
    "SetJoins",
    "SetLaneTone",
    "Slide",
    "SplitAt",
    "SplitMany",
    "ToneSource",
]
