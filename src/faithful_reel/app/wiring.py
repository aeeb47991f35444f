"""The one place where objects are made and joined."""

from __future__ import annotations

import subprocess
import sys
import time
from functools import cache, partial
from pathlib import Path

from platformdirs import user_data_path
from PyQt6.QtCore import QSettings

from faithful_reel.app.actions import Actions, Bound
from faithful_reel.app.asking import Asking
from faithful_reel.app.contents import Contents
from faithful_reel.app.desks import DeskName, Desks
from faithful_reel.app.editing.acts import EditActs
from faithful_reel.app.editing.by_ear import ByEar
from faithful_reel.app.editing.copies_page import CopiesPage
from faithful_reel.app.editing.cutting import Cutting
from faithful_reel.app.editing.ear_acts import EarActs
from faithful_reel.app.editing.lanes import LaneWork
from faithful_reel.app.editing.list_acts import ListActs
from faithful_reel.app.editing.others_page import OthersPage
from faithful_reel.app.editing.outward import Outward
from faithful_reel.app.editing.pacing import Timing
from faithful_reel.app.editing.pages import MarkersPage, OffcutsPage, VersionsPage
from faithful_reel.app.editing.pieces_page import PiecesPage
from faithful_reel.app.editing.presenter import Editing
from faithful_reel.app.editing.shaping import Shaping
from faithful_reel.app.editing.sources import ElsewherePage, ShelfPage
from faithful_reel.app.editing.sweeping import SweepPage
from faithful_reel.app.help import Help
from faithful_reel.app.intake.acts import IntakeActs
from faithful_reel.app.intake.panel import IntakePanel
from faithful_reel.app.intake.presenter import IntakePresenter
from faithful_reel.app.jobs import Jobs
from faithful_reel.app.keeping import Keeping
from faithful_reel.app.master.acts import MasterActs
from faithful_reel.app.master.panel import MasterPanel
from faithful_reel.app.master.presenter import MasterPresenter
from faithful_reel.app.notify import notify
from faithful_reel.app.pickups.acts import PickupsActs
from faithful_reel.app.pickups.panel import PickupsPanel
from faithful_reel.app.pickups.presenter import PickupsPresenter
from faithful_reel.app.places import Places, remember_book
from faithful_reel.app.proof.acts import ProofActs
from faithful_reel.app.proof.hearing_queue import HearingQueue
from faithful_reel.app.proof.names_presenter import NamesPresenter
from faithful_reel.app.proof.panel import ProofPanel
from faithful_reel.app.proof.presenter import ProofPresenter
from faithful_reel.app.proof.queue_acts import QueueActs
from faithful_reel.app.proof.quick_acts import QuickActs
from faithful_reel.app.proof.quick_check import QuickCheck
from faithful_reel.app.recording.acts import RecordingActs
from faithful_reel.app.recording.microphone import Cue, DeviceMicrophone, Microphone, StandInMicrophone, inputs
from faithful_reel.app.recording.over import OverPresenter
from faithful_reel.app.recording.presenter import RecordPresenter
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
from faithful_reel.core.book.condition import SUFFIX
from faithful_reel.core.book.demo import demo_files
from faithful_reel.core.book.house import HouseShelf
from faithful_reel.core.book.recordings import forget_made
from faithful_reel.core.book.session import Session
from faithful_reel.core.book.store import BookStore
from faithful_reel.core.standins.booth import StandingVoice, Voice, number_said, one_take, voices_of
from faithful_reel.core.standins.sound_card import SimulatedCard
from faithful_reel.core.units import Signal

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


AS_IT_STANDS = "as it stands"
"""What the stand-in booth is asked for where no words of the manuscript stand."""


@cache
def stand_in_voices() -> list[Voice]:
    """The voices of the stand-in booth, loaded when they are first asked."""
    return voices_of(demo_files())


def microphone(rate: int, device: str = "", *, simulated: bool = False) -> Microphone:
    """The real sound input where there is one, `device` or the first, else the stand-in booth."""
    there = [] if simulated else inputs()
    if there:
        return DeviceMicrophone(rate, device if device in there else there[0])

    def read(cue: Cue) -> Signal:
        stands = [StandingVoice(cue.stands(), rate)] if cue.stands is not None else []
        return one_take(cue.line or AS_IT_STANDS, cue.take, [*stand_in_voices(), *stands], rate)

    return StandInMicrophone(rate, read)


