"""Paces a session: the engine computes scans, this decides how many are due since the last look at the clock."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from time import perf_counter

from PySide6.QtCore import QObject, Qt, QTimer, Signal

from spokeshave.desktop.document import Document
from spokeshave.desktop.link_beside import LinkBeside
from spokeshave.desktop.run_to import CHUNK, Goal
from spokeshave.engine.alarms import alarm_told
from spokeshave.engine.explain import Waiting, waiting
from spokeshave.engine.link import LinkError
from spokeshave.engine.phases import StimulusError
from spokeshave.engine.program import Program
from spokeshave.engine.session import Session
from spokeshave.engine.situation import Situation
from spokeshave.fieldbus.image import Image
from spokeshave.fieldbus.real_time import Jitter
from spokeshave.model.project import Project, Value
from spokeshave.model.project import Signal as Setting
from spokeshave.verify.probe import ProbeError, probe
from spokeshave.verify.protection import ActingNow, Key

TICK_MS = 33
MOST_TICK_MS = 1000
CHEAP_MS = 8.0
"""What a frame may take before frames come less often."""
YIELD = 12.0
"""So many times what a frame takes beyond that passes until the next one: a large machine takes less than a tenth of a processor."""
ADOPT_AFTER_MS = 1200
"""How long a large machine file waits, once it is edited, until it is made ready to run."""
LARGE = 300
"""Steps of a machine file that takes longer to make ready than a person takes for the next key."""
BUDGET_S = 0.018
"""Computing time for one tick, so that no key or click waits long."""
SPEEDS: tuple[tuple[str, float], ...] = (
    ("x0.1", 0.1), ("x0.2", 0.2), ("x0.5", 0.5), ("real time", 1.0), ("x2", 2.0), ("x5", 5.0), ("x10", 10.0), ("x100", 100.0),
    ("x1000", 1000.0), ("as fast as possible", 0.0),
)  # fmt: skip
REAL_TIME = [name for name, _ in SPEEDS].index("real time")


class Runner(QObject):
    """The run on the screen. `advanced` comes at most once a tick; `restarted` when it began anew."""

    advanced = Signal()
    restarted = Signal()
    running_changed = Signal()
    refused = Signal(str)
    found = Signal(str)
    """What was run for has come, or has not come in an hour."""
    moment_changed = Signal()

    def __init__(self, document: Document) -> None:
        super().__init__()
        self._acting: ActingNow | None = None
        self.document = document
        self.session: Session | None = None
        self.problem = ""
        """Why the present document is not what runs; empty if it is."""
        self.speed = 1.0
        self.looked_at: int | None = None
        """The scan that is looked at instead of the present; None for the present."""
        self.lateness = Jitter()
        """How late scans have begun since the run is served."""
        self._image: Image | None = None
        self._shown_at = 0.0
        self._own = True
        """Whether the run began here, and not as that of a scenario."""
        self._goal: Goal | None = None
        self._owed_ms = 0.0
        self._last = 0.0
        self._frame_ms = 0.0
        """What a frame takes, as it was lately."""
        self._frame_at = 0.0
        self._known: tuple[object, list[Waiting]] = (None, [])
        self._timer = QTimer(self)
        self._timer.setInterval(TICK_MS)
        self._timer.timeout.connect(self._tick)
        self._painted = QTimer(self)
        """Comes when the parts of the window that follow a run have painted themselves."""
        self._painted.setSingleShot(True)
        self._painted.timeout.connect(self._measure)
        document.changed.connect(self._document_changed)
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(ADOPT_AFTER_MS)
        self._beside = LinkBeside(self)
        self._later.timeout.connect(lambda: self._beside.ask(document.project))
        self._beside.linked.connect(self.adopt)
        self._project: Project | None = None
        self._document_changed()

    @property
    def running(self) -> bool:
        return self._timer.isActive()

    @property
    def standing_alarms(self) -> int:
        s = self.session
        return 0 if s is None else sum(alarm_told(s.situation, a) for a in s.situation.alarms.values())

    def waiting(self) -> list[Waiting]:
        """What every active step waits on in the scan that is looked at; empty without a run."""
        shown = self.shown()
        if shown is None or self.session is None:
            return []
        scan = (shown[0], self.session, self.session.k, self.looked_at, self.session.situation is shown[1])
        if self._known[0] != scan:  # asked for by several parts of the window in each frame
            self._known = (scan, waiting(*shown))
        return self._known[1]

    # -- what is looked at

    def shown(self) -> tuple[Program, Situation] | None:
        """The situation on the screen, with the program it belongs to: the present one, or one of the past."""
        if self.session is None:
            return None
        if self.looked_at is None:
            return self.session.program, self.session.situation
        return self.session.moment(self.looked_at)

    def acting(self) -> frozenset[Key]:
        """Which rules act in the situation on the screen (see `verify.protection`)."""
        shown = self.shown()
        if shown is None:
            return frozenset()
        if self._acting is None or self._acting.program is not shown[0]:
            self._acting = ActingNow(shown[0])
        return self._acting.keys(shown[1])

    def forced_names(self) -> frozenset[str]:
        """Lower-case names of the signals that are forced in the scan that is looked at."""
        shown = self.shown()
        if shown is None or not shown[1].forces:
            return frozenset()
        return frozenset(name for name, slot in shown[0].slots.items() if slot in shown[1].forces)

    @property
    def shown_ms(self) -> int:
        """The time on the screen."""
        if self.session is None:
            return 0
        k = self.session.k if self.looked_at is None else self.looked_at
        return k * self.session.program.period_ms

    def look_at(self, time_ms: float | None) -> None:
        """Shows board, faces and values as they were at a time; None goes back to the present. Pauses the run."""
        k = None
        if time_ms is not None and self.session is not None and self.session.k:
            if self.running:
                self.pause()
            k = max(0, int(time_ms // self.session.program.period_ms))
            if k >= self.session.k - 1:
                k = None
        if k != self.looked_at:
            self.looked_at = k
            self.moment_changed.emit()
            self.advanced.emit()

    def part_of_scan(self) -> float:
        """How much of the scan that comes next has passed, for drawing between two scans when it runs slowly."""
        if not self.running or not self.speed or self.session is None or self.looked_at is not None:
            return 0.0
        return min(1.0, max(0.0, self._owed_ms / self.session.program.period_ms))

    # -- the document

    def _document_changed(self) -> None:
        project = self.document.project
        if self._project is not None and not self._replaced(project) and project.runs_like(self._project):
            if self.problem:
                self.problem = ""
                self.advanced.emit()
            return
        steps = sum(len(q.steps) for q in project.sequences)
        if self._project is not None and steps > LARGE and not self._replaced(project):
            self._beside.forget()
            self._later.start()
        else:
            self.adopt()

    def adopt(self) -> None:
        """Makes the present machine file the one that runs, between two scans."""
        self._later.stop()
        self._beside.forget()
        project = self.document.project
        fresh = self.session is None or self.session.k == 0 or self._replaced(project)
        try:
            if fresh:
                self.session, self._own = Session(project), True
            else:
                assert self.session is not None
                self.session.adopt(project)
            self.problem = ""
            self._project = project
        except LinkError as error:
            self.problem = str(error.found[0])
            if fresh:  # nothing of what ran before may pass for this file
                self.session, self._project, self.looked_at = None, None, None
                self.pause()
        if fresh:
            self.restarted.emit()
        self.advanced.emit()

    def _replaced(self, project: Project) -> bool:
        """Whether another file was opened: nothing of the running one is left in it."""
        return self.document.history.present.before is None and project is not self._project

    # -- the run cluster

    def ready(self) -> None:
        """Catches up with edits that have waited, and with what is typed and not taken over."""
        self.document.drafts.flush()
        if self._later.isActive() or self._beside.waits:
            self.adopt()

    def _ready_session(self) -> Session | None:
        """The run with all edits taken in; None with the reason told if there is none."""
        self.ready()
        if self.session is None:
            self.refused.emit(f"This cannot run yet. {self.problem}")
        elif self.problem:
            self.refused.emit(f"What runs is the file before its last edits. {self.problem}")
        return self.session

    def start(self) -> None:
        if self._ready_session() is None:
            return
        self.look_at(None)
        self._owed_ms, self._last = 0.0, perf_counter()
        self._timer.start()
        self.running_changed.emit()

    def pause(self) -> None:
        self._timer.stop()
        self._goal = None
        self.running_changed.emit()

    def toggle(self) -> None:
        self.pause() if self.running else self.start()

    def one_scan(self) -> None:
        self._by_hand(lambda s: s.scan())

    def back(self) -> None:
        self._by_hand(lambda s: s.back(1))

    def next_step(self) -> None:
        session = self._ready_session()
        if session is not None:
            before = [list(a) for a in session.situation.active]
            goal = Goal.within_an_hour(session, "a step change", lambda s: s.active != before)
            self._seek(session, goal)

    def run_to_condition(self, text: str) -> bool:
        """Runs until a condition holds after a scan; FALSE with the reason told if it cannot be asked."""
        session = self._ready_session()
        if session is None:
            return False
        try:
            self._seek(session, Goal.within_an_hour(session, text.strip(), probe(session, text)))
        except ProbeError as error:
            self.refused.emit(f"This condition cannot be asked. {error}")
            return False
        return True

    def jump_to(self, time_ms: int) -> None:
        """Runs on to a time, or goes back to it; what was done by hand behind it is undone with it."""
        session = self._ready_session()
        if session is None:
            return
        k = -(-time_ms // session.program.period_ms)
        if k < session.k:
            self._by_hand(lambda s: s.back(s.k - k))
            if self.session is not None and self.session.k > k:
                self.refused.emit(
                    "The run does not go back behind the last edit, but you can look at it with the cursor."
                )
        elif k > session.k:
            self._seek(session, Goal(f"{time_ms / 1000:g} s", k))

    def _seek(self, session: Session, goal: Goal) -> None:
        """The first slice at once, the rest while the screen stays alive."""
        self.look_at(None)
        if self.running:
            self.pause()
        self._goal = goal
        self._timer.start()
        self.running_changed.emit()
        self._seek_on(session, goal)

    def _seek_on(self, session: Session, goal: Goal) -> None:
        if goal.run(session, BUDGET_S):
            self.pause()
            self._tell_stop()
            if session.stopped is None:
                self.found.emit(goal.said(session))
        self.advanced.emit()

    def power_cycle(self) -> None:
        self.do("power")

    def run_for(self, ms: int) -> None:
        """Runs some simulated time at once."""
        self._by_hand(lambda s: s.run_for(ms))

    def _by_hand(self, act: Callable[[Session], object]) -> None:
        session = self._ready_session()
        if session is None:
            return
        self.look_at(None)
        if self.running:
            self.pause()
        act(session)
        self._tell_stop()
        self.advanced.emit()

    # -- settings by hand

    def by_hand(self) -> list[tuple[Setting, Value]]:
        """Settings and cells of tables that are other in the run than in the file, with their values in the run."""
        if self.session is None:
            return []
        program, v, found = self.session.program, self.session.situation.v, []
        for setting in program.project.settings:
            value = v[program.slots[setting.name.lower()]]
            if value != setting.start:
                found.append((setting, value))
        return found

    def set_all(self, values: Iterable[tuple[Setting, Value]]) -> None:
        """Sets settings, all in the next scan."""
        self.ready()
        self.look_at(None)
        if self.session is not None:
            try:
                for setting, value in values:
                    self.session.do("set", setting.name, value)
            except StimulusError as error:  # what runs is the file before its last edits
                self.refused.emit(str(error))
            if not self.running:
                self.one_scan()
            self.advanced.emit()

    def give_up_values(self) -> None:
        """All settings as the file has them."""
        self.set_all([(s, s.start) for s, _ in self.by_hand()])

    def reset(self) -> None:
        """Back to before scan 0, with the present document. Settings that were changed by hand keep their values until they are
        given up; those of a run that was made elsewhere do not.
        """
        self.pause()
        self.looked_at = None
        kept = self.by_hand() if self._own else []
        try:
            self.session = Session(self.document.project)
            self._project, self.problem, self._own = self.document.project, "", True
            here = {s.name.lower(): s for s in self.document.project.settings}
            for setting, value in kept:
                now = here.get(setting.name.lower())
                if now is not None and now.type is setting.type:
                    self.session.do("set", now.name, value)
        except LinkError as error:
            self.problem = str(error.found[0])
            self.session, self._project = None, None
        self.restarted.emit()
        self.advanced.emit()

    def set_speed(self, speed: float) -> None:
        self.speed = speed
        self._owed_ms, self._last = 0.0, perf_counter()

    def do(self, what: str, target: str = "", value: object = None) -> None:
        """A hand on the machine: see `Stimulus`. It is done in the present, also while the past is looked at."""
        self.ready()
        self.look_at(None)
        if self.session is None:
            return
        try:
            self.session.do(what, target, value)
        except StimulusError as error:
            self.refused.emit(str(error))
        self.advanced.emit()
        if self.running and self._timer.interval() > TICK_MS:
            QTimer.singleShot(
                TICK_MS, self._tick
            )  # whoever does something sees what comes of it, however rare frames are

    def show(self, session: Session) -> None:
        """Puts a run made elsewhere, such as a scenario's, on the bench."""
        self.pause()
        self.looked_at = None
        self.session, self._own = session, False
        self.restarted.emit()
        self.advanced.emit()

    def _tick(self) -> None:
        session = self.session
        if session is None:
            return
        if self._goal is not None:
            self._seek_on(session, self._goal)
            return
        now = perf_counter()
        end = now + BUDGET_S
        period = session.program.period_ms
        if self.speed:
            self._owed_ms += (now - self._last) * 1000 * self.speed
            # What cannot be caught up is given up, so that a slow machine shows a slower clock, not a frozen window.
            self._owed_ms = min(self._owed_ms, 2000 * self.speed)
        self._last = now
        if self._image is not None and self.speed:
            self._serve_tick(session, self._image, now)
            return
        scans = int(self._owed_ms // period) if self.speed else 1 << 30
        done = 0
        while done < scans and session.stopped is None and perf_counter() < end:
            done += session.run_scans(min(scans - done, CHUNK))
        self._owed_ms -= done * period if self.speed else 0
        if session.stopped is not None:
            self.pause()
            self._tell_stop()
        if done:
            # At a higher speed the scans take what there is, and must not make frames rarer, or themselves slower.
            if not self._painted.isActive():
                self._frame_at = now if 0 < self.speed <= 1 else perf_counter()
                self._painted.start(0)
            self.advanced.emit()

    def _measure(self) -> None:
        """Frames of a large machine come less often, so that keys and other programs have their time."""
        self._frame_ms += 0.3 * ((perf_counter() - self._frame_at) * 1000 - self._frame_ms)
        wanted = TICK_MS + YIELD * max(0.0, self._frame_ms - CHEAP_MS)
        wanted = round(min(wanted, MOST_TICK_MS)) if self.speed else TICK_MS
        if self._image is None and self._goal is None and abs(wanted - self._timer.interval()) > 5:
            self._timer.setInterval(wanted)

    # -- clients

    def serve(self, image: Image | None) -> None:
        """From now on the run gives its scans to clients and takes theirs; None ends it."""
        self._image, self.lateness = image, Jitter()
        period = self.session.program.period_ms if self.session is not None else TICK_MS
        self._timer.setTimerType(Qt.TimerType.PreciseTimer if image is not None else Qt.TimerType.CoarseTimer)
        self._timer.setInterval(max(1, min(period // 2, TICK_MS)) if image is not None else TICK_MS)
        if image is not None and not self.running:
            self.start()

    def _serve_tick(self, session: Session, image: Image, now: float) -> None:
        """Every scan that is due, each with the clients' values; the screen as often as ever."""
        period, end = session.program.period_ms, now + BUDGET_S
        if image.by_count:
            self._owed_ms = period if image.count_came.is_set() else 0
        while self._owed_ms >= period and session.stopped is None and perf_counter() < end:
            self.lateness.note(0.0 if image.by_count else (self._owed_ms - period) / max(0.001, self.speed), period)
            image.count_came.clear()
            image.before_scan(session)
            session.scan()
            image.after_scan(session)
            self._owed_ms -= period
        if session.stopped is not None:
            self.pause()
            self._tell_stop()
        if now - self._shown_at >= TICK_MS / 1000:
            self._shown_at = now
            self.advanced.emit()

    def _tell_stop(self) -> None:
        if self.session is not None and self.session.stopped is not None:
            self.refused.emit(f"The run has stopped. {self.session.stopped}")
