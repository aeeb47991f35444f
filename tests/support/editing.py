"""An editing presenter on a workbench, with a player that makes no sound but tells what it was asked to play."""

from __future__ import annotations

from faithful_reel.app.editing.presenter import Editing
from faithful_reel.app.proof.presenter import ProofPresenter
from faithful_reel.app.transport.presenter import Transport


class StillPlayer:
    """Plays nothing, at no place."""

    volume_db = 0.0
    playing = False
    position = 0

    def __init__(self) -> None:
        self.played = []

    def play(self, render, start, stop, rate, **how):
        """Only what was asked for is kept."""
        self.played.append((render, start, stop))

    def stop(self):
        """Nothing sounds."""

    def use_device(self, device):
        """There is none."""


class Settings(dict):
    """Settings of one run."""

    def value(self, key, default=None):
        """As Qt's."""
        return self.get(key, default)

    def setValue(self, key, value):
        """As Qt's."""
        self[key] = value


def editing_of(bench) -> Editing:
    """Editing of a workbench's chapters."""
    settings = Settings()
    transport = Transport(bench, StillPlayer(), settings, ProofPresenter(bench).listening)
    return Editing(transport, settings)