def open_window(folder: Path, settings: QSettings, *, create: bool = False, simulated_sound: bool = False) -> Window:
    """Open a book and make its window.

    Raises
    ------
    StoreProblem
        The book can not be opened.
    """
    session = Session(BookStore(folder, create=create))
    session.remember()
    forget_made(session.store.folder)
    jobs, places = Jobs(), Places(settings, folder)
    bench = Workbench(session, jobs, tell=print)
    bench.open_chapter(places.chapter)
    own = text(settings, "hear/ear")
    bench.ears = Hearers(Path(own) if own else None)

    def card(device: str) -> Card:
        return sound_card(session.book.rate, device, simulated=simulated_sound)

    player = Player(card(text(settings, "listen/device")), card)
    ask, desks = Asking(None, settings), Desks(_first_desk(bench, settings))
    bench.ask = ask.choose
    parts = _parts(bench, jobs, player, ask, settings, places)
    window = Window(parts, desks, settings)
    ask.parent = window

    def listens() -> Microphone:
        return microphone(session.book.rate, text(settings, "record/input"), simulated=simulated_sound)

    recording = RecordPresenter(parts.pickups, parts.splice, parts.transport, listens, settings)
    over = OverPresenter(parts.editing, listens, settings)
    heard_from = partial(_inputs, simulated=simulated_sound)
    at_desk = RecordingActs(recording, over, parts.editing, desks, settings, window, lambda: window.theme, heard_from)
    queue = HearingQueue(parts.proof, places, partial(_tell_all, window))
    actions = _acts(window, parts, desks, ask, settings, at_desk, queue)
    _join(window, parts)
    proof_panel = parts.panels[DeskName.PROOF]
    assert isinstance(proof_panel, ProofPanel)

    def let_go() -> None:
        parts.keeping.stop()
        proof_panel.keep_place()
        places.save(bench.chapter_id)
        parts.splice.close()
        recording.close()
        over.close()
        player.card.close()

    window.closing.append(let_go)
    for owned in (jobs, player, parts.keeping):
        owned.setParent(window)
    window.furnish(actions)
    parts.keeping.tell_state()
    queue.resume()
    remember_book(settings, folder)
    return window


def _tell_all(window: Window, text: str) -> None:
    """Tell in the window, and to the desktop where the window is away."""
    window.tell(text)
    notify(window, text)


def _inputs(*, simulated: bool) -> list[str]:
    return [] if simulated else inputs()


def _first_desk(bench: Workbench, settings: QSettings) -> DeskName:
    """The desk that was at hand; of a book without chapters Intake, where it begins."""
    known = text(settings, "view/desk")
    if not bench.book.chapters:
        return DeskName.INTAKE
    return DeskName(known) if known in set(DeskName) else DeskName.PROOF


def _parts(bench: Workbench, jobs: Jobs, player: Player, ask: Asking, settings: QSettings, places: Places) -> Parts:
    """The presenters and what shows them."""
    intake, proof, pickups = IntakePresenter(bench), ProofPresenter(bench), PickupsPresenter(bench)
    pickups.say_number = lambda number: number_said(number, stand_in_voices(), bench.book.rate)
    names, splice, mastering = NamesPresenter(bench), SplicePresenter(bench, settings), MasterPresenter(bench)
    releasing = ReleasePresenter(bench, mastering)
    proof.off = frozenset(filter(None, text(settings, "proof/off").split(",")))
    transport = Transport(bench, player, settings, proof.listening)
    editing = Editing(transport, settings)
    panels: dict[DeskName, Desk] = {
        DeskName.INTAKE: IntakePanel(intake),
        DeskName.PROOF: ProofPanel(proof, names, places),
        DeskName.PICKUPS: PickupsPanel(pickups),
        DeskName.SPLICE: SplicePanel(splice),
        DeskName.MASTER: MasterPanel(mastering),
        DeskName.RELEASE: ReleasePanel(releasing),
    }
    return Parts(
        bench,
        jobs,
        transport,
        player,
        Contents(proof, mastering),
        panels,
        CloseView(transport, editing, settings),
        TransportBar(transport, player),
        intake,
        proof,
        names,
        pickups,
        splice,
        mastering,
        releasing,
        Keeping(bench, intake, ask, settings, open_beside),
        editing,
    )


