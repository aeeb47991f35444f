"""The one place where objects are made and joined."""

from __future__ import annotations

import subprocess
import sys
import time
from pathlib import Path

from PyQt6.QtCore import QSettings

from faithful_reel.app.actions import Actions, Bound
from faithful_reel.app.asking import Asking
from faithful_reel.app.contents import Contents
from faithful_reel.app.desks import DeskName, Desks
from faithful_reel.app.help import Help
from faithful_reel.app.intake.acts import IntakeActs
from faithful_reel.app.intake.panel import IntakePanel
from faithful_reel.app.intake.presenter import IntakePresenter
from faithful_reel.app.jobs import Jobs
from faithful_reel.app.keeping import Keeping
from faithful_reel.app.master.acts import MasterActs
from faithful_reel.app.master.panel import MasterPanel
from faithful_reel.app.master.presenter import MasterPresenter
from faithful_reel.app.pickups.acts import PickupsActs
from faithful_reel.app.pickups.panel import PickupsPanel
from faithful_reel.app.pickups.presenter import PickupsPresenter
from faithful_reel.app.places import Places, remember_book
from faithful_reel.app.proof.acts import ProofActs
from faithful_reel.app.proof.names_presenter import NamesPresenter
from faithful_reel.app.proof.panel import ProofPanel
from faithful_reel.app.proof.presenter import ProofPresenter
from faithful_reel.app.release.acts import ReleaseActs
from faithful_reel.app.release.panel import ReleasePanel
from faithful_reel.app.release.presenter import ReleasePresenter
from faithful_reel.app.settings import text
from faithful_reel.app.sound import Card, DeviceCard, Player
from faithful_reel.app.splice.acts import SpliceActs
from faithful_reel.app.splice.panel import SplicePanel
from faithful_reel.app.splice.presenter import SplicePresenter
from faithful_reel.app.transport.acts import TransportActs
from faithful_reel.app.transport.bar import TransportBar
from faithful_reel.app.transport.close_view import CloseView
from faithful_reel.app.transport.presenter import Transport
from faithful_reel.app.widgets.parts import Desk
from faithful_reel.app.window import Parts, Window
from faithful_reel.app.window_acts import WindowActs
from faithful_reel.app.workbench import Hearers, Workbench
from faithful_reel.core.book.store import SUFFIX, BookStore, Session
from faithful_reel.core.standins.sound_card import SimulatedCard

CARD_WAIT_S = 3.0


def user_settings(file: Path | None = None) -> QSettings:
    """What the user chose, from a plain INI file."""
    if file is not None:
        return QSettings(str(file), QSettings.Format.IniFormat)
    return QSettings(QSettings.Format.IniFormat, QSettings.Scope.UserScope, "faithful-reel", "faithful-reel")


def sound_card(rate: int, device: str = "", *, simulated: bool = False) -> Card:
    """The real device where there is one, `device` or the usual one, else the simulated card."""
    if simulated:
        return SimulatedCard(rate)
    card = DeviceCard(rate, device)
    deadline = time.monotonic() + CARD_WAIT_S
    while card.state() == "waiting" and time.monotonic() < deadline:
        time.sleep(0.02)
    if card.state() == "ready":
        return card
    card.close()
    return sound_card(rate) if device else SimulatedCard(rate)


