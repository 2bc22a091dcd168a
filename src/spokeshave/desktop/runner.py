"""Paces a session: the engine computes scans, this decides how many are due since the last look at the clock."""

from __future__ import annotations

from collections.abc import Callable
from time import perf_counter

from PySide6.QtCore import QObject, QTimer, Signal

from spokeshave.desktop.document import Document
from spokeshave.engine.explain import Waiting, waiting
from spokeshave.engine.link import LinkError
from spokeshave.engine.phases import StimulusError
from spokeshave.engine.session import Session
from spokeshave.model.project import Project

TICK_MS = 33
CHUNK = 64
"""Scans between two looks at the clock; quiet ones among them are jumped over."""
ADOPT_AFTER_MS = 1200
"""How long a large machine file waits, once it is edited, until it is made ready to run."""
LARGE = 300
"""Steps of a machine file that takes longer to make ready than a person takes for the next key."""
BUDGET_S = 0.018
"""Computing time for one tick, so that no key or click waits long."""
SPEEDS: tuple[tuple[str, float], ...] = (
    ("x0.1", 0.1), ("x0.5", 0.5), ("real time", 1.0), ("x2", 2.0), ("x10", 10.0), ("x100", 100.0), ("as fast as possible", 0.0)
)  # fmt: skip


class Runner(QObject):
    """The run on the screen. `advanced` comes at most once a tick; `restarted` when it began anew."""

    advanced = Signal()
    restarted = Signal()
    running_changed = Signal()
    refused = Signal(str)

    def __init__(self, document: Document) -> None:
        super().__init__()
        self.document = document
        self.session: Session | None = None
        self.problem = ""
        """Why the present document is not what runs; empty if it is."""
        self.speed = 1.0
        self._owed_ms = 0.0
        self._last = 0.0
        self._timer = QTimer(self)
        self._timer.setInterval(TICK_MS)
        self._timer.timeout.connect(self._tick)
        document.changed.connect(self._document_changed)
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(ADOPT_AFTER_MS)
        self._later.timeout.connect(self.adopt)
        self._project: Project | None = None
        self._document_changed()

    @property
    def running(self) -> bool:
        return self._timer.isActive()

    @property
    def standing_alarms(self) -> int:
        s = self.session
        return 0 if s is None else sum(a.cleared < 0 for a in s.situation.alarms.values())

    def waiting(self) -> list[Waiting]:
        """What every active step waits on now; empty without a run."""
        if self.session is None:
            return []
        return waiting(self.session.program, self.session.situation)

    # -- the document

    def _document_changed(self) -> None:
        project = self.document.project
        if self._project is not None and not self._replaced(project) and project.runs_like(self._project):
            if self.problem:
                self.problem = ""
                self.advanced.emit()
            return
        steps = sum(len(q.steps) for q in project.sequences)
        if self._project is not None and steps > LARGE and not self._replaced(project) and not self.running:
            self._later.start()
        else:
            self.adopt()

    def adopt(self) -> None:
        """Makes the present machine file the one that runs, between two scans."""
        self._later.stop()
        project = self.document.project
        fresh = self.session is None or self.session.k == 0 or self._replaced(project)
        try:
            if fresh:
                self.session = Session(project)
            else:
                assert self.session is not None
                self.session.adopt(project)
            self.problem = ""
            self._project = project
        except LinkError as error:
            self.problem = str(error.found[0])
        if fresh:
            self.restarted.emit()
        self.advanced.emit()

    def _replaced(self, project: Project) -> bool:
        """Whether another file was opened: nothing of the running one is left in it."""
        return self.document.history.present.before is None and project is not self._project

    # -- the run cluster

    def ready(self) -> None:
        """Catches up with edits that have waited."""
        if self._later.isActive():
            self.adopt()

    def start(self) -> None:
        self.ready()
        if self.session is None:
            self.refused.emit(f"This cannot run yet. {self.problem}")
            return
        self._owed_ms, self._last = 0.0, perf_counter()
        self._timer.start()
        self.running_changed.emit()

    def pause(self) -> None:
        self._timer.stop()
        self.running_changed.emit()

    def toggle(self) -> None:
        self.pause() if self.running else self.start()

    def one_scan(self) -> None:
        self._by_hand(lambda s: s.scan())

    def back(self) -> None:
        self._by_hand(lambda s: s.back(1))

    def next_step(self) -> None:
        self._by_hand(lambda s: s.run_to_step_change(600_000))

    def run_for(self, ms: int) -> None:
        """Runs some simulated time at once."""
        self._by_hand(lambda s: s.run_for(ms))

    def _by_hand(self, act: Callable[[Session], object]) -> None:
        self.ready()
        if self.running:
            self.pause()
        if self.session is None:
            self.refused.emit(f"This cannot run yet. {self.problem}")
            return
        act(self.session)
        self._tell_stop()
        self.advanced.emit()

    def reset(self) -> None:
        """Back to before scan 0, with the present document."""
        self.pause()
        try:
            self.session = Session(self.document.project)
            self._project, self.problem = self.document.project, ""
        except LinkError as error:
            self.problem = str(error.found[0])
            if self.session is not None:
                self.session.reset()
        self.restarted.emit()
        self.advanced.emit()

    def set_speed(self, speed: float) -> None:
        self.speed = speed
        self._owed_ms, self._last = 0.0, perf_counter()

    def do(self, what: str, target: str = "", value: object = None) -> None:
        """A hand on the machine: see `Stimulus`."""
        self.ready()
        if self.session is None:
            return
        try:
            self.session.do(what, target, value)
        except StimulusError as error:
            self.refused.emit(str(error))
        self.advanced.emit()

    def show(self, session: Session) -> None:
        """Puts a run made elsewhere, such as a scenario's, on the bench."""
        self.pause()
        self.session = session
        self.restarted.emit()
        self.advanced.emit()

    def _tick(self) -> None:
        session = self.session
        if session is None:
            return
        now = perf_counter()
        end = now + BUDGET_S
        period = session.program.period_ms
        if self.speed:
            self._owed_ms += (now - self._last) * 1000 * self.speed
            # What cannot be caught up is given up, so that a slow machine shows a slower clock, not a frozen window.
            self._owed_ms = min(self._owed_ms, 2000 * self.speed)
        self._last = now
        scans = int(self._owed_ms // period) if self.speed else 1 << 30
        done = 0
        while done < scans and session.stopped is None and perf_counter() < end:
            done += session.run_scans(min(scans - done, CHUNK))
        self._owed_ms -= done * period if self.speed else 0
        if session.stopped is not None:
            self.pause()
            self._tell_stop()
        if done:
            self.advanced.emit()

    def _tell_stop(self) -> None:
        if self.session is not None and self.session.stopped is not None:
            self.refused.emit(f"The run has stopped. {self.session.stopped}")