def _acts(
    window: Window,
    parts: Parts,
    desks: Desks,
    ask: Asking,
    settings: QSettings,
    at_desk: RecordingActs,
    queue: HearingQueue,
) -> Actions:
    """The tables of acts, each with what does them."""
    intake, proof, pickups = (parts.panels[d] for d in (DeskName.INTAKE, DeskName.PROOF, DeskName.PICKUPS))
    assert isinstance(intake, IntakePanel)
    assert isinstance(proof, ProofPanel)
    assert isinstance(pickups, PickupsPanel)
    helping = Help(desks, ask, settings)
    listening = TransportActs(parts.transport, parts.loupe)
    editing = parts.editing
    cutting, shaping = Cutting(editing), Shaping(editing)
    ear = ByEar(editing, shaping, settings)
    on_the_page = ProofActs(parts.proof, parts.names, proof, parts.transport, editing, desks, ask, settings, ear)
    by_ear = EarActs(ear, Timing(editing, cutting, shaping, settings), window)
    edits = EditActs(editing, cutting, shaping, LaneWork(editing), proof, parts.loupe, ask, settings, window.bar)
    lists = ListActs(
        editing,
        cutting,
        Outward(editing),
        OffcutsPage(editing),
        ShelfPage(editing, HouseShelf(Path(text(settings, "shelf/house") or user_data_path("faithful-reel") / "shelf"))),
        MarkersPage(editing),
        SweepPage(editing, settings),
        ElsewherePage(editing),
        VersionsPage(editing),
        PiecesPage(editing, parts.splice),
        OthersPage(editing),
        CopiesPage(editing),
        proof,
        parts.loupe,
        desks,
        ask,
    )
    tables: list[Bound] = [
        parts.keeping,
        IntakeActs(parts.intake, intake, ask, parts.transport),
        WindowActs(window),
        on_the_page,
        QuickActs(parts.proof, QuickCheck(parts.proof, parts.transport, settings), proof, desks),
        QueueActs(queue, proof, desks),
        edits,
        by_ear,
        lists,
        PickupsActs(parts.pickups, pickups, parts.transport, ask, settings),
        at_desk,
        SpliceActs(parts.splice, parts.transport),
        MasterActs(parts.mastering, parts.transport, ask),
        ReleaseActs(parts.releasing, ask),
        listening,
        helping,
    ]
    actions = Actions(window, tables, settings, window.why_not, window.tell)
    parts.keeping.close, helping.window, helping.actions = window.close, window, actions
    on_the_page.bind(actions)
    listening.bind(actions)
    edits.bind(actions)
    by_ear.bind(actions)
    lists.bind(actions)
    window.closing.append(lists.close)
    return actions


def _join(window: Window, parts: Parts) -> None:
    """What tells, and who listens."""
    proof, splice = parts.panels[DeskName.PROOF], parts.panels[DeskName.SPLICE]
    assert isinstance(proof, ProofPanel)
    assert isinstance(splice, SplicePanel)
    parts.transport.views += [parts.loupe, parts.foot, GalleyFollows(proof, parts.transport)]
    parts.splice.shows = partial(parts.transport.go_to, look=True)
    parts.pickups.shows = parts.splice.shows
    parts.transport.elsewhere += [parts.foot.show_time, splice.show_position]
    parts.player.moved.connect(parts.transport.moved)
    parts.player.started.connect(parts.transport.state_changed)
    parts.player.ended.connect(parts.transport.state_changed)
    parts.player.failed.connect(window.warn)
    for presenter in (parts.intake, parts.pickups, parts.splice, parts.mastering, parts.releasing):
        presenter.listen(window.refresh_desk)
    parts.proof.listen(window.show_contents)
    parts.proof.listen(window.refresh_desk)


class GalleyFollows:
    """The page follows the sound while it plays."""

    def __init__(self, panel: ProofPanel, transport: Transport) -> None:
        self._galley, self._transport = panel.galley, transport

    def bring(self, _position: int) -> None:
        """Edges are looked at close up only."""

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
    subprocess.Popen([sys.executable, "-m", "faithful_reel", "open", "--no-terminal", str(folder)], start_new_session=True)