def open_window(folder: Path, settings: QSettings, *, create: bool = False, simulated_sound: bool = False) -> Window:
    """Open a book and make its window.

    Raises
    ------
    StoreProblem
        The book can not be opened.
    """
    session = Session(BookStore(folder, create=create))
    rate = session.book.rate
    jobs = Jobs()
    bench = Workbench(session, jobs, tell=print)
    places = Places(settings, folder)
    bench.open_chapter(places.chapter)
    own = text(settings, "hear/ear")
    bench.ears = Hearers(Path(own) if own else None)

    def card(device: str) -> Card:
        return sound_card(rate, device, simulated=simulated_sound)

    player = Player(card(text(settings, "listen/device")), card)
    intake, proof, pickups = IntakePresenter(bench), ProofPresenter(bench), PickupsPresenter(bench)
    names, splice, mastering = NamesPresenter(bench), SplicePresenter(bench), MasterPresenter(bench)
    releasing = ReleasePresenter(bench, mastering)
    proof.off = frozenset(filter(None, text(settings, "proof/off").split(",")))
    transport = Transport(bench, player, settings, proof.listening)
    panels: dict[DeskName, Desk] = {
        DeskName.INTAKE: (intake_panel := IntakePanel(intake)),
        DeskName.PROOF: (proof_panel := ProofPanel(proof, names, places)),
        DeskName.PICKUPS: (pickups_panel := PickupsPanel(pickups)),
        DeskName.SPLICE: (splice_panel := SplicePanel(splice)),
        DeskName.MASTER: MasterPanel(mastering),
        DeskName.RELEASE: ReleasePanel(releasing),
    }
    usual = DeskName.PROOF if bench.book.chapters else DeskName.INTAKE
    known = text(settings, "view/desk")
    desks = Desks(DeskName(known) if known in set(DeskName) else usual)
    loupe, foot = CloseView(transport), TransportBar(transport, player)
    ask = Asking(None, settings)
    keeping = Keeping(bench, intake, ask, settings, open_beside)
    contents = Contents(proof, mastering)
    parts = Parts(
        bench,
        jobs,
        transport,
        player,
        contents,
        panels,
        loupe,
        foot,
        intake,
        proof,
        names,
        pickups,
        splice,
        mastering,
        releasing,
        keeping,
    )
    window = Window(parts, desks, settings)
    ask.parent = window
    helping = Help(desks)
    proof_acts = ProofActs(proof, names, proof_panel, transport, desks, ask, settings)
    transport_acts = TransportActs(transport, loupe)
    tables: list[Bound] = [
        keeping,
        IntakeActs(intake, intake_panel, ask),
        WindowActs(window),
        proof_acts,
        PickupsActs(pickups, pickups_panel, transport, ask),
        SpliceActs(splice, transport),
        MasterActs(mastering, transport),
        ReleaseActs(releasing, ask),
        transport_acts,
        helping,
    ]
    actions = Actions(window, tables, settings, window.why_not, window.tell)
    keeping.close, helping.window, helping.actions = window.close, window, actions
    for bound in (proof_acts, transport_acts):
        bound.bind(actions)
    # what tells, and who listens
    transport.views += [loupe, foot, GalleyFollows(proof_panel, transport)]
    transport.elsewhere += [foot.show_time, splice_panel.show_position]
    player.moved.connect(transport.moved)
    player.started.connect(transport.state_changed)
    player.ended.connect(transport.state_changed)
    player.failed.connect(window.tell)
    for presenter in (intake, pickups, splice, mastering, releasing):
        presenter.listen(window.refresh_desk)
    proof.listen(window.show_contents)
    proof.listen(window.refresh_desk)

    def let_go() -> None:
        keeping.stop()
        proof_panel.keep_place()
        places.save(bench.chapter_id)
        splice.close()
        player.card.close()

    window.closing.append(let_go)
    for owned in (jobs, player, keeping):
        owned.setParent(window)
    window.furnish(actions)
    keeping.tell_state()
    remember_book(settings, folder)
    return window


class GalleyFollows:
    """The page follows the sound while it plays."""

    def __init__(self, panel: ProofPanel, transport: Transport) -> None:
        self._galley, self._transport = panel.galley, transport

    def show_position(self, position: int, *, follow: bool) -> None:
        """Light the word; bring it into view while sound plays."""
        self._galley.set_playhead(position, follow=follow and self._transport.playing)

    def look_at(self, position: int, *, span_s: float | None = None) -> None:
        """The page shows no closer view."""


def open_beside(folder: Path, create: bool) -> None:  # noqa: FBT001 - as Keeping calls it
    """Open another book in a process of its own."""
    if create and folder.suffix != SUFFIX:
        folder = folder.with_name(folder.name + SUFFIX)
    if create:
        BookStore(folder, create=True).close()
    subprocess.Popen([sys.executable, "-m", "faithful_reel.cli", "open", str(folder)], start_new_session=True)
